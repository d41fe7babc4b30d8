/* Structures of 3, 5, 6, 7 and 11 bytes passed by value: compilers read them with one word
   that reaches beyond their block where they know that it is aligned. Nobody looks at what
   lies there. A number read like that is a mistake. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define SEEN __asm__ volatile("" : : : "memory")

struct colour { unsigned char red, green, blue; };
struct berth { char quay[5]; };
struct place { short x, y, z; };
struct flag { char letters[7]; };
struct call { char sign[11]; };

static APART int shade(struct colour c) { return c.red + c.green + c.blue; }
static APART int quay(struct berth b) { return b.quay[0] + b.quay[4]; }
static APART int where(int how, struct place p) { return how + p.x + p.z; }
static APART int signal(struct flag f) { return f.letters[0] + f.letters[6]; }
static APART int answer(struct call c, long how) { return c.sign[0] + c.sign[10] + (int)how; }
static APART long half(long number) { return number / 2; }

static APART struct colour made(void) {
    struct colour *c = malloc(sizeof *c);
    memset(c, 1, sizeof *c);
    SEEN;
    struct colour copy = *c;
    free(c);
    return copy;
}

#define MAKE(type, p)                                                                        \
    struct type *p = malloc(sizeof *p);                                                       \
    memset(p, 1, sizeof *p);                                                                  \
    SEEN

int main(void) {
    int sum = 0;
    MAKE(colour, a);
    sum += shade(*a);
    MAKE(berth, b);
    sum += quay(*b);
    MAKE(place, c);
    sum += where(2, *c);
    MAKE(flag, d);
    sum += signal(*d);
    MAKE(call, e);
    sum += answer(*e, 3);
    sum += made().green;
    MAKE(berth, wrong);
    sum += (int)half(*(long *)wrong); // expect: out-of-bounds-read
    printf("%d\n", sum);
    free(a), free(b), free(c), free(d), free(e), free(wrong);
}

/* Loops that copy members at odd places again and again, and then find other bits, or the same
   from elsewhere, in a few of their words. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

enum { BUOYS = 40, ROUNDS = 60 };

struct buoy {
    char bytes[24];
};

static APART struct buoy *inner(void) { struct buoy *p = malloc((BUOYS + 1) * sizeof *p); hide(p); return p; }
static APART struct buoy *outer(void) { struct buoy *p = malloc((BUOYS + 2) * sizeof *p); hide(p); return p; }
static APART struct buoy *river(void) { struct buoy *p = malloc((BUOYS + 3) * sizeof *p); hide(p); return p; }

/* The first byte goes through a computation, as compilers do it, the rest as it is. */
#define COPY(name, size, at, more)                                                            \
    static APART void name(struct buoy *to, const struct buoy *from, int count) {             \
        for (int i = 0; i < count; i++) {                                                     \
            to[i].bytes[0] = (char)(from[i].bytes[0] + 1);                                    \
            __builtin_memcpy(&to[i].bytes[at], &from[i].bytes[at], size);                     \
            more                                                                              \
        }                                                                                     \
    }
COPY(copy_4, 4, 17, )
COPY(copy_overlapping, 4, 17, __builtin_memcpy(&to[i].bytes[20], &from[i].bytes[20], 4);)
COPY(copy_8, 8, 6, __builtin_memcpy(&to[i].bytes[14], &from[i].bytes[14], 4);)
COPY(copy_16, 16, 3, )
COPY(copy_moved, 8, 9, __builtin_memcpy(&to[i].bytes[2], &from[i].bytes[17], 4);)

/* The tail by way of a slot on the stack, of which a byte is never set. */
static APART void copy_slot(struct buoy *to, const struct buoy *from, int count) {
    for (int i = 0; i < count; i++) {
        char slot[8];
        to[i].bytes[0] = (char)(from[i].bytes[0] + 1);
        __builtin_memcpy(slot + 3, &from[i].bytes[20], 4);
        __builtin_memcpy(slot, &from[i].bytes[17], 4);
        hide(slot);
        __builtin_memcpy(&to[i].bytes[17], slot, 4);
        __builtin_memcpy(&to[i].bytes[20], slot + 3, 4);
    }
}

/* Where a vector goes is worked out between its load and its store. */
static APART void copy_aimed(struct buoy *to, const struct buoy *from, int count) {
    for (long i = 0; i < count; i++)
        __asm__ volatile("movdqu 4(%1), %%xmm1\n\tmov %2, %%rdx\n\tneg %%rdx\n\t"
                         "movups %%xmm1, 4(%0,%%rdx)"
                         :
                         : "r"(to), "r"(&from[i]), "r"(-24 * i)
                         : "rdx", "xmm1", "memory");
}

/* The pointers go along by way of another register. */
static APART void copy_back(struct buoy *to, const struct buoy *from, int count) {
    to += count - 1;
    from += count - 1;
    while (count--)
        __asm__ volatile("lea -24(%1), %%rcx\n\tmov 16(%1), %%rsi\n\tmov %%rsi, 16(%0)\n\t"
                         "mov %%rcx, %1\n\tlea -32(%0), %%rsi\n\tadd $8, %%rsi\n\tmov %%rsi, %0"
                         : "+r"(to), "+r"(from)
                         :
                         : "rcx", "rsi", "memory");
}

typedef void copy(struct buoy *to, const struct buoy *from, int count);

static struct buoy *last_from, *last_to;

/* Elements 7 and 9 are changed before the last round: 7 is set, 9 is another block's. */
static APART void often(copy *f, struct buoy *a, struct buoy *b, struct buoy *c) {
    for (int i = 0; i < BUOYS; i++)
        a[i].bytes[0] = 1;
    for (int r = 0; r < ROUNDS; r++) {
        f(b, a, BUOYS);
        hide(b);
    }
    memset(&a[7], 0, sizeof a[7]);
    a[9] = c[9];
    a[9].bytes[0] = 1;
    f(b, a, BUOYS);
    last_from = a, last_to = b;
}

static APART int same(int k, int at) { return last_to[k].bytes[at] == last_from[k].bytes[at]; }

int main(void) {
    struct buoy *a = inner(), *b = outer(), *c = river();
    often(copy_4, a, b, c);
    if (!same(7, 17) || !same(7, 20))
        sink = 1;
    if (b[6].bytes[17] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[20] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[8].bytes[16] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 4;
    if (b[8].bytes[21] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 5;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_overlapping, a, b, c);
    if (!same(7, 17) || !same(7, 23))
        sink = 1;
    if (b[6].bytes[23] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[18] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[8].bytes[16] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 4;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_8, a, b, c);
    if (!same(7, 6) || !same(7, 17))
        sink = 1;
    if (b[6].bytes[6] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[13] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[9].bytes[16] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 4;
    if (b[8].bytes[5] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 5;
    if (b[10].bytes[18] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 6;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_16, a, b, c);
    if (!same(7, 3) || !same(7, 18))
        sink = 1;
    if (b[6].bytes[3] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[18] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[8].bytes[2] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 4;
    if (b[8].bytes[19] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 5;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_moved, a, b, c);
    if (!same(7, 9) || last_to[7].bytes[2] != last_from[7].bytes[17])
        sink = 1;
    if (b[6].bytes[16] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[6].bytes[5] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 3;
    if (b[9].bytes[2] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 4;
    if (b[8].bytes[17] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 5;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_slot, a, b, c);
    if (!same(7, 17) || !same(7, 23))
        sink = 1;
    if (b[6].bytes[18] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[23] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[8].bytes[16] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 4;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_aimed, a, b, c);
    if (!same(7, 4) || !same(7, 19))
        sink = 1;
    if (b[6].bytes[5] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[19] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[8].bytes[3] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 4;
    if (b[8].bytes[20] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 5;
    free(a), free(b), free(c);

    a = inner(), b = outer(), c = river();
    often(copy_back, a, b, c);
    if (!same(7, 16) || !same(7, 23))
        sink = 1;
    if (b[6].bytes[17] > 0) // expect: uninitialized-value from=heap origin=16
        sink = 2;
    if (b[9].bytes[23] > 0) // expect: uninitialized-value from=heap origin=18
        sink = 3;
    if (b[8].bytes[15] > 0) // expect: uninitialized-value from=heap origin=17
        sink = 4;
    free(a), free(b), free(c);
    return 0;
}

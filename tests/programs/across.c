/* Values that were never set, kept in registers across calls (compilers that see the callee
   keep them in any), exchanged on the x87 stack, and copied there. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
static volatile int sink;
static APART void seen(void) { sink++; }
static APART void nothing(void) { sink++; }
static APART int deeper(int n) { return n > 0 ? deeper(n - 1) + 1 : sink * 0; }
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")

struct berth {
    int number, length, depth, quay;
    double fee, tax, dues, rent;
};

static APART void whole_numbers(const struct berth *b) {
    int a = b->number, c = b->length, d = b->depth, e = b->quay;
    nothing();
    if (a > 1) // expect: uninitialized-value
        seen();
    if (c > 1) // expect: uninitialized-value
        seen();
    if (d > 1) // expect: uninitialized-value
        seen();
    if (e > 1) // expect: uninitialized-value
        seen();
}

static APART void fractions(const struct berth *b) {
    double a = b->fee, c = b->tax, d = b->dues, e = b->rent;
    nothing();
    if (a > 1) // expect: uninitialized-value
        seen();
    if (c > 1) // expect: uninitialized-value
        seen();
    if (d > 1) // expect: uninitialized-value
        seen();
    if (e > 1) // expect: uninitialized-value
        seen();
}

static APART int over_recursion(const struct berth *b, int n) {
    int a = b->number, below = n ? over_recursion(b + 1, n - 1) : deeper(5);
    if (a == 4711) // expect: uninitialized-value
        seen();
    return below + (n > 100);
}

struct tides {
    long double high, low, mean;
    int days;
};

static APART void set_some(struct tides *t) {
    t->high = 3;
    t->mean = 2;
    hide(t);
}

static APART void exchanged(struct tides *a, struct tides *b) {
    struct tides t = *a;
    *a = *b;
    *b = t;
    hide(a);
    hide(b);
    if (b->high > 1) /* set, and moved past one that is not */
        seen();
    if (b->mean > 1)
        seen();
    if (b->low > 1) // expect: uninitialized-value
        seen();
    if (a->high > 1) // expect: uninitialized-value
        seen();
}

/* Both halves of a vector; the callee leaves it alone. */
__asm__(".text\n.type quiet, @function\nquiet: ret\n.size quiet, . - quiet");
static APART __attribute__((target("avx2"))) void wide(const double *from, double *to) {
    __asm__ volatile("sub $136, %%rsp\n" /* over the red zone */
                     "vmovupd (%0), %%ymm4\n"
                     "call quiet\n"
                     "vmovupd %%ymm4, (%1)\n"
                     "vzeroupper\n"
                     "add $136, %%rsp"
                     : : "r"(from), "r"(to) : "memory", "xmm4");
}

static APART void wide_parts(void) {
    double *from = malloc(4 * sizeof *from), to[4] = {0};
    from[0] = from[2] = 1;
    for (int round = 0; round < 3; round++)
        wide(from, to);
    hide(to);
    if (to[0] > 2 || to[2] > 2)
        seen();
    if (to[1] > 2) // expect: uninitialized-value from=heap
        seen();
    if (to[3] > 2) // expect: uninitialized-value from=heap
        seen();
    free(from);
}

int main(void) {
    struct berth *b = malloc(4 * sizeof *b);
    struct tides *s = malloc(sizeof *s), *t = malloc(sizeof *t);
    hide(b);
    whole_numbers(b);
    fractions(b);
    free(b);
    b = malloc(4 * sizeof *b);
    hide(b);
    if (over_recursion(b, 3) > 100)
        seen();
    set_some(s);
    exchanged(s, t);
    wide_parts();
    free(b);
    free(s);
    free(t);
    return 0;
}

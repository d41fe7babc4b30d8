/* Values whose bits are from several places, each to be told as from its own: under masks in
   registers, in sums and extensions, beside what else a vector holds, behind pushed arguments. */
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink, one = 1;
static APART void seen(void) { sink++; }
static void *kept[4]; /* for the leak search to find */
static APART unsigned char *first(int k) { unsigned char *p = malloc(1); kept[k] = p; return p; }
static APART unsigned char *second(int k) { unsigned char *p = malloc(2); kept[k] = p; return p; }

/* Bytes 0 and 2 of a register, and what becomes of them. */
#define BYTES(k, code)                                                                           \
    v[0] = *first(k);                                                                         \
    v[2] = *second(k + 1);                                                                     \
    hide(v);                                                                                  \
    __asm__ volatile("movzbl 2(%0), %%eax\n\tshl $16, %%eax\n\tmovzwl (%0), %%ecx\n\t"          \
                     "or %%eax, %%ecx\n\t" code "\n\tmov %%ax, (%1)\n\tshr $16, %%eax\n\t"       \
                     "mov %%al, 2(%1)"                                                        \
                     :                                                                        \
                     : "r"(v), "r"(r)                                                         \
                     : "rax", "rcx", "memory");                                               \
    hide(r)

static APART void bytes(void) {
    unsigned char v[8] = {1, 2, 3, 4, 5, 6, 7, 8}, r[8] = {0};
    BYTES(0, "lea 0x700(%%rcx), %%eax");
    if (r[0] > 100) // expect: uninitialized-value from=heap origin=12
        seen();
    if (r[2] > 100) // expect: uninitialized-value from=heap origin=13
        seen();
    BYTES(2, "movslq %%ecx, %%rax");
    if (r[0] > 101) // expect: uninitialized-value from=heap origin=12
        seen();
    if (r[2] > 101) // expect: uninitialized-value from=heap origin=13
        seen();
}

/* Fields of one register, asked for by masks that are no immediates. */
static APART void fields(void) {
    unsigned long word = 0, *p = malloc(sizeof *p);
    hide(p);
    word = *p & 0xffffff00ff0000ffUL;
    hide(&word);
    int hit = 0;
    __asm__ volatile("movabs $0xfc0000000000, %%rax\n\ttest %%rax, %1\n\t" // expect: uninitialized-value
                     "jne 1f\n\tinc %0\n1: movabs $0xff0000000000000, %%rax\n\ttest %1, %%rax\n\t"
                     "jne 2f\n\tinc %0\n2:"
                     : "+r"(hit)
                     : "r"(word)
                     : "rax", "cc");
    sink += hit;
    if (word & 1) // expect: uninitialized-value from=heap
        seen();
    free(p);
}

/* The number that is compared with is set, the rest of its register is not. */
static APART void halves(double v) {
    int less = 0;
    long *p = malloc(16);
    hide(p);
    __asm__ volatile("movups (%2), %%xmm1\n\tcvtsi2sd %3, %%xmm1\n\tucomisd %1, %%xmm1\n\t"
                     "seta %b0"
                     : "+q"(less)
                     : "x"(v), "r"(p), "r"(one)
                     : "xmm1", "cc");
    if (less) // expect: uninitialized-value from=stack variable=depth
        seen();
    free(p);
}

struct sign {
    float width;
    char letter, colour;
};

static APART void listed(int n, ...) {
    va_list l;
    va_start(l, n);
    while (n--)
        (void)va_arg(l, int);
    struct sign s = va_arg(l, struct sign);
    va_end(l);
    if (s.letter > 4) // expect: uninitialized-value from=stack variable=local
        seen();
    if (s.colour > 4) // expect: uninitialized-value from=stack variable=local
        seen();
}

static APART void pushed(void) {
    struct sign local, *p = &local;
    hide(p);
    p->width = one;
    hide(p);
    struct sign copy = *p;
    hide(&copy);
    listed(7, 1, 1, 1, 1, 1, 1, 1, copy);
}

int main(void) {
    bytes();
    fields();
    double depth[2];
    hide(depth);
    halves(depth[1]);
    pushed();
    for (int k = 0; k < 4; k++)
        free(kept[k]);
    return 0;
}

/* Leaf functions with code by hand that steps over the red zone and back: what they keep there
   stays as it is, set or not; what was used beyond it is given back. */
#include <stdlib.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
#define BY_SUB "sub $128, %%rsp\n\tpush %%rax\n\tpop %%rax\n\tadd $128, %%rsp"
#define BY_LEA "lea -128(%%rsp), %%rsp\n\tpush %%rax\n\tpop %%rax\n\tlea 128(%%rsp), %%rsp"
#define BY_ADD "add $-128, %%rsp\n\tpush %%rax\n\tpop %%rax\n\tsub $-128, %%rsp"
#define FURTHER "sub $256, %%rsp\n\tmovq $5, (%%rsp)\n\tadd $256, %%rsp"
#define STEP(how) __asm__ volatile(how ::: "memory", "cc")
static volatile int sink;

static APART int kept(int a, int b) {
    int x = a * 2, y[3] = {b, a, 7};
    STEP(BY_SUB);
    if (x == 8)
        sink = 1;
    STEP(BY_LEA);
    if (y[a & 1] == 3)
        sink = 2;
    for (int i = 0; i < b; i++) {
        STEP(BY_ADD);
        x += y[i % 3];
        STEP(FURTHER);
    }
    return x + y[1];
}

static APART int unset(int a) {
    int x = a * 2, y[3];
    hide(y);
    y[0] = a;
    STEP(BY_SUB);
    if (y[0] == 7 || x == 8)
        sink = 1;
    STEP(BY_LEA);
    if (y[2] == 7) // expect: uninitialized-value from=stack variable=y
        sink = 2;
    return y[0] + x;
}

/* By the first register that comes to hand, right behind the step. */
static APART long loaded(const long *from) {
    long number;
    __asm__ volatile("lea -512(%%rsp), %%rsp\n\tmov (%1), %0\n\tlea 512(%%rsp), %%rsp"
                     : "=r"(number)
                     : "r"(from)
                     : "memory");
    return number;
}

int main(int count, char **words) {
    (void)words;
    for (int i = 0; i < 3; i++)
        if (kept(count + i, 4) == 77)
            sink = 3;
    if (unset(count) == 77)
        sink = 4;
    long *half = malloc(sizeof *half);
    hide(half);
    *(int *)half = 5;
    for (int i = 0; i < 3; i++)
        if ((int)loaded(half) == 7)
            sink = 5;
    if (loaded(half) >> 32 == 7) // expect: uninitialized-value from=heap
        sink = 6;
    free(half);
    return 0;
}

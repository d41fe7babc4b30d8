/* Registers by way of which structures were copied, and that are asked for later: behind a
   branch, a loop, a call, by who is called, by the caller. Mostly nobody asks. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct berth {
    unsigned char quay; /* padding behind it */
    long number;
};

/* from in RSI, to in RDI, how to go on in EDX; the result is the register. */
#define COPIES(name, reg, on)                                                                 \
    unsigned long name(struct berth *to, const struct berth *from, int way);                  \
    __asm__(".text\n.globl " #name "\n.type " #name ", @function\n" #name ":\n"               \
            "  mov 8(%rsi), %r8\n  mov %r8, 8(%rdi)\n"                                        \
            "  mov (%rsi), %" #reg "\n  mov %" #reg ", (%rdi)\n" on                            \
            ".size " #name ", . - " #name "\n")

COPIES(behind_branch, rax, "  test %edx, %edx\n  je 1f\n  xor %eax, %eax\n1: ret\n");
COPIES(behind_loop, rax, "  mov %edx, %r11d\n2: sub $1, %edx\n  jns 2b\n"
                         "  test %r11d, %r11d\n  je 1f\n  xor %eax, %eax\n1: ret\n");
COPIES(behind_call, r10, "  call keeps_r10\n  xor %eax, %eax\n  test %edx, %edx\n"
                         "  jne 1f\n  mov %r10, %rax\n1: ret\n");
COPIES(by_callee, rcx, "  call asks_rcx\n  ret\n");
COPIES(by_vector, r9, "  movups (%rsi), %xmm9\n  movups %xmm9, (%rdi)\n  xor %eax, %eax\n"
                      "  test %edx, %edx\n  jne 1f\n  movq %xmm9, %rax\n1: ret\n");
COPIES(by_half, r9, "  movups (%rsi), %xmm9\n  movups %xmm9, (%rdi)\n  xorps %xmm8, %xmm8\n"
                    "  movlhps %xmm8, %xmm9\n  xor %eax, %eax\n"
                    "  test %edx, %edx\n  jne 1f\n  movq %xmm9, %rax\n1: ret\n");
__asm__(".text\nkeeps_r10: ret\n"
        "asks_rcx: xor %eax, %eax\n  test %edx, %edx\n  jne 1f\n  mov %rcx, %rax\n1: ret\n");

typedef unsigned long copies(struct berth *to, const struct berth *from, int way);

/* Asked for the last time only. */
static APART unsigned long often(copies *copy, struct berth *a, struct berth *b, int last) {
    unsigned long r = 0;
    for (int k = 0; k < 300; k++)
        r |= copy(&b[k & 3], &a[k & 3], k == 299 ? last : 1);
    return r;
}

int main(void) {
    static copies *const all[] = {behind_branch, behind_loop, behind_call, by_callee, by_vector,
                                 by_half};
    struct berth set[4], to[4], *a, *b;
    unsigned long r[6];
    memset(set, 1, sizeof set);
    for (int n = 0; n < 6; n++) {
        a = malloc(4 * sizeof *a);
        b = malloc(4 * sizeof *b);
        hide(a);
        for (int k = 0; k < 4; k++)
            a[k].quay = 0, a[k].number = k;
        if (!often(all[n], set, to, 0))
            return 1;
        if (often(all[n], a, b, 1)) /* nobody asks */
            return 2;
        r[n] = often(all[n], a, b, 0);
        if (b[2].number != 2)
            return 3;
        free(a);
        free(b);
    }
    if (r[0] >> 8) // expect: uninitialized-value from=heap origin=54
        sink = 1;
    if (r[1] >> 8) // expect: uninitialized-value from=heap origin=54
        sink = 2;
    if (r[2] >> 8) // expect: uninitialized-value from=heap origin=54
        sink = 3;
    if (r[3] >> 8) // expect: uninitialized-value from=heap origin=54
        sink = 4;
    if (r[4] >> 8) // expect: uninitialized-value from=heap origin=54
        sink = 5;
    if (r[5] >> 8) // expect: uninitialized-value from=heap origin=54
        sink = 6;
    return 0;
}

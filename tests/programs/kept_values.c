/* What stays in a register over a call: in the frame pointer while a function has a frame of its
   own, on the x87 stack while the caller pushes something on top of a result, and in the upper half
   of a vector that two calls get as their argument. */
#include <stdlib.h>

static volatile int sink;
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")

long kept_in_rbp(long x, long (*over)(void));
long with_frame(void), with_room(void), with_aligned_room(void), with_enter(void);
__asm__(".text\n"
        "with_frame: push %rbp\n mov %rsp, %rbp\n leave\n ret\n"
        "with_room: push %rbp\n mov %rsp, %rbp\n sub $40, %rsp\n movq $1, (%rsp)\n leave\n ret\n"
        "with_aligned_room: push %rbp\n mov %rsp, %rbp\n and $-64, %rsp\n sub $8, %rsp\n leave\n ret\n"
        "with_enter: enter $16, $0\n leave\n ret\n"
        "kept_in_rbp: push %rbp\n mov %rdi, %rbp\n call *%rsi\n mov %rbp, %rax\n pop %rbp\n ret\n");

/* x + y in st0, then y on top of it; both are stored. */
void sums(const int *x, const double *y, double *to);
__asm__("sum: fldl (%rsi)\n fiaddl (%rdi)\n ret\n"
        "sums: call sum\n fldl (%rsi)\n fmull (%rsi)\n fxch\n fstpl (%rdx)\n fstpl 8(%rdx)\n ret\n");

int last_of(const int *eight);
__asm__("same: vmovups %ymm7, %ymm0\n ret\n"
        "last_of: vmovups (%rdi), %ymm7\n call same\n call same\n vextractf128 $1, %ymm0, %xmm0\n"
        "vpextrd $3, %xmm0, %eax\n vzeroupper\n ret\n");

int main(void) {
    long *lengths = malloc(4 * sizeof *lengths);
    int *depths = malloc(2 * sizeof *depths);
    int *eight = malloc(8 * sizeof *eight);
    hide(eight);
    hide(lengths);
    hide(depths);
    depths[0] = 3;
    if (kept_in_rbp(7, with_frame) != 7 || kept_in_rbp(8, with_aligned_room) != 8)
        sink = 1;
    if (kept_in_rbp(lengths[0], with_frame) == 7) // expect: uninitialized-value from=heap origin=29
        sink = 2;
    if (kept_in_rbp(lengths[1], with_room) == 7) // expect: uninitialized-value from=heap origin=29
        sink = 3;
    if (kept_in_rbp(lengths[2], with_aligned_room) == 7) // expect: uninitialized-value from=heap origin=29
        sink = 4;
    if (kept_in_rbp(lengths[3], with_enter) == 7) // expect: uninitialized-value from=heap origin=29
        sink = 5;
    double y = 2, to[2];
    sums(&depths[0], &y, to);
    if (to[0] != 5 || to[1] != 4)
        return 1;
    sums(&depths[1], &y, to);
    if (to[1] != 4)
        return 1;
    if (to[0] == 9) // expect: uninitialized-value from=heap origin=30
        sink = 6;
    for (int k = 0; k < 7; k++)
        eight[k] = k;
    if (last_of(eight) == 9) // expect: uninitialized-value from=heap origin=31
        sink = 7;
    free(eight);
    free(lengths);
    free(depths);
    return 0;
}

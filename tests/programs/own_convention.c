/* Functions written in assembly hand over results in registers that the psABI leaves dead behind a
   call, and in flags. */
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

/* Two blocks in XMM2 and XMM3, results in the same; two words in R10 and R11. */
__asm__(".text\n"
        "mix_blocks: pxor %xmm4, %xmm2\n pxor %xmm4, %xmm3\n paddd %xmm2, %xmm3\n ret\n"
        "mix_words: add %r10, %r11\n xor $5, %r10\n ret\n"
        "compare: cmp %rsi, %rdi\n ret\n"
        "leave_flags: lea 1(%rax), %rax\n ret\n"
        "leave_alone: lea 2(%rax), %rax\n ret\n"
        "leave_all: lea 3(%rax), %rax\n ret\n");

static APART void blocks(int *to, const int *from) {
    __asm__ volatile("movdqu (%1), %%xmm2\n movdqu 16(%1), %%xmm3\n pcmpeqd %%xmm4, %%xmm4\n"
                     "call mix_blocks\n"
                     "movdqu %%xmm2, (%0)\n movdqu %%xmm3, 16(%0)"
                     : : "r"(to), "r"(from) : "xmm2", "xmm3", "xmm4", "memory");
}

static APART void words(long *to, const long *from) {
    __asm__ volatile("mov (%1), %%r10\n mov 8(%1), %%r11\n call mix_words\n"
                     "mov %%r10, (%0)\n mov %%r11, 8(%0)"
                     : : "r"(to), "r"(from) : "r10", "r11", "memory");
}

/* The register is asked for behind a loop with several ways out of it. */
static APART long kept(long a, long rounds) {
    long r;
    __asm__ volatile("sub $128, %%rsp\n mov %1, %%r11\n call leave_flags\n mov %2, %%rcx\n"
                     "1: test $1, %%ecx\n je 2f\n test $2, %%ecx\n je 3f\n test $4, %%ecx\n je 4f\n"
                     "2: sub $1, %%ecx\n jne 1b\n"
                     "3: xor %%eax, %%eax\n jmp 5f\n"
                     "4: mov %%r11, %%rax\n5: lea 128(%%rsp), %%rsp"
                     : "=&a"(r) : "r"(a), "r"(rounds) : "rcx", "r11", "cc", "memory");
    return r;
}

/* The other way is long. */
static APART long kept_aside(long a, long aside) {
    long r;
    __asm__ volatile("sub $128, %%rsp\n mov %2, %%rcx\n mov %1, %%r11\n call leave_alone\n"
                     "test $1, %%ecx\n jne 1f\n"
                     ".rept 300\n lea 1(%%rcx), %%eax\n.endr\n xor %%eax, %%eax\n jmp 2f\n"
                     "1: mov %%r11, %%rax\n2: lea 128(%%rsp), %%rsp"
                     : "=&a"(r) : "r"(a), "r"(aside) : "rcx", "r11", "cc", "memory");
    return r;
}

/* Nobody looks so far. */
static APART long kept_long(long a) {
    long r;
    __asm__ volatile("sub $128, %%rsp\n mov %1, %%r11\n call leave_all\n"
                     ".rept 3000\n lea 1(%%rcx), %%eax\n.endr\n"
                     "mov %%r11, %%rax\n lea 128(%%rsp), %%rsp"
                     : "=&a"(r) : "r"(a) : "rcx", "r11", "cc", "memory");
    return r;
}

static APART int returned(long a, long b) {
    int same = 0;
    __asm__ volatile("sub $128, %%rsp\n call compare\n" // expect: uninitialized-value variable=two
                     "jne 1f\n"
                     "mov $1, %0\n1: lea 128(%%rsp), %%rsp"
                     : "+r"(same) : "D"(a), "S"(b) : "rax", "cc", "memory");
    return same;
}

static APART int passed_through(long a, long b) {
    int same = 0;
    __asm__ volatile("sub $128, %%rsp\n cmp %2, %1\n" // expect: uninitialized-value variable=two
                     "call leave_flags\n"
                     "jne 1f\n"
                     "mov $1, %0\n1: lea 128(%%rsp), %%rsp"
                     : "+r"(same) : "D"(a), "S"(b) : "rax", "cc", "memory");
    return same;
}

int main(void) {
    long *depth = malloc(sizeof *depth);
    hide(depth);
    for (int round = 0; round < 3; round++)
        if (kept(round, 8) || kept(1, 3) != 1)
            seen();
    if (kept(*depth, 3) == 9) // expect: uninitialized-value from=heap
        seen();
    free(depth);
    depth = malloc(sizeof *depth);
    hide(depth);
    if (kept_aside(*depth, 0) == 9 || kept_aside(4, 1) != 4)
        seen();
    if (kept_aside(*depth, 1) == 9) // expect: uninitialized-value from=heap
        seen();
    free(depth);
    depth = malloc(sizeof *depth);
    hide(depth);
    if (kept_long(*depth) == 9) // expect: uninitialized-value from=heap
        seen();
    free(depth);
    int *in = malloc(32), out[8];
    for (int i = 0; i < 8; i++)
        if (i != 2)
            in[i] = i;
    for (int round = 0; round < 3; round++) {
        hide(in);
        blocks(out, in);
        if (out[1] == 9 || out[3] == 9 || out[5] == 9 || out[7] == 9)
            seen();
    }
    if (out[2] == 9) // expect: uninitialized-value from=heap origin=105
        seen();
    if (out[6] == 9) // expect: uninitialized-value from=heap origin=105
        seen();
    long pair[2], sum[2];
    pair[1] = 3;
    hide(pair);
    words(sum, pair);
    if (sum[0] == 9) // expect: uninitialized-value from=stack variable=pair
        seen();
    if (sum[1] == 9) // expect: uninitialized-value from=stack variable=pair
        seen();
    long two[2];
    two[1] = 3;
    for (int round = 0; round < 3; round++) {
        hide(two);
        if (returned(two[0], two[1]) + passed_through(two[0], two[1]) == 1)
            seen();
    }
    free(in);
    return 0;
}

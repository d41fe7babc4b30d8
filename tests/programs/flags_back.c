/* Functions written by hand that return a flag: the code behind the call asks for it at
   once. The psABI has no such thing, and nothing may be found. */
#include <stdlib.h>

extern int is_less(long a, const long *b), is_least(long a, const long *b), first_of(long a, const long *b);

__asm__(".text\n"
        "compare: cmp (%rsi), %rdi\n"
        "    mov (%rsi), %rax\n"
        "    ret\n"
        "apart: sub (%rsi), %rdi\n"
        "    mov %rdi, %rdx\n"
        "    and $-2, %edx\n"
        "    jmp away\n"
        "away: mov 8(%rsi), %rcx\n"
        "    ret\n"
        ".globl first_of, is_less, is_least\n"
        "first_of: sub $8, %rsp\n" /* does not ask for flags */
        "    call compare\n"
        "    add $8, %rsp\n"
        "    ret\n"
        "is_less: sub $8, %rsp\n"
        "    call compare\n"
        "    setl %al\n"
        "    movzbl %al, %eax\n"
        "    add $8, %rsp\n"
        "    ret\n"
        "is_least: sub $8, %rsp\n"
        "    call apart\n"
        "    mov $1, %eax\n"
        "    lea 8(%rsp), %rsp\n"
        "    jz 1f\n"
        "    xor %eax, %eax\n"
        "1:  ret\n");

int main(void) {
    long *b = malloc(2 * sizeof *b);
    b[0] = 5;
    b[1] = 7;
    int wrong = 0;
    for (long round = 0; round < 3; round++)
        for (long a = 0; a < 10; a++) {
            wrong += first_of(a, b) != 5;
            wrong += is_less(a, b) != (a < 5);
            wrong += is_least(a, b) != (((a - 5) & 0xfffffffe) == 0);
        }
    free(b);
    if (wrong)
        *(volatile int *)0 = wrong;
}

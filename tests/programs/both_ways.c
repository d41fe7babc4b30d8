/* Branches on an undefined bit whose ways meet again with different results, which somebody asks
   for: the result is undefined both ways, but not in all bits that differ; or it stays in a
   register through a conditional move. */
#include <stdlib.h>
#include <string.h>

static volatile int sink;

unsigned tripled(unsigned x);
__asm__(".text\n.globl tripled\n.type tripled, @function\ntripled:\n"
        "  test $1, %edi\n  je 1f\n  lea (%rdi,%rdi,2), %eax\n  ret\n1: mov %edi, %eax\n  ret\n"
        ".size tripled, . - tripled\n");

unsigned chosen(unsigned x, unsigned first, unsigned instead);
__asm__(".text\n.globl chosen\n.type chosen, @function\nchosen:\n"
        "  mov %esi, %ecx\n  test $1, %edi\n  je 1f\n  mov $5, %ecx\n1: test %edx, %edx\n"
        "  cmovne %edx, %ecx\n  mov %ecx, %eax\n  ret\n.size chosen, . - chosen\n");

/* A second branch leads to where the first one does, with another result by now. */
unsigned there_and_back(unsigned x, unsigned first, unsigned other);
__asm__(".text\n.globl there_and_back\n.type there_and_back, @function\nthere_and_back:\n"
        "  mov %esi, %eax\n  test $1, %edi\n  jne 1f\n  xor %edx, %eax\n  test $2, %edi\n  jne 1f\n"
        "  xor %edx, %eax\n1: ret\n.size there_and_back, . - there_and_back\n");

/* What differs stays in R11 over a call of a function that leaves it alone, as compilers know. */
unsigned kept_over(unsigned x, unsigned first);
__asm__(".text\nalone: ret\n.globl kept_over\n.type kept_over, @function\nkept_over:\n"
        "  mov %esi, %r11d\n  test $1, %edi\n  je 1f\n  add $1, %r11d\n1: call alone\n"
        "  mov %r11d, %eax\n  ret\n.size kept_over, . - kept_over\n");

/* Here it makes no difference. */
unsigned replaced(unsigned x, unsigned first, unsigned instead);
__asm__(".text\n.globl replaced\n.type replaced, @function\nreplaced:\n"
        "  mov %esi, %ecx\n  test $1, %edi\n  je 1f\n  mov $5, %ecx\n1: test %edx, %edx\n"
        "  mov %edx, %ecx\n  mov %ecx, %eax\n  ret\n.size replaced, . - replaced\n");

int main(void) {
    unsigned char *p = malloc(5), set = 0x5a;
    __asm__ volatile("" : "+r"(p), "+r"(set) : : "memory");
    unsigned x = (p[0] & 1) | set, x2 = x ^ 1, y = (p[1] & 1) | set, y2 = y ^ 1, z = (p[2] & 1) | set;
    unsigned w = p[3], w2 = w ^ 1, v = (p[4] & 1) | set, v2 = v ^ 1;
    if (tripled(set) != 0x5a || tripled(set + 1) != 0x111 || chosen(set, 7, 0) != 7 ||
        chosen(set + 1, 7, 0) != 5 || chosen(set, 7, 9) != 9 || kept_over(set, 7) != 7)
        return 1;
    if (tripled(x) & 0x40) // expect: uninitialized-value from=heap
        sink = 1;
    if (tripled(x2) & 0x40) // expect: uninitialized-value from=heap
        sink = 2;
    if (chosen(y, 7, 0) == 7) // expect: uninitialized-value from=heap
        sink = 3;
    if (chosen(y2, 7, 0) == 7) // expect: uninitialized-value from=heap
        sink = 4;
    if (there_and_back(w, 7, 8) == 7) // expect: uninitialized-value from=heap
        sink = 5;
    if (there_and_back(w2, 7, 8) == 7) // expect: uninitialized-value from=heap
        sink = 6;
    if (replaced(z, 7, 8) == 8)
        sink = 7;
    if (kept_over(v, 7) == 7) // expect: uninitialized-value from=heap
        sink = 8;
    if (kept_over(v2, 7) == 7) // expect: uninitialized-value from=heap
        sink = 9;
    free(p);
    return 0;
}

/* Vector registers stay as they are across everything that Tondo looks at more
   closely: reads outside a block, undefined values, emulated instructions. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static uint8_t before[256], after[256];
static uint64_t taken;

#define LOAD(n) "movups " #n "*16(%0), %%xmm" #n "\n\t"
#define STORE(n) "movups %%xmm" #n ", " #n "*16(%1)\n\t"
#define ALL(X) X(0) X(1) X(2) X(3) X(4) X(5) X(6) X(7) X(8) X(9) X(10) X(11) X(12) X(13) X(14) X(15)
#define ACROSS(what)                                                                           \
    memset(after, 0, sizeof after);                                                            \
    __asm__ volatile(ALL(LOAD) what "\n\t" ALL(STORE)                                          \
                     : : "r"(before), "r"(after), "r"(p), "r"(&taken)                          \
                     : "rax", "rbx", "rcx", "rdx", "cc", "memory");                            \
    printf("%s: %s\n", what, memcmp(before, after, sizeof after) ? "changed" : "kept");

int main(void) {
    char *p = malloc(20); /* the word at 16 reaches over its end */
    for (int i = 0; i < 256; i++)
        before[i] = (uint8_t)(i * 37 + 11);
    for (int i = 0; i < 3; i++) {
        ACROSS("movq 24(%2), %%rax")
        ACROSS("movq -8(%2), %%rax")
        ACROSS("movq 16(%2), %%rax")
        ACROSS("movups 8(%2), %%xmm0\n\tmovups (%0), %%xmm0")
        ACROSS("movb 24(%2), %%al")
        ACROSS("movb $1, 25(%2)")
        ACROSS("xorl %%eax, %%eax\n\tcpuid")
        ACROSS("xorl %%ecx, %%ecx\n\txgetbv")
        ACROSS("rdtsc")
        ACROSS("movq 8(%2), %%rax\n\ttestq %%rax, %%rax\n\tjz 1f\n1:")
        ACROSS("movq -4096(%%rsp), %%rax")
        ACROSS("leaq -20000(%%rsp), %%rax\n\tmovq (%%rax), %%rax")
        ACROSS("leaq -24000(%%rsp), %%rax\n\tmovl (%%rax), %%eax")
        ACROSS("leaq 16(%2), %%rax\n\tmovups (%%rax), %%xmm0\n\tmovups (%0), %%xmm0")
    }
    free(p);
    for (int i = 0; i < 3; i++) {
        ACROSS("movq 8(%2), %%rax")
        ACROSS("movq %%rax, 8(%2)")
    }
    return 0;
}

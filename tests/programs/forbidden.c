/* Addresses and instructions that the processor refuses although memory is there. */
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>

static sigjmp_buf before;
static void back(int number) { siglongjmp(before, number); }

int main(void) {
    signal(SIGSEGV, back);
    char *block = calloc(1, 64);
    __asm__ volatile("" : "+r"(block) : : "memory");
    if (!sigsetjmp(before, 1))
        __asm__ volatile("movaps 4(%0), %%xmm0" : : "r"(block) : "xmm0"); // expect: invalid-access
    if (!sigsetjmp(before, 1))
        __asm__ volatile("hlt"); // expect: invalid-access
    free(block);
    return 0;
}

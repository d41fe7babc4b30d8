/* A division that fails: what was not set of its operands is told, where it is. */
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
static sigjmp_buf back;
static volatile int sink;
static void caught(int number) { siglongjmp(back, number); }

APART static int by(int n, int d) { return n / d; } // expect: uninitialized-value from=heap
APART static int by_memory(int n, const int *d) {
    __asm__ volatile("cltd; idivl %1" : "+a"(n) : "m"(*d) : "edx", "cc"); // expect: uninitialized-value from=heap
    return n;
}
APART static int narrow(short n, unsigned char d) {
    __asm__ volatile("divb %1" : "+a"(n) : "q"(d) : "cc"); // expect: uninitialized-value from=heap
    return n;
}
APART static int of(long n, int d) {
    int low = (int)n, high = (int)(n >> 32);
    __asm__ volatile("idivl %2" : "+a"(low), "+d"(high) : "r"(d) : "cc"); // expect: uninitialized-value from=heap
    return low;
}
APART static int all_set(int n, int d) { return n / d; }

int main(void) {
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_handler = caught;
    sigaction(SIGFPE, &action, NULL);
    int *set = calloc(8, sizeof *set), *fresh = malloc(64); /* of zeros, too, but nobody set them */
    long *large = malloc(sizeof *large);
    __asm__ volatile("" : "+r"(set), "+r"(fresh), "+r"(large) : : "memory");
    for (int k = 0; k < 5; k++) {
        if (sigsetjmp(back, 1))
            continue;
        switch (k) {
        case 0: sink += by(7, fresh[0]); break;
        case 1: sink += by_memory(7, &fresh[3]); break;
        case 2: sink += narrow(7, (unsigned char)fresh[4]); break;
        case 3: sink += of(*large | 0x7fffffff00000000, 1); break;
        case 4: sink += all_set(7, set[2]); break;
        }
    }
    free(set);
    free(fresh);
    free(large);
    return 0;
}

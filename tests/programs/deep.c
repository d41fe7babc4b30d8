/* Recursion that fills a stack with the smallest of frames, hundreds of thousands of them:
   told where it happens, and the program's own handler goes on. */
#include <pthread.h>
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>

static char alternate[65536];
static sigjmp_buf before;

static void on_fault(int number) { siglongjmp(before, number); }

static volatile int depth;
__attribute__((noinline, noclone)) static int dive(int n) { depth = n; return n < 0 ? 0 : 1 + dive(n + 1); } // expect: invalid-access

__attribute__((noinline, noclone)) static int dive_aside(int n) { depth = n; return n < 0 ? 0 : 1 + dive_aside(n + 1); } // expect: invalid-access

static void *aside(void *unused) {
    stack_t stack = {.ss_sp = malloc(65536), .ss_size = 65536};
    sigaltstack(&stack, NULL);
    if (!sigsetjmp(before, 1))
        dive_aside(1);
    stack_t none = {.ss_flags = SS_DISABLE};
    sigaltstack(&none, NULL);
    free(stack.ss_sp);
    return unused;
}

int main(void) {
    stack_t stack = {.ss_sp = alternate, .ss_size = sizeof alternate};
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_handler = on_fault;
    action.sa_flags = SA_ONSTACK;
    sigaction(SIGSEGV, &action, NULL);
    sigaltstack(&stack, NULL);
    if (!sigsetjmp(before, 1))
        return dive(1);
    if (depth < 10000)
        return 1;
    pthread_t thread;
    pthread_create(&thread, NULL, aside, NULL);
    pthread_join(thread, NULL);
    return depth < 10000;
}

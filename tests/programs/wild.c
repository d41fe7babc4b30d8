/* Pointers to nowhere, survived by a handler that jumps away. */
#include <setjmp.h>
#include <signal.h>
#include <stdint.h>
#include <string.h>
#include <sys/mman.h>

static sigjmp_buf again;
static volatile int sink, caught;
static void *volatile seen;

static void on_fault(int number, siginfo_t *info, void *context) {
    caught++;
    seen = info->si_addr;
    siglongjmp(again, 1);
}

int main(void) {
    struct sigaction action;
    memset(&action, 0, sizeof action);
    action.sa_sigaction = on_fault;
    action.sa_flags = SA_SIGINFO;
    sigaction(SIGSEGV, &action, 0);
    int *volatile p = (int *)0x123456789000;
    if (!sigsetjmp(again, 1))
        sink = *p; // expect: invalid-access access=4
    if (seen != (void *)0x123456789000)
        return 1;
    p = (int *)0xdeadbeefdeadbeef;
    if (!sigsetjmp(again, 1))
        *p = 3; // expect: invalid-access access=4
    p = (int *)0x345678901234; /* where the shadow is: no guest may touch it */
    if (!sigsetjmp(again, 1))
        *p = 3; // expect: invalid-access access=4
    char *page = mmap(0, 4096, PROT_READ, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (!sigsetjmp(again, 1))
        page[8] = 1; // expect: invalid-access access=1
    if (seen != page + 8)
        return 2;
    void (*volatile jump)(void) = 0;
    if (!sigsetjmp(again, 1))
        jump(); // expect: null-dereference
    return caught == 5 ? 0 : 3;
}

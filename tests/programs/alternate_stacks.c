/* Alternate stacks as the kernel keeps them: one that disarms itself while a handler runs on it
   and is back after it, and one that is too small, for which SIGSEGV comes instead. */
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

#ifndef SS_AUTODISARM
#define SS_AUTODISARM (1U << 31)
#endif
enum { LARGE = 65536, SMALL = 2304 };
static int disarmed, refused, came;
static sigjmp_buf before;

static void on_large(int number) {
    stack_t now;
    came = number;
    disarmed = sigaltstack(NULL, &now) == 0 && now.ss_flags == SS_DISABLE;
}

static void on_small(int number) { came = -number; }

static void refuse(int number) {
    refused = number == SIGSEGV;
    siglongjmp(before, 1);
}

static void handle(int number, void (*handler)(int), int flags) {
    struct sigaction a = {.sa_handler = handler, .sa_flags = flags};
    sigaction(number, &a, NULL);
}

int main(void) {
    char *area = mmap(NULL, 2 * LARGE, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    stack_t stack = {.ss_sp = area, .ss_size = LARGE, .ss_flags = (int)SS_AUTODISARM}, now;
    handle(SIGUSR1, on_large, SA_ONSTACK);
    if (sigaltstack(&stack, NULL) || raise(SIGUSR1) || came != SIGUSR1 || !disarmed)
        return 1;
    if (sigaltstack(NULL, &now) || now.ss_sp != area || now.ss_size != LARGE ||
        now.ss_flags != (int)SS_AUTODISARM)
        return 2;
    stack = (stack_t){.ss_sp = area + LARGE, .ss_size = SMALL};
    handle(SIGUSR2, on_small, SA_ONSTACK);
    handle(SIGSEGV, refuse, 0);
    memset(area, 5, LARGE);
    if (sigaltstack(&stack, NULL))
        return 3;
    if (!sigsetjmp(before, 1))
        raise(SIGUSR2);
    for (int k = 0; k < LARGE; k++)
        if (area[k] != 5)
            return 4;
    return refused && came == SIGUSR1 ? 0 : 5;
}

/* Signals on stacks that are just large enough: an alternate stack of 8 KiB, whose neighbours
   stay as they are, and a thread's of 16 KiB. */
#include <limits.h>
#include <pthread.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>

enum { SMALL = 8192, NEIGHBOUR = 4096 };
static volatile sig_atomic_t came;

static void note(int number) {
    char room[1024];
    memset(room, number, sizeof room);
    came += room[number];
}

static void *wait_for_it(void *unused) {
    raise(SIGUSR2);
    return unused;
}

int main(void) {
    char *area = malloc(2 * NEIGHBOUR + SMALL);
    memset(area, 7, 2 * NEIGHBOUR + SMALL);
    stack_t stack = {.ss_sp = area + NEIGHBOUR, .ss_size = SMALL};
    struct sigaction a = {.sa_handler = note, .sa_flags = SA_ONSTACK};
    if (sigaltstack(&stack, NULL) || sigaction(SIGUSR1, &a, NULL))
        return 1;
    raise(SIGUSR1);
    for (int k = 0; k < NEIGHBOUR; k++)
        if (area[k] != 7 || area[NEIGHBOUR + SMALL + k] != 7)
            return 2;
    stack.ss_flags = SS_DISABLE;
    sigaltstack(&stack, NULL);
    free(area);
    a.sa_flags = 0;
    sigaction(SIGUSR2, &a, NULL);
    pthread_attr_t attributes;
    pthread_t thread;
    pthread_attr_init(&attributes);
    pthread_attr_setstacksize(&attributes, 16384);
    if (pthread_create(&thread, &attributes, wait_for_it, NULL))
        return 3;
    pthread_join(thread, NULL);
    pthread_attr_destroy(&attributes);
    return came == SIGUSR1 + SIGUSR2 ? 0 : 4;
}

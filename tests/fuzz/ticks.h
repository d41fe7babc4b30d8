/* A signal every TICKS microseconds, for any program: to be included before everything else. */
#ifndef TESTS_FUZZ_TICKS_H
#define TESTS_FUZZ_TICKS_H

#ifndef _GNU_SOURCE
#define _GNU_SOURCE
#endif
#include <signal.h>
#include <sys/time.h>

static volatile double tick_sum = 1;

static void on_tick(int number) {
    volatile char room[300];
    for (unsigned k = 0; k < sizeof room; k += 7)
        room[k] = (char)number;
    tick_sum = tick_sum * 1.5 - room[7];
}

__attribute__((constructor)) static void start_ticks(void) {
    struct sigaction action;
    struct itimerval timer = {{0, TICKS}, {0, TICKS}};
    __builtin_memset(&action, 0, sizeof action);
    action.sa_handler = on_tick;
    action.sa_flags = SA_RESTART;
    sigaction(SIGALRM, &action, 0);
    setitimer(ITIMER_REAL, &timer, 0);
}

#endif

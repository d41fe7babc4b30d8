/* Timers whose notice is a thread of the C library: it blocks a signal and waits for it by
   sigwaitinfo, and no expiration may be lost in between. */
#include <semaphore.h>
#include <signal.h>
#include <time.h>

static sem_t rung;
static void ring(union sigval unused) {
    (void)unused;
    sem_post(&rung);
}

int main(void) {
    struct sigevent notice = {.sigev_notify = SIGEV_THREAD, .sigev_notify_function = ring};
    struct itimerspec soon = {.it_value.tv_nsec = 300000};
    struct timespec until;
    sem_init(&rung, 0, 0);
    for (int k = 0; k < 60; k++) {
        timer_t timer;
        if (timer_create(CLOCK_MONOTONIC, &notice, &timer) || timer_settime(timer, 0, &soon, NULL))
            return 1;
        clock_gettime(CLOCK_REALTIME, &until);
        until.tv_sec += 5;
        if (sem_timedwait(&rung, &until))
            return 2;
        timer_delete(timer);
    }
    return 0;
}

/* Blocks that only the kernel has the address of, and gives back: no leaks. */
#define _GNU_SOURCE
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/eventfd.h>
#include <time.h>

struct visit {
    char name[40];
};
static int set, bell;

int main(void) {
    set = epoll_create1(0); // expect: descriptor-leak
    bell = eventfd(0, 0);   // expect: descriptor-leak
    struct epoll_event event = {.events = EPOLLIN, .data.ptr = malloc(sizeof(struct visit))};
    epoll_ctl(set, EPOLL_CTL_ADD, bell, &event);
    memset(&event, 0, sizeof event);
    struct sigevent tell = {.sigev_notify = SIGEV_SIGNAL, .sigev_signo = SIGUSR1};
    tell.sigev_value.sival_ptr = malloc(sizeof(struct visit));
    timer_t timer;
    timer_create(CLOCK_MONOTONIC, &tell, &timer);
    memset(&tell, 0, sizeof tell);
    return 0;
}

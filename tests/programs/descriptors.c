/* File descriptors that stay open, and ways of opening that are nobody's leak. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/epoll.h>
#include <sys/eventfd.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <syslog.h>
#include <unistd.h>

#define APART __attribute__((noinline, noclone))

APART static int chart(void) {
    volatile int fd = open("/etc/passwd", O_RDONLY); // expect: descriptor-leak count=5
    return fd;
}

APART static void left_open(void) {
    for (int i = 0; i < 5; i++)
        chart();
    FILE *log = fopen("/dev/null", "w"); // expect: descriptor-leak count=1
    if (log)
        fputs("berth 7 is free\n", log);
    int ends[2];
    if (pipe(ends)) // expect: descriptor-leak count=1
        return;
    close(ends[0]);
    int moved = fcntl(0, F_DUPFD, 40); // expect: descriptor-leak count=1
    int again = dup(moved);
    close(again);
    dup2(ends[1], 60); // expect: descriptor-leak count=1
}

APART static void closed(void) {
    int pair[2];
    if (socketpair(AF_UNIX, SOCK_STREAM, 0, pair))
        return;
    close(pair[0]);
    close(pair[1]);
    close(epoll_create1(0));
    int bell = eventfd(0, 0);
    close_range((unsigned)bell, (unsigned)bell, 0);
    fclose(fopen("/etc/group", "r"));
    pclose(popen("true", "r"));
    openlog("berths", 0, LOG_USER);
    dup2(open("/dev/null", O_RDONLY), 0); // expect: descriptor-leak count=1
}

int main(void) {
    left_open();
    closed();
    if (fork() == 0)
        exit(0); /* has them only by fork */
    wait(NULL);
    return 0;
}

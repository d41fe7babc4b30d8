/* Descriptors closed a second time, and closing that is no mistake. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <sys/socket.h>
#include <unistd.h>

static volatile int sink;
#define APART __attribute__((noinline, noclone))

APART static void sweeps(void) {
    int fd = open("/dev/null", O_RDONLY), other = dup(fd);
    close(other);
    close(fd);
    for (int i = 3; i < 64; i++) /* as daemons do */
        close(i);
    close(-1);
}

APART static void used_again(void) {
    int fd = open("/dev/null", O_RDONLY);
    close(fd);
    int same = open("/dev/zero", O_RDONLY);
    close(same);
}

APART static void finish(int fd) {
    sink = close(fd); // expect: double-close
}

APART static void mistakes(void) {
    int pair[2];
    socketpair(AF_UNIX, SOCK_STREAM, 0, pair);
    for (int k = 0; k < 2; k++)
        close(pair[k]);
    finish(pair[1]);
    FILE *f = fopen("/dev/null", "r");
    int fd = fileno(f);
    fclose(f);
    close(fd); // expect: double-close
}

int main(void) {
    sweeps();
    used_again();
    mistakes();
    return 0;
}

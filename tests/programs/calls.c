/* What goes to the kernel: buffers, structures, texts and registers. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/ioctl.h>
#include <sys/select.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/time.h>
#include <sys/uio.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }
#define TEST(x) do { if (x) seen(); } while (0)

APART static void outputs(int null) {
    struct stat st;
    fstat(null, &st);
    TEST(st.st_mode & S_IFCHR);
    int fds[2], n = 0;
    TEST(pipe(fds) == 0 && fds[0] < fds[1]);
    TEST(write(fds[1], "abcdef", 6) == 6);
    TEST(ioctl(fds[0], FIONREAD, &n) == 0 && n == 6);
    char buffer[64];
    TEST(read(fds[0], buffer, sizeof buffer) == 6 && buffer[5] == 'f');
    TEST(buffer[6] == 1); // expect: uninitialized-value variable=buffer
    struct pollfd p = {.fd = fds[1], .events = POLLOUT};
    TEST(poll(&p, 1, 0) == 1 && p.revents == POLLOUT);
    fd_set set;
    FD_ZERO(&set);
    FD_SET(fds[1], &set);
    TEST(select(fds[1] + 1, NULL, &set, NULL, NULL) == 1 && FD_ISSET(fds[1], &set));
    struct timespec now, left;
    clock_gettime(CLOCK_MONOTONIC, &now);
    TEST(now.tv_sec > 0);
    struct timespec little = {0, 1000};
    nanosleep(&little, &left);
    int e = epoll_create1(0);
    struct epoll_event event, got[4]; /* its data is the program's business */
    event.events = EPOLLOUT;
    event.data.fd = 7;
    epoll_ctl(e, EPOLL_CTL_ADD, fds[1], &event);
    TEST(epoll_wait(e, got, 4, 0) == 1 && got[0].data.fd == 7);
    struct termios t;
    tcgetattr(0, &t);
    struct sigaction action, old;
    action.sa_handler = SIG_IGN;
    action.sa_flags = 0;
    sigemptyset(&action.sa_mask);
    sigaction(SIGUSR1, &action, &old);
    TEST(old.sa_handler == SIG_DFL);
    pid_t child = fork();
    if (child == 0)
        _exit(3);
    int status;
    waitpid(child, &status, 0);
    TEST(WEXITSTATUS(status) == 3);
    close(fds[0]), close(fds[1]), close(e);
}

APART static void messages(void) {
    int pair[2];
    socketpair(AF_UNIX, SOCK_DGRAM, 0, pair);
    char text[8] = "harbour", in[32], control[64];
    struct iovec part = {text, sizeof text};
    struct msghdr m;
    memset(&m, 0, sizeof m);
    m.msg_iov = &part;
    m.msg_iovlen = 1;
    sendmsg(pair[0], &m, 0);
    part = (struct iovec){in, sizeof in};
    m.msg_control = control;
    m.msg_controllen = sizeof control;
    TEST(recvmsg(pair[1], &m, 0) == 8 && in[7] == 0 && in[0] == 'h');
    struct sockaddr_in a; /* its padding is nobody's business */
    a.sin_family = AF_INET;
    a.sin_port = 0;
    a.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    int s = socket(AF_INET, SOCK_STREAM, 0);
    bind(s, (struct sockaddr *)&a, sizeof a);
    socklen_t length = sizeof a;
    getsockname(s, (struct sockaddr *)&a, &length);
    TEST(a.sin_port != 0 && length == sizeof a);
    struct sockaddr_un u; /* nor what follows the name */
    u.sun_family = AF_UNIX;
    strcpy(u.sun_path, "/nowhere/at/all");
    connect(s, (struct sockaddr *)&u, sizeof u);
    int on = 0;
    length = sizeof on;
    getsockopt(s, SOL_SOCKET, SO_TYPE, &on, &length);
    TEST(on == SOCK_STREAM);
    close(s), close(pair[0]), close(pair[1]);
    struct sockaddr_in to; /* raw sockets have no ports */
    to.sin_family = AF_INET;
    to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    s = socket(AF_INET, SOCK_RAW, IPPROTO_ICMP); /* for those who may */
    char echo[8] = {8, 0, 0xf7, 0xff};
    if (s >= 0)
        sendto(s, echo, sizeof echo, 0, (struct sockaddr *)&to, sizeof to);
    if (s >= 0)
        close(s);
}

APART static void mistakes(int null) {
    char buffer[16];
    buffer[0] = 'a', buffer[1] = 'b';
    hide(buffer);
    write(null, buffer, 8); // expect: uninitialized-value variable=buffer access=6
    char *block = malloc(32);
    memset(block, 0, 20);
    hide(block);
    struct iovec parts[2] = {{block, 20}, {block + 20, 4}};
    writev(null, parts, 2); // expect: uninitialized-value from=heap access=4
    char path[8];
    path[0] = '/';
    hide(path);
    access(path, R_OK); // expect: uninitialized-value variable=path
    long size;
    hide(&size);
    ftruncate(-1, size); // expect: uninitialized-value variable=size
    struct timespec time;
    time.tv_sec = 0;
    hide(&time);
    nanosleep(&time, NULL); // expect: uninitialized-value variable=time access=8
    read(null, block + 30, 8); // expect: out-of-bounds-write where=after offset=32
    free(block);
}

int main(void) {
    int null = open("/dev/null", O_RDWR);
    outputs(null);
    messages();
    mistakes(null);
    close(null);
    return 0;
}

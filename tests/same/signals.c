/* Signals: handlers that look at and change the context, long jumps out of faults,
   alternate stacks, waiting for signals, timers, restarts, stop and continue. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <setjmp.h>
#include <signal.h>
#include <stdatomic.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/signalfd.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <time.h>
#include <ucontext.h>
#include <unistd.h>

static sigjmp_buf back;
static volatile sig_atomic_t seen, ticks;
static void *volatile fault_at;

static void jumps(int n, siginfo_t *info, void *context) {
    (void)context;
    fault_at = info->si_addr;
    seen = n;
    siglongjmp(back, info->si_code);
}

static void probes(void) {
    struct sigaction a = {.sa_sigaction = jumps, .sa_flags = SA_SIGINFO};
    sigaction(SIGSEGV, &a, NULL);
    sigaction(SIGBUS, &a, NULL);
    sigaction(SIGFPE, &a, NULL);
    sigaction(SIGILL, &a, NULL);
    char *page = mmap(NULL, 4096, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    int faults = 0;
    for (int i = 0; i < 100; i++) {
        int code = sigsetjmp(back, 1);
        if (code == 0) {
            *(volatile char *)(page + i);
            puts("no fault");
        }
        faults += seen == SIGSEGV && code == SEGV_ACCERR && fault_at == page + i;
    }
    printf("probes: %d\n", faults);
    int code = sigsetjmp(back, 1);
    if (code == 0)
        __asm__ volatile("ud2");
    printf("ud2: %d %d\n", seen == SIGILL, code);
    code = sigsetjmp(back, 1);
    volatile int zero = 0;
    if (code == 0)
        printf("%d\n", 1 / zero);
    printf("division: %d %d\n", seen == SIGFPE, code == FPE_INTDIV);
    char name[] = "/tmp/same-signals-XXXXXX";
    int fd = mkstemp(name);
    char *file = mmap(NULL, 8192, PROT_READ, MAP_SHARED, fd, 0);
    code = sigsetjmp(back, 1);
    if (code == 0)
        printf("%d\n", *(volatile char *)(file + 5000));
    printf("behind a file: %d %d\n", seen == SIGBUS, code == BUS_ADRERR);
    unlink(name);
    close(fd);
    signal(SIGSEGV, SIG_DFL);
    signal(SIGBUS, SIG_DFL);
    signal(SIGFPE, SIG_DFL);
    signal(SIGILL, SIG_DFL);
}

static void skips(int n, siginfo_t *info, void *context) {
    ucontext_t *u = context;
    (void)n;
    (void)info;
    u->uc_mcontext.gregs[REG_RIP] += 2;
    u->uc_mcontext.gregs[REG_RAX] = 77;
}

static void context(void) {
    struct sigaction a = {.sa_sigaction = skips, .sa_flags = SA_SIGINFO};
    sigaction(SIGILL, &a, NULL);
    long rax = 1, rbx = 2;
    __asm__ volatile("ud2" : "+a"(rax), "+b"(rbx));
    printf("context: %ld %ld\n", rax, rbx);
    signal(SIGILL, SIG_DFL);
}

static char alternate[65536];
static void on_alternate(int n, siginfo_t *info, void *context) {
    char here;
    (void)info;
    (void)context;
    (void)n;
    seen = &here >= alternate && &here < alternate + sizeof alternate;
    siglongjmp(back, 1);
}

static int overflow(int depth) {
    volatile char room[10000];
    room[0] = (char)depth;
    return overflow(depth + 1) + room[0];
}

static void deep(void) {
    stack_t s = {.ss_sp = alternate, .ss_size = sizeof alternate};
    sigaltstack(&s, NULL);
    struct sigaction a = {.sa_sigaction = on_alternate, .sa_flags = SA_SIGINFO | SA_ONSTACK};
    sigaction(SIGSEGV, &a, NULL);
    if (!sigsetjmp(back, 1))
        overflow(0);
    printf("overflow: on the alternate stack %d\n", seen);
    signal(SIGSEGV, SIG_DFL);
}

static void tick(int n) {
    (void)n;
    ticks++;
}
static void counts(int n) {
    (void)n;
    seen++;
}

static void timers(void) {
    struct sigaction a = {.sa_handler = tick, .sa_flags = SA_RESTART};
    sigaction(SIGALRM, &a, NULL);
    struct itimerval t = {{0, 1000}, {0, 1000}};
    setitimer(ITIMER_REAL, &t, NULL);
    double x = 1;
    uint64_t h = 1;
    while (ticks < 300) {
        for (int i = 0; i < 1000; i++) {
            x = x * 1.0000001 + 1e-9;
            h = h * 6364136223846793005ULL + 1442695040888963407ULL;
        }
        if (!(x > 0))
            puts("x changed");
    }
    memset(&t, 0, sizeof t);
    setitimer(ITIMER_REAL, &t, NULL);
    uint64_t check = 1;
    uint64_t n = 0;
    while (check != h && n < 4000000000ULL) {
        check = check * 6364136223846793005ULL + 1442695040888963407ULL;
        n++;
    }
    printf("timer: state kept %d\n", n % 1000 == 0);
}

static void waits(void) {
    sigset_t set, old;
    sigemptyset(&set);
    sigaddset(&set, SIGUSR1);
    sigaddset(&set, SIGRTMIN + 3);
    sigprocmask(SIG_BLOCK, &set, &old);
    for (int i = 0; i < 3; i++)
        sigqueue(getpid(), SIGRTMIN + 3, (union sigval){.sival_int = i + 40});
    kill(getpid(), SIGUSR1);
    struct timespec limit = {1, 0};
    siginfo_t info;
    for (int i = 0; i < 4; i++) {
        int n = sigtimedwait(&set, &info, &limit);
        printf("waited: %d %d\n", n == SIGUSR1 ? 1 : n == SIGRTMIN + 3 ? 2 : n,
               n == SIGUSR1 ? 0 : info.si_value.sival_int);
    }
    int fd = signalfd(-1, &set, 0);
    kill(getpid(), SIGUSR1);
    struct signalfd_siginfo from;
    if (read(fd, &from, sizeof from) == sizeof from)
        printf("signalfd: %d\n", (int)from.ssi_signo == SIGUSR1);
    close(fd);
    signal(SIGUSR1, counts);
    seen = 0;
    kill(getpid(), SIGUSR1);
    printf("blocked: %d\n", seen);
    sigdelset(&old, SIGUSR1);
    sigsuspend(&old);
    printf("sigsuspend: %d %d\n", seen, errno == EINTR);
    sigprocmask(SIG_SETMASK, &old, NULL);
}

static void interrupted(void) {
    struct sigaction a = {.sa_handler = counts};
    int ends[2];
    char c = 0;
    sigaction(SIGALRM, &a, NULL);
    seen = 0;
    if (pipe(ends))
        return;
    ualarm(20000, 0);
    errno = 0;
    long r = read(ends[0], &c, 1);
    printf("read: %ld %d %d\n", r, errno == EINTR, seen);
    a.sa_flags = SA_RESTART;
    sigaction(SIGALRM, &a, NULL);
    if (fork() == 0) {
        usleep(500000); /* long behind the alarm, on a busy machine, too */
        _exit(write(ends[1], "x", 1) != 1);
    }
    ualarm(20000, 0);
    r = read(ends[0], &c, 1);
    printf("restarted: %ld %c %d\n", r, c, seen);
    struct pollfd p = {ends[0], POLLIN, 0};
    ualarm(20000, 0);
    r = poll(&p, 1, 2000);
    printf("poll: %ld %d %d\n", r, errno == EINTR, seen);
    while (wait(NULL) > 0)
        ;
    signal(SIGPIPE, SIG_IGN);
    close(ends[0]);
    r = write(ends[1], "x", 1);
    printf("pipe: %ld %d\n", r, errno == EPIPE);
    close(ends[1]);
}

static void children(void) {
    struct sigaction a = {.sa_handler = counts, .sa_flags = SA_RESTART};
    sigaction(SIGCHLD, &a, NULL);
    seen = 0;
    pid_t pid = fork();
    if (pid == 0)
        for (;;)
            pause();
    int status;
    kill(pid, SIGSTOP);
    waitpid(pid, &status, WUNTRACED);
    printf("stopped: %d\n", WIFSTOPPED(status) && WSTOPSIG(status) == SIGSTOP);
    kill(pid, SIGCONT);
    waitpid(pid, &status, WCONTINUED);
    printf("continued: %d\n", WIFCONTINUED(status));
    kill(pid, SIGTERM);
    waitpid(pid, &status, 0);
    printf("ended: %d %d\n", WIFSIGNALED(status), WTERMSIG(status));
    for (int s = 0; s < 4; s++) {
        static const int deadly[] = {SIGSEGV, SIGABRT, SIGKILL, SIGINT};
        pid = fork();
        if (pid == 0) {
            if (s == 1)
                abort();
            raise(deadly[s]);
            _exit(0);
        }
        waitpid(pid, &status, 0);
        printf("death: %d\n", WIFSIGNALED(status) ? WTERMSIG(status) : -1);
    }
    signal(SIGCHLD, SIG_DFL);
}

int main(void) {
    setvbuf(stdout, NULL, _IOLBF, 0);
    probes();
    context();
    deep();
    timers();
    waits();
    interrupted();
    children();
    return 0;
}

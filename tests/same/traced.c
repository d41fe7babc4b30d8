/* A debugger of its own child: it counts the system calls of a program it starts, which
   must run as it is for that; and it looks where one stops that has not executed another. */
#include <signal.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/ptrace.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <unistd.h>

static void stop_at(const char *what, void (*where)(void), int handled) {
    pid_t child = fork();
    if (child == 0) {
        ptrace(PTRACE_TRACEME, 0, NULL, NULL);
        where();
        _exit(5);
    }
    int status;
    waitpid(child, &status, 0);
    if (!WIFSTOPPED(status)) {
        printf("%s: status %d\n", what, status);
        return;
    }
    struct user_regs_struct r;
    ptrace(PTRACE_GETREGS, child, NULL, &r);
    long pc = ptrace(PTRACE_PEEKUSER, child, offsetof(struct user, regs.rip), NULL);
    long word = ptrace(PTRACE_PEEKDATA, child, r.rsp, NULL);
    printf("%s: signal %d, there %d %d, called from here %d\n", what, WSTOPSIG(status),
           pc == (long)where, r.rip == (unsigned long)where,
           word > (long)stop_at && word < (long)stop_at + 4096);
    ptrace(PTRACE_CONT, child, NULL, handled ? (void *)(long)WSTOPSIG(status) : NULL);
    if (!handled)
        kill(child, SIGKILL);
    while (waitpid(child, &status, 0) == child && WIFSTOPPED(status))
        ptrace(PTRACE_CONT, child, NULL, NULL);
    printf("%s: ended by %d, status %d\n", what, WTERMSIG(status), WEXITSTATUS(status));
}

static void leave(int number) { _exit(number); }

int main(int argc, char **argv) {
    if (argc > 1) {
        write(1, "berth\n", 6);
        return 3;
    }
    pid_t child = fork();
    if (child == 0) {
        ptrace(PTRACE_TRACEME, 0, NULL, NULL);
        execl(argv[0], argv[0], "child", (char *)NULL);
        _exit(127);
    }
    int status, stops = 0;
    waitpid(child, &status, 0);
    while (WIFSTOPPED(status)) {
        stops++;
        ptrace(PTRACE_SYSCALL, child, NULL, NULL);
        waitpid(child, &status, 0);
    }
    void *page = mmap(NULL, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    memset(page, 0xc3, 16);
    stop_at("no code", (void (*)(void))page, 0);
    signal(SIGSEGV, leave);
    stop_at("handled", (void (*)(void))page, 1);
    printf("%d stops, exit status %d\n", stops, WEXITSTATUS(status));
    return 0;
}

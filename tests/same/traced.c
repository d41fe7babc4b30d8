/* A debugger of its own child: it counts the system calls of a program it starts, which
   must run as it is for that. */
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/ptrace.h>
#include <sys/wait.h>
#include <unistd.h>

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
    printf("%d stops, exit status %d\n", stops, WEXITSTATUS(status));
    return 0;
}

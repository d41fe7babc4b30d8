/* Processes: trees of forks, vfork, spawn, programs run from threads and again by
   /proc/self/exe, daemons, all descriptors closed, a filter on system calls. */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/filter.h>
#include <linux/seccomp.h>
#include <pthread.h>
#include <signal.h>
#include <spawn.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

extern char **environ;

static int status_of(pid_t pid) {
    int status = 0;
    waitpid(pid, &status, 0);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
}

static int tree(int depth) {
    int sum = 1;
    for (int i = 0; i < 2 && depth; i++) {
        pid_t pid = fork();
        if (pid == 0)
            _exit(tree(depth - 1));
        sum += status_of(pid);
    }
    return sum;
}

static void *runs(void *self) {
    char *arguments[] = {self, "again", "thread", NULL};
    execv("/proc/self/exe", arguments);
    return NULL;
}

static void starts(char *self) {
    pid_t pid = vfork();
    if (pid == 0) {
        execl(self, self, "again", "vfork", (char *)NULL);
        _exit(127);
    }
    printf("vfork: %d\n", status_of(pid));
    pid = vfork();
    if (pid == 0)
        _exit(42);
    printf("vfork and exit: %d\n", status_of(pid));
    char *arguments[] = {self, "again", "spawn", NULL};
    posix_spawn_file_actions_t actions;
    posix_spawn_file_actions_init(&actions);
    posix_spawn_file_actions_adddup2(&actions, 1, 2);
    posix_spawn(&pid, self, &actions, NULL, arguments, environ);
    printf("spawn: %d\n", status_of(pid));
    printf("no such program: %d\n", posix_spawn(&pid, "./absent", NULL, NULL, arguments, environ));
    fflush(stdout);
    if ((pid = fork()) == 0) {
        pthread_t t;
        pthread_create(&t, NULL, runs, self);
        pthread_join(t, NULL);
        _exit(1);
    }
    printf("exec from a thread: %d\n", status_of(pid));
    printf("system: %d\n", WEXITSTATUS(system("exit 5")));
    FILE *f = popen("echo berth; exit 3", "r");
    char line[20] = "";
    if (fgets(line, sizeof line, f))
        printf("popen: %s", line);
    printf("pclose: %d\n", WEXITSTATUS(pclose(f)));
}

static void daemonised(void) {
    int ends[2];
    char text[40] = "";
    if (pipe(ends))
        return;
    pid_t pid = fork();
    if (pid == 0) {
        setsid();
        if (fork())
            _exit(0);
        if (chdir("/"))
            _exit(1);
        for (int fd = 0; fd < 1024; fd++)
            if (fd != ends[1])
                close(fd);
        int session = getsid(0) != getpid();
        usleep(10000);
        snprintf(text, sizeof text, "daemon %d", session);
        _exit(write(ends[1], text, strlen(text)) < 0);
    }
    status_of(pid);
    close(ends[1]);
    ssize_t n = read(ends[0], text, sizeof text - 1);
    close(ends[0]);
    printf("%.*s\n", (int)n, text);
}

static void sandboxed(void) {
    struct sock_filter code[] = {
        BPF_STMT(BPF_LD | BPF_W | BPF_ABS, offsetof(struct seccomp_data, nr)),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_write, 4, 0),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_exit_group, 3, 0),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_brk, 2, 0),
        BPF_JUMP(BPF_JMP | BPF_JEQ | BPF_K, SYS_rt_sigreturn, 1, 0),
        BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_KILL_PROCESS),
        BPF_STMT(BPF_RET | BPF_K, SECCOMP_RET_ALLOW),
    };
    struct sock_fprog filter = {sizeof code / sizeof *code, code};
    pid_t pid = fork();
    if (pid == 0) {
        prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
        if (prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &filter))
            _exit(1);
        char text[] = "inside the filter\n";
        if (write(1, text, sizeof text - 1) < 0)
            _exit(2);
        char *p = malloc(100000);
        memset(p, 1, 100000);
        _exit(p[99999] + 6);
    }
    printf("filtered: %d\n", status_of(pid));
    pid = fork();
    if (pid == 0) {
        prctl(PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0);
        if (prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, &filter))
            _exit(1);
        syscall(SYS_getppid);
        _exit(0);
    }
    printf("killed by the filter: %d\n", status_of(pid));
    pid = fork();
    if (pid == 0) {
        if (prctl(PR_SET_SECCOMP, SECCOMP_MODE_STRICT))
            _exit(1);
        if (write(1, "strict\n", 7) < 0)
            syscall(SYS_exit, 2);
        syscall(SYS_exit, 3);
    }
    printf("strict: %d\n", status_of(pid));
}

/* By the structure of clone3(2), with a descriptor and a number for the child. */
static void by_structure(void) {
    uint64_t arguments[8] = {0};
    int descriptor = -1, tid = 0, status = 0;
    arguments[0] = 0x1000 | 0x100000; /* CLONE_PIDFD, CLONE_PARENT_SETTID */
    arguments[1] = (uintptr_t)&descriptor;
    arguments[3] = (uintptr_t)&tid;
    arguments[4] = SIGCHLD;
    long pid = syscall(SYS_clone3, arguments, sizeof arguments);
    if (pid == 0)
        _exit(6);
    waitpid((pid_t)pid, &status, 0);
    printf("clone3: %d %d %d\n", WEXITSTATUS(status), descriptor > 2, tid == pid);
    close(descriptor);
    arguments[4] = 0x1ff;
    pid = syscall(SYS_clone3, arguments, sizeof arguments);
    printf("clone3: %d\n", pid < 0 && errno == EINVAL);
}

/* By its path and by its descriptor. */
static void own_file(void) {
    struct stat by_path, by_number, link;
    int fd = open("/proc/self/exe", O_RDONLY);
    int same = stat("/proc/self/exe", &by_path) == 0 && fstat(fd, &by_number) == 0 &&
               lstat("/proc/self/exe", &link) == 0 && by_path.st_ino == by_number.st_ino &&
               by_path.st_size == by_number.st_size && S_ISLNK(link.st_mode);
    struct statx extended;
    same &= statx(AT_FDCWD, "/proc/self/exe", 0, STATX_SIZE, &extended) == 0 &&
            extended.stx_size == (uint64_t)by_number.st_size;
    close(fd);
    printf("own file: %d\n", same);
}

int main(int argc, char **argv) {
    setvbuf(stdout, NULL, _IOLBF, 0);
    if (argc > 2) {
        char name[300];
        ssize_t n = readlink("/proc/self/exe", name, sizeof name);
        printf("again by %s, itself %d\n", argv[2], n > 0 && strstr(argv[0], "processes") != NULL);
        return (int)strlen(argv[2]);
    }
    printf("tree: %d\n", tree(5));
    by_structure();
    own_file();
    starts(argv[0]);
    daemonised();
    sandboxed();
    for (int fd = 3; fd < 200; fd++)
        close(fd);
    close_range(3, ~0U, 0);
    FILE *f = fopen("/proc/self/cmdline", "r");
    char text[300] = "";
    size_t got = fread(text, 1, sizeof text - 1, f);
    fclose(f);
    printf("command line: %d\n", got > 0 && strcmp(text, argv[0]) == 0);
    struct rlimit limit = {64, 64};
    setrlimit(RLIMIT_NOFILE, &limit);
    printf("descriptors: %d\n", dup(0) < 64);
    char *arguments[] = {argv[0], "again", "the end", NULL};
    execv(argv[0], arguments);
    return 1;
}

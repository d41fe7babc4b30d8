/* The host's side of a run: the ledger file, the engine's process, and the
   waiting, during which ended guests get their heap searched. */
#define _GNU_SOURCE
#include "launch.h"

#include "../follow/follow.h"
#include "questions.h"

#include <elf.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/futex.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/personality.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

static struct ledger *shared; /* for the signal handler */
static volatile sig_atomic_t child_changed;

static char *join_path(const char *folder, size_t length, const char *name) {
    char *path = malloc(length + strlen(name) + 2);
    if (!length)
        sprintf(path, "./%s", name);
    else
        sprintf(path, "%.*s/%s", (int)length, folder, name);
    return path;
}

/* As execvp finds it; a file that may not be run is remembered. */
static char *find_program(const char *name, bool *denied) {
    struct stat s;
    if (strchr(name, '/'))
        return strdup(name);
    const char *path = getenv("PATH");
    if (!path)
        path = "/usr/local/bin:/usr/bin:/bin";
    for (const char *at = path;; at++) {
        const char *end = strchrnul(at, ':');
        char *candidate = join_path(at, (size_t)(end - at), name);
        if (stat(candidate, &s) == 0 && S_ISREG(s.st_mode)) {
            if (access(candidate, X_OK) == 0)
                return candidate;
            *denied = true;
        }
        free(candidate);
        if (!*end)
            return NULL;
        at = end;
    }
}

static int wrong(struct error *error, int status, const char *path, const char *why) {
    error_set(error, "%s: %s", path, why);
    return status;
}

static int check_elf(const unsigned char *head, size_t size, const char *path,
                     struct error *error) {
    const Elf64_Ehdr *header = (const Elf64_Ehdr *)(const void *)head;
    if (size < sizeof *header)
        return wrong(error, 126, path, "not a program: the file is too short");
    if (header->e_ident[EI_CLASS] != ELFCLASS64)
        return wrong(error, 126, path,
                     "a 32-bit program; Tondo runs 64-bit x86 programs (build without -m32)");
    if (header->e_ident[EI_DATA] != ELFDATA2LSB || header->e_machine != EM_X86_64)
        return wrong(error, 126, path,
                     "a program for another processor; Tondo runs x86-64 programs");
    if (header->e_type != ET_EXEC && header->e_type != ET_DYN)
        return wrong(error, 126, path,
                     "an object or core file, not a program; link it first");
    return 0;
}

static char **prepend(char **list, char *first, char *second, char *third) {
    size_t n = 0, at = 0;
    while (list[n])
        n++;
    char **longer = calloc(n + 4, sizeof *longer);
    longer[at++] = first;
    if (second)
        longer[at++] = second;
    if (third)
        longer[at++] = third;
    for (size_t i = 1; i < n; i++)
        longer[at++] = list[i];
    return longer;
}

static int prepare_file(struct launch *launch, char *path, char **arguments, int depth,
                        struct error *error) {
    struct stat s;
    if (stat(path, &s) != 0)
        return wrong(error, errno == EACCES ? 126 : 127, path,
                     errno == EACCES ? "no permission to reach it"
                                     : "no such program; check the name or give its path");
    if (S_ISDIR(s.st_mode))
        return wrong(error, 126, path, "a folder, not a program");
    if (access(path, X_OK) != 0)
        return wrong(error, 126, path, "no permission to run it (chmod +x makes it a program)");
    if (access(path, R_OK) != 0)
        return wrong(error, 126, path, "no permission to read it, which Tondo must do to run it");
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    unsigned char head[256] = {0};
    ssize_t n = fd >= 0 ? read(fd, head, sizeof head - 1) : -1;
    if (fd >= 0)
        close(fd);
    if (n < 2)
        return wrong(error, 126, path, n == 0 ? "an empty file, not a program" : "not a program");
    if (memcmp(head, "#!", 2) == 0 && depth < 4) {
        char *line = (char *)head + 2;
        line[strcspn(line, "\n")] = 0;
        line += strspn(line, " \t");
        size_t name = strcspn(line, " \t");
        char *interpreter = strndup(line, name), *option = NULL;
        line += name;
        line += strspn(line, " \t");
        if (*line)
            option = strdup(line);
        if (!*interpreter)
            return wrong(error, 126, path, "a script without an interpreter in its first line");
        return prepare_file(launch, interpreter,
                            prepend(arguments, interpreter, option ? option : path,
                                    option ? path : NULL),
                            depth + 1, error);
    }
    if (memcmp(head, ELFMAG, SELFMAG) != 0)
        return wrong(error, 126, path, "not a program: neither an ELF file nor a #! script");
    int status = check_elf(head, (size_t)n, path, error);
    if (status)
        return status;
    launch->path = realpath(path, NULL);
    launch->actual = arguments;
    return 0;
}

int launch_prepare(struct launch *launch, struct error *error) {
    bool denied = false;
    char *path = find_program(launch->program, &denied);
    if (!path)
        return wrong(error, denied ? 126 : 127, launch->program,
                     denied ? "no permission to run it"
                            : "no such program in PATH; give its path if it is elsewhere");
    return prepare_file(launch, path, launch->arguments, 0, error);
}

/* Beside the tondo program in a build, under libexec when installed. */
int launch_engine(char *path, size_t size, struct error *error) {
    char self[400];
    ssize_t n = readlink("/proc/self/exe", self, sizeof self - 1);
    if (n <= 0)
        return error_set(error, "cannot find my own place: /proc is not mounted");
    self[n] = 0;
    *strrchr(self, '/') = 0;
    static const char *const places[] = {"%s/tondo-engine", "%s/../libexec/tondo/tondo-engine",
                                         "%s/../lib/tondo/tondo-engine"};
    for (size_t i = 0; i < sizeof places / sizeof places[0]; i++) {
        snprintf(path, size, places[i], self);
        if (access(path, X_OK) == 0)
            return 0;
    }
    return error_set(error, "the engine (tondo-engine) is missing beside %s; install Tondo again",
                     self);
}

/* A soft limit on space is meant for the program: the engine, which finds it in the
   child, keeps the program to it; what Tondo maps does not count. */
static struct rlimit space_limit;

static void lift_space_limit(void) {
    struct rlimit none = {RLIM_INFINITY, RLIM_INFINITY};
    if (getrlimit(RLIMIT_AS, &space_limit) == 0 && space_limit.rlim_max == RLIM_INFINITY)
        setrlimit(RLIMIT_AS, &none);
}

static int make_ledger(struct launch *launch, char *path, size_t size, struct error *error) {
    const char *folders[] = {"/dev/shm", getenv("TMPDIR"), "/tmp"};
    int fd = -1;
    for (size_t i = 0; i < 3 && fd < 0; i++) {
        if (!folders[i])
            continue;
        snprintf(path, size, "%s/tondo-%d-XXXXXX", folders[i], (int)getpid());
        fd = mkostemp(path, O_CLOEXEC);
    }
    if (fd < 0)
        return error_set(error, "cannot make the ledger file in /dev/shm or /tmp: %s",
                         strerror(errno));
    if (ftruncate(fd, sizeof(struct ledger)) != 0) {
        unlink(path);
        return error_set(error, "cannot make the ledger file %s: %s", path, strerror(errno));
    }
    void *p = mmap(NULL, sizeof(struct ledger), PROT_READ | PROT_WRITE, MAP_SHARED, fd, 0);
    close(fd);
    if (p == MAP_FAILED) {
        unlink(path);
        return error_set(error, "no room to map the ledger of %zu MiB: lift the limit on address "
                                "space (ulimit -v unlimited)",
                         sizeof(struct ledger) >> 20);
    }
    launch->ledger = p;
    launch->ledger->magic = LEDGER_MAGIC;
    launch->ledger->host_pid = (uint32_t)getpid();
    launch->ledger->retirement_bytes = launch->retirement_bytes;
    launch->ledger->follow = launch->follow;
    launch->ledger->leak_search = 1;
    int wanted = personality(0xffffffff);
    launch->ledger->fixed_addresses = wanted >= 0 && (wanted & ADDR_NO_RANDOMIZE);
    launch->ledger->test_door = getenv("TONDO_TEST_DOOR") != NULL;
    memset(launch->ledger->untouchable, 0xff, sizeof launch->ledger->untouchable);
    return 0;
}

static void on_child(int number) {
    (void)number;
    child_changed = 1;
    if (shared)
        __atomic_add_fetch(&shared->event, 1, __ATOMIC_SEQ_CST);
}

static volatile pid_t guest_pid;

/* A signal sent to tondo is meant for the program; one from the terminal has
   reached the program already. The report comes in either case. */
static void pass_on(int number, siginfo_t *info, void *context) {
    (void)context;
    if (info->si_code <= 0 && guest_pid > 0)
        kill(guest_pid, number);
}

static const int passed_on[] = {SIGINT, SIGQUIT, SIGTERM, SIGHUP, SIGUSR1, SIGUSR2};
enum { PASSED_ON = sizeof passed_on / sizeof passed_on[0] };

/* Searches the heap of every process that waits for it. */
static void serve(struct launch *launch) {
    struct ledger *ledger = launch->ledger;
    uint32_t count = ledger->next_process;
    if (count > LEDGER_PROCESSES)
        count = LEDGER_PROCESSES;
    static uint32_t ended; /* all before it have */
    for (uint32_t i = ended; i < count; i++) {
        struct ledger_process *p = &ledger->processes[i];
        if (i == ended && __atomic_load_n(&p->state, __ATOMIC_ACQUIRE) == LEDGER_RELEASED)
            ended++;
        if (__atomic_load_n(&p->state, __ATOMIC_ACQUIRE) != LEDGER_SEARCH)
            continue;
        search_process(ledger, i, (pid_t)p->pid, &launch->losses);
        __atomic_store_n(&p->state, LEDGER_RELEASED, __ATOMIC_RELEASE);
        syscall(SYS_futex, &p->state, FUTEX_WAKE, 64, NULL, NULL, 0);
    }
}

/* The guest is gone. If it had no time to say good-bye (SIGKILL), its keeper
   still has its memory. */
static void after_death(struct launch *launch) {
    struct ledger_process *p = &launch->ledger->processes[0];
    if (!launch->ledger->next_process || !p->keeper)
        return;
    if (p->state == LEDGER_RUNNING)
        search_process(launch->ledger, 0, (pid_t)p->keeper, &launch->losses);
    if (p->state != LEDGER_REPLACED)
        __atomic_store_n(&p->state, LEDGER_RELEASED, __ATOMIC_RELEASE);
    syscall(SYS_futex, &p->state, FUTEX_WAKE, 16, NULL, NULL, 0);
    waitpid((pid_t)p->keeper, NULL, 0);
}

static double seconds_now(void) {
    struct timespec t;
    clock_gettime(CLOCK_MONOTONIC, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static void wait_for(struct launch *launch, pid_t pid) {
    struct ledger *ledger = launch->ledger;
    double start = seconds_now();
    history_start(&launch->history);
    int status = 0;
    for (;;) {
        uint32_t seen = __atomic_load_n(&ledger->event, __ATOMIC_SEQ_CST);
        questions_answer(&launch->symbols, ledger);
        serve(launch);
        if (waitpid(pid, &status, WNOHANG) == pid)
            break;
        history_look(&launch->history, ledger, seconds_now() - start, false);
        double pause = launch->history.interval < 0.2 ? launch->history.interval : 0.2;
        struct timespec limit = {0, (long)(pause * 1e9)};
        syscall(SYS_futex, &ledger->event, FUTEX_WAIT, seen, &limit, NULL, 0);
    }
    guest_pid = 0;
    history_look(&launch->history, ledger, seconds_now() - start, true);
    serve(launch);
    after_death(launch);
    launch->signal = WIFSIGNALED(status) ? WTERMSIG(status) : 0;
    launch->status = WIFEXITED(status) ? WEXITSTATUS(status) : 0;
}

int launch_run(struct launch *launch, struct error *error) {
    char engine[500], ledger_path[256];
    lift_space_limit();
    if (launch_engine(engine, sizeof engine, error) != 0 ||
        make_ledger(launch, ledger_path, sizeof ledger_path, error) != 0)
        return 125;
    snprintf(launch->ledger->engine_path, sizeof launch->ledger->engine_path, "%s", engine);
    snprintf(launch->ledger->follower_path, sizeof launch->ledger->follower_path, "%.*s/%s",
             (int)(strrchr(engine, '/') - engine), engine, FOLLOW_LIBRARY);
    /* the loader would take such a path apart (ld.so(8), LD_PRELOAD) */
    if (access(launch->ledger->follower_path, R_OK) != 0 ||
        strpbrk(launch->ledger->follower_path, " :"))
        launch->ledger->follower_path[0] = 0;
    shared = launch->ledger;
    struct sigaction action = {.sa_handler = on_child};
    struct sigaction forward = {.sa_sigaction = pass_on, .sa_flags = SA_SIGINFO}, old[PASSED_ON];
    sigaction(SIGCHLD, &action, NULL);
    size_t n = 0;
    while (launch->actual[n])
        n++;
    char **list = calloc(n + 5, sizeof *list);
    list[0] = "tondo-engine";
    list[1] = ledger_path;
    list[2] = "0";
    list[3] = launch->path;
    for (size_t i = 0; i < n; i++)
        list[4 + i] = launch->actual[i];
    double start = seconds_now();
    for (int i = 0; i < PASSED_ON; i++) {
        sigaction(passed_on[i], NULL, &old[i]);
        if (old[i].sa_handler != SIG_IGN)
            sigaction(passed_on[i], &forward, NULL);
    }
    pid_t pid = fork();
    if (pid == 0) {
        for (int i = 0; i < PASSED_ON; i++)
            sigaction(passed_on[i], &old[i], NULL);
        signal(SIGCHLD, SIG_DFL);
        prctl(PR_SET_PDEATHSIG, SIGKILL); /* nobody would hear of its findings */
        int wanted = personality(0xffffffff);
        if (wanted >= 0)
            personality(((unsigned long)wanted | ADDR_NO_RANDOMIZE) &
                        ~(unsigned long)ADDR_COMPAT_LAYOUT);
        setrlimit(RLIMIT_AS, &space_limit);
        execv(engine, list);
        _exit(125);
    }
    free(list);
    if (pid < 0) {
        unlink(ledger_path);
        error_set(error, "cannot start another process: %s", strerror(errno));
        return 125;
    }
    launch->pid = (uint32_t)pid;
    guest_pid = pid;
    wait_for(launch, pid);
    launch->seconds = seconds_now() - start;
    unlink(ledger_path);
    if (launch->ledger->failure) {
        launch->ledger->failure_text[sizeof launch->ledger->failure_text - 1] = 0;
        error_set(error, "%s", launch->ledger->failure_text);
        return 125;
    }
    if (launch->ledger->next_process == 0) {
        error_set(error, "the engine %s did not start", engine);
        return 125;
    }
    return 0;
}

void launch_free(struct launch *launch) {
    shared = NULL;
    if (launch->ledger)
        munmap(launch->ledger, sizeof(struct ledger));
    if (launch->symbols)
        symbols_free(launch->symbols);
    free(launch->losses.list);
    history_free(&launch->history);
    free(launch->path);
}

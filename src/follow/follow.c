/* The follower: a small library inside programs that run at full speed (shells,
   make, compilers) because nobody asked about them. All it does is look at the
   programs they start: one of the user's own goes under instrumentation, any
   other gets the follower in turn. It changes nothing else, keeps its variables
   out of the environment the program sees, and allocates nothing: a start may
   come after vfork or fork in a program with threads. */
#define _GNU_SOURCE
#include "follow.h"
#include "../core/own_code.h"
#include "../core/tracer.h"

#include <dlfcn.h>
#include <elf.h>
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <spawn.h>
#include <stdarg.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/personality.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

extern char **environ;

static char run_variable[1200];     /* FOLLOW_VARIABLE=... */
static char parent[16], ledger[256], engine[512], library[512];
static bool active;
enum { PRELOAD_ROOM = 4096 };

static const char *value_of(char *const *environment, const char *name) {
    size_t n = strlen(name);
    for (; environment && *environment; environment++)
        if (strncmp(*environment, name, n) == 0 && (*environment)[n] == '=')
            return *environment + n + 1;
    return NULL;
}

static void forget(const char *name) {
    size_t n = strlen(name);
    char **to = environ;
    for (char **from = environ; from && *from; from++)
        if (strncmp(*from, name, n) != 0 || (*from)[n] != '=')
            *to++ = *from;
    if (to)
        *to = NULL;
}

/* In place and without the C library's getenv and setenv: shells bring their own. */
__attribute__((constructor)) static void begin(void) {
    const char *run = value_of(environ, FOLLOW_VARIABLE);
    const char *preload = value_of(environ, FOLLOW_PRELOAD);
    if (!run || !preload || strlen(run) + sizeof FOLLOW_VARIABLE >= sizeof run_variable ||
        sscanf(run, "%15[0-9]:%255[^:]:%511[^\n]", parent, ledger, engine) != 3)
        return;
    snprintf(run_variable, sizeof run_variable, "%s=%s", FOLLOW_VARIABLE, run);
    size_t n = strcspn(preload, ":");
    if (n >= sizeof library)
        return;
    memcpy(library, preload, n);
    char *rest = preload[n] ? (char *)(uintptr_t)(preload + n + 1) : NULL;
    forget(FOLLOW_VARIABLE);
    if (!rest)
        forget(FOLLOW_PRELOAD);
    for (char **e = environ; rest && *e; e++)
        if (strncmp(*e, FOLLOW_PRELOAD "=", sizeof FOLLOW_PRELOAD) == 0)
            memmove(*e + sizeof FOLLOW_PRELOAD, rest, strlen(rest) + 1);
    active = true;
}

/* --- what a file is --- */

enum sort { SORT_OTHER, SORT_DYNAMIC, SORT_OWN };

static bool has_loader(int fd, const Elf64_Ehdr *header) {
    Elf64_Phdr p;
    for (unsigned i = 0; i < header->e_phnum && i < 64; i++) {
        off_t at = (off_t)(header->e_phoff + i * sizeof p);
        if (pread(fd, &p, sizeof p, at) != (ssize_t)sizeof p)
            return false;
        char name[256] = "";
        if (p.p_type != PT_INTERP)
            continue;
        ssize_t n = pread(fd, name, p.p_filesz < 255 ? p.p_filesz : 255, (off_t)p.p_offset);
        return n > 0 && strstr(name, FOLLOW_LOADER);
    }
    return false;
}

/* What the engine is told besides the arguments: where the file is, and what a script's
   first line says. */
struct program {
    char real[512], line[256];
    char *interpreter, *option; /* NULL: no script, no option */
};

/* A script counts as its interpreter. */
static enum sort sort_of(const char *path, struct program *program, int depth) {
    struct stat s;
    char head[256] = "", *real = program->real;
    if (!depth)
        program->interpreter = program->option = NULL;
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    if (fd < 0)
        return SORT_OTHER;
    enum sort sort = SORT_OTHER;
    ssize_t n = pread(fd, head, sizeof head - 1, 0);
    if (n >= (ssize_t)sizeof(Elf64_Ehdr) && memcmp(head, ELFMAG, SELFMAG) == 0) {
        const Elf64_Ehdr *header = (const Elf64_Ehdr *)(void *)head;
        bool ours = header->e_machine == EM_X86_64 && head[EI_CLASS] == ELFCLASS64 &&
                    fstat(fd, &s) == 0 && !(s.st_mode & (S_ISUID | S_ISGID));
        char link[64];
        snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
        ssize_t length = ours ? readlink(link, real, 511) : -1;
        if (length > 0)
            real[length] = 0;
        if (length > 0 && !in_system_folder(real) && access(path, X_OK) == 0)
            sort = SORT_OWN;
        else if (ours && has_loader(fd, header))
            sort = SORT_DYNAMIC;
        else if (length > 0 && !starts_nothing(real) && access(path, X_OK) == 0)
            sort = SORT_OWN;
    } else if (n > 2 && head[0] == '#' && head[1] == '!' && depth < 4) {
        char *name = head + 2 + strspn(head + 2, " \t");
        name[strcspn(name, "\n")] = 0;
        char *option = name + strcspn(name, " \t");
        if (*option)
            *option++ = 0;
        option += strspn(option, " \t");
        for (char *end = option + strlen(option); end > option && strchr(" \t", end[-1]);)
            *--end = 0;
        sort = *name ? sort_of(name, program, depth + 1) : SORT_OTHER;
        if (sort == SORT_OWN && (depth || access(path, X_OK) != 0))
            sort = SORT_OTHER; /* a script for a script is not worth it */
        memcpy(program->line, head, sizeof head);
        program->interpreter = program->line + (name - head);
        program->option = *option ? program->line + (option - head) : NULL;
    }
    close(fd);
    return sort;
}

/* --- starting --- */

static size_t count(char *const *list) {
    size_t n = 0;
    while (list && list[n])
        n++;
    return n;
}

/* The environment with the follower in it; `to` has room for two more. */
static void with_follower(char **to, char *const *environment, char *preload, size_t size) {
    const char *own = value_of(environment, FOLLOW_PRELOAD);
    snprintf(preload, size, "%s=%s%s%s", FOLLOW_PRELOAD, library, own && *own ? ":" : "",
             own ? own : "");
    size_t n = 0;
    for (; environment && *environment; environment++)
        if (strncmp(*environment, FOLLOW_PRELOAD "=", sizeof FOLLOW_PRELOAD) != 0)
            to[n++] = *environment;
    to[n++] = preload;
    to[n++] = run_variable;
    to[n] = NULL;
}

enum { ENGINE_WORDS = 8 }; /* at most so many more than the arguments */

static void with_engine(char **to, const struct program *program, const char *path,
                        char *const *arguments) {
    size_t n = 0;
    to[n++] = (char *)FOLLOW_ENGINE_NAME;
    to[n++] = ledger;
    to[n++] = parent;
    to[n++] = (char *)(uintptr_t)program->real;
    if (program->interpreter) {
        to[n++] = program->interpreter;
        if (program->option)
            to[n++] = program->option;
        to[n++] = (char *)(uintptr_t)path;
        arguments += arguments && *arguments;
    }
    for (; arguments && *arguments; arguments++)
        to[n++] = *arguments;
    to[n] = NULL;
}

typedef int execve_function(const char *, char *const *, char *const *);
typedef int spawn_function(pid_t *, const char *, const posix_spawn_file_actions_t *,
                           const posix_spawnattr_t *, char *const *, char *const *);

static void *real_function(const char *name) { return dlsym(RTLD_NEXT, name); }

static bool is_debugged(void) {
    char status[1024];
    int fd = open("/proc/self/status", O_RDONLY | O_CLOEXEC);
    ssize_t n = fd < 0 ? 0 : read(fd, status, sizeof status - 1);
    if (fd >= 0)
        close(fd);
    status[n > 0 ? n : 0] = 0;
    long tracer = tracer_in(status);
    return tracer && tracer == getppid();
}

static bool run_goes_on(void) {
    return active && access(ledger, R_OK) == 0 && !is_debugged();
}

static int start(const char *path, char *const *arguments, char *const *environment) {
    execve_function *real_execve = (execve_function *)(uintptr_t)real_function("execve");
    struct program program;
    enum sort sort = run_goes_on() ? sort_of(path, &program, 0) : SORT_OTHER;
    if (sort == SORT_OWN) {
        char *list[count(arguments) + ENGINE_WORDS];
        with_engine(list, &program, path, arguments);
        int addresses = personality(0xffffffff);
        personality(((unsigned long)addresses | ADDR_NO_RANDOMIZE) &
                    ~(unsigned long)ADDR_COMPAT_LAYOUT);
        int result = real_execve(engine, list, environment);
        personality((unsigned long)addresses);
        return result;
    }
    if (sort == SORT_DYNAMIC) {
        char *list[count(environment) + 3], preload[PRELOAD_ROOM];
        with_follower(list, environment, preload, sizeof preload);
        return real_execve(path, arguments, list);
    }
    return real_execve(path, arguments, environment);
}

static int spawn(spawn_function *real_spawn, pid_t *pid, const char *path, const char *given,
                 const posix_spawn_file_actions_t *actions, const posix_spawnattr_t *attributes,
                 char *const *arguments, char *const *environment) {
    struct program program;
    enum sort sort = run_goes_on() ? sort_of(path, &program, 0) : SORT_OTHER;
    if (sort == SORT_OWN) {
        char *list[count(arguments) + ENGINE_WORDS];
        with_engine(list, &program, path, arguments);
        return real_spawn(pid, engine, actions, attributes, list, environment);
    }
    if (sort == SORT_DYNAMIC) {
        char *list[count(environment) + 3], preload[PRELOAD_ROOM];
        with_follower(list, environment, preload, sizeof preload);
        return real_spawn(pid, given, actions, attributes, arguments, list);
    }
    return real_spawn(pid, given, actions, attributes, arguments, environment);
}

/* As the exec functions with a p find a program (POSIX exec). */
static const char *in_path(const char *file, char *to, size_t size) {
    if (strchr(file, '/'))
        return file;
    const char *path = value_of(environ, "PATH");
    if (!path)
        path = "/bin:/usr/bin";
    for (;;) {
        size_t n = strcspn(path, ":");
        int length = snprintf(to, size, "%.*s%s%s", (int)n, path, n ? "/" : "", file);
        struct stat s;
        if (length > 0 && (size_t)length < size && access(to, X_OK) == 0 && stat(to, &s) == 0 &&
            S_ISREG(s.st_mode))
            return to;
        if (!path[n])
            return NULL;
        path += n + 1;
    }
}

/* --- the functions that start programs --- */

int execve(const char *path, char *const arguments[], char *const environment[]) {
    return start(path, arguments, environment);
}

int execv(const char *path, char *const arguments[]) { return start(path, arguments, environ); }

int execvpe(const char *file, char *const arguments[], char *const environment[]) {
    char found[4096];
    const char *path = *file ? in_path(file, found, sizeof found) : NULL;
    if (!path) {
        typedef int execvpe_function(const char *, char *const *, char *const *);
        return ((execvpe_function *)(uintptr_t)real_function("execvpe"))(file, arguments,
                                                                         environment);
    }
    int r = start(path, arguments, environment);
    if (errno != ENOEXEC)
        return r;
    size_t n = count(arguments);
    char *list[n + 3];
    list[0] = (char *)"/bin/sh";
    list[1] = (char *)(uintptr_t)path;
    for (size_t i = 1; i <= n; i++)
        list[i + 1] = arguments[i];
    list[n ? n + 1 : 2] = NULL;
    return start("/bin/sh", list, environment);
}

int execvp(const char *file, char *const arguments[]) {
    return execvpe(file, arguments, environ);
}

static size_t count_listed(va_list *rest) {
    size_t n = 1;
    while (va_arg(*rest, char *))
        n++;
    return n;
}

#define LISTED(arguments, first)                                                              \
    va_list rest;                                                                             \
    va_start(rest, first);                                                                    \
    size_t listed = count_listed(&rest);                                                    \
    va_end(rest);                                                                             \
    char *arguments[listed + 1];                                                              \
    va_start(rest, first);                                                                    \
    arguments[0] = (char *)(uintptr_t)(first);                                                \
    for (size_t i = 1; i <= listed; i++)                                                      \
        arguments[i] = va_arg(rest, char *)

int execl(const char *path, const char *first, ...) {
    LISTED(arguments, first);
    va_end(rest);
    return start(path, arguments, environ);
}

int execlp(const char *file, const char *first, ...) {
    LISTED(arguments, first);
    va_end(rest);
    return execvpe(file, arguments, environ);
}

int execle(const char *path, const char *first, ...) {
    LISTED(arguments, first);
    char *const *environment = va_arg(rest, char *const *);
    va_end(rest);
    return start(path, arguments, environment);
}

int fexecve(int fd, char *const arguments[], char *const environment[]) {
    typedef int fexecve_function(int, char *const *, char *const *);
    char link[64];
    struct program program;
    snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    if (run_goes_on() && sort_of(link, &program, 0) == SORT_OWN && !program.interpreter)
        return start(link, arguments, environment);
    return ((fexecve_function *)(uintptr_t)real_function("fexecve"))(fd, arguments, environment);
}

int posix_spawn(pid_t *pid, const char *path, const posix_spawn_file_actions_t *actions,
                const posix_spawnattr_t *attributes, char *const arguments[],
                char *const environment[]) {
    return spawn((spawn_function *)(uintptr_t)real_function("posix_spawn"), pid, path, path,
                 actions, attributes, arguments, environment);
}

int posix_spawnp(pid_t *pid, const char *file, const posix_spawn_file_actions_t *actions,
                 const posix_spawnattr_t *attributes, char *const arguments[],
                 char *const environment[]) {
    char found[4096];
    const char *path = in_path(file, found, sizeof found);
    return spawn((spawn_function *)(uintptr_t)real_function("posix_spawnp"), pid,
                 path ? path : file, file, actions, attributes, arguments, environment);
}

/* POSIX system(): its shell is started inside the C library, out of sight. */
int system(const char *command) {
    if (!command || !run_goes_on())
        return ((int (*)(const char *))(uintptr_t)real_function("system"))(command);
    struct sigaction ignore = {.sa_handler = SIG_IGN}, interrupt, quit;
    sigset_t block, mask, defaults;
    sigaction(SIGINT, &ignore, &interrupt);
    sigaction(SIGQUIT, &ignore, &quit);
    sigemptyset(&block);
    sigaddset(&block, SIGCHLD);
    sigprocmask(SIG_BLOCK, &block, &mask);
    posix_spawnattr_t attributes;
    posix_spawnattr_init(&attributes);
    sigemptyset(&defaults);
    if (interrupt.sa_handler != SIG_IGN)
        sigaddset(&defaults, SIGINT);
    if (quit.sa_handler != SIG_IGN)
        sigaddset(&defaults, SIGQUIT);
    posix_spawnattr_setsigdefault(&attributes, &defaults);
    posix_spawnattr_setsigmask(&attributes, &mask);
    posix_spawnattr_setflags(&attributes, POSIX_SPAWN_SETSIGDEF | POSIX_SPAWN_SETSIGMASK);
    char *arguments[] = {(char *)"sh", (char *)"-c", (char *)(uintptr_t)command, NULL};
    pid_t pid;
    int status = 127 << 8;
    if (posix_spawn(&pid, "/bin/sh", NULL, &attributes, arguments, environ) == 0)
        while (waitpid(pid, &status, 0) < 0)
            if (errno != EINTR) {
                status = -1;
                break;
            }
    posix_spawnattr_destroy(&attributes);
    sigaction(SIGINT, &interrupt, NULL);
    sigaction(SIGQUIT, &quit, NULL);
    sigprocmask(SIG_SETMASK, &mask, NULL);
    return status;
}

/* The same for popen, whose bookkeeping stays the C library's: for the moment of
   its start the follower stands in the environment. */
FILE *popen(const char *command, const char *mode) {
    FILE *(*real_popen)(const char *, const char *) =
        (FILE * (*)(const char *, const char *))(uintptr_t) real_function("popen");
    if (!run_goes_on())
        return real_popen(command, mode);
    char *list[count(environ) + 3], **before = environ, preload[PRELOAD_ROOM];
    with_follower(list, environ, preload, sizeof preload);
    environ = list;
    FILE *f = real_popen(command, mode);
    environ = before;
    return f;
}

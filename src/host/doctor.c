/* Looks at the machine as a run would use it: address space, limits, processor,
   files, the right to read another process. Each look is a row of one table. */
#define _GNU_SOURCE
#include "doctor.h"

#include "launch.h"
#include "session.h"

#include <cpuid.h>
#include <errno.h>
#include <fcntl.h>
#include <stdarg.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/personality.h>
#include <sys/resource.h>
#include <sys/statvfs.h>
#include <sys/uio.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <unistd.h>

__attribute__((format(printf, 3, 4))) static enum health
say(struct check *c, enum health health, const char *pattern, ...) {
    va_list list;
    va_start(list, pattern);
    vsnprintf(c->text, sizeof c->text, pattern, list);
    va_end(list);
    return health;
}

static enum health look_at_kernel(struct check *c) {
    struct utsname u;
    int major = 0, minor = 0;
    uname(&u);
    sscanf(u.release, "%d.%d", &major, &minor);
    if (strcmp(u.machine, "x86_64") != 0)
        return say(c, HEALTH_BROKEN, "%s: programs are run on x86-64 only", u.machine);
    if (major < 5 || (major == 5 && minor < 10))
        return say(c, HEALTH_LIMITED, "Linux %s: older than what was tried (5.10)", u.release);
    return say(c, HEALTH_FINE, "Linux %s, %s", u.release, u.machine);
}

static enum health look_at_processor(struct check *c) {
    unsigned a, b, x, d;
    if (!__get_cpuid(1, &a, &b, &x, &d) || !(x & bit_XSAVE))
        return say(c, HEALTH_BROKEN, "the processor has no XSAVE, which the engine needs");
    return say(c, HEALTH_FINE,
               "programs are offered its instructions but those for transactions, bounds, "
               "protection keys and AMX");
}

static enum health look_at_proc(struct check *c) {
    if (access("/proc/self/exe", F_OK) != 0)
        return say(c, HEALTH_BROKEN, "/proc is not mounted: mount it (mount -t proc proc /proc)");
    return say(c, HEALTH_FINE, "mounted");
}

static enum health look_at_parts(struct check *c) {
    char engine[500], follower[600];
    struct error error;
    if (launch_engine(engine, sizeof engine, &error) != 0)
        return say(c, HEALTH_BROKEN, "%s", error.text);
    snprintf(follower, sizeof follower, "%.*s/tondo-follow.so",
             (int)(strrchr(engine, '/') - engine), engine);
    if (access(follower, R_OK) != 0)
        return say(c, HEALTH_LIMITED,
                   "%s is missing: your programs below shells and make are not followed; "
                   "install Tondo again",
                   follower);
    return say(c, HEALTH_FINE, "%s", engine);
}

static bool can_reserve(uint64_t at, uint64_t size) {
    void *p = mmap((void *)(uintptr_t)at, size, PROT_READ | PROT_WRITE,
                   MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE | MAP_FIXED_NOREPLACE, -1, 0);
    if (p == MAP_FAILED)
        return false;
    munmap(p, size);
    return true;
}

static enum health look_at_space(struct check *c) {
    struct rlimit limit;
    getrlimit(RLIMIT_AS, &limit);
    if (limit.rlim_max != RLIM_INFINITY)
        return say(c, HEALTH_BROKEN,
                   "limited to %llu MiB: the shadow of memory does not fit; lift the limit "
                   "(ulimit -v unlimited)",
                   (unsigned long long)limit.rlim_max >> 20);
    limit.rlim_cur = limit.rlim_max; /* a soft one is for the program alone */
    setrlimit(RLIMIT_AS, &limit);
    if (!can_reserve(1ULL << 45, 1ULL << 45) || !can_reserve(3ULL << 45, 1ULL << 42)) {
        FILE *f = fopen("/proc/sys/vm/overcommit_memory", "re");
        int mode = f ? fgetc(f) : 0;
        if (f)
            fclose(f);
        return say(c, HEALTH_BROKEN, mode == '2'
                       ? "strict overcommit (vm.overcommit_memory is 2) forbids the reservation "
                         "for the shadow of memory; set it to 0 or 1"
                       : "36 TiB of address space cannot be reserved for the shadow of memory; "
                         "look for a limit of the container");
    }
    return say(c, HEALTH_FINE, "the shadow of memory can be reserved");
}

static enum health look_at_layout(struct check *c) {
    int now = personality(0xffffffff);
    if (now < 0)
        return say(c, HEALTH_LIMITED,
                   "personality(2) is forbidden: addresses differ from run to run");
    return say(c, HEALTH_FINE, "addresses are the same from run to run");
}

static enum health look_at_ledger(struct check *c) {
    const char *folders[] = {"/dev/shm", getenv("TMPDIR"), "/tmp"};
    for (size_t i = 0; i < 3; i++) {
        struct statvfs s;
        if (!folders[i] || access(folders[i], W_OK) != 0 || statvfs(folders[i], &s) != 0)
            continue;
        unsigned long long mebibytes = (unsigned long long)s.f_bavail * s.f_frsize >> 20;
        if (mebibytes < 64)
            return say(c, HEALTH_LIMITED,
                       "%s has %llu MiB left: a run with many call stacks may need more; "
                       "make room there",
                       folders[i], mebibytes);
        return say(c, HEALTH_FINE, "in %s, %llu MiB are free", folders[i], mebibytes);
    }
    return say(c, HEALTH_BROKEN, "neither /dev/shm nor TMPDIR nor /tmp can be written");
}

static enum health look_at_reading(struct check *c) {
    int ends[2];
    volatile long secret = 0x746f6e646f;
    if (pipe(ends) != 0)
        return say(c, HEALTH_BROKEN, "no pipe: %s", strerror(errno));
    pid_t pid = fork();
    if (pid == 0) {
        char wait;
        close(ends[1]);
        _exit(read(ends[0], &wait, 1) < 0);
    }
    long copy = 0;
    struct iovec to = {&copy, sizeof copy}, from = {(void *)(uintptr_t)&secret, sizeof secret};
    bool read_it = pid > 0 && process_vm_readv(pid, &to, 1, &from, 1, 0) == sizeof copy;
    int problem = errno;
    close(ends[0]);
    close(ends[1]);
    if (pid > 0)
        waitpid(pid, NULL, 0);
    if (!read_it)
        return say(c, HEALTH_LIMITED,
                   "forbidden (%s): programs hand their memory over themselves, which takes longer "
                   "(quicker with kernel.yama.ptrace_scope 1, in a container with --cap-add "
                   "SYS_PTRACE)",
                   strerror(problem));
    return say(c, HEALTH_FINE, "allowed: leaks can be searched");
}

static enum health look_at_sessions(struct check *c) {
    char *folder = session_folder();
    if (!folder)
        return say(c, HEALTH_LIMITED,
                   "neither XDG_STATE_HOME nor HOME is set: runs are not kept, tondo show has "
                   "nothing to show");
    struct statvfs s;
    enum health health;
    if (access(folder, W_OK) != 0 && errno != ENOENT)
        health = say(c, HEALTH_LIMITED, "%s: %s; runs are not kept", folder, strerror(errno));
    else if (statvfs(folder, &s) == 0 && (unsigned long long)s.f_bavail * s.f_frsize < 16u << 20)
        health = say(c, HEALTH_LIMITED, "%s: less than 16 MiB are free; runs may not be kept",
                     folder);
    else
        health = say(c, HEALTH_FINE, "in %s", folder);
    free(folder);
    return health;
}

static enum health look_at_run(struct check *c) {
    char *arguments[] = {(char *)"/bin/true", NULL};
    struct launch launch = {.program = "/bin/true", .arguments = arguments,
                            .retirement_bytes = 1 << 20, .follow = FOLLOW_NONE};
    struct error error;
    int status = launch_prepare(&launch, &error);
    if (status == 0)
        status = launch_run(&launch, &error);
    enum health health;
    if (status)
        health = say(c, HEALTH_BROKEN, "/bin/true: %s", error.text);
    else if (launch.signal || launch.status)
        health = say(c, HEALTH_BROKEN, "/bin/true ended wrongly (status %d, signal %d)",
                     launch.status, launch.signal);
    else
        health = say(c, HEALTH_FINE, "/bin/true, %.0f ms%s", launch.seconds * 1000,
                     launch.losses.done ? "" : "; its heap could not be searched");
    launch_free(&launch);
    return health;
}

static const struct {
    const char *name;
    enum health (*look)(struct check *c);
} looks[] = {
    {"kernel", look_at_kernel},         {"processor", look_at_processor},
    {"/proc", look_at_proc},            {"engine", look_at_parts},
    {"address space", look_at_space},   {"layout", look_at_layout},
    {"ledger", look_at_ledger},         {"reading a process", look_at_reading},
    {"sessions", look_at_sessions},     {"a small run", look_at_run},
};

size_t doctor_look(struct check *checks, size_t room) {
    size_t n = 0;
    for (; n < sizeof looks / sizeof *looks && n < room; n++) {
        checks[n].name = looks[n].name;
        checks[n].health = looks[n].look(&checks[n]);
    }
    return n;
}

/* System calls of the guest: checked by the table, then passed on, except those
   that concern what the engine itself owns (address space, signals, threads,
   other programs, its identity). */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/prctl.h>
#include <asm/unistd.h>
#include <linux/fcntl.h>
#include <linux/prctl.h>
#include <linux/resource.h>
#include <linux/sched.h>

#define NOT_BEGUN (-512L)
long glue_syscall(struct context *c, long number, const uint64_t *arguments);

/* Calls that the kernel starts again after a handler with SA_RESTART. */
static bool restartable(uint64_t number) {
    switch (number) {
    case __NR_poll: case __NR_ppoll: case __NR_select: case __NR_pselect6:
    case __NR_epoll_wait: case __NR_epoll_pwait: case __NR_nanosleep: case __NR_clock_nanosleep:
    case __NR_pause: case __NR_rt_sigsuspend: case __NR_rt_sigtimedwait: case __NR_io_getevents:
    case __NR_semop: case __NR_semtimedop: case __NR_msgrcv: case __NR_msgsnd:
        return false;
    }
    return true;
}

static bool is_own_exe(gaddr path) {
    const char *p = guest(path);
    if (!has_prefix(p, "/proc/"))
        return false;
    if (same_text(p, "/proc/self/exe") || same_text(p, "/proc/thread-self/exe"))
        return true;
    char own[64];
    format(own, sizeof own, "/proc/%d/exe", (uint64_t)system_call(__NR_getpid));
    return same_text(p, own);
}

static long read_own_exe(gaddr buffer, uint64_t size) {
    uint64_t n = text_length(guest_path);
    if ((int64_t)size <= 0)
        return -EINVAL;
    if (n > size)
        n = size;
    copy_bytes(guest(buffer), guest_path, n);
    return (long)n;
}

static long suspend(struct context *c, uint64_t number, uint64_t *a, gaddr set) {
    uint64_t wanted = *(uint64_t *)guest(set) & ~(1ULL << 8 | 1ULL << 18);
    c->saved_mask = c->signal_mask;
    c->signal_mask = wanted;
    signals_settle(c);
    long r = glue_syscall(c, (long)number, a);
    if (r == NOT_BEGUN)
        r = -EINTR; /* it came while the mask was the call's own */
    if (signals_deliverable(c)) {
        c->pending = 1;
        c->restore_mask = true; /* the handler's frame gets the saved one */
    } else {
        c->signal_mask = c->saved_mask;
        signals_real_mask(c);
        signals_settle(c);
    }
    return r;
}

static bool last_thread(struct context *c) {
    for (struct context *t = threads; t; t = t->next)
        if (t != c && t->alive)
            return false;
    return true;
}

static _Noreturn void exit_thread(struct context *c, uint64_t status) {
    if (!thread_is_process(c) && last_thread(c)) {
        process_finish(c, (int)status & 255, 0);
        system_call(__NR_exit_group, status);
    }
    uint64_t all = ~0ULL;
    system_call(__NR_rt_sigprocmask, 2, &all, 0, 8);
    if (!thread_is_process(c))
        process_thread_ended(c);
    c->alive = 0;
    for (;;)
        system_call(__NR_exit, status);
}

static long control(struct context *c, uint64_t code, uint64_t value) {
    switch (code) {
    case ARCH_SET_FS:
        c->fs_base = value;
        return 0;
    case ARCH_SET_GS:
        c->gs_base = value;
        return 0;
    case ARCH_GET_FS:
        *(uint64_t *)guest(value) = c->fs_base;
        return 0;
    case ARCH_GET_GS:
        *(uint64_t *)guest(value) = c->gs_base;
        return 0;
    case ARCH_REQ_XCOMP_PERM: /* tiles have no rules */
        return -EOPNOTSUPP;
    }
    return system_call(__NR_arch_prctl, code, value);
}

static long shared_segment(uint64_t id, gaddr wanted, uint64_t flags) {
    struct {
        int32_t words[12];
        uint64_t size;
        uint64_t rest[12];
    } description;
    fill_bytes(&description, 0, sizeof description);
    if (system_call(__NR_shmctl, id, 2, &description) < 0)
        return system_call(__NR_shmat, id, wanted, flags);
    uint64_t size = description.size;
    if (!wanted)
        wanted = memory_find_gap(size, 4096, false);
    long p = system_call(__NR_shmat, id, wanted, flags);
    if (p > 0 || p < -4095)
        memory_note((gaddr)p, size, flags & 010000 ? 1 : 3, 1);
    return p;
}

/* The test door: reads or sets D, for tests of the shadow rules; with an origin where bits
   become undefined, or as if nothing had been recorded yet; or with a number for each byte that
   stands for an origin of its own, which is read again; or how often anything was found. */
#define DOOR 0x746f6e646fULL
enum { DOOR_GET = 1, DOOR_SET, DOOR_SET_KNOWN, DOOR_SET_PLACES, DOOR_GET_PLACES, DOOR_COUNT };
static long test_door(struct context *c, const uint64_t *a) {
    if (a[0] == DOOR_COUNT)
        return findings_times();
    if (a[1] >= GUEST_END || a[2] > 65536 || a[3] >= GUEST_END ||
        (a[0] == DOOR_SET_PLACES && a[4] >= GUEST_END))
        return -EINVAL;
    if (a[0] == DOOR_GET_PLACES) {
        for (uint64_t k = 0; k < a[2]; k++)
            *(uint8_t *)guest(a[3] + k) =
                *shadow_of(a[1] + k) ? origin_number(c, origin_at(c, a[1] + k)) : 0;
        shadow_define(c, a[3], a[2]);
        return 0;
    }
    if (a[0] == DOOR_GET) {
        copy_bytes(guest(a[3]), shadow_of(a[1]), a[2]);
        shadow_define(c, a[3], a[2]);
    } else {
        copy_bytes(shadow_of(a[1]), guest(a[3]), a[2]);
        origin_clear(a[1], a[2]);
    }
    uint32_t origin = a[0] == DOOR_SET_KNOWN ? origin_elsewhere(c) : 0;
    for (gaddr at = a[1]; origin && at < a[1] + a[2]; at++)
        if (*shadow_of(at))
            origin_set_bytes(c, at, 1, &origin);
    for (uint64_t k = 0; k < a[2] && a[0] == DOOR_SET_PLACES; k++)
        if (*shadow_of(a[1] + k)) {
            origin = origin_numbered(*(const uint8_t *)guest(a[4] + k));
            origin_set_bytes(c, a[1] + k, 1, &origin);
        }
    return 0;
}

/* As clone, where that can say the same (clone(2)). */
static long clone_by_structure(struct context *c, gaddr p, uint64_t size) {
    enum { FIRST_SIZE = 64, WITH_IDS = 80, WITH_GROUP = 88 };
    const uint64_t *a = guest(p);
    if (size < FIRST_SIZE)
        return -EINVAL;
    uint64_t flags = a[0], exit_signal = a[4];
    if (flags >> 32 || (size >= WITH_IDS && a[9]) || size > WITH_GROUP)
        return -ENOSYS; /* callers fall back */
    if ((flags & 0xff) || (exit_signal & ~0xffULL) || (a[5] == 0) != (a[6] == 0) ||
        ((flags & (CLONE_THREAD | CLONE_PARENT)) && exit_signal))
        return -EINVAL;
    gaddr parent_tid = flags & CLONE_PIDFD ? a[1] : a[3];
    uint64_t asked = flags & CLONE_PIDFD ? flags & ~(uint64_t)CLONE_PARENT_SETTID : flags;
    long tid = thread_clone(c, asked | exit_signal, a[5] + a[6], parent_tid, a[2], a[7]);
    if (tid > 0 && (flags & CLONE_PARENT_SETTID) && asked != flags)
        *(int32_t *)guest(a[3]) = (int32_t)tid;
    return tid;
}

/* The call itself; sets *moved when the guest's registers and pc are final. */
static long run(struct context *c, uint64_t number, uint64_t *a, bool *moved) {
    if (number == DOOR && ledger->test_door)
        return test_door(c, a);
    switch (number) {
    case __NR_mmap:
        return memory_mmap(a[0], a[1], (int)a[2], (int)a[3], (int)a[4], a[5]);
    case __NR_munmap:
        return memory_munmap(a[0], a[1]);
    case __NR_mremap:
        return memory_mremap(a[0], a[1], a[2], (int)a[3], a[4]);
    case __NR_pkey_alloc: /* the engine would be locked out as well */
        return -ENOSPC;
    case __NR_pkey_mprotect:
        if ((int)a[3] > 0)
            return -EINVAL;
        /* fallthrough */
    case __NR_mprotect:
        return memory_mprotect(a[0], a[1], (int)a[2]);
    case __NR_brk:
        return memory_brk(a[0]);
    case __NR_madvise:
    case __NR_mincore:
    case __NR_msync:
    case __NR_mlock:
    case __NR_munlock:
        if (a[0] >= GUEST_END)
            return number == __NR_madvise ? -EINVAL : -ENOMEM;
        break;
    case __NR_mlockall:
        return 0; /* would pin the shadow */
    case __NR_shmat:
        return shared_segment(a[0], a[1], a[2]);
    case __NR_rt_sigaction:
        return signals_action((int)a[0], a[1], a[2], a[3]);
    case __NR_rt_sigprocmask:
        return signals_mask(c, (int)a[0], a[1], a[2], a[3]);
    case __NR_sigaltstack:
        return signals_alternate(c, a[0], a[1]);
    case __NR_rt_sigreturn:
        signals_return(c);
        *moved = true;
        return 0;
    case __NR_rt_sigsuspend:
        return suspend(c, number, a, a[0]);
    case __NR_ppoll:
        if (a[3])
            return suspend(c, number, a, a[3]);
        break;
    case __NR_epoll_pwait:
    case __NR_epoll_pwait2:
        if (a[4])
            return suspend(c, number, a, a[4]);
        break;
    case __NR_pselect6:
        if (a[5] && *(gaddr *)guest(a[5]))
            return suspend(c, number, a, *(gaddr *)guest(a[5]));
        break;
    case __NR_io_setup:
    case __NR_io_destroy:
        return uring_context(number, a);
    case __NR_clone:
        return thread_clone(c, a[0], a[1], a[2], a[3], a[4]);
    case __NR_fork:
        return thread_clone(c, 17, 0, 0, 0, 0);
    case __NR_vfork:
        return thread_clone(c, CLONE_VM | CLONE_VFORK | 17, 0, 0, 0, 0);
    case __NR_clone3:
        return clone_by_structure(c, a[0], a[1]);
    case __NR_rseq:
        return -ENOSYS;
    case __NR_membarrier: { /* membarrier(2): what is for restartable sequences goes with them */
        enum { QUERY = 0, FOR_SEQUENCES = 1 << 7 | 1 << 8 };
        if (a[0] & FOR_SEQUENCES)
            return -EINVAL;
        long r = system_call(__NR_membarrier, a[0], a[1], a[2]);
        return a[0] == QUERY && r > 0 ? r & ~FOR_SEQUENCES : r;
    }
    case __NR_execve:
        if (is_own_exe(a[0]))
            a[0] = (uint64_t)(uintptr_t)guest_path;
        return process_execute(c, AT_FDCWD, a[0], a[1], a[2], 0);
    case __NR_execveat:
        return process_execute(c, (int)a[0], a[1], a[2], a[3], (int)a[4]);
    case __NR_exit:
        exit_thread(c, a[0]);
    case __NR_exit_group:
        if (!thread_is_process(c))
            process_finish(c, (int)a[0] & 255, 0);
        for (;;)
            system_call(__NR_exit_group, a[0]);
    case __NR_seccomp:
        return filter_seccomp(c, a[0], a[1], a[2]);
    case __NR_prctl:
        if (a[0] == 21 || a[0] == 22) /* PR_GET_SECCOMP, PR_SET_SECCOMP */
            return filter_prctl(c, a[0], a[1], a[2]);
        if (a[0] == 59) /* PR_SET_SYSCALL_USER_DISPATCH would catch the engine's own calls */
            return -EINVAL;
        break;
    case __NR_arch_prctl:
        return control(c, a[0], a[1]);
    case __NR_readlink:
        if (is_own_exe(a[0]))
            return read_own_exe(a[1], a[2]);
        break;
    case __NR_readlinkat:
        if (a[1] && is_own_exe(a[1]))
            return read_own_exe(a[2], a[3]);
        break;
    case __NR_stat:
    case __NR_access:
    case __NR_truncate:
    case __NR_statfs:
    case __NR_getxattr:
        if (is_own_exe(a[0]))
            a[0] = (uint64_t)(uintptr_t)guest_path;
        break;
    case __NR_newfstatat:
        if (!(a[3] & AT_SYMLINK_NOFOLLOW) && a[1] && is_own_exe(a[1]))
            a[1] = (uint64_t)(uintptr_t)guest_path;
        break;
    case __NR_statx:
        if (!(a[2] & AT_SYMLINK_NOFOLLOW) && a[1] && is_own_exe(a[1]))
            a[1] = (uint64_t)(uintptr_t)guest_path;
        break;
    case __NR_faccessat:
    case __NR_faccessat2:
        if (a[1] && is_own_exe(a[1]))
            a[1] = (uint64_t)(uintptr_t)guest_path;
        break;
    case __NR_open:
        if (is_own_exe(a[0]))
            a[0] = (uint64_t)(uintptr_t)guest_path;
        return view_opened(guest(a[0]), glue_syscall(c, (long)number, a));
    case __NR_openat:
        if (a[1] && is_own_exe(a[1]))
            a[1] = (uint64_t)(uintptr_t)guest_path;
        return view_opened(guest(a[1]), glue_syscall(c, (long)number, a));
    case __NR_openat2:
        return view_opened(guest(a[1]), glue_syscall(c, (long)number, a));
    case __NR_setrlimit:
        if (limits_have(a[0]))
            return limits_call(a[0], a[1], 0);
        break;
    case __NR_getrlimit:
        if (limits_have(a[0]))
            return limits_call(a[0], 0, a[1]);
        break;
    case __NR_prlimit64:
        if (limits_have(a[1]) && (!a[0] || a[0] == (uint64_t)system_call(__NR_getpid)))
            return limits_call(a[1], a[2], a[3]);
        break;
    }
    return glue_syscall(c, (long)number, a);
}

void syscall_run(struct context *c) {
    uint64_t *r = c->registers;
    uint64_t number = r[RAX];
    uint64_t a[6] = {r[RDI], r[RSI], r[RDX], r[10], r[8], r[9]};
    gaddr at = c->pc;
    if (c->dirty && dirty_words(c)[RAX]) {
        finding_undefined(c, c->pc, dirty_origin(c, RAX), "is the number of a system call", 0, 0,
                          NULL);
        dirty_words(c)[RAX] = 0;
    }
    bool within = syscall_effects(c, number, a, false, 0);
    c->pc = at + 2;
    bool moved = false;
    if (recover_enter(c)) {
        syscall_effects(c, number, a, true, -EFAULT);
        r[RAX] = (uint64_t)-EFAULT;
        return;
    }
    long result = -EFAULT;
    if (within && filter_allows(c, number, a, &result, &moved))
        result = run(c, number, a, &moved);
    c->recover = 0;
    if (moved)
        return;
    if (result == NOT_BEGUN) { /* as natively: the handler runs before the call */
        c->pc = at;
        return;
    }
    syscall_effects(c, number, a, true, result);
    if (c->dirty)
        dirty_clear(c, 1ULL << RAX | 1ULL << RCX | 1ULL << 11);
    r[RCX] = c->pc;
    r[11] = c->flags;
    if (result == -EINTR && c->pending && restartable(number) && signals_restarts(c)) {
        c->pc = at; /* the guest's handler runs first, then the call again */
        return;
    }
    r[RAX] = (uint64_t)result;
}

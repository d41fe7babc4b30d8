/* The life of the process as the host sees it: start, fork, another program,
   and the end, at which the host searches the heap. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/elf.h>
#include <linux/fcntl.h>
#include <linux/futex.h>
#include <linux/sched.h>

struct ledger *ledger;
uint32_t process_index;
char guest_path[512];

static void wake_host(void) {
    __atomic_add_fetch(&ledger->event, 1, __ATOMIC_SEQ_CST);
    system_call(__NR_futex, &ledger->event, FUTEX_WAKE, 64, 0, 0, 0);
}

static void sleep_on(struct ledger_process *p, uint32_t state) {
    long second[2] = {1, 0};
    system_call(__NR_futex, &p->state, FUTEX_WAIT, state, second, 0, 0);
}

void process_start(struct context *c, uint32_t parent, bool forked) {
    uint32_t i = __atomic_fetch_add(&ledger->next_process, 1, __ATOMIC_RELAXED);
    if (i >= LEDGER_PROCESSES) {
        ledger->next_process = LEDGER_PROCESSES;
        ledger->overflow = 1;
        i = LEDGER_PROCESSES - 1;
    }
    struct ledger_process *p = &ledger->processes[i];
    p->pid = (uint32_t)system_call(__NR_getpid);
    p->parent = parent;
    p->forked = forked;
    p->image = forked ? ledger->processes[parent - 1].image : i;
    if (forked) {
        const struct ledger_process *from = &ledger->processes[parent - 1];
        p->live_blocks = from->live_blocks;
        p->live_bytes = from->live_bytes;
        p->peak_bytes = from->live_bytes;
    }
    p->first_sequence = forked ? heap_sequence() : 0;
    p->heap_directory = (uint64_t)(uintptr_t)heap;
    copy_text(p->program, guest_path, sizeof p->program);
    process_index = i;
    p->state = LEDGER_RUNNING;
    __atomic_store_n(&p->ready, 1, __ATOMIC_RELEASE);
    if (c) {
        c->root = stack_root(c->number);
        for (struct shadow_entry *e = c->shadow_base; e < c->shadow; e++)
            e->node = 0; /* stacks of this process start at its own root */
    }
}

/* Where live stack begins. A thread inside the C library's exit has nothing of
   the user's below the frame that called it; what stands there is left over. */
static gaddr live_stack(struct context *c) {
    struct shadow_entry *e = c->shadow;
    gaddr sp = c->registers[RSP];
    while (e > c->shadow_base) {
        e--;
        if (e->stack_pointer < sp)
            continue;
        sp = e->stack_pointer;
        if (!symbols_in_library_c(e->return_address))
            return sp;
    }
    return c->registers[RSP];
}

void process_thread_ended(struct context *c) {
    struct ledger_process *p = &ledger->processes[process_index];
    lock_take(&threads_lock);
    if (p->dead_stack_count < LEDGER_DEAD_STACKS) {
        p->dead_stacks[p->dead_stack_count][0] = c->stack_low;
        p->dead_stacks[p->dead_stack_count++][1] = c->registers[RSP];
    }
    lock_drop(&threads_lock);
}

void process_thread_began(struct context *c) {
    struct ledger_process *p = &ledger->processes[process_index];
    lock_take(&threads_lock);
    for (uint32_t i = 0; i < p->dead_stack_count; i++)
        if (p->dead_stacks[i][0] < c->stack_high && p->dead_stacks[i][1] > c->stack_low) {
            p->dead_stack_count--;
            p->dead_stacks[i][0] = p->dead_stacks[p->dead_stack_count][0];
            p->dead_stacks[i][1] = p->dead_stacks[p->dead_stack_count][1];
            i--;
        }
    lock_drop(&threads_lock);
}

void process_finish(struct context *c, int status, int signal) {
    struct ledger_process *p = &ledger->processes[process_index];
    threads_stop_others(c);
    p->exit_status = status;
    p->exit_signal = signal;
    if (p->pid != (uint32_t)system_call(__NR_getpid))
        return;
    uint32_t n = 0;
    for (struct context *t = threads; t && n < LEDGER_THREADS; t = t->next) {
        if (!t->alive)
            continue;
        bool ending = t == c && !signal;
        p->threads[n].stack_pointer = ending ? live_stack(c) : t->registers[RSP];
        for (int k = 0; k < 16; k++) {
            /* scratch registers at the last system call hold what is left over */
            bool kept = !ending || k == RBX || k == RBP || k >= 12;
            p->threads[n].registers[k] = kept ? t->registers[k] : 0;
        }
        p->threads[n].fs_base = t->fs_base;
        p->threads[n].alternate_stack = t->alternate_size ? t->alternate_stack : 0;
        n++;
    }
    p->thread_count = n;
    if (ledger->leak_search) {
        __atomic_store_n(&p->state, LEDGER_SEARCH, __ATOMIC_RELEASE);
        wake_host();
        while (__atomic_load_n(&p->state, __ATOMIC_ACQUIRE) == LEDGER_SEARCH) {
            sleep_on(p, LEDGER_SEARCH);
            if (system_call(__NR_kill, ledger->host_pid, 0) == -ESRCH)
                break;
        }
    } else {
        p->state = LEDGER_RELEASED;
    }
}

/* --- the keeper --- */

long glue_keeper(uint64_t flags, uint64_t stack);

/* Holds the guest's memory until the host has searched it or needs it no more.
   It owns no descriptor and no folder, takes no signal, and is the host's child. */
void keeper_main(void) {
    uint64_t all = ~0ULL;
    system_call(__NR_rt_sigprocmask, 2, &all, 0, 8);
    system_call(__NR_close_range, 0, ~0U, 0);
    system_call(__NR_chdir, "/");
    struct ledger_process *p = &ledger->processes[0];
    for (;;) {
        uint32_t state = __atomic_load_n(&p->state, __ATOMIC_ACQUIRE);
        if (state == LEDGER_RELEASED || state == LEDGER_REPLACED ||
            system_call(__NR_kill, ledger->host_pid, 0) == -ESRCH)
            break;
        sleep_on(p, state);
    }
    for (;;)
        system_call(__NR_exit_group, 0);
}

void process_start_keeper(void) {
    char *stack = engine_alloc(16384);
    uint64_t all = ~0ULL, old;
    system_call(__NR_rt_sigprocmask, 2, &all, &old, 8);
    long pid = glue_keeper(CLONE_VM | CLONE_PARENT, (uint64_t)(uintptr_t)stack + 16384 - 64);
    system_call(__NR_rt_sigprocmask, 2, &old, 0, 8);
    if (pid > 0)
        ledger->processes[process_index].keeper = (uint32_t)pid;
}

/* --- other programs --- */

static bool in_system_folder(const char *path) {
    static const char *const folders[] = {"/usr/", "/bin/", "/sbin/", "/lib/", "/lib64/", "/opt/",
                                          "/etc/"};
    if (has_prefix(path, "/usr/local/src/"))
        return false;
    for (unsigned i = 0; i < sizeof folders / sizeof folders[0]; i++)
        if (has_prefix(path, folders[i]))
            return true;
    return false;
}

/* Whether the file is one the engine can run, and its real path. */
static bool followable(int directory, const char *path, int flags, char *real) {
    int fd = (int)system_call(__NR_openat, directory, path, O_RDONLY | O_CLOEXEC, 0);
    if (fd < 0 && (flags & AT_EMPTY_PATH))
        fd = (int)system_call(__NR_dup, directory);
    if (fd < 0)
        return false;
    Elf64_Ehdr header;
    long n = system_call(__NR_pread64, fd, &header, sizeof header, 0);
    char link[64];
    format(link, sizeof link, "/proc/self/fd/%d", (uint64_t)fd);
    long length = system_call(__NR_readlink, link, real, 511);
    uint64_t status[18]; /* struct stat: mode is the low half of the fourth word */
    system_call(__NR_fstat, fd, status);
    system_call(__NR_close, fd);
    uint32_t mode = (uint32_t)status[3];
    if (length <= 0 || n != sizeof header || (mode & 06000))
        return false;
    real[length] = 0;
    return same_bytes(header.e_ident, "\177ELF", 4) && header.e_machine == EM_X86_64 &&
           header.e_ident[EI_CLASS] == ELFCLASS64;
}

long process_execute(struct context *c, int directory, gaddr path, gaddr arguments,
                     gaddr environment, int flags) {
    char real[512];
    const char *name = guest(path);
    bool follow = ledger->follow != FOLLOW_NONE && followable(directory, name, flags, real) &&
                  (ledger->follow == FOLLOW_ALL || !in_system_folder(real)) &&
                  system_call(__NR_faccessat, directory, name, 1, 0) == 0;
    /* The kernel resets our handlers and keeps the mask: give it the guest's. */
    system_call(__NR_rt_sigprocmask, 2, &c->signal_mask, 0, 8);
    long r;
    struct ledger_process *p = &ledger->processes[process_index];
    bool own_process = !(c->clone_flags & CLONE_VFORK);
    uint32_t before = p->state;
    if (own_process) {
        p->state = LEDGER_REPLACED;
        system_call(__NR_futex, &p->state, FUTEX_WAKE, 1, 0, 0, 0);
    }
    if (!follow) {
        r = flags || directory != AT_FDCWD
                ? system_call(__NR_execveat, directory, name, arguments, environment, flags)
                : system_call(__NR_execve, name, arguments, environment);
    } else {
        uint64_t n = 0;
        const gaddr *guest_arguments = guest(arguments);
        while (guest_arguments && guest_arguments[n])
            n++;
        const char **list = engine_alloc((n + 8) * sizeof *list);
        char parent[24];
        format(parent, sizeof parent, "%d", (uint64_t)process_index + 1);
        uint64_t k = 0;
        list[k++] = "tondo-engine";
        list[k++] = ledger_path;
        list[k++] = parent;
        list[k++] = real;
        for (uint64_t i = 0; i < n; i++)
            list[k++] = guest(guest_arguments[i]);
        list[k] = NULL;
        r = system_call(__NR_execve, ledger->engine_path, list, environment);
        engine_free(list, (n + 8) * sizeof *list);
    }
    if (own_process)
        p->state = before;
    signals_real_mask(c);
    return r;
}

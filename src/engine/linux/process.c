/* The life of the process as the host sees it: start, fork, another program,
   and the end, at which the host searches the heap. */
#include "../engine.h"
#include "../../follow/follow.h"
#include "../../core/own_code.h"
#include "../../core/tracer.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/prctl.h>
#include <linux/elf.h>
#include <linux/fcntl.h>
#include <linux/futex.h>
#include <linux/sched.h>

struct ledger *ledger;
uint32_t process_index;
char guest_path[512], guest_command[LEDGER_COMMAND];

static void wake_host(void) {
    __atomic_add_fetch(&ledger->event, 1, __ATOMIC_SEQ_CST);
    system_call(__NR_futex, &ledger->event, FUTEX_WAKE, 64, 0, 0, 0);
}

static void sleep_on(struct ledger_process *p, uint32_t state) {
    long second[2] = {1, 0};
    system_call(__NR_futex, &p->state, FUTEX_WAIT, state, second, 0, 0);
}

/* What is known already. */
static bool find_answer(gaddr entry, uint32_t which, uint64_t *answer) {
    uint64_t key = symbols_answer_key(entry, which);
    for (uint32_t n = 0; n < LEDGER_ANSWER_SLOTS; n++) {
        const struct ledger_answer *a = &ledger->answers[(key + n) % LEDGER_ANSWERS];
        if (__atomic_load_n(&a->key, __ATOMIC_ACQUIRE) == key) {
            *answer = a->answer;
            return true;
        }
    }
    return false;
}

uint64_t process_ask(gaddr entry, uint32_t which) {
    enum { TURNS = 20, PATIENCE = 3, INTERRUPTED = 4096 };
    static uint32_t unanswered; /* the host has better things to do, or large files to read */
    struct ledger_question *q = &ledger->question;
    const long turn[2] = {0, 10 * 1000 * 1000};
    uint32_t number = 0, n = 0, first = 0;
    uint64_t answer;
    for (; !number && n < TURNS; n++) { /* until no other process asks */
        uint32_t state = __atomic_load_n(&q->state, __ATOMIC_ACQUIRE);
        uint32_t mine = (state & ~QUESTION_STATES) + QUESTION_STATES + 1;
        if (find_answer(entry, which, &answer))
            return answer;
        if (unanswered == PATIENCE)
            return 0;
        first = n ? first : state;
        bool open = (state & QUESTION_STATES) != QUESTION_NONE;
        if (open && n + 1 == TURNS && state == first) /* who asked has been killed */
            __atomic_compare_exchange_n(&q->state, &state, mine | QUESTION_NONE, false,
                                        __ATOMIC_ACQ_REL, __ATOMIC_RELAXED);
        else if (open)
            system_call(__NR_futex, &q->state, FUTEX_WAIT, state, turn, 0, 0);
        else if (__atomic_compare_exchange_n(&q->state, &state, mine | QUESTION_TAKEN, false,
                                             __ATOMIC_ACQ_REL, __ATOMIC_RELAXED))
            number = mine;
    }
    if (!number)
        return 0;
    q->process = process_index;
    q->entry = entry;
    q->number = which;
    q->file = symbols_file_hash(entry);
    uint32_t asked = number | QUESTION_ASKED;
    __atomic_store_n(&q->state, asked, __ATOMIC_RELEASE);
    wake_host();
    for (uint32_t times = 0; n < TURNS && times < INTERRUPTED &&
                             __atomic_load_n(&q->state, __ATOMIC_ACQUIRE) == asked; times++)
        n += system_call(__NR_futex, &q->state, FUTEX_WAIT, asked, turn, 0, 0) != -EINTR;
    answer = q->answer;
    uint32_t given = number | QUESTION_ANSWERED;
    if (!__atomic_compare_exchange_n(&q->state, &given, number | QUESTION_NONE, false,
                                     __ATOMIC_ACQ_REL, __ATOMIC_RELAXED)) {
        answer = 0;
        unanswered++;
        __atomic_compare_exchange_n(&q->state, &asked, number | QUESTION_NONE, false,
                                    __ATOMIC_ACQ_REL, __ATOMIC_RELAXED);
    }
    system_call(__NR_futex, &q->state, FUTEX_WAKE, 64, 0, 0, 0);
    return answer;
}

/* The kernel copies: an address that is not mapped is an error, no fault. */
static void hand_over(const struct ledger_process *p) {
    struct ledger_hand_over *h = &ledger->hand_over;
    uint32_t asked = HAND_OVER_ASKED;
    if (__atomic_load_n(&h->state, __ATOMIC_ACQUIRE) != HAND_OVER_ASKED ||
        &ledger->processes[h->process] != p ||
        !__atomic_compare_exchange_n(&h->state, &asked, HAND_OVER_TAKEN, false, __ATOMIC_ACQ_REL,
                                     __ATOMIC_RELAXED))
        return;
    if (&ledger->processes[h->process] != p || h->size > LEDGER_PIECE) { /* another question */
        __atomic_store_n(&h->state, HAND_OVER_ASKED, __ATOMIC_RELEASE);
        return;
    }
    long fd = system_call(__NR_open, ledger_path, O_RDWR | O_CLOEXEC, 0);
    long n = fd < 0 ? fd
                    : system_call(__NR_pwrite64, fd, h->address, h->size,
                                  offsetof(struct ledger, piece));
    if (fd >= 0)
        system_call(__NR_close, fd);
    __atomic_store_n(&h->state, n == (long)h->size ? HAND_OVER_DONE : HAND_OVER_FAILED,
                     __ATOMIC_RELEASE);
    system_call(__NR_futex, &h->state, FUTEX_WAKE, 1, 0, 0, 0);
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
    copy_text(p->command, forked ? ledger->processes[parent - 1].command : guest_command,
              sizeof p->command);
    p->image = forked ? ledger->processes[parent - 1].image : i;
    if (forked) {
        const struct ledger_process *from = &ledger->processes[parent - 1];
        p->live_blocks = from->live_blocks;
        p->live_bytes = from->live_bytes;
        p->peak_bytes = from->live_bytes;
    }
    p->first_sequence = forked ? heap_forked() : 0;
    p->heap_directory = (uint64_t)(uintptr_t)heap;
    copy_text(p->program, guest_path, sizeof p->program);
    p->silent = forked ? ledger->processes[parent - 1].silent
                       : i && ledger->follow == FOLLOW_OWN && in_system_folder(guest_path);
    process_index = i;
    limits_inherit(parent ? &ledger->processes[parent - 1] : NULL);
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
    p->finished = 1;
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
    if (!signal)
        descriptors_report();
    if (ledger->leak_search && !ledger->processes[process_index].silent &&
        (heap_has_own() || !p->forked)) {
        /* a guest that forbade it to be read is at its end now */
        long dumpable = system_call(__NR_prctl, PR_GET_DUMPABLE, 0, 0, 0, 0);
        if (dumpable != 1)
            system_call(__NR_prctl, PR_SET_DUMPABLE, 1, 0, 0, 0);
        __atomic_store_n(&p->state, LEDGER_SEARCH, __ATOMIC_RELEASE);
        wake_host();
        while (__atomic_load_n(&p->state, __ATOMIC_ACQUIRE) == LEDGER_SEARCH) {
            if (__atomic_load_n(&ledger->hand_over.state, __ATOMIC_ACQUIRE) != HAND_OVER_ASKED)
                sleep_on(p, LEDGER_SEARCH);
            hand_over(p);
            if (system_call(__NR_kill, ledger->host_pid, 0) == -ESRCH)
                break;
        }
        if (dumpable != 1)
            system_call(__NR_prctl, PR_SET_DUMPABLE, 0, 0, 0, 0);
    } else {
        p->state = LEDGER_RELEASED;
    }
}

/* --- the keeper --- */

long glue_keeper(uint64_t flags, uint64_t stack);

/* The host was killed: nobody waits for the run's processes any more. */
static void end_run(void) {
    system_call(__NR_unlink, ledger_path);
    for (uint32_t i = 0; i < LEDGER_PROCESSES && ledger->processes[i].ready; i++) {
        const struct ledger_process *p = &ledger->processes[i];
        if (p->state == LEDGER_RUNNING || p->state == LEDGER_SEARCH)
            system_call(__NR_kill, p->pid, 9);
    }
}

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
        if (state == LEDGER_RELEASED || state == LEDGER_REPLACED)
            break;
        if (system_call(__NR_kill, ledger->host_pid, 0) == -ESRCH) {
            end_run();
            break;
        }
        hand_over(p);
        if (__atomic_load_n(&ledger->hand_over.state, __ATOMIC_ACQUIRE) != HAND_OVER_ASKED)
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

/* How a file is started: by the engine, with the follower in it (which looks for
   the user's programs further down), or as it is. */
enum way { WAY_PLAIN, WAY_FOLLOWER, WAY_ENGINE };

struct start {
    char real[512];                     /* WAY_ENGINE: the program */
    char interpreter[256], option[256]; /* of a script */
    bool script;
};

static bool has_loader(int fd, const Elf64_Ehdr *header) {
    for (unsigned i = 0; i < header->e_phnum && i < 64; i++) {
        Elf64_Phdr p;
        char name[256];
        if (system_call(__NR_pread64, fd, &p, sizeof p, header->e_phoff + i * sizeof p) !=
            sizeof p)
            return false;
        if (p.p_type != PT_INTERP)
            continue;
        long n = system_call(__NR_pread64, fd, name, sizeof name - 1, p.p_offset);
        if (n <= 0)
            return false;
        name[n] = 0;
        for (const char *q = name; *q; q++)
            if (has_prefix(q, FOLLOW_LOADER))
                return true;
        return false;
    }
    return false;
}

/* The words of a script's first line. */
static bool read_script(const char *head, struct start *start) {
    const char *p = head + 2;
    unsigned n = 0;
    while (*p == ' ' || *p == '\t')
        p++;
    while (*p && *p != '\n' && *p != ' ' && *p != '\t' && n < sizeof start->interpreter - 1)
        start->interpreter[n++] = *p++;
    start->interpreter[n] = 0;
    while (*p == ' ' || *p == '\t')
        p++;
    for (n = 0; *p && *p != '\n' && n < sizeof start->option - 1;)
        start->option[n++] = *p++;
    while (n && (start->option[n - 1] == ' ' || start->option[n - 1] == '\t'))
        n--;
    start->option[n] = 0;
    start->script = true;
    return start->interpreter[0] != 0;
}

static enum way way_of(int directory, const char *path, int flags, struct start *start) {
    enum { HOW = O_RDONLY | O_CLOEXEC | O_NONBLOCK }; /* no pipe is waited for */
    int fd = (int)system_call(__NR_openat, directory, path, HOW, 0);
    if (fd < 0 && (flags & AT_EMPTY_PATH) && !*path)
        fd = (int)system_call(__NR_dup, directory);
    if (fd < 0)
        return WAY_PLAIN;
    union {
        char text[256];
        Elf64_Ehdr header;
    } head;
    fill_bytes(&head, 0, sizeof head);
    long n = system_call(__NR_pread64, fd, &head, sizeof head - 1, 0);
    char link[64];
    format(link, sizeof link, "/proc/self/fd/%d", (uint64_t)fd);
    long length = system_call(__NR_readlink, link, start->real, sizeof start->real - 1);
    uint64_t status[18]; /* struct stat: mode is the low half of the fourth word */
    system_call(__NR_fstat, fd, status);
    uint32_t mode = (uint32_t)status[3];
    enum way way = WAY_PLAIN;
    const Elf64_Ehdr *header = &head.header;
    if (length > 0 && n >= (long)sizeof *header && same_bytes(header->e_ident, "\177ELF", 4)) {
        start->real[length] = 0;
        if (header->e_machine == EM_X86_64 && header->e_ident[EI_CLASS] == ELFCLASS64 &&
            !(mode & 06000)) {
            if (ledger->follow == FOLLOW_ALL || !in_system_folder(start->real))
                way = WAY_ENGINE;
            else if (has_loader(fd, header))
                way = ledger->follower_path[0] ? WAY_FOLLOWER : WAY_PLAIN;
            else if (!starts_nothing(start->real))
                way = WAY_ENGINE;
        }
    } else if (n > 2 && head.text[0] == '#' && head.text[1] == '!' && !start->script &&
               read_script(head.text, start)) {
        way = way_of(AT_FDCWD, start->interpreter, 0, start);
    }
    system_call(__NR_close, fd);
    return way;
}

static bool is_debugged(void) {
    char status[1024];
    int fd = (int)system_call(__NR_open, "/proc/self/status", O_RDONLY | O_CLOEXEC, 0);
    long n = fd < 0 ? 0 : system_call(__NR_read, fd, status, sizeof status - 1);
    if (fd >= 0)
        system_call(__NR_close, fd);
    status[n > 0 ? n : 0] = 0;
    long tracer = tracer_in(status);
    return tracer && tracer == system_call(__NR_getppid);
}

static uint64_t list_length(gaddr list) {
    const gaddr *p = guest(list);
    uint64_t n = 0;
    while (list && p[n])
        n++;
    return n;
}

static long start_plain(int directory, const char *name, gaddr arguments, gaddr environment,
                        int flags) {
    limits_apply(true);
    long r = flags || directory != AT_FDCWD
                 ? system_call(__NR_execveat, directory, name, arguments, environment, flags)
                 : system_call(__NR_execve, name, arguments, environment);
    limits_apply(false);
    return r;
}

static long start_with_follower(int directory, const char *name, gaddr arguments,
                                gaddr environment, int flags) {
    uint64_t n = list_length(environment), k = 0;
    const gaddr *given = guest(environment);
    const char **list = engine_alloc((n + 3) * sizeof *list);
    char *preload = engine_alloc(8192), run[900];
    const char *own = "";
    for (uint64_t i = 0; i < n; i++) {
        const char *variable = guest(given[i]);
        if (has_prefix(variable, FOLLOW_PRELOAD "="))
            own = variable + sizeof FOLLOW_PRELOAD;
        else
            list[k++] = variable;
    }
    format(preload, 8192, "%s=%s%s%s", FOLLOW_PRELOAD, ledger->follower_path, *own ? ":" : "", own);
    format(run, sizeof run, "%s=%d:%s:%s", FOLLOW_VARIABLE, (uint64_t)process_index + 1,
           ledger_path, ledger->engine_path);
    list[k++] = preload;
    list[k++] = run;
    list[k] = NULL;
    long r = start_plain(directory, name, arguments, (gaddr)(uintptr_t)list, flags);
    engine_free(preload, 8192);
    engine_free(list, (n + 3) * sizeof *list);
    return r;
}

void process_fix_addresses(bool fixed) {
    enum { ASK = 0xffffffff, ADDR_NO_RANDOMIZE = 0x0040000, ADDR_COMPAT_LAYOUT = 0x0200000 };
    long now = system_call(__NR_personality, ASK);
    if (now >= 0)
        system_call(__NR_personality,
                    fixed ? (now | ADDR_NO_RANDOMIZE) & ~(long)ADDR_COMPAT_LAYOUT
                          : now & ~(long)ADDR_NO_RANDOMIZE);
}

static long start_with_engine(const struct start *start, const char *name, gaddr arguments,
                              gaddr environment) {
    uint64_t n = list_length(arguments), k = 0;
    const gaddr *given = guest(arguments);
    const char **list = engine_alloc((n + 9) * sizeof *list);
    char parent[24];
    format(parent, sizeof parent, "%d", (uint64_t)process_index + 1);
    list[k++] = FOLLOW_ENGINE_NAME;
    list[k++] = ledger_path;
    list[k++] = parent;
    list[k++] = start->real;
    if (start->script) {
        list[k++] = start->interpreter;
        if (start->option[0])
            list[k++] = start->option;
        list[k++] = name;
    }
    for (uint64_t i = start->script; i < n; i++)
        list[k++] = guest(given[i]);
    if (!n && !start->script) /* as the kernel does where there is not even a name */
        list[k++] = "";
    list[k] = NULL;
    process_fix_addresses(true);
    long r = system_call(__NR_execve, ledger->engine_path, list, environment);
    if (!ledger->fixed_addresses)
        process_fix_addresses(false);
    engine_free(list, (n + 9) * sizeof *list);
    return r;
}

long process_execute(struct context *c, int directory, gaddr path, gaddr arguments,
                     gaddr environment, int flags) {
    struct start start = {.script = false};
    const char *name = guest(path);
    enum way way = WAY_PLAIN;
    if (ledger->follow != FOLLOW_NONE &&
        system_call(__NR_faccessat, directory, name, 1, 0) == 0 &&
        system_call(__NR_access, ledger_path, 4) == 0 && /* the run may be over already */
        !is_debugged())
        way = way_of(directory, name, flags, &start);
    if (start.script && way == WAY_ENGINE && directory != AT_FDCWD && name[0] != '/')
        way = WAY_PLAIN; /* no path the interpreter could open */
    /* The kernel resets our handlers and keeps the mask: give it the guest's. */
    system_call(__NR_rt_sigprocmask, 2, &c->signal_mask, 0, 8);
    struct ledger_process *p = &ledger->processes[process_index];
    bool own_process = !thread_is_process(c);
    if (c->filters) {
        way = WAY_PLAIN;
        filter_hand_on(c);
    }
    uint32_t before = p->state;
    if (own_process) {
        p->state = LEDGER_REPLACED;
        system_call(__NR_futex, &p->state, FUTEX_WAKE, 1, 0, 0, 0);
    }
    long r = way == WAY_ENGINE     ? start_with_engine(&start, name, arguments, environment)
             : way == WAY_FOLLOWER ? start_with_follower(directory, name, arguments, environment,
                                                         flags)
                                   : start_plain(directory, name, arguments, environment, flags);
    if (own_process)
        p->state = before;
    signals_real_mask(c);
    return r;
}

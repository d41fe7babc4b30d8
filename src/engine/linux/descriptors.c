/* File descriptors the program opened itself, by the stack that opened them. The
   system-call table says which calls open and close; what is open at exit and was
   opened here is recorded then. Inherited ones, those a child got by fork and the
   first three are nobody's. What is closed a second time is recorded as well, unless
   the same call also closes numbers that never were the program's, or stands in a row of
   calls that close one number after the other, as compilers unroll loops: then it sweeps. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/sched.h>

#define TRACKED 65536u
static uint32_t opened_by[TRACKED]; /* stack node, 0: not the program's own */
static struct closed {
    uint32_t opened, closed; /* what it was until it was closed */
} closed[TRACKED];
static uint64_t highest; /* above it both are empty */

#define AGAIN 256
static struct again {
    uint32_t stack, number, count, opened, closed;
    uint64_t row; /* its first number */
    bool sweeps;
} again[AGAIN];
static uint32_t again_count;
static struct lock again_lock;

/* Numbers closed one right after the other; under again_lock. */
static struct row {
    uint64_t first, last;
    bool foreign; /* one among them was never the program's */
} row;

static void row_goes_on(uint64_t fd, bool foreign) {
    enum { LONG = 8 };
    if (fd != row.last + 1)
        row = (struct row){fd, fd, false};
    row.last = fd;
    row.foreign |= foreign;
    for (uint32_t i = 0; i < again_count && row.foreign && row.last - row.first >= LONG; i++)
        again[i].sweeps |= again[i].row == row.first;
}

/* Until it runs another program it shares our memory, but not our descriptors. */
static bool is_vfork_child(const struct context *c) {
    return thread_is_process(c) && !(c->clone_flags & CLONE_FILES);
}

void descriptor_opened(struct context *c, gaddr pc, uint64_t fd) {
    if (fd < 3 || fd >= TRACKED || is_vfork_child(c))
        return;
    uint64_t old = __atomic_load_n(&highest, __ATOMIC_ACQUIRE);
    while (fd > old && !__atomic_compare_exchange_n(&highest, &old, fd, false, __ATOMIC_ACQ_REL,
                                                    __ATOMIC_ACQUIRE))
        continue;
    __atomic_store_n(&opened_by[fd], stack_capture(c, pc), __ATOMIC_RELAXED);
}

void descriptors_closed(struct context *c, gaddr pc, uint64_t first, uint64_t last) {
    uint32_t stack = 0;
    for (uint64_t fd = first; fd <= last && fd <= highest && !is_vfork_child(c); fd++) {
        uint32_t opened = __atomic_exchange_n(&opened_by[fd], 0, __ATOMIC_RELAXED);
        if (opened && !stack)
            stack = stack_capture(c, pc);
        closed[fd] = (struct closed){opened, opened ? stack : 0};
    }
    if (first == last && !is_vfork_child(c)) {
        lock_take(&again_lock);
        row_goes_on(first, false);
        lock_drop(&again_lock);
    }
}

void descriptor_not_open(struct context *c, gaddr pc, uint64_t fd) {
    if ((int32_t)fd < 3 || is_vfork_child(c))
        return; /* -1: nothing was opened */
    struct closed before = fd <= highest ? closed[fd] : (struct closed){0, 0};
    uint32_t stack = stack_capture(c, pc), i = 0;
    lock_take(&again_lock);
    row_goes_on(fd, !before.closed);
    while (i < again_count && again[i].stack != stack)
        i++;
    if (i == again_count && i < AGAIN)
        again[again_count++] = (struct again){.stack = stack, .number = (uint32_t)fd,
                                              .opened = before.opened, .closed = before.closed};
    if (i < AGAIN) {
        again[i].row = row.first;
        again[i].count++;
        again[i].sweeps |= !before.closed;
    }
    lock_drop(&again_lock);
}

void descriptors_forked(void) {
    fill_bytes(opened_by, 0, (highest + 1) * sizeof *opened_by);
    fill_bytes(closed, 0, (highest + 1) * sizeof *closed);
    highest = 0;
    again_count = 0;
    again_lock = (struct lock){0};
    row = (struct row){0, 0, false};
}

static struct ledger_descriptor *record(uint32_t number, uint32_t stack) {
    uint32_t i = __atomic_fetch_add(&ledger->next_descriptor, 1, __ATOMIC_RELAXED);
    if (i >= LEDGER_DESCRIPTORS) {
        ledger->next_descriptor = LEDGER_DESCRIPTORS;
        ledger->overflow = 1;
        return NULL;
    }
    struct ledger_descriptor *d = &ledger->descriptors[i];
    d->process = process_index;
    d->number = number;
    d->stack = stack;
    return d;
}

static void report_closed_again(void) {
    for (uint32_t i = 0; i < again_count; i++) {
        struct ledger_descriptor *d =
            again[i].sweeps ? NULL : record(again[i].number, again[i].opened);
        if (!d)
            continue;
        d->closed = again[i].closed;
        d->again = again[i].stack;
        d->count = again[i].count;
        __atomic_store_n(&d->ready, 1, __ATOMIC_RELEASE);
    }
}

/* A child that goes on with copies of all descriptors was handed them: that is how
   a service detaches itself. */
static bool handed_on(void) {
    uint32_t count = ledger->next_process < LEDGER_PROCESSES ? ledger->next_process
                                                             : LEDGER_PROCESSES;
    for (uint32_t i = process_index + 1; i < count; i++) {
        const struct ledger_process *p = &ledger->processes[i];
        if (p->ready && p->forked && p->parent == process_index + 1 &&
            p->state == LEDGER_RUNNING && system_call(__NR_kill, p->pid, 0) == 0)
            return true;
    }
    return false;
}

void descriptors_report(void) {
    if (ledger->processes[process_index].silent)
        return;
    report_closed_again();
    if (handed_on())
        return;
    for (uint32_t fd = 3; fd <= highest; fd++) {
        if (!opened_by[fd] || system_call(__NR_fcntl, fd, 1, 0) < 0)
            continue;
        struct ledger_descriptor *d = record(fd, opened_by[fd]);
        if (!d)
            return;
        char link[40];
        format(link, sizeof link, "/proc/self/fd/%d", (uint64_t)fd);
        long n = system_call(__NR_readlink, link, d->path, sizeof d->path - 1);
        d->path[n > 0 ? n : 0] = 0;
        __atomic_store_n(&d->ready, 1, __ATOMIC_RELEASE);
    }
}

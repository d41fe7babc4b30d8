/* File descriptors the program opened itself, by the stack that opened them. The
   system-call table says which calls open and close; what is open at exit and was
   opened here is recorded then. Inherited ones, those a child got by fork and the
   first three are nobody's. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/sched.h>

#define TRACKED 65536u
static uint32_t opened_by[TRACKED]; /* stack node, 0: not the program's own */

/* Until it runs another program it shares our memory, but not our descriptors. */
static bool is_vfork_child(const struct context *c) {
    return thread_is_process(c) && !(c->clone_flags & CLONE_FILES);
}

void descriptor_opened(struct context *c, gaddr pc, uint64_t fd) {
    if (fd >= 3 && fd < TRACKED && !is_vfork_child(c))
        __atomic_store_n(&opened_by[fd], stack_capture(c, pc), __ATOMIC_RELAXED);
}

void descriptors_closed(struct context *c, uint64_t first, uint64_t last) {
    for (uint64_t fd = first; fd <= last && fd < TRACKED && !is_vfork_child(c); fd++)
        __atomic_store_n(&opened_by[fd], 0, __ATOMIC_RELAXED);
}

void descriptors_forked(void) { fill_bytes(opened_by, 0, sizeof opened_by); }

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
    if (handed_on() || ledger->processes[process_index].silent)
        return;
    for (uint32_t fd = 3; fd < TRACKED; fd++) {
        if (!opened_by[fd] || system_call(__NR_fcntl, fd, 1, 0) < 0)
            continue;
        uint32_t i = __atomic_fetch_add(&ledger->next_descriptor, 1, __ATOMIC_RELAXED);
        if (i >= LEDGER_DESCRIPTORS) {
            ledger->next_descriptor = LEDGER_DESCRIPTORS;
            ledger->overflow = 1;
            return;
        }
        struct ledger_descriptor *d = &ledger->descriptors[i];
        d->process = process_index;
        d->number = fd;
        d->stack = opened_by[fd];
        char link[40];
        format(link, sizeof link, "/proc/self/fd/%d", (uint64_t)fd);
        long n = system_call(__NR_readlink, link, d->path, sizeof d->path - 1);
        d->path[n > 0 ? n : 0] = 0;
        __atomic_store_n(&d->ready, 1, __ATOMIC_RELEASE);
    }
}

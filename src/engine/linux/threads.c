/* Threads: each has a context (FS points to it), an engine stack, a shadow call
   stack and an alternate signal stack, and runs in parallel with the others. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/prctl.h>
#include <asm/unistd.h>
#include <linux/mman.h>
#include <linux/sched.h>

#define ENGINE_STACK (512u << 10)
#define FRESH_STACK (1u << 20) /* what is beyond stays as it is */

struct context *threads;
struct lock threads_lock;
uint32_t stopping;
bool memory_is_shared;
static uint32_t next_number;

long glue_clone(uint64_t flags, uint64_t stack, gaddr ptid, gaddr ctid, uint64_t tls,
                struct context *child);

/* Contexts of threads that are really gone are used again. */
static struct context *recycled(void) {
    long pid = system_call(__NR_getpid);
    for (struct context *c = threads; c; c = c->next)
        if (!c->alive && c->tid && system_call(__NR_tgkill, pid, c->tid, 0) == -ESRCH)
            return c;
    return NULL;
}

struct context *context_new(void) {
    lock_take(&threads_lock);
    struct context *c = recycled();
    if (c) {
        /* `next` stays as it is all the while: others walk the list */
        void *stack = c->engine_stack;
        struct shadow_entry *base = c->shadow_base, *end = c->shadow_end;
        uint64_t signal_stack = c->signal_stack;
        uint64_t link = offsetof(struct context, next), rest = link + sizeof c->next;
        fill_bytes(c, 0, link);
        fill_bytes((char *)c + rest, 0, sizeof *c - rest);
        fill_bytes((char *)c + CTX_LOOKUP_KEY, 0, 0x80000);
        fill_bytes((char *)c + CTX_DIRTY_KEY, 0, 0x80000);
        c->engine_stack = stack;
        c->shadow_base = base;
        c->shadow_end = end;
        c->signal_stack = signal_stack;
        c->alive = 1;
    } else {
        c = engine_alloc(CTX_SIZE);
        fill_bytes((char *)c + CTX_RECORDED, 0xff, 8 * RECORDED_COUNT);
        fill_bytes((char *)c + CTX_PORTABLE, 0xff, 8 * PORTABLE_COUNT);
        fill_bytes((char *)c + CTX_HALF_RECORDED, 0xff, 16 * HALF_RECORDED_COUNT);
        c->alive = 1;
        c->engine_stack = engine_alloc(ENGINE_STACK);
        uint64_t size = (SHADOW_ENTRIES + 1) * sizeof(struct shadow_entry);
        size = (size + 4095) & ~4095ULL;
        char *region = engine_alloc(size + 8192);
        c->shadow_end = (struct shadow_entry *)(region + size);
        system_call(__NR_mprotect, c->shadow_end, 8192, PROT_NONE);
        /* entries end where the guard begins; the first is never used */
        c->shadow_base = c->shadow_end - SHADOW_ENTRIES + 1;
        c->shadow_base[-1].stack_pointer = 1ULL << 62; /* ends glue_plain_store's search */
        c->next = threads;
        threads = c;
    }
    lock_drop(&threads_lock);
    c->self = c;
    c->shadow = c->shadow_base;
    c->cache_base = CACHE_BASE;
    c->mark = c->mark_origin = ~0ULL;
    c->a_base = A_BASE;
    c->origins = ORIGIN_BASE;
    c->twice = 0x100000001;
    c->fours = origin_fours;
    c->least = (uint64_t)ORIGIN_LEAST << 32;
    fill_bytes((char *)c + CTX_UNDEFINED, 0, CTX_VECTOR - CTX_UNDEFINED);
    fill_bytes((char *)c + CTX_KEPT, 0, KEPT_COUNT * KEPT_SIZE);
    c->canary = 0x5a5aa5a5c3c33c3cULL;
    c->in_syscall = false;
    c->handled_count = 0;
    c->engine_sp = (uint64_t)(uintptr_t)c->engine_stack + ENGINE_STACK - 64;
    c->number = __atomic_add_fetch(&next_number, 1, __ATOMIC_RELAXED);
    c->root = stack_root(c->number);
    *(uint64_t *)((char *)c + CTX_LOOKUP_KEY) = 1; /* address 0 is never found */
    return c;
}

#define GIVEN_STACK (256u << 10)

static void note_stack(struct context *c) {
    struct mapping m;
    gaddr sp = c->registers[RSP];
    if (!memory_lookup(sp - 8, &m))
        return;
    c->stack_low = m.start;
    c->stack_high = m.end;
    if (m.flags & MAP_STACK || m.end - m.start <= GIVEN_STACK)
        return;
    /* a stack inside a larger area, next to other things: only what is near */
    if (sp - m.start > GIVEN_STACK)
        c->stack_low = sp - GIVEN_STACK;
    if (m.end - sp > 4096)
        c->stack_high = (sp + 4095) & ~4095ULL;
}

/* What a new thread finds below its stack pointer was not set for it. Only of
   memory that was mapped as a stack that is sure. */
static void freshen_stack(struct context *c) {
    struct mapping m;
    gaddr top = c->registers[RSP] & ~4095ULL;
    if (!memory_lookup(top - 8, &m) || !(m.flags & MAP_STACK))
        return;
    gaddr low = top - m.start > FRESH_STACK ? top - FRESH_STACK : m.start;
    shadow_fresh(low, top - low);
    shadow_fill(top, c->registers[RSP] - top, 0xff);
}

void thread_start(struct context *c) {
    c->tid = (uint32_t)system_call(__NR_gettid);
    system_call(__NR_arch_prctl, ARCH_SET_GS, D_OFFSET);
    signals_thread_stack(c);
    note_stack(c);
    if (c->clone_flags & CLONE_THREAD)
        freshen_stack(c);
    process_thread_began(c);
    signals_real_mask(c);
    c->reason = EXIT_START;
    c->target = cache_lookup(c, c->pc);
    if (!c->target)
        dispatch(c);
}

static long start_thread(struct context *c, uint64_t flags, gaddr stack, gaddr parent_tid,
                         gaddr child_tid, gaddr tls) {
    threaded = true;
    struct context *child = context_new();
    copy_bytes(child->registers, c->registers, sizeof c->registers);
    child->registers[RAX] = 0;
    if (stack)
        child->registers[RSP] = stack;
    child->flags = c->flags;
    child->pc = c->pc;
    child->fs_base = flags & CLONE_SETTLS ? tls : c->fs_base;
    child->gs_base = c->gs_base;
    child->signal_mask = c->signal_mask;
    child->clone_flags = flags;
    child->stack_low = c->stack_low;
    child->stack_high = c->stack_high;
    bool process = flags & CLONE_VFORK;
    child->filters = c->filters;
    child->strict = c->strict;
    if (process)
        signals_keep(false);
    /* no signal may arrive before the child has its signal stack */
    uint64_t all = ~0ULL, old;
    system_call(__NR_rt_sigprocmask, 2, &all, &old, 8);
    long tid = glue_clone(flags | CLONE_SETTLS, child->engine_sp, parent_tid, child_tid,
                          (uint64_t)(uintptr_t)child, child);
    system_call(__NR_rt_sigprocmask, 2, &old, 0, 8);
    if (tid < 0) {
        child->alive = 0;
        child->tid = 0x7fffffff;
    } else if (process) {
        memory_is_shared = true;
        signals_keep(true);
        child->alive = 0;
    }
    return tid;
}

static long start_process(struct context *c, uint64_t flags, gaddr stack, gaddr parent_tid,
                          gaddr child_tid, gaddr tls) {
    lock_take(&threads_lock);
    cache_fork(true);
    heap_fork(true);
    memory_fork(true);
    uint64_t all = ~0ULL, old;
    system_call(__NR_rt_sigprocmask, 2, &all, &old, 8);
    long pid = system_call(__NR_clone, flags & ~(uint64_t)(CLONE_SETTLS | CLONE_VM), 0, parent_tid,
                           child_tid, 0);
    memory_fork(false);
    heap_fork(false);
    cache_fork(false);
    lock_drop(&threads_lock);
    if (pid == 0) {
        for (struct context *t = threads; t; t = t->next)
            if (t != c) {
                t->alive = 0;
                t->tid = 0x7fffffff;
            }
        c->tid = (uint32_t)system_call(__NR_gettid);
        if (stack)
            c->registers[RSP] = stack;
        if (flags & CLONE_SETTLS)
            c->fs_base = tls;
        cache_child();
        signals_forked(c);
        descriptors_forked();
        process_traced = false;
        process_start(c, process_index + 1, true);
    }
    system_call(__NR_rt_sigprocmask, 2, &old, 0, 8);
    return pid;
}

bool thread_is_process(const struct context *c) {
    return (c->clone_flags & CLONE_VM) && !(c->clone_flags & CLONE_THREAD);
}

long thread_clone(struct context *c, uint64_t flags, gaddr stack, gaddr parent_tid,
                  gaddr child_tid, gaddr tls) {
    if (flags & CLONE_VM)
        return start_thread(c, flags, stack, parent_tid, child_tid, tls);
    return start_process(c, flags, stack, parent_tid, child_tid, tls);
}

/* Stops every other thread for good: the process is about to end. */
void threads_stop_others(struct context *c) {
    uint32_t none = 0;
    if (!__atomic_compare_exchange_n(&stopping, &none, c->tid, false, __ATOMIC_ACQ_REL,
                                     __ATOMIC_ACQUIRE)) {
        if (none == c->tid)
            return;
        for (;;) /* another thread ends the process */
            system_call(__NR_pause);
    }
    long pid = system_call(__NR_getpid);
    for (struct context *t = threads; t; t = t->next)
        if (t != c && t->alive && t->tid)
            system_call(__NR_tgkill, pid, t->tid, STOP_SIGNAL);
    for (int round = 0; round < 200; round++) {
        bool all = true;
        for (struct context *t = threads; t; t = t->next)
            if (t != c && t->alive && t->tid && !__atomic_load_n(&t->parked, __ATOMIC_ACQUIRE)) {
                if (system_call(__NR_tgkill, pid, t->tid, 0) == -ESRCH)
                    t->alive = 0;
                else
                    all = false;
            }
        if (all)
            break;
        long pause[2] = {0, 1000000};
        system_call(__NR_nanosleep, pause, 0);
    }
}

/* Signals. The engine's handler takes every signal; the guest's handlers run
   translated. An asynchronous signal is delivered at a guest instruction
   boundary: a thread caught inside the translation of one instruction is
   stepped forward to the next. A fault carries the guest's own program counter
   and registers. Frames on the guest's stack are the kernel's (psABI, XSAVE). */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/sigcontext.h>
#include <asm/siginfo.h>
#include <asm/signal.h>
#include <asm/unistd.h>
#include <asm/ucontext.h>
#include <linux/signal.h>

#define TRAP_FLAG 0x100
#define SYNCHRONOUS (1ULL << 10 | 1ULL << 6 | 1ULL << 3 | 1ULL << 7 | 1ULL << 4)

struct action {
    gaddr handler;
    uint64_t flags;
    gaddr restorer;
    uint64_t mask;
};
struct kernel_action {
    void *handler;
    uint64_t flags;
    void *restorer;
    uint64_t mask;
};

static struct action actions[65];
static struct lock lock;

void glue_store(void); /* the first of the stubs */
void glue_copy_few(void), glue_quick(void);
extern char glue_mark_end[], glue_copy_few_end[];
extern char glue_restore[], glue_restore_end[], glue_pending[], glue_sigreturn[];
extern char glue_syscall_window[], glue_syscall_window_end[], glue_syscall_interrupted[];
extern char recover_resume[], glue_call_fault[];

static uint64_t bit(int number) { return 1ULL << (number - 1); }

static bool default_ignores(int n) { return n == 17 || n == 18 || n == 23 || n == 28; }
static bool default_stops(int n) { return n >= 19 && n <= 22; }

/* Of a function done in C: the processor does not tell what address it was. */
static gaddr wild_argument(const struct context *c) {
    static const uint8_t arguments[] = {RDI, RSI, RDX, RCX, 8, 9}; /* psABI 3.2.3 */
    for (size_t k = 0; k < sizeof arguments; k++)
        if (c->registers[arguments[k]] >= GUEST_END)
            return c->registers[arguments[k]];
    return c->registers[RSI];
}

static void on_signal(int number, siginfo_t *info, struct ucontext *uc);

static void install(int number, void *handler, uint64_t guest_flags) {
    struct kernel_action a = {handler, SA_SIGINFO | SA_ONSTACK | 0x04000000 /* SA_RESTORER */ |
                                           (guest_flags & (SA_NOCLDSTOP | SA_NOCLDWAIT)),
                              glue_sigreturn, ~0ULL};
    system_call(__NR_rt_sigaction, number, &a, 0, 8);
}

void signals_start(void) {
    for (int n = 1; n <= 64; n++) {
        if (n == 9 || n == 19)
            continue;
        struct kernel_action old;
        system_call(__NR_rt_sigaction, n, 0, &old, 8);
        actions[n].handler = (gaddr)(uintptr_t)old.handler;
        bool ignored = old.handler == SIG_IGN;
        bool fault = SYNCHRONOUS & 1ULL << (n - 1);
        if (fault || n == STOP_SIGNAL ||
            (!ignored && !default_ignores(n) && !default_stops(n) && n != 33))
            install(n, on_signal, 0);
    }
}

void signals_thread_stack(struct context *c) {
    stack_t s;
    s.ss_size = 128 << 10;
    if (!c->signal_stack) /* a context that is used again has one */
        c->signal_stack = (uint64_t)(uintptr_t)engine_alloc(s.ss_size);
    s.ss_sp = (void *)(uintptr_t)c->signal_stack;
    s.ss_flags = 0;
    system_call(__NR_sigaltstack, &s, 0);
}

void signals_real_mask(struct context *c) {
    uint64_t mask = c->signal_mask & ~SYNCHRONOUS & ~bit(STOP_SIGNAL);
    system_call(__NR_rt_sigprocmask, 2, &mask, 0, 8);
}

bool signals_deliverable(struct context *c) {
    for (uint32_t i = 0; i < c->queued; i++)
        if (!(c->signal_mask & bit(c->queue[i].number)))
            return true;
    return false;
}

void signals_settle(struct context *c) {
    __atomic_store_n(&c->pending, 0, __ATOMIC_SEQ_CST);
    if (signals_deliverable(c) || cache_is_flushing())
        __atomic_store_n(&c->pending, 1, __ATOMIC_SEQ_CST);
}

/* --- getting to an instruction boundary --- */

static void to_engine(struct context *c, struct ucontext *uc, gaddr pc, uint32_t spilled) {
    const struct sigcontext_64 *s = (const struct sigcontext_64 *)&uc->uc_mcontext;
    uint64_t *r = c->registers;
    r[0] = s->ax, r[1] = s->cx, r[2] = s->dx, r[3] = s->bx, r[4] = s->sp, r[5] = s->bp;
    r[6] = s->si, r[7] = s->di, r[8] = s->r8, r[9] = s->r9, r[10] = s->r10, r[11] = s->r11;
    r[12] = s->r12, r[13] = s->r13, r[14] = s->r14, r[15] = s->r15;
    for (int i = 0; i < 16; i++)
        if (spilled & 1u << i)
            r[i] = c->spill[i];
    c->flags = s->flags & ~(uint64_t)TRAP_FLAG;
    c->pc = pc;
    c->target = 0;
}

static void resume_at(struct ucontext *uc, const void *where) {
    struct sigcontext_64 *s = (struct sigcontext_64 *)&uc->uc_mcontext;
    s->ip = (uint64_t)(uintptr_t)where;
    s->flags &= ~(uint64_t)TRAP_FLAG;
}

static uint64_t *mask_of(struct ucontext *uc) { return (uint64_t *)&uc->uc_sigmask; }

/* Short code outside the cache that goes back into it. */
static bool in_stub(uint64_t pc) {
    const char *at = (const char *)(uintptr_t)pc;
    return (at >= (const char *)glue_store && at < glue_mark_end) ||
           (at >= glue_restore && at < glue_restore_end);
}

/* At a repeated instruction of the guest, in the cache. One that is stepped through stops at each
   element: what takes a moment would take seconds. It runs to its end instead, where it asks
   whether a signal waits (translate.c). */
static bool at_repeated(uint64_t pc) {
    enum { LONGEST = 15, REPE = 0xf3, REPNE = 0xf2, WORDS = 0x66, SHORT_ADDRESSES = 0x67, REX = 0x40,
           FS = 0x64, GS = 0x65 };
    const uint8_t *code = (const uint8_t *)(uintptr_t)pc;
    bool repeated = false;
    if (!cache_contains(pc))
        return false;
    for (int k = 0; k < LONGEST; k++) {
        uint8_t byte = code[k];
        if (byte == REPE || byte == REPNE)
            repeated = true;
        else if (byte != WORDS && byte != SHORT_ADDRESSES && byte != FS && byte != GS &&
                 (byte & 0xf0) != REX) /* movs, cmps; stos, lods, scas */
            return repeated && ((byte >= 0xa4 && byte <= 0xa7) || (byte >= 0xaa && byte <= 0xaf));
    }
    return false;
}

static void roll(struct context *c, struct ucontext *uc, uint64_t pc) {
    struct site site;
    struct sigcontext_64 *s = (struct sigcontext_64 *)&uc->uc_mcontext;
    if (at_repeated(pc)) {
        if (c->rolling)
            *mask_of(uc) = c->roll_mask;
        c->rolling = false;
        s->flags &= ~(uint64_t)TRAP_FLAG;
        return;
    }
    if (in_stub(pc) || (cache_contains(pc) && cache_site(pc, &site) && !site.exact)) {
        if (!c->rolling) {
            c->rolling = true;
            c->roll_mask = *mask_of(uc);
            *mask_of(uc) = ~SYNCHRONOUS;
        }
        s->flags |= TRAP_FLAG;
        return;
    }
    if (c->rolling) {
        *mask_of(uc) = c->roll_mask;
        c->rolling = false;
        s->flags &= ~(uint64_t)TRAP_FLAG;
    }
    if (cache_contains(pc) && cache_site(pc, &site)) {
        to_engine(c, uc, site.pc, site.spilled);
        c->dirty = DIRTY_ALL; /* the words themselves say what is undefined */
        resume_at(uc, glue_pending);
    }
}

void signals_roll(struct context *c) {
    uint64_t mask = ~SYNCHRONOUS;
    if (!c->rolling) {
        c->rolling = true;
        system_call(__NR_rt_sigprocmask, 2, &mask, &c->roll_mask, 8);
    }
    c->flags |= TRAP_FLAG;
}

static void enqueue(struct context *c, int number, const siginfo_t *info) {
    if (c->queued == 64)
        return;
    if (number < 34)
        for (uint32_t i = 0; i < c->queued; i++)
            if (c->queue[i].number == number)
                return; /* standard signals do not queue */
    c->queue[c->queued].number = number;
    copy_bytes(c->queue[c->queued].info, info, sizeof *info);
    c->queued++;
    c->pending = 1;
}

static void park(struct context *c, struct ucontext *uc, uint64_t pc) {
    struct site site;
    if (cache_contains(pc) && cache_site(pc, &site))
        to_engine(c, uc, site.pc, site.spilled);
    __atomic_store_n(&c->parked, 1, __ATOMIC_RELEASE);
    for (;;)
        system_call(__NR_pause);
}

/* Room at the top of the shadow call stack: records that a longjmp left behind
   go; if that is not enough, the oldest half of all. */
static bool shadow_overflow(struct context *c, struct ucontext *uc, uint64_t address) {
    if (address < (uint64_t)(uintptr_t)c->shadow_end ||
        address >= (uint64_t)(uintptr_t)c->shadow_end + 8192)
        return false;
    struct sigcontext_64 *s = (struct sigcontext_64 *)&uc->uc_mcontext;
    struct shadow_entry *top = c->shadow, *keep = top, *to = c->shadow_base;
    bool home = s->sp >= c->stack_low && s->sp < c->stack_high;
    gaddr reached = s->sp;
    for (struct shadow_entry *e = top; e-- > c->shadow_base;)
        if (!home || e->stack_pointer > reached) { /* each caller stands higher */
            reached = e->stack_pointer;
            *--keep = *e;
        }
    while (keep < top)
        *to++ = *keep++;
    if ((uint64_t)(to - c->shadow_base) > SHADOW_ENTRIES / 2) {
        uint64_t dropped = (uint64_t)(to - c->shadow_base) / 2;
        for (struct shadow_entry *e = c->shadow_base; e + dropped < to; e++)
            *e = e[dropped];
        to -= dropped;
    }
    c->shadow = to;
    s->dx -= (uint64_t)(top - to) * sizeof *to;
    return true;
}

/* Just below the stack, by a function whose frame begins there. */
static bool is_stack_full(struct context *c, gaddr bad) {
    enum { NEAR = 1 << 20 };
    gaddr sp = c->registers[RSP];
    return bad < c->stack_low && bad + NEAR > c->stack_low && sp < c->stack_low + NEAR &&
           sp + NEAR > c->stack_low;
}

static void fault(struct context *c, int number, siginfo_t *info, struct ucontext *uc, uint64_t pc) {
    struct site site;
    uint64_t address = (uint64_t)(uintptr_t)info->si_addr;
    if (number == 11 && shadow_overflow(c, uc, address))
        return;
    if (!cache_site(pc, &site))
        fail("signal %u at an unknown place in the code cache (0x%x)", (uint64_t)number, pc);
    to_engine(c, uc, site.pc, site.spilled);
    c->dirty = DIRTY_ALL;
    bool protection = number == 11 && info->si_code == SI_KERNEL;
    if (address >= 2 * D_OFFSET && address < 3 * D_OFFSET)
        address -= D_OFFSET; /* the check of a wild pointer */
    c->fault_address = protection ? 0 : address;
    if (number == 11 || number == 7) {
        struct access a = {.kind = KIND_INVALID_ACCESS,
                           .address = address,
                           .bad = address,
                           .size = 1,
                           .signal = number};
        describe_fault(c, site.pc, &a);
        if (!protection)
            a.bad = address;
        struct block_view view;
        if (a.bad < 4096 && !protection)
            a.kind = KIND_NULL_DEREFERENCE;
        else if (a.bad < GUEST_END && heap_find(a.bad, &view) && view.state != HEAP_LIVE)
            a.kind = KIND_USE_AFTER_FREE;
        char what[64];
        if (protection && !a.size) {
            a.what = "the instruction is not one that programs may use here";
        } else if (protection && a.address < GUEST_END &&
                   (a.size == 16 || a.size == 32 || a.size == 64) && (a.address & (a.size - 1))) {
            format(what, sizeof what, "which is not a multiple of %u", (uint64_t)a.size);
            a.what = what;
        } else if (is_stack_full(c, a.bad)) {
            format(what, sizeof what, "the stack of %u KiB is full",
                   (c->stack_high - c->stack_low) >> 10);
            a.what = what;
        }
        /* generated code whose program handles the signal counts on it: write
           barriers of collectors, null checks without a branch */
        if (actions[number].handler <= 1 || !code_is_managed(site.pc))
            finding_report(c, site.pc, &a);
        info->si_addr = (void *)(uintptr_t)c->fault_address;
    } else {
        if (number == 8)
            describe_division(c, site.pc);
        info->si_addr = (void *)(uintptr_t)site.pc;
    }
    /* first in the queue */
    if (c->queued == 64)
        c->queued--;
    for (uint32_t i = c->queued; i > 0; i--)
        c->queue[i] = c->queue[i - 1];
    c->queue[0].number = number;
    copy_bytes(c->queue[0].info, info, sizeof *info);
    c->queued++;
    if ((c->signal_mask & bit(number)) || actions[number].handler == (gaddr)(uintptr_t)SIG_IGN) {
        c->signal_mask &= ~bit(number); /* the kernel forces it */
        actions[number].handler = 0;
    }
    c->pending = 1;
    resume_at(uc, glue_pending);
}

static void on_signal(int number, siginfo_t *info, struct ucontext *uc) {
    struct context *c = current();
    struct sigcontext_64 *s = (struct sigcontext_64 *)&uc->uc_mcontext;
    uint64_t pc = s->ip;
    bool raised = info->si_code > 0 && (SYNCHRONOUS & bit(number)) && info->si_code != 0x7fffffff;
    if (number == 5 && c->rolling) {
        roll(c, uc, pc);
        return;
    }
    if (c->telling && c->telling == (uint32_t)number) {
        c->telling = 0;
        return;
    }
    /* error code bit 1: a write */
    if (number == 11 && info->si_code == 2 && (s->err & 2) &&
        memory_code_written((uint64_t)(uintptr_t)info->si_addr))
        return;
    if (raised && info->si_code != 6 /* SI_TKILL is negative; TRAP_PERF etc. are not ours */) {
        if (cache_contains(pc)) {
            if (c->rolling) {
                *mask_of(uc) = c->roll_mask;
                c->rolling = false;
            }
            fault(c, number, info, uc, pc);
            return;
        }
        if (c->recover) {
            c->fault_address = (uint64_t)(uintptr_t)info->si_addr;
            if (info->si_code == SI_KERNEL)
                c->fault_address = wild_argument(c);
            if (c->fault_address >= 2 * D_OFFSET && c->fault_address < 3 * D_OFFSET)
                c->fault_address -= D_OFFSET;
            c->fault_signal = (uint32_t)number;
            resume_at(uc, c->recover == RECOVER_CALL ? glue_call_fault : recover_resume);
            return;
        }
        if ((char *)(uintptr_t)pc >= (char *)glue_copy_few &&
            (char *)(uintptr_t)pc < glue_copy_few_end) {
            s->ip = (uint64_t)(uintptr_t)glue_quick; /* nothing is done yet that counts */
            return;
        }
        fail("the engine itself got signal %u at 0x%x (address 0x%x, guest at 0x%x); please "
             "report this",
             (uint64_t)number, pc, info->si_addr, c->pc);
    }
    if (stopping && stopping != c->tid) {
        park(c, uc, pc);
        return;
    }
    if (number == STOP_SIGNAL && c->asked_to_rest) {
        c->asked_to_rest = false;
        c->pending = 1;
    } else if (number == STOP_SIGNAL && (c->signal_mask & bit(number))) {
        /* The guest blocks it, we never do: as natively it waits in the kernel, for sigwaitinfo
           (timers of the C library) or until it is let in. */
        *mask_of(uc) |= bit(number);
        system_call(__NR_rt_tgsigqueueinfo, system_call(__NR_getpid), c->tid, number, info);
        c->pending = 1;
    } else if (number == STOP_SIGNAL && actions[number].handler == 0) {
        return;
    } else {
        enqueue(c, number, info);
    }
    char *at = (char *)(uintptr_t)pc;
    if (at >= glue_restore && at < glue_restore_end)
        resume_at(uc, glue_pending);
    else if (cache_contains(pc) || in_stub(pc))
        roll(c, uc, pc);
    else if (at >= glue_syscall_window && at < glue_syscall_window_end)
        resume_at(uc, glue_syscall_interrupted);
}

/* --- delivery --- */

struct frame {
    gaddr restorer;
    struct ucontext uc;
    siginfo_t info;
};

/* Tiles (AMX) would take 8 KiB of each frame. As the kernel does for programs that have not
   asked for them, frames leave them out: many alternate stacks have no more than 8 KiB. */
#define TILES (3u << 17)

/* Bytes of the registers' area: up to the end of the last part, in the standard format (SDM
   volume 1, 13.4.3). */
static uint64_t vector_size(void) {
    enum { STATES = 13, LEGACY = 576 };
    static uint64_t size;
    if (!size) {
        uint32_t enabled, high, end = LEGACY;
        __asm__ volatile("xgetbv" : "=a"(enabled), "=d"(high) : "c"(0));
        for (uint32_t part = 2; part < 32; part++) {
            uint32_t a = STATES, b, x = part, d;
            if (!((enabled & ~TILES) >> part & 1))
                continue;
            __asm__ volatile("cpuid" : "+a"(a), "=b"(b), "+c"(x), "=d"(d));
            if (b + a > end)
                end = b + a;
        }
        size = end;
    }
    return size;
}

_Noreturn void signals_die(struct context *c, int number) {
    if (!thread_is_process(c))
        process_finish(c, 0, number);
    struct kernel_action a = {0, 0x04000000, glue_sigreturn, 0};
    system_call(__NR_rt_sigaction, number, &a, 0, 8);
    uint64_t none = 0;
    system_call(__NR_rt_sigprocmask, 2, &none, 0, 8);
    system_call(__NR_tgkill, system_call(__NR_getpid), system_call(__NR_gettid), number);
    for (;;)
        system_call(__NR_exit_group, 128 + number);
}

/* Where the frame keeps each general register. */
static const uint8_t frame_words[16] = {
    offsetof(struct sigcontext_64, ax) / 8,  offsetof(struct sigcontext_64, cx) / 8,
    offsetof(struct sigcontext_64, dx) / 8,  offsetof(struct sigcontext_64, bx) / 8,
    offsetof(struct sigcontext_64, sp) / 8,  offsetof(struct sigcontext_64, bp) / 8,
    offsetof(struct sigcontext_64, si) / 8,  offsetof(struct sigcontext_64, di) / 8,
    offsetof(struct sigcontext_64, r8) / 8,  offsetof(struct sigcontext_64, r9) / 8,
    offsetof(struct sigcontext_64, r10) / 8, offsetof(struct sigcontext_64, r11) / 8,
    offsetof(struct sigcontext_64, r12) / 8, offsetof(struct sigcontext_64, r13) / 8,
    offsetof(struct sigcontext_64, r14) / 8, offsetof(struct sigcontext_64, r15) / 8};

static gaddr frame_word(gaddr frame, int reg) {
    return frame + offsetof(struct frame, uc) + offsetof(struct ucontext, uc_mcontext) +
           8u * frame_words[reg];
}

static gaddr frame_flags(gaddr frame) {
    return frame + offsetof(struct frame, uc) + offsetof(struct ucontext, uc_mcontext) +
           offsetof(struct sigcontext_64, flags);
}

#define X87_AREA 32u   /* ST0 in the area: its eight bytes stand for all registers */
#define XSAVE_LOW 160u  /* XMM0 in the area, 16 bytes each */
#define XSAVE_HIGH 576u /* upper halves of YMM0 to YMM15 */

/* Four bytes of an element may be from elsewhere than the next. */
static void save_origins(struct context *c, int element, gaddr at, uint64_t size) {
    for (uint64_t k = 0; k < size / 4; k++)
        if (shadow_first_undefined(at + 4 * k, 4))
            origin_set(c, at + 4 * k, 4, dirty_origins(c, element)[k]);
}

static void restore_origins(struct context *c, int element, gaddr at, uint64_t size) {
    uint32_t parts[4], first = 0;
    for (uint64_t k = 0; k < size / 4; k++) { /* names of slots hold again as they did before */
        bool undefined = shadow_first_undefined(at + 4 * k, 4);
        parts[k] = undefined ? origin_recorded(at + 4 * k) : 0;
        if (undefined && !parts[k])
            parts[k] = origin_of_word(c, at + 4 * k);
        first = first ? first : parts[k];
    }
    if (!first)
        return;
    for (uint64_t k = 0; k < size / 4; k++)
        parts[k] = parts[k] ? parts[k] : first;
    dirty_set_origin(c, element, parts[0]);
    copy_bytes(dirty_origins(c, element), parts, size);
}

/* The frame is defined, its registers as far as they were. */
static void save_undefined(struct context *c, gaddr frame, gaddr area, uint64_t vectors) {
    shadow_fill(frame, area + vectors + 4 - frame, 0);
    if (c->dirty)
        c->dirty = dirty_now(c);
    if (!c->dirty)
        return;
    for (int r = 0; r < 16; r++) {
        copy_bytes(shadow_of(frame_word(frame, r)), &dirty_words(c)[r], 8);
        if (c->dirty >> r & 1)
            save_origins(c, r, frame_word(frame, r), 8);
    }
    copy_bytes(shadow_of(frame_flags(frame)), &dirty_words(c)[ELEMENT_FLAGS], 8);
    if (c->dirty >> ELEMENT_FLAGS & 1)
        origin_set(c, frame_flags(frame), 8, dirty_origin(c, ELEMENT_FLAGS));
    copy_bytes(shadow_of(area + X87_AREA), &dirty_words(c)[ELEMENT_X87], 8);
    for (int v = 0; v < 16; v++) {
        const uint8_t *u = (const uint8_t *)dirty_vector(c, v);
        copy_bytes(shadow_of(area + XSAVE_LOW + 16u * (unsigned)v), u, 16);
        if (vectors >= XSAVE_HIGH + 256)
            copy_bytes(shadow_of(area + XSAVE_HIGH + 16u * (unsigned)v), u + 16, 16);
        if (c->dirty >> (ELEMENT_VECTOR + v) & 1)
            save_origins(c, ELEMENT_VECTOR + v, area + XSAVE_LOW + 16u * (unsigned)v, 16);
        if (c->dirty >> (ELEMENT_UPPER + v) & 1 && vectors >= XSAVE_HIGH + 256)
            save_origins(c, ELEMENT_UPPER + v, area + XSAVE_HIGH + 16u * (unsigned)v, 16);
    }
    for (int part = 0; part < STATE_PARTS && c->dirty & ELEMENTS_SHARED; part++) {
        struct state_part s = state_part(c, part, false, ~0ULL);
        for (uint32_t n = 0; n < s.count && s.offset && s.offset + s.count * s.size <= vectors; n++)
            copy_bytes(shadow_of(area + s.offset + n * s.size), s.bits + n * s.step, s.size);
    }
    dirty_clear(c, 1ULL << RAX | 1ULL << RDI | 1ULL << RSI | 1ULL << RDX | 1ULL << ELEMENT_FLAGS);
}

/* The other way round; what was the frame is released. */
static void restore_undefined(struct context *c, gaddr frame, gaddr area, gaddr sp) {
    uint64_t vectors = vector_size();
    c->dirty = DIRTY_ALL;
    dirty_clear(c, DIRTY_ALL);
    c->dirty = DIRTY_ALL;
    for (int r = 0; r < 16; r++) {
        uint64_t bits;
        copy_bytes(&bits, shadow_of(frame_word(frame, r)), 8);
        dirty_words(c)[r] = r == RSP ? 0 : bits;
        restore_origins(c, r, frame_word(frame, r), 8);
    }
    copy_bytes(&dirty_words(c)[ELEMENT_FLAGS], shadow_of(frame_flags(frame)), 8);
    if (dirty_words(c)[ELEMENT_FLAGS])
        dirty_set_origin(c, ELEMENT_FLAGS, origin_at(c, frame_flags(frame)));
    c->mmx_known = 0;
    if (area)
        copy_bytes(&dirty_words(c)[ELEMENT_X87], shadow_of(area + X87_AREA), 8);
    if (area)
        for (int v = 0; v < 16; v++) {
            uint8_t *u = (uint8_t *)dirty_vector(c, v);
            gaddr low = area + XSAVE_LOW + 16u * (unsigned)v;
            copy_bytes(u, shadow_of(low), 16);
            restore_origins(c, ELEMENT_VECTOR + v, low, 16);
            if (vectors >= XSAVE_HIGH + 256) {
                copy_bytes(u + 16, shadow_of(low + XSAVE_HIGH - XSAVE_LOW), 16);
                restore_origins(c, ELEMENT_UPPER + v, low + XSAVE_HIGH - XSAVE_LOW, 16);
            }
        }
    for (int part = 0; part < STATE_PARTS && area; part++) {
        struct state_part s = state_part(c, part, false, ~0ULL);
        for (uint32_t n = 0; n < s.count && s.offset && s.offset + s.count * s.size <= vectors; n++)
            copy_bytes(s.bits + n * s.step, shadow_of(area + s.offset + n * s.size), s.size);
    }
    c->dirty = dirty_now(c);
    uint64_t size = sp > frame && sp - frame < 65536 ? (sp - 128 > frame ? sp - 128 - frame : 0)
                    : area                           ? area + vectors + 4 - frame
                                                     : 0;
    shadow_fill(frame, size, 0xff);
    origin_clear(frame, size); /* others will have their locals there */
}

static bool on_alternate(const struct context *c) {
    gaddr sp = c->registers[RSP];
    return !c->alternate_disarms && c->alternate_size && sp > c->alternate_stack &&
           sp <= c->alternate_stack + c->alternate_size;
}

static stack_t alternate_of(const struct context *c) {
    stack_t s;
    fill_bytes(&s, 0, sizeof s);
    s.ss_sp = guest(c->alternate_stack);
    s.ss_size = c->alternate_size;
    s.ss_flags = c->alternate_size ? (on_alternate(c) ? SS_ONSTACK : 0) : SS_DISABLE;
    if (c->alternate_disarms)
        s.ss_flags |= (int)SS_AUTODISARM;
    return s;
}

static long set_alternate(struct context *c, const stack_t *s) {
    enum { SMALLEST = 2048 };
    unsigned flags = (unsigned)s->ss_flags, mode = flags & ~SS_AUTODISARM;
    if (on_alternate(c))
        return -EPERM;
    if (mode != SS_DISABLE && mode != SS_ONSTACK && mode != 0)
        return -EINVAL;
    if (mode != SS_DISABLE && s->ss_size < SMALLEST)
        return -ENOMEM;
    c->alternate_stack = mode == SS_DISABLE ? 0 : (gaddr)(uintptr_t)s->ss_sp;
    c->alternate_size = mode == SS_DISABLE ? 0 : s->ss_size;
    c->alternate_disarms = (flags & SS_AUTODISARM) != 0;
    return 0;
}

static void deliver(struct context *c, int number, const void *info);

/* The stack has no room for the frame: as the kernel does, SIGSEGV comes instead. */
static void no_room(struct context *c, int number) {
    siginfo_t info;
    if (number == 11 || actions[11].handler <= 1 || (c->signal_mask & bit(11)))
        signals_die(c, 11);
    fill_bytes(&info, 0, sizeof info);
    info.si_signo = 11;
    info.si_code = SI_KERNEL;
    deliver(c, 11, &info);
}

void signals_left(struct context *c, gaddr low, gaddr high) {
    uint32_t kept = 0;
    for (uint32_t k = 0; k < c->handled_count; k++)
        if (c->handled[k] < low || c->handled[k] >= high)
            c->handled[kept++] = c->handled[k];
    c->handled_count = kept;
}

static void push_frame(struct context *c, int number, const void *info, const struct action *a) {
    gaddr sp = c->registers[RSP] - 128;
    bool nested = on_alternate(c), enters = (a->flags & SA_ONSTACK) && c->alternate_size && !nested;
    if (enters)
        sp = c->alternate_stack + c->alternate_size;
    uint64_t vectors = vector_size();
    gaddr area = (sp - vectors - 4) & ~63ULL;
    gaddr at = ((area - sizeof(struct frame)) & ~15ULL) - 8;
    if ((nested || enters) && at < c->alternate_stack) {
        no_room(c, number);
        return;
    }
    if (recover_enter(c)) {
        no_room(c, number);
        return;
    }
    fill_bytes(guest(area), 0, 576);
    __asm__ volatile("xsave64 %0" : "+m"(*(char *)guest(area)) : "a"(~TILES), "d"(-1) : "memory");
    uint32_t *software = guest(area + 464);
    software[0] = 0x46505853; /* FP_XSTATE_MAGIC1 */
    software[1] = (uint32_t)vectors + 4;
    *(uint64_t *)guest(area + 472) = *(uint64_t *)guest(area + 512) | 3;
    software[4] = (uint32_t)vectors;
    *(uint32_t *)guest(area + vectors) = 0x46505845; /* FP_XSTATE_MAGIC2 */
    struct frame *f = guest(at);
    fill_bytes(f, 0, sizeof *f);
    f->restorer = a->restorer;
    f->uc.uc_flags = 7;
    f->uc.uc_stack = alternate_of(c);
    if (c->alternate_disarms) {
        c->alternate_stack = c->alternate_size = 0;
        c->alternate_disarms = 0;
    }
    struct sigcontext_64 *s = (struct sigcontext_64 *)&f->uc.uc_mcontext;
    const uint64_t *r = c->registers;
    s->ax = r[0], s->cx = r[1], s->dx = r[2], s->bx = r[3], s->sp = r[4], s->bp = r[5];
    s->si = r[6], s->di = r[7], s->r8 = r[8], s->r9 = r[9], s->r10 = r[10], s->r11 = r[11];
    s->r12 = r[12], s->r13 = r[13], s->r14 = r[14], s->r15 = r[15];
    s->ip = c->pc;
    s->flags = c->flags | 0x202;
    s->cs = 0x33;
    s->ss = 0x2b;
    s->fpstate = area;
    if (number == 11 || number == 7) {
        s->cr2 = c->fault_address;
        s->trapno = 14;
        s->err = 4;
    }
    *mask_of(&f->uc) = c->restore_mask ? c->saved_mask : c->signal_mask;
    s->oldmask = *mask_of(&f->uc);
    copy_bytes(&f->info, info, sizeof f->info);
    save_undefined(c, at, area, vectors);
    c->recover = 0;
    signals_left(c, 0, c->registers[RSP]); /* else they would be above */
    if (c->handled_count < sizeof c->handled / sizeof c->handled[0])
        c->handled[c->handled_count++] = at;
    c->registers[RSP] = at;
    c->registers[RDI] = (uint64_t)number;
    c->registers[RSI] = at + offsetof(struct frame, info);
    c->registers[RDX] = at + offsetof(struct frame, uc);
    c->registers[RAX] = 0;
    c->flags &= ~0x400ULL;
    c->pc = a->handler;
    c->target = 0;
}

static void deliver(struct context *c, int number, const void *info) {
    struct action a = actions[number];
    if (a.handler == (gaddr)(uintptr_t)SIG_IGN)
        return;
    if (a.handler == 0) {
        if (default_ignores(number) || default_stops(number))
            return;
        signals_die(c, number);
    }
    if (a.flags & SA_RESETHAND)
        actions[number].handler = 0;
    push_frame(c, number, info, &a);
    c->restore_mask = false;
    c->signal_mask |= a.mask;
    if (!(a.flags & SA_NODEFER))
        c->signal_mask |= bit(number);
    signals_real_mask(c);
}

void signals_deliver(struct context *c) {
    struct queued_signal taken;
    /* one at a time: the next is found when the first handler is entered */
    uint64_t all = ~0ULL, old;
    system_call(__NR_rt_sigprocmask, 2, &all, &old, 8);
    int number = 0;
    for (uint32_t i = 0; i < c->queued; i++) {
        if (c->signal_mask & bit(c->queue[i].number))
            continue;
        taken = c->queue[i];
        number = taken.number;
        for (uint32_t k = i + 1; k < c->queued; k++)
            c->queue[k - 1] = c->queue[k];
        c->queued--;
        break;
    }
    signals_settle(c);
    system_call(__NR_rt_sigprocmask, 2, &old, 0, 8);
    if (number) {
        deliver(c, number, taken.info);
        signals_settle(c);
    }
    if (c->restore_mask) {
        c->restore_mask = false;
        c->signal_mask = c->saved_mask;
        signals_real_mask(c);
        signals_settle(c);
    }
}

/* A tracer sees signals that the kernel delivers. False: it kept this one back. */
static bool tell_tracer(struct context *c, int number) {
    siginfo_t info;
    fill_bytes(&info, 0, sizeof info);
    info.si_signo = number;
    info.si_code = -6; /* SI_TKILL */
    c->telling = (uint32_t)number;
    uint64_t all = bit(number), old;
    system_call(__NR_rt_sigprocmask, 1, &all, &old, 8); /* unblocks it */
    system_call(__NR_rt_tgsigqueueinfo, system_call(__NR_getpid), c->tid, number, &info);
    system_call(__NR_rt_sigprocmask, 2, &old, 0, 8);
    bool told = !c->telling;
    c->telling = 0;
    return told;
}

void signals_raise(struct context *c, int number, int code, gaddr address) {
    siginfo_t info;
    fill_bytes(&info, 0, sizeof info);
    info.si_signo = number;
    info.si_code = code;
    info.si_addr = guest(address);
    c->fault_address = address;
    if (process_traced && !tell_tracer(c, number))
        return;
    if ((c->signal_mask & bit(number)) || actions[number].handler == (gaddr)(uintptr_t)SIG_IGN)
        actions[number].handler = 0;
    deliver(c, number, &info);
}

void signals_raise_filtered(struct context *c, int error, int number) {
    siginfo_t info;
    fill_bytes(&info, 0, sizeof info);
    info.si_signo = 31;
    info.si_errno = error;
    info.si_code = 1; /* SYS_SECCOMP */
    info._sifields._sigsys._call_addr = guest(c->pc);
    info._sifields._sigsys._syscall = number;
    info._sifields._sigsys._arch = 0xc000003e;
    if ((c->signal_mask & bit(31)) || actions[31].handler == (gaddr)(uintptr_t)SIG_IGN)
        actions[31].handler = 0;
    deliver(c, 31, &info);
}

gaddr signals_interrupted(gaddr slot) {
    const struct frame *f = guest(slot);
    return ((const struct sigcontext_64 *)&f->uc.uc_mcontext)->ip;
}

void signals_return(struct context *c) {
    struct frame *f = guest(c->registers[RSP] - 8);
    struct sigcontext_64 *s = (struct sigcontext_64 *)&f->uc.uc_mcontext;
    uint64_t *r = c->registers;
    for (uint32_t k = c->handled_count; k-- > 0;) /* those inside it were left by a jump */
        if (c->handled[k] == (gaddr)(uintptr_t)f)
            c->handled_count = k;
    if (s->fpstate)
        __asm__ volatile("xrstor64 %0"
                         :
                         : "m"(*(char *)guest(s->fpstate)), "a"(~TILES), "d"(-1)
                         : "memory");
    r[0] = s->ax, r[1] = s->cx, r[2] = s->dx, r[3] = s->bx, r[4] = s->sp, r[5] = s->bp;
    r[6] = s->si, r[7] = s->di, r[8] = s->r8, r[9] = s->r9, r[10] = s->r10, r[11] = s->r11;
    r[12] = s->r12, r[13] = s->r13, r[14] = s->r14, r[15] = s->r15;
    c->flags = s->flags & ~(uint64_t)TRAP_FLAG;
    c->pc = s->ip;
    c->target = 0;
    set_alternate(c, &f->uc.uc_stack);
    restore_undefined(c, (gaddr)(uintptr_t)f, s->fpstate, r[RSP]);
    stack_owes(c);
    c->signal_mask = *mask_of(&f->uc) & ~(bit(9) | bit(19));
    signals_real_mask(c);
    signals_settle(c);
}

/* --- system calls about signals --- */

uint64_t signals_caught(void) {
    uint64_t caught = 0;
    for (int n = 1; n <= 64; n++)
        if (actions[n].handler > 1)
            caught |= bit(n);
    return caught;
}

long signals_action(int number, gaddr action, gaddr old, uint64_t size) {
    if (size != 8 || number < 1 || number > 64 || (action && (number == 9 || number == 19)))
        return -EINVAL;
    lock_take(&lock);
    struct action before = actions[number];
    if (action) {
        struct action a = *(struct action *)guest(action);
        a.mask &= ~(bit(9) | bit(19));
        actions[number] = a;
        bool keep = SYNCHRONOUS & bit(number);
        if (a.handler == (gaddr)(uintptr_t)SIG_IGN && !keep) {
            struct kernel_action k = {SIG_IGN, 0x04000000, glue_sigreturn, 0};
            system_call(__NR_rt_sigaction, number, &k, 0, 8);
        } else if (a.handler == 0 && !keep && (default_ignores(number) || default_stops(number))) {
            struct kernel_action k = {SIG_DFL,
                                      0x04000000 | (a.flags & (SA_NOCLDSTOP | SA_NOCLDWAIT)),
                                      glue_sigreturn, 0};
            system_call(__NR_rt_sigaction, number, &k, 0, 8);
        } else {
            install(number, on_signal, a.flags);
        }
    }
    lock_drop(&lock);
    if (old)
        *(struct action *)guest(old) = before;
    return 0;
}

long signals_mask(struct context *c, int how, gaddr set, gaddr old, uint64_t size) {
    if (size != 8)
        return -EINVAL;
    uint64_t before = c->signal_mask;
    if (set) {
        uint64_t s = *(uint64_t *)guest(set) & ~(bit(9) | bit(19));
        if (how == 0)
            c->signal_mask |= s;
        else if (how == 1)
            c->signal_mask &= ~s;
        else if (how == 2)
            c->signal_mask = s;
        else
            return -EINVAL;
        signals_real_mask(c);
        signals_settle(c);
    }
    if (old)
        *(uint64_t *)guest(old) = before;
    return 0;
}

long signals_alternate(struct context *c, gaddr new_stack, gaddr old_stack) {
    stack_t before = alternate_of(c);
    if (new_stack) {
        long r = set_alternate(c, guest(new_stack));
        if (r)
            return r;
    }
    if (old_stack) {
        stack_t *to = guest(old_stack);
        fill_bytes(to, 0, sizeof *to); /* its gap as well, as natively */
        to->ss_sp = before.ss_sp;
        to->ss_flags = before.ss_flags;
        to->ss_size = before.ss_size;
    }
    return 0;
}

/* Whether the signal that interrupted a call lets the call start again. */
bool signals_restarts(struct context *c) {
    for (uint32_t i = 0; i < c->queued; i++) {
        int n = c->queue[i].number;
        if (c->signal_mask & bit(n))
            continue;
        gaddr handler = actions[n].handler;
        if (handler > 1)
            return actions[n].flags & SA_RESTART;
    }
    return true;
}

static struct action saved_actions[65];
void signals_keep(bool restore) {
    if (restore)
        copy_bytes(actions, saved_actions, sizeof actions);
    else
        copy_bytes(saved_actions, actions, sizeof actions);
}

void signals_forked(struct context *c) {
    lock.word = 0;
    c->queued = 0;
    c->pending = 0;
}

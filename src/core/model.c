/* Pools, runs, and settling: joining, ordering, naming findings. */
#include "model.h"
#include "own_code.h"

#include <inttypes.h>
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct piece {
    struct piece *next;
    size_t used, size;
    _Alignas(16) char bytes[];
};
struct pool {
    struct piece *pieces;
};

struct pool *pool_new(void) { return calloc(1, sizeof(struct pool)); }

void pool_free(struct pool *pool) {
    while (pool && pool->pieces) {
        struct piece *next = pool->pieces->next;
        free(pool->pieces);
        pool->pieces = next;
    }
    free(pool);
}

void pool_join(struct pool *pool, struct pool *other) {
    struct piece **last = &pool->pieces; /* what still has room stays first */
    while (*last)
        last = &(*last)->next;
    *last = other->pieces;
    other->pieces = NULL;
}

void *pool_take(struct pool *pool, size_t size) {
    size = (size + 15) & ~(size_t)15;
    struct piece *p = pool->pieces;
    if (!p || p->size - p->used < size) {
        size_t room = size > 65536 ? size : 65536;
        p = calloc(1, sizeof *p + room);
        if (!p)
            abort();
        p->size = room;
        p->next = pool->pieces;
        pool->pieces = p;
    }
    void *at = p->bytes + p->used;
    p->used += size;
    return at;
}

const char *pool_text(struct pool *pool, const char *text) {
    if (!text)
        return NULL;
    size_t n = strlen(text) + 1;
    return memcpy(pool_take(pool, n), text, n);
}

const char *pool_format(struct pool *pool, const char *pattern, ...) {
    va_list list, again;
    va_start(list, pattern);
    va_copy(again, list);
    int n = vsnprintf(NULL, 0, pattern, list);
    char *text = pool_take(pool, (size_t)n + 1);
    vsnprintf(text, (size_t)n + 1, pattern, again);
    va_end(list);
    va_end(again);
    return text;
}

struct run *run_new(void) {
    struct run *run = calloc(1, sizeof *run);
    run->pool = pool_new();
    return run;
}

void run_free(struct run *run) {
    if (!run)
        return;
    pool_free(run->pool);
    free(run->findings);
    free(run);
}

struct finding *run_add(struct run *run) {
    if (run->count == run->capacity) {
        run->capacity = run->capacity ? run->capacity * 2 : 64;
        run->findings = realloc(run->findings, run->capacity * sizeof *run->findings);
        if (!run->findings)
            abort();
    }
    struct finding *f = &run->findings[run->count++];
    memset(f, 0, sizeof *f);
    return f;
}

uint64_t run_open(const struct run *run) {
    uint64_t n = 0;
    for (size_t i = 0; i < run->count; i++)
        n += !run->findings[i].suppressed_by;
    return n;
}

uint64_t run_suppressed(const struct run *run) { return run->count - run_open(run); }

uint64_t run_occurrences(const struct run *run) {
    uint64_t n = 0;
    for (size_t i = 0; i < run->count; i++)
        if (!run->findings[i].suppressed_by)
            n += run->findings[i].count;
    return n;
}

const char *leak_class_name(enum leak_class leak) {
    static const char *const names[] = {"unreachable", "dependent", "interior", "reachable"};
    return leak < LEAK_CLASSES ? names[leak] : "unknown";
}

const struct frame *stack_site(const struct stack *stack) {
    /* libraries linked into the program have no lines: the user's code has */
    for (int i = 0; i < stack->count; i++)
        if (stack->frames[i].own && stack->frames[i].line)
            return &stack->frames[i];
    for (int i = 0; i < stack->count; i++)
        if (stack->frames[i].own)
            return &stack->frames[i];
    return NULL;
}

/* Sources as well: libraries are built below these. */
bool path_is_system(const char *path) {
    return in_system_folder(path) || path_starts(path, "/build/") || path_starts(path, "./");
}

const char *quantity(char *to, size_t size, uint64_t n, const char *unit) {
    char digits[32], grouped[48];
    snprintf(digits, sizeof digits, "%" PRIu64, n);
    size_t length = strlen(digits), at = 0;
    for (size_t i = 0; i < length; i++) {
        if (i && (length - i) % 3 == 0)
            grouped[at++] = ',';
        grouped[at++] = digits[i];
    }
    grouped[at] = 0;
    snprintf(to, size, "%s %s%s", grouped, unit, n == 1 ? "" : "s");
    return to;
}

/* --- settling --- */

static int compare_text(const char *a, const char *b) {
    if (a == b || !a || !b)
        return (a != NULL) - (b != NULL);
    return strcmp(a, b);
}

/* Lines, not addresses: an unrolled loop is one place. */
static bool same_stack(const struct stack *a, const struct stack *b) {
    if (a->count != b->count)
        return false;
    for (int i = 0; i < a->count; i++) {
        const struct frame *x = &a->frames[i], *y = &b->frames[i];
        if (x->line != y->line || x->column != y->column || compare_text(x->function, y->function) ||
            compare_text(x->module, y->module) || compare_text(x->file, y->file))
            return false;
        if (!x->line && x->address != y->address && i == 0)
            return false;
    }
    return true;
}

/* The frame proper, of which those before it are inlined parts. */
static int whole_frame(const struct stack *stack) {
    int i = 0;
    while (i + 1 < stack->count && stack->frames[i].inlined)
        i++;
    return i;
}

/* A variable is one origin wherever in its frame its parts were taken along. */
static bool same_variable(const struct finding *a, const struct finding *b) {
    const struct stack *x = &a->origin_stack, *y = &b->origin_stack;
    int i = whole_frame(x), k = whole_frame(y);
    if (!a->variable.name || a->variable.line != b->variable.line || !x->count || !y->count ||
        compare_text(a->variable.file, b->variable.file) ||
        compare_text(x->frames[i].function, y->frames[k].function) ||
        compare_text(x->frames[i].module, y->frames[k].module))
        return false;
    struct stack callers = {x->frames + i + 1, x->count - i - 1};
    struct stack others = {y->frames + k + 1, y->count - k - 1};
    return same_stack(&callers, &others);
}

static bool same_finding(const struct finding *a, const struct finding *b) {
    return a->kind == b->kind && a->origin == b->origin &&
           compare_text(a->variable.name, b->variable.name) == 0 &&
           (same_stack(&a->origin_stack, &b->origin_stack) ||
            (a->origin == FROM_STACK && same_variable(a, b))) && a->leak == b->leak &&
           a->has_block == b->has_block && same_stack(&a->stack, &b->stack) &&
           same_stack(&a->allocated, &b->allocated) && same_stack(&a->freed, &b->freed) &&
           (a->kind == KIND_LEAK || a->block_size == b->block_size ||
            a->allocated.count != 0);
}

static uint64_t hash_text(uint64_t h, const char *text) { /* FNV-1a */
    for (; text && *text; text++)
        h = (h ^ (unsigned char)*text) * 0x100000001b3ULL;
    return (h ^ 0xff) * 0x100000001b3ULL;
}

static uint64_t hash_stack(uint64_t h, const struct stack *stack) {
    for (int i = 0; i < stack->count; i++) {
        const char *module = stack->frames[i].module;
        const char *base = module ? strrchr(module, '/') : NULL;
        h = hash_text(h, stack->frames[i].function);
        h = hash_text(h, base ? base + 1 : module);
    }
    return h;
}

static uint64_t hash_lines(const struct finding *f) {
    uint64_t h = hash_text(0xcbf29ce484222325ULL, kind_name(f->kind));
    for (int i = 0; i < f->stack.count; i++)
        h = (h ^ (uint64_t)f->stack.frames[i].line) * 0x100000001b3ULL;
    return hash_stack(h, &f->stack);
}

/* Functions and modules only, so that an edit above the line changes nothing;
   findings that look the same by these are told apart by their order. */
static uint64_t hash_finding(const struct finding *f) {
    uint64_t h = hash_text(0xcbf29ce484222325ULL, kind_name(f->kind));
    h = hash_text(h, f->kind == KIND_LEAK ? leak_class_name(f->leak) : "");
    h = hash_stack(h, &f->stack);
    if (f->has_block)
        h = hash_stack(h, &f->allocated);
    if (f->origin) {
        h = hash_stack(h, &f->origin_stack);
        h = hash_text(h, f->variable.name);
    }
    return h;
}

static void share(struct run *run, struct finding *into, const struct finding *f) {
    if (!into->share_count) {
        if (into->pid == f->pid)
            return;
        into->shares = pool_take(run->pool, 2 * sizeof *into->shares);
        into->shares[into->share_count++] = (struct share){into->pid, into->count};
    }
    for (size_t i = into->share_count; i-- > 0;)
        if (into->shares[i].pid == f->pid) {
            into->shares[i].count += f->count;
            return;
        }
    if ((into->share_count & (into->share_count - 1)) == 0 && into->share_count > 1) {
        struct share *more = pool_take(run->pool, 2 * into->share_count * sizeof *more);
        memcpy(more, into->shares, into->share_count * sizeof *more);
        into->shares = more;
    }
    into->shares[into->share_count++] = (struct share){f->pid, f->count};
}

static void join(struct run *run) {
    size_t buckets = 1;
    while (buckets < run->count * 2)
        buckets *= 2;
    size_t *heads = calloc(buckets, sizeof *heads), *next = calloc(run->count + 1, sizeof *next);
    size_t kept = 0;
    for (size_t i = 0; i < run->count; i++) {
        struct finding f = run->findings[i];
        size_t slot = hash_lines(&f) & (buckets - 1);
        size_t at = heads[slot];
        while (at && !same_finding(&run->findings[at - 1], &f))
            at = next[at];
        if (at) {
            struct finding *into = &run->findings[at - 1];
            share(run, into, &f);
            into->count += f.count;
            into->blocks += f.blocks;
            into->bytes += f.bytes;
            into->dependent_blocks += f.dependent_blocks;
            into->dependent_bytes += f.dependent_bytes;
            continue;
        }
        run->findings[kept++] = f;
        next[kept] = heads[slot];
        heads[slot] = kept;
    }
    run->count = kept;
    free(heads);
    free(next);
}

static int leak_rank(const struct finding *f) {
    return f->leak == LEAK_UNREACHABLE ? 0 : f->leak == LEAK_INTERIOR ? 1 : 2;
}

struct ordered {
    size_t at;
    const struct finding *f;
};

static int order(const void *a, const void *b) {
    const struct ordered *x = a, *y = b;
    bool lx = x->f->kind == KIND_LEAK, ly = y->f->kind == KIND_LEAK;
    if (lx != ly)
        return lx - ly;
    if (lx) {
        if (leak_rank(x->f) != leak_rank(y->f))
            return leak_rank(x->f) - leak_rank(y->f);
        uint64_t bx = x->f->bytes + x->f->dependent_bytes, by = y->f->bytes + y->f->dependent_bytes;
        if (bx != by)
            return bx < by ? 1 : -1;
    }
    return x->at < y->at ? -1 : 1;
}

static const char *describe_place(struct run *run, const struct finding *f) {
    char size[48], distance[48];
    quantity(size, sizeof size, f->block_size, "byte");
    const char *state = f->has_freed ? "freed block of " : "block of ";
    if (f->where == WHERE_BEFORE)
        return pool_format(run->pool, "%s before the start of a %s%s",
                           quantity(distance, sizeof distance, (uint64_t)-f->block_offset, "byte"),
                           state, size);
    if (f->where == WHERE_AFTER) {
        uint64_t behind = (uint64_t)f->block_offset - f->block_size;
        if (behind == 0)
            return pool_format(run->pool, "right after the end of a %s%s", state, size);
        return pool_format(run->pool, "%s after the end of a %s%s",
                           quantity(distance, sizeof distance, behind, "byte"), state, size);
    }
    if (f->block_offset == 0)
        return pool_format(run->pool, "at the start of a %s%s", state, size);
    return pool_format(run->pool, "%s into a %s%s",
                       quantity(distance, sizeof distance, (uint64_t)f->block_offset, "byte"),
                       state, size);
}

static const char *describe_leak(struct run *run, const struct finding *f) {
    char blocks[48], bytes[48], more[48], more_bytes[48];
    quantity(blocks, sizeof blocks, f->blocks, "block");
    quantity(bytes, sizeof bytes, f->bytes, "byte");
    static const char *const says[] = {"nothing points to %s any more",
                                       "reached only from lost blocks",
                                       "only pointers into the middle are left",
                                       "still pointed to at exit"};
    const char *why = f->leak == LEAK_UNREACHABLE ? (f->blocks == 1 ? "it" : "them") : "";
    char reason[80];
    if (f->leak == LEAK_UNREACHABLE)
        snprintf(reason, sizeof reason, "nothing points to %s any more", why);
    else
        snprintf(reason, sizeof reason, "%s", says[f->leak]);
    const char *verb = f->leak == LEAK_REACHABLE ? "never freed" : "lost";
    if (f->dependent_blocks)
        return pool_format(run->pool, "%s in %s %s: %s; %s in %s hang on %s", bytes, blocks, verb,
                           reason,
                           quantity(more_bytes, sizeof more_bytes, f->dependent_bytes, "byte"),
                           quantity(more, sizeof more, f->dependent_blocks, "further block"),
                           f->blocks == 1 ? "it" : "them");
    return pool_format(run->pool, "%s in %s %s: %s", bytes, blocks, verb, reason);
}

const char *end_name(enum process_end end) {
    static const char *const names[] = {"exit", "signal", "replaced", "running", "lost"};
    return names[end];
}

uint64_t run_open_in(const struct run *run, uint32_t pid) {
    uint64_t n = 0;
    for (size_t i = 0; i < run->count; i++) {
        const struct finding *f = &run->findings[i];
        bool met = !f->share_count && f->pid == pid;
        for (size_t k = 0; k < f->share_count; k++)
            met |= f->shares[k].pid == pid;
        n += met && !f->suppressed_by;
    }
    return n;
}

const char *origin_name(enum origin_from from) {
    return from == FROM_HEAP ? "heap" : from == FROM_STACK ? "stack" : "other";
}

static const char *describe_origin(struct run *run, const struct finding *f) {
    char size[48];
    const struct frame *frame = f->origin_stack.count ? &f->origin_stack.frames[0] : NULL;
    switch (f->origin) {
    case FROM_HEAP:
        return pool_format(run->pool, "; it comes from a block of %s that %s made and nobody set",
                           quantity(size, sizeof size, f->origin_size, "byte"),
                           frame && frame->function ? frame->function : "an allocation");
    case FROM_STACK:
        if (f->variable.name)
            return pool_format(run->pool, "; it comes from the variable %s of %s, which was not set",
                               f->variable.name,
                               frame && frame->function ? frame->function : "a function");
        if (frame && frame->function)
            return pool_format(run->pool, "; it comes from a local variable of %s, which was not set",
                               frame->function);
        return "; it comes from a local variable";
    default:
        return "";
    }
}

static const char *describe_undefined(struct run *run, const struct finding *f) {
    const char *what = f->what ? f->what : "is used";
    const char *origin = describe_origin(run, f);
    bool kernel = strstr(what, " the kernel") != NULL;
    if (f->function && kernel) {
        bool many = strstr(what, " go to the kernel") != NULL;
        return pool_format(run->pool, "%s: undefined %s; %s", f->function, what,
                           !*origin && many ? "where they come from is not known"
                           : !*origin       ? "where it comes from is not known"
                           : many ? pool_format(run->pool, "they come%s", origin + 10)
                                  : origin + 2);
    }
    if (f->function)
        return pool_format(run->pool, "%s: an undefined value %s%s", f->function, what, origin);
    return pool_format(run->pool, "an undefined value %s%s", what, origin);
}

bool finding_is_misaligned(const struct finding *f) {
    return f->kind == KIND_INVALID_ACCESS && f->what && strncmp(f->what, "which is not a multiple", 23) == 0;
}

enum stopped finding_stopped(const struct finding *f, uint64_t *room) {
    static const char limit[] = "whose target has room for ";
    if (f->kind != KIND_OUT_OF_BOUNDS_WRITE || !f->what)
        return STOPPED_NOT;
    if (strncmp(f->what, limit, sizeof limit - 1) == 0) {
        if (room)
            *room = strtoull(f->what + sizeof limit - 1, NULL, 10);
        return STOPPED_BEFORE;
    }
    return strncmp(f->what, "the guard", 9) == 0      ? STOPPED_AT_RETURN
           : strncmp(f->what, "descriptor ", 11) == 0 ? STOPPED_AT_SET
                                                      : STOPPED_INSIDE;
}

/* What the program called, without what glibc adds to the name: "sprintf" for __sprintf_chk. */
static const char *called_name(struct run *run, const struct stack *stack) {
    const struct frame *site = stack_site(stack);
    const char *name = site && site > stack->frames ? site[-1].function : NULL;
    if (!name)
        return "a function";
    while (*name == '_')
        name++;
    size_t length = strlen(name);
    if (length > 4 && strcmp(name + length - 4, "_chk") == 0)
        length -= 4;
    return pool_format(run->pool, "%.*s", (int)length, name);
}

static const char *describe_stopped(struct run *run, const struct finding *f, const char *size) {
    char text[48];
    uint64_t room = 0;
    const char *owner = f->origin_stack.count ? f->origin_stack.frames[0].function : NULL;
    switch (finding_stopped(f, &room)) {
    case STOPPED_BEFORE:
        quantity(text, sizeof text, room, "byte");
        if (f->variable.name)
            return pool_format(run->pool, "write of %s by %s to the variable %s of %s, where there "
                                          "is room for %s",
                               size, f->function, f->variable.name, owner ? owner : "a function", text);
        return pool_format(run->pool, "write of %s by %s to a place where there is room for %s", size,
                           f->function, text);
    case STOPPED_AT_RETURN:
        owner = f->stack.count > 1 ? f->stack.frames[1].function : NULL;
        return pool_format(run->pool, "something wrote beyond the end of a local variable of %s: the "
                                      "guard behind its variables was found overwritten when it returned",
                           owner ? owner : "this function");
    case STOPPED_AT_SET:
        return pool_format(run->pool, "%s (FD_SET and its like): an fd_set has room for those "
                                      "below 1,024", f->what);
    default:
        return pool_format(run->pool, "%s was about to write beyond the end of its target, and the C "
                                      "library stopped the program",
                           called_name(run, &f->stack));
    }
}

bool finding_reaches_out(const struct finding *f) {
    return f->has_block && f->where == WHERE_AFTER && f->address >= f->block_start &&
           f->address < f->block_start + f->block_size &&
           f->address + f->size > f->block_start + f->block_size;
}

static const char *describe_reach(struct run *run, const struct finding *f, const char *verb,
                                  const char *size, const char *in) {
    char beyond[48], whole[48];
    return pool_format(run->pool, "%s of %s%s reaches %s beyond the end of a %s%s", verb, size, in,
                       quantity(beyond, sizeof beyond,
                                f->address + f->size - f->block_start - f->block_size, "byte"),
                       f->has_freed ? "freed block of " : "block of ",
                       quantity(whole, sizeof whole, f->block_size, "byte"));
}

static const char *describe(struct run *run, const struct finding *f) {
    char size[48];
    quantity(size, sizeof size, f->size, "byte");
    const char *in = f->function ? pool_format(run->pool, " by %s", f->function) : "";
    const char *verb = f->write ? "write" : "read";
    switch (f->kind) {
    case KIND_LEAK:
        return describe_leak(run, f);
    case KIND_UNINITIALIZED_VALUE:
        return describe_undefined(run, f);
    case KIND_DESCRIPTOR_LEAK:
        if (f->count == 1)
            return pool_format(run->pool, "file descriptor %d (%s) is still open at exit",
                               f->descriptor, f->path ? f->path : "?");
        return pool_format(run->pool,
                           "%" PRIu64 " file descriptors opened here are still open at exit, "
                           "%d (%s) among them",
                           f->count, f->descriptor, f->path ? f->path : "?");
    case KIND_DOUBLE_CLOSE:
        return pool_format(run->pool, "file descriptor %d is closed a second time; by then the number "
                                      "may belong to something else", f->descriptor);
    case KIND_USE_AFTER_RETURN:
        if (f->origin_stack.count && f->origin_stack.frames[0].function)
            return pool_format(run->pool,
                               "%s of %s%s in a stack frame that was released: last there was %s%s%s",
                               verb, size, in, f->variable.name ? "the variable " : "that of ",
                               f->variable.name ? f->variable.name : "",
                               pool_format(run->pool, "%s%s", f->variable.name ? " of " : "",
                                           f->origin_stack.frames[0].function));
        return pool_format(run->pool, "%s of %s%s at 0x%" PRIx64 ", in a stack frame that was released",
                           verb, size, in, f->address);
    case KIND_RETURN_ADDRESS_OVERWRITE:
        return pool_format(run->pool,
                           "write of %s%s over the place that a function's return address is kept in%s%s%s%s",
                           size, in, f->variable.name ? ", from the variable " : "",
                           f->variable.name ? f->variable.name : "",
                           f->variable.name ? " of " : "",
                           f->variable.name && f->origin_stack.count &&
                                   f->origin_stack.frames[0].function
                               ? f->origin_stack.frames[0].function
                           : f->variable.name ? "a function"
                                              : "");
    case KIND_DOUBLE_FREE:
        return pool_format(run->pool, "%s of a block of %" PRIu64 " bytes that was freed before",
                           f->function ? f->function : "free", f->block_size);
    case KIND_INVALID_FREE:
        if (f->has_block)
            return pool_format(run->pool, "%s of an address that is %s", f->function,
                               describe_place(run, f));
        return pool_format(run->pool, "%s of 0x%" PRIx64 ", which is not the start of a heap block",
                           f->function ? f->function : "free", f->address);
    case KIND_MISMATCHED_DEALLOCATION:
        if (f->size)
            return pool_format(run->pool, "%s was told %s for a block of %" PRIu64
                                          ": the object was made as another type",
                               f->function, size, f->block_size);
        return pool_format(run->pool, "%s of a block of %" PRIu64 " bytes that %s allocated",
                           f->function, f->block_size,
                           f->allocated.count && f->allocated.frames[0].function
                               ? f->allocated.frames[0].function
                               : "another family of functions");
    case KIND_OVERLAPPING_COPY:
        return pool_format(run->pool, "copy of %s%s whose source and target overlap", size, in);
    case KIND_INVALID_SIZE:
        if ((int64_t)f->size < 0)
            return pool_format(run->pool, "%s was asked for %" PRIu64 " bytes (as a signed number: %" PRId64 ")",
                               f->function ? f->function : "the allocator", f->size,
                               (int64_t)f->size);
        return pool_format(run->pool, "%s was asked for %" PRIu64 " bytes",
                           f->function ? f->function : "the allocator", f->size);
    case KIND_NULL_DEREFERENCE:
        if (f->stack.count && f->address == f->stack.frames[0].address)
            return pool_format(run->pool, "jump to address 0x%" PRIx64, f->address);
        return pool_format(run->pool, "%s of %s at address 0x%" PRIx64 "%s", verb, size, f->address,
                           in);
    case KIND_INVALID_ACCESS:
        if (f->stack.count && f->address == f->stack.frames[0].address)
            return pool_format(run->pool, "jump to 0x%" PRIx64 ", where no code is", f->address);
        if (f->what && !f->size)
            return f->what;
        if (finding_is_misaligned(f))
            return pool_format(run->pool, "%s of %s at 0x%" PRIx64 "%s, %s", verb, size, f->address, in,
                               f->what);
        if (f->what)
            return pool_format(run->pool, "%s: no room for %s of %s just below it", f->what,
                               f->write ? "a write" : "a read", size);
        return pool_format(run->pool, "%s of %s at 0x%" PRIx64 "%s, which is not mapped or may not be %s",
                           verb, size, f->address, in, f->write ? "written" : "read");
    case KIND_USE_AFTER_FREE:
        if (!f->size && f->function)
            return pool_format(run->pool, "%s of a block of %" PRIu64 " bytes that was freed before",
                               f->function, f->block_size);
        /* fall through */
    default:
        if (finding_stopped(f, NULL))
            return describe_stopped(run, f, size);
        if (finding_reaches_out(f))
            return describe_reach(run, f, verb, size, in);
        if (f->has_block)
            return pool_format(run->pool, "%s of %s%s %s", verb, size, in, describe_place(run, f));
        return pool_format(run->pool, "%s of %s%s at 0x%" PRIx64 ", which no live block holds", verb,
                           size, in, f->address);
    }
}

/* Growth that is told as a leak anyway goes; so do stacks that read the same. */
static void settle_growth(struct run *run) {
    size_t kept = 0;
    for (size_t i = 0; i < run->growing_count; i++) {
        struct holding h = run->growing[i];
        const struct frame *site = stack_site(&h.stack);
        bool known = false;
        for (size_t k = 0; k < run->count && !known; k++)
            known = run->findings[k].kind == KIND_LEAK && same_stack(&run->findings[k].stack, &h.stack);
        for (size_t k = 0; k < kept && !known; k++) {
            const struct frame *other = stack_site(&run->growing[k].stack);
            if (site && other && site->line == other->line && !compare_text(site->file, other->file) &&
                !compare_text(site->function, other->function)) {
                run->growing[k].from += h.from;
                run->growing[k].bytes += h.bytes;
                known = true;
            }
        }
        if (!known)
            run->growing[kept++] = h;
    }
    run->growing_count = kept;
}

void run_settle(struct run *run) {
    join(run);
    struct ordered *list = calloc(run->count + 1, sizeof *list);
    struct finding *sorted = calloc(run->count + 1, sizeof *sorted);
    for (size_t i = 0; i < run->count; i++)
        list[i] = (struct ordered){i, &run->findings[i]};
    qsort(list, run->count, sizeof *list, order);
    for (size_t i = 0; i < run->count; i++)
        sorted[i] = *list[i].f;
    if (run->count)
        memcpy(run->findings, sorted, run->count * sizeof *sorted);
    uint64_t *hashes = calloc(run->count + 1, sizeof *hashes);
    for (size_t i = 0; i < run->count; i++) {
        struct finding *f = &run->findings[i];
        hashes[i] = hash_finding(f);
        uint64_t twins = 0;
        for (size_t k = i; k-- > 0 && i - k < 2000;)
            twins += hashes[k] == hashes[i];
        uint64_t h = (hashes[i] ^ twins) * 0x100000001b3ULL;
        snprintf(f->id, sizeof f->id, "%016" PRIx64, h);
        f->message = describe(run, f);
    }
    free(hashes);
    free(sorted);
    free(list);
    run->kept = 0;
    while (run->count && run->findings[run->count - 1].kind == KIND_LEAK &&
           run->findings[run->count - 1].leak == LEAK_REACHABLE) {
        run->count--;
        run->kept++;
    }
    settle_growth(run);
}

void run_number(struct run *run) {
    int n = 0;
    for (size_t i = 0; i < run->count; i++)
        run->findings[i].number = run->findings[i].suppressed_by ? 0 : ++n;
}

const struct finding *run_finding(const struct run *run, const char *number) {
    char *end;
    uint64_t n = strtoull(number, &end, 10), at = 0;
    for (size_t i = 0; i < run->count + run->kept; i++) {
        const struct finding *f = &run->findings[i];
        if (strcmp(f->id, number) == 0)
            return f;
        if (i < run->count && !f->suppressed_by && ++at == n && !*end)
            return f;
    }
    return NULL;
}

void run_count_reachable(struct run *run) {
    run->count += run->kept;
    run->kept = 0;
}

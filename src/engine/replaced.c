/* Functions the engine does itself: finding them by address, the allocator
   family, and the resolvers of indirect functions, whose result is exchanged
   for a stand-in so that two names with one implementation stay apart. */
#include "engine.h"
#include "replaced_table.h"

#include <asm/errno.h>

struct replaced {
    const char *symbol;
    int action;
    const char *name;
    int limit; /* register with the size of the target, 0: none */
};

static const struct replaced table[] = {
#define ROW(symbol, action, name) {symbol, DO_##action, name, 0},
#define LIMITED(symbol, action, name, limit) {symbol, DO_##action, name, limit},
    REPLACED_HEAP(ROW) REPLACED_STRINGS(ROW) REPLACED_LIMITED(LIMITED) REPLACED_STOPS(ROW)
#undef LIMITED
#undef ROW
};
#define ROWS (sizeof table / sizeof table[0])

/* Rows that no name leads to. */
static const struct replaced resolved = {"", DO_RESOLVED, "", 0};
static const struct replaced free_any = {"", DO_FREE_ANY, "free", 0},
                             malloc_any = {"", DO_MALLOC_ANY, "malloc", 0};
enum { ROW_RESOLVED = ROWS, ROW_FREE_ANY, ROW_MALLOC_ANY, ALL_ROWS };

/* Guest addresses, open addressing; removed entries keep their place. */
#define SLOTS 8192
static struct {
    gaddr pc;
    const struct replaced *function;
    bool resolver;
} places[SLOTS];
static struct lock places_lock;

static uint32_t slot_of(gaddr pc) { return (uint32_t)((pc * 0x9e3779b97f4a7c15ULL) >> 51); }

/* One bit for every place, so that most look-ups end at once. */
static uint8_t filter[8192];
static uint32_t filter_bit(gaddr pc) { return (uint32_t)((pc >> 4) * 40503u) & 0xffff; }

static int find_place(gaddr pc) {
    uint32_t bit = filter_bit(pc);
    if (!(filter[bit >> 3] & 1u << (bit & 7)))
        return -1;
    for (uint32_t at = slot_of(pc);; at = (at + 1) % SLOTS) {
        if (places[at].pc == pc)
            return (int)at;
        if (!places[at].pc)
            return -1;
    }
}

/* Names, hashed once. */
#define NAME_SLOTS 512
static uint16_t names[NAME_SLOTS];

static uint32_t hash_text(const char *s) {
    uint32_t h = 5381;
    while (*s)
        h = h * 33 + (unsigned char)*s++;
    return h;
}

#define THUNK_SIZE 32
#define THUNK_RESOLVED (THUNKS + THUNK_SIZE * ROWS)

/* How much it writes hangs on the texts, not on a count alone. */
static bool measures(int action) {
    return action == DO_STRCPY || action == DO_STPCPY || action == DO_STRCAT ||
           action == DO_STRNCAT || action == DO_WCSCPY || action == DO_WCSCAT ||
           action == DO_WCSNCAT;
}

/* Read by glue_quick, by row. */
quick_function *quick_functions[ALL_ROWS];
static quick_function *heap_quick(int action);

bool replaced_has_quick(const struct replaced *r) { return quick_functions[replaced_index(r)]; }

void replaced_start(void) {
    for (uint32_t i = 0; i < ROWS; i++) {
        bool limited = table[i].limit && measures(table[i].action);
        quick_functions[i] = replaced_is_heap(&table[i]) ? heap_quick(table[i].action)
                                                         : strings_quick(table[i].action, limited);
        uint32_t at = hash_text(table[i].symbol) % NAME_SLOTS;
        while (names[at])
            at = (at + 1) % NAME_SLOTS;
        names[at] = (uint16_t)(i + 1);
    }
    memory_mmap(THUNKS, THUNKS_SIZE, 3, 0x32, -1, 0); /* private, fixed, anonymous */
    memory_mprotect(THUNKS, THUNKS_SIZE, 7);
    replaced_add(THUNK_RESOLVED, &resolved);
}

bool replaced_is_resolver(gaddr pc) {
    int at = find_place(pc);
    return at >= 0 && places[at].resolver;
}

const struct replaced *replaced_by_name(const char *name) {
    uint32_t at = hash_text(name) % NAME_SLOTS;
    for (; names[at]; at = (at + 1) % NAME_SLOTS)
        if (same_text(table[names[at] - 1].symbol, name))
            return &table[names[at] - 1];
    return NULL;
}

uint32_t replaced_index(const struct replaced *r) {
    return r == &resolved     ? ROW_RESOLVED
           : r == &free_any   ? ROW_FREE_ANY
           : r == &malloc_any ? ROW_MALLOC_ANY
                              : (uint32_t)(r - table);
}
const struct replaced *replaced_row(uint32_t index) {
    return index < ROWS              ? &table[index]
           : index == ROW_FREE_ANY   ? &free_any
           : index == ROW_MALLOC_ANY ? &malloc_any
                                     : &resolved;
}
const char *replaced_name(const struct replaced *r) { return r->name; }
bool replaced_is_heap(const struct replaced *r) { return r->action <= DO_LAST_HEAP; }
bool replaced_copies(const struct replaced *r) {
    return r->action == DO_MEMCPY || r->action == DO_MEMMOVE;
}
bool replaced_counts(const struct replaced *r) { return r->limit && !measures(r->action); }

bool replaced_is_operator(const struct replaced *r) {
    return r->action >= DO_NEW && r->action <= DO_LAST_HEAP;
}

const struct replaced *replaced_at(gaddr pc) {
    int at = find_place(pc);
    return at < 0 ? NULL : places[at].function;
}

static const struct replaced *unsized(const struct replaced *r) {
    return r->action == DO_SIZED_DELETE         ? replaced_by_name("_ZdlPv")
           : r->action == DO_SIZED_DELETE_ARRAY ? replaced_by_name("_ZdaPv")
                                                : r;
}

/* Some allocators have one function for the names of two families, or for those with a
   size and without. */
static const struct replaced *joined(const struct replaced *a, const struct replaced *b) {
    if (a->action == b->action)
        return a;
    a = unsized(a), b = unsized(b);
    static const uint8_t plain[] = {DO_NEW, DO_NEW_ARRAY, DO_MALLOC, DO_DELETE, DO_DELETE_ARRAY,
                                    DO_FREE};
    int kinds[2] = {-1, -1};
    for (int i = 0; i < 6; i++) {
        if (a->action == plain[i])
            kinds[0] = i / 3;
        if (b->action == plain[i])
            kinds[1] = i / 3;
    }
    if (kinds[0] < 0 || kinds[0] != kinds[1] || a->action == b->action)
        return a;
    return kinds[0] ? &free_any : &malloc_any;
}

static void add(gaddr pc, const struct replaced *r, bool resolver) {
    lock_take(&places_lock);
    uint32_t at = slot_of(pc);
    uint32_t seen = 0;
    while (places[at].pc && places[at].pc != pc && ++seen < SLOTS / 2)
        at = (at + 1) % SLOTS;
    if (seen < SLOTS / 2 && !places[at].function) {
        uint32_t bit = filter_bit(pc);
        filter[bit >> 3] |= (uint8_t)(1u << (bit & 7));
        places[at].resolver = resolver;
        places[at].function = r;
        __atomic_store_n(&places[at].pc, pc, __ATOMIC_RELEASE);
    } else if (seen < SLOTS / 2 && !resolver && !places[at].resolver) {
        places[at].function = joined(places[at].function, r);
    }
    lock_drop(&places_lock);
}

static void add_name(gaddr pc, gaddr real, const char *name) {
    uint32_t i = __atomic_fetch_add(&ledger->next_name, 1, __ATOMIC_RELAXED);
    if (i >= LEDGER_NAMES)
        return;
    struct ledger_name *n = &ledger->names[i];
    n->process = process_index;
    n->pc = pc;
    n->real = real;
    copy_text(n->name, name, sizeof n->name);
    __atomic_store_n(&n->ready, 1, __ATOMIC_RELEASE);
}

static gaddr malloc_place; /* the C library's own */

void replaced_add(gaddr pc, const struct replaced *r) {
    if (r->action == DO_MALLOC && !malloc_place)
        malloc_place = pc;
    const struct replaced *known = replaced_at(pc);
    /* of several names, that of the later row: the one that is used today */
    if (r != &resolved && (!known || replaced_index(r) > replaced_index(known)))
        add_name(pc, pc, r->name);
    add(pc, r, false);
}

void replaced_add_resolver(gaddr pc, const struct replaced *r) { add(pc, r, true); }

void replaced_forget(gaddr start, gaddr end) {
    lock_take(&places_lock);
    for (uint32_t i = 0; i < SLOTS; i++)
        if (places[i].pc >= start && places[i].pc < end)
            places[i].function = NULL;
    lock_drop(&places_lock);
}

/* --- indirect functions --- */

/* What the psABI has a function preserve, its stack pointer apart. */
static const uint8_t preserved[] = {RBX, RBP, 12, 13, 14, 15};

#define PENDING_RESOLVERS 64
static struct resolving {
    struct context *thread;
    gaddr return_address;
    const struct replaced *function;
    uint64_t bits[sizeof preserved], origins[sizeof preserved];
} resolving[PENDING_RESOLVERS];
static struct lock resolving_lock;

void cache_run_original(struct context *c, gaddr pc);

/* The resolver runs in its clean version: undefined bits of the caller wait for its return. */
static void keep_bits(struct context *c, struct resolving *r) {
    for (size_t k = 0; k < sizeof preserved; k++) {
        r->bits[k] = c->dirty >> preserved[k] & 1 ? dirty_words(c)[preserved[k]] : 0;
        copy_bytes(&r->origins[k], dirty_origins(c, preserved[k]), 8);
    }
}

static void restore_bits(struct context *c, const struct resolving *r) {
    for (size_t k = 0; k < sizeof preserved; k++) {
        if (!r->bits[k])
            continue;
        dirty_words(c)[preserved[k]] = r->bits[k];
        copy_bytes(dirty_origins(c, preserved[k]), &r->origins[k], 8);
        c->dirty |= 1ULL << preserved[k];
    }
}

static void resolver_entered(struct context *c, const struct replaced *r) {
    gaddr *slot = guest(c->registers[RSP]);
    lock_take(&resolving_lock);
    for (int i = 0; i < PENDING_RESOLVERS; i++)
        if (!resolving[i].thread) {
            resolving[i].thread = c;
            resolving[i].return_address = *slot;
            resolving[i].function = r;
            keep_bits(c, &resolving[i]);
            *slot = THUNK_RESOLVED;
            break;
        }
    lock_drop(&resolving_lock);
}

static void resolver_returned(struct context *c) {
    lock_take(&resolving_lock);
    for (int i = PENDING_RESOLVERS - 1; i >= 0; i--)
        if (resolving[i].thread == c) {
            const struct replaced *r = resolving[i].function;
            gaddr real = c->registers[RAX];
            gaddr thunk = THUNKS + (uint64_t)(r - table) * THUNK_SIZE;
            uint8_t *code = guest(thunk);
            if (real && !code[0]) {
                static const uint8_t jump[] = {0xff, 0x25, 0, 0, 0, 0}; /* jmp [rip+0] */
                copy_bytes(code + 6, &real, 8);
                copy_bytes(code, jump, sizeof jump);
                add(thunk, r, false);
                add_name(thunk, real, r->name);
            }
            if (real)
                c->registers[RAX] = thunk;
            c->pc = resolving[i].return_address;
            restore_bits(c, &resolving[i]);
            resolving[i].thread = NULL;
            break;
        }
    lock_drop(&resolving_lock);
}

/* --- the allocator family --- */

static int family_of(int action) {
    switch (action) {
    case DO_NEW:
    case DO_DELETE:
    case DO_SIZED_DELETE:
        return FAMILY_NEW;
    case DO_NEW_ARRAY:
    case DO_DELETE_ARRAY:
    case DO_SIZED_DELETE_ARRAY:
        return FAMILY_NEW_ARRAY;
    case DO_ALIGNED_NEW:
    case DO_ALIGNED_DELETE:
        return FAMILY_ALIGNED_NEW;
    case DO_ALIGNED_NEW_ARRAY:
    case DO_ALIGNED_DELETE_ARRAY:
        return FAMILY_ALIGNED_NEW_ARRAY;
    case DO_FREE_ANY:
    case DO_MALLOC_ANY:
        return FAMILY_ANY;
    }
    return FAMILY_MALLOC;
}

static bool belongs(int allocated, int family) {
    return allocated == family || allocated == FAMILY_ANY || family == FAMILY_ANY;
}

/* Sizes no program can mean: more than the address space holds. */
static bool absurd(uint64_t size) { return size >= GUEST_END; }

static void report_size(struct context *c, gaddr pc, uint64_t size, const char *name) {
    struct access a = {.kind = KIND_INVALID_SIZE, .size = size, .function = name};
    finding_report(c, pc, &a);
}

/* Returns 0 with the original function to be run when there is no memory: that
   sets errno or throws as the guest expects. */
static gaddr obtain(struct context *c, gaddr pc, const struct replaced *r, uint64_t size,
                    uint64_t alignment, bool zero) {
    if (absurd(size)) {
        /* an operator that was refused asks malloc for the same in its turn */
        if (size != c->refused_size)
            report_size(c, pc, size, r->name);
        c->refused_size = replaced_is_operator(r) ? size : 0;
        return 0;
    }
    return heap_allocate(size, alignment, stack_capture(c, pc), family_of(r->action), zero);
}

/* told: the size that was given with the address, 0: none. */
static void report_release(struct context *c, gaddr pc, const struct replaced *r, gaddr address,
                           uint64_t told, enum finding_kind kind) {
    struct access a = {.kind = kind,
                       .address = address,
                       .size = told,
                       .bad = address,
                       .function = r->name,
                       .used_family = family_of(r->action)};
    finding_report(c, pc, &a);
}

/* The live block that starts here; otherwise says what is wrong. */
static bool releasable(struct context *c, gaddr pc, const struct replaced *r, gaddr address,
                       struct block_view *view) {
    if (address < GUEST_END && heap_find(address, view) && view->start == address) {
        if (view->state == HEAP_LIVE)
            return true;
        if (view->state == HEAP_RETIRED || view->state == HEAP_FREE) {
            bool reallocation = r->action == DO_REALLOC || r->action == DO_REALLOCARRAY;
            report_release(c, pc, r, address, 0,
                           reallocation ? KIND_USE_AFTER_FREE : KIND_DOUBLE_FREE);
            return false;
        }
    }
    report_release(c, pc, r, address, 0, KIND_INVALID_FREE);
    return false;
}

/* size: as the program tells it, which must be the one that was asked for ([expr.delete],
   [new.delete.single] of C++14): ~0: it tells none. */
static void release(struct context *c, gaddr pc, const struct replaced *r, gaddr address,
                    uint64_t size) {
    struct block_view view;
    if (!address || !releasable(c, pc, r, address, &view))
        return;
    if (!belongs(view.block->family, family_of(r->action)))
        report_release(c, pc, r, address, 0, KIND_MISMATCHED_DEALLOCATION);
    else if (size != ~0ULL && size != view.size)
        report_release(c, pc, r, address, size, KIND_MISMATCHED_DEALLOCATION);
    heap_release(&view, stack_capture(c, pc));
}

static gaddr reallocate(struct context *c, gaddr pc, const struct replaced *r, gaddr address,
                        uint64_t size, bool *failed) {
    if (!address) {
        gaddr p = obtain(c, pc, r, size, 16, false);
        *failed = !p;
        return p;
    }
    struct block_view view;
    if (!releasable(c, pc, r, address, &view))
        return 0;
    if (!belongs(view.block->family, FAMILY_MALLOC))
        report_release(c, pc, r, address, 0, KIND_MISMATCHED_DEALLOCATION);
    if (size == 0) {
        heap_release(&view, stack_capture(c, pc));
        return 0;
    }
    gaddr p = obtain(c, pc, r, size, 16, false);
    if (!p) {
        *failed = true;
        return 0;
    }
    copy_bytes(guest(p), guest(address), size < view.size ? size : view.size);
    shadow_move(c, p, address, size < view.size ? size : view.size);
    heap_release(&view, stack_capture(c, pc));
    return p;
}

static bool times(uint64_t a, uint64_t b, uint64_t *product) {
    return !__builtin_mul_overflow(a, b, product);
}

static void leave(struct context *c, uint64_t result) {
    c->registers[RAX] = result;
    c->pc = *(gaddr *)guest(c->registers[RSP]);
    c->registers[RSP] += 8;
    struct shadow_entry *top = c->shadow - 1;
    c->target = 0;
    if (top >= c->shadow_base && top->return_address == c->pc &&
        top->stack_pointer == c->registers[RSP] - 8) {
        c->shadow = top;
        if (!c->dirty)
            c->target = CACHE_BASE + top->host;
    }
}

static void leave_undefined(struct context *c, uint64_t result, uint64_t bits, uint32_t origin) {
    if (bits) {
        dirty_words(c)[RAX] = bits;
        dirty_set_origin(c, RAX, origin);
        c->dirty |= 1ULL << RAX;
    }
    leave(c, result);
}

/* How many of its arguments decide what a function does. */
static int arity(int action) {
    switch (action) {
    case DO_RESOLVED:
        return 0;
    case DO_MALLOC: case DO_FREE: case DO_MALLOC_ANY: case DO_FREE_ANY: case DO_VALLOC: case DO_PVALLOC: case DO_USABLE_SIZE:
    case DO_NEW: case DO_NEW_ARRAY: case DO_DELETE: case DO_DELETE_ARRAY:
    case DO_ALIGNED_DELETE: case DO_ALIGNED_DELETE_ARRAY: case DO_STRLEN: case DO_WCSLEN:
        return 1;
    case DO_CALLOC: case DO_REALLOC: case DO_MEMALIGN: case DO_ALIGNED_NEW:
    case DO_SIZED_DELETE: case DO_SIZED_DELETE_ARRAY:
    case DO_ALIGNED_NEW_ARRAY: case DO_BZERO: case DO_RAWMEMCHR: case DO_STRNLEN:
    case DO_STRCPY: case DO_STPCPY: case DO_STRCAT: case DO_STRCMP: case DO_STRCASECMP:
    case DO_STRCHR: case DO_STRCHRNUL: case DO_STRRCHR: case DO_STRSPN: case DO_STRCSPN:
    case DO_STRPBRK: case DO_STRSTR: case DO_WCSNLEN: case DO_WCSCPY: case DO_WCPCPY:
    case DO_WCSCAT: case DO_WCSCMP: case DO_WCSCHR: case DO_WCSRCHR:
        return 2;
    case DO_MEMCCPY: case DO_STRNCASECMP_L:
        return 4;
    }
    return 3;
}

/* The bits of an argument that decide anything: of a character those that it is compared by, of
   what memset fills with none. */
static uint64_t deciding_bits(int action, int argument) {
    switch (action) {
    case DO_MEMSET: case DO_WMEMSET:
        return argument == 1 ? 0 : ~0ULL;
    case DO_MEMCHR: case DO_MEMRCHR: case DO_RAWMEMCHR: case DO_STRCHR: case DO_STRCHRNUL:
    case DO_STRRCHR:
        return argument == 1 ? 0xff : ~0ULL;
    case DO_MEMCCPY:
        return argument == 2 ? 0xff : ~0ULL;
    case DO_WCSCHR: case DO_WCSRCHR: case DO_WMEMCHR:
        return argument == 1 ? 0xffffffff : ~0ULL;
    default:
        return ~0ULL;
    }
}

/* Undefined arguments are findings here. */
static void check_arguments(struct context *c, const struct replaced *r) {
    static const uint8_t order[] = {RDI, RSI, RDX, RCX};
    static const char *const which[] = {"is its first argument", "is its second argument",
                                        "is its third argument", "is its fourth argument"};
    int count = arity(r->action);
    uint64_t *undefined = dirty_words(c);
    for (int i = 0; i < count; i++) {
        if (!(undefined[order[i]] & deciding_bits(r->action, i)))
            continue;
        finding_undefined(c, c->pc, dirty_origin(c, order[i]), which[i], 0, 0, r->name);
        undefined[order[i]] = 0;
    }
}

/* The psABI leaves nothing in the registers a function may overwrite. */
static void after_call(struct context *c, const struct replaced *r, gaddr to, uint64_t size) {
    uint64_t width = r->action == DO_MEMSET ? 1 : r->action == DO_WMEMSET ? 4 : 0;
    const uint8_t *value = (const uint8_t *)&dirty_words(c)[RSI];
    size *= width;
    if (size && (width == 1 ? *value : *(const uint32_t *)value)) {
        uint32_t origin = dirty_origin(c, RSI);
        for (uint64_t i = 0; i < size; i++)
            if (!touch_first_bad(c, to + i, 1, true))
                *shadow_of(to + i) = value[i % width];
        origin_set(c, to, size, origin_keep(c, origin));
    }
    dirty_clear(c, DIRTY_AFTER_CALL);
}

/* --- the commonest calls, straight from glue_quick --- */

static struct quick quick_allocate(uint64_t size, struct context *c, int family, bool zero) {
    enum { MIDDLING = 1 << 16 };
    struct quick q = {0, false};
    if (size <= MIDDLING) {
        q.value = heap_allocate(size, 16, stack_capture(c, c->pc), family, zero);
        q.done = q.value != 0;
    }
    return q;
}

static struct quick quick_malloc(uint64_t a, uint64_t b, uint64_t n, struct context *c) {
    (void)b;
    (void)n;
    return quick_allocate(a, c, FAMILY_MALLOC, false);
}

static struct quick quick_calloc(uint64_t a, uint64_t b, uint64_t n, struct context *c) {
    return quick_allocate(times(a, b, &n) ? n : ~0ULL, c, FAMILY_MALLOC, true);
}

static struct quick quick_new(uint64_t a, uint64_t b, uint64_t n, struct context *c) {
    (void)b;
    (void)n;
    return quick_allocate(a, c, FAMILY_NEW, false);
}

static struct quick quick_release(gaddr address, uint64_t size, struct context *c, int family) {
    struct block_view view;
    if (!address)
        return (struct quick){0, true};
    if (address >= GUEST_END || !heap_find(address, &view) || view.start != address ||
        view.state != HEAP_LIVE || !belongs(view.block->family, family) ||
        (size != ~0ULL && size != view.size))
        return (struct quick){0, false};
    heap_release(&view, stack_capture(c, c->pc));
    return (struct quick){0, true};
}

static struct quick quick_free(uint64_t a, uint64_t b, uint64_t n, struct context *c) {
    (void)b;
    (void)n;
    return quick_release(a, ~0ULL, c, FAMILY_MALLOC);
}

static struct quick quick_delete(uint64_t a, uint64_t b, uint64_t n, struct context *c) {
    (void)b;
    (void)n;
    return quick_release(a, ~0ULL, c, FAMILY_NEW);
}

static struct quick quick_sized_delete(uint64_t a, uint64_t b, uint64_t n, struct context *c) {
    (void)n;
    return quick_release(a, b, c, FAMILY_NEW);
}

static quick_function *heap_quick(int action) {
    switch (action) {
    case DO_MALLOC: return quick_malloc;
    case DO_CALLOC: return quick_calloc;
    case DO_FREE: return quick_free;
    case DO_NEW: return quick_new;
    case DO_DELETE: return quick_delete;
    case DO_SIZED_DELETE: return quick_sized_delete;
    }
    return NULL;
}

void replaced_leave(struct context *c) { leave(c, c->registers[RAX]); }

static bool power_of_two(uint64_t n) { return n && !(n & (n - 1)); }

static void run_heap(struct context *c, gaddr pc, const struct replaced *r) {
    uint64_t a = c->registers[RDI], b = c->registers[RSI], d = c->registers[RDX];
    uint64_t size = 0, result = 0;
    bool failed = false;
    switch (r->action) {
    case DO_MALLOC:
    case DO_MALLOC_ANY:
    case DO_NEW:
    case DO_NEW_ARRAY:
        result = obtain(c, pc, r, a, 16, false);
        failed = !result;
        break;
    case DO_CALLOC:
        if (!times(a, b, &size))
            size = ~0ULL;
        result = obtain(c, pc, r, size, 16, true);
        failed = !result;
        break;
    case DO_REALLOC:
        result = reallocate(c, pc, r, a, b, &failed);
        break;
    case DO_REALLOCARRAY:
        if (!times(b, d, &size))
            size = ~0ULL;
        result = reallocate(c, pc, r, a, size, &failed);
        break;
    case DO_FREE:
    case DO_FREE_ANY:
    case DO_DELETE:
    case DO_DELETE_ARRAY:
    case DO_ALIGNED_DELETE:
    case DO_ALIGNED_DELETE_ARRAY:
        release(c, pc, r, a, ~0ULL);
        result = c->registers[RAX];
        break;
    case DO_SIZED_DELETE:
    case DO_SIZED_DELETE_ARRAY:
        release(c, pc, r, a, b);
        result = c->registers[RAX];
        break;
    case DO_MEMALIGN:
        size = b;
        while (!power_of_two(a) && a < GUEST_END)
            a = a < 16 ? 16 : (a & (a - 1)) << 1;
        result = obtain(c, pc, r, size, a, false);
        failed = !result;
        break;
    case DO_POSIX_MEMALIGN:
        if (b % 8 || !power_of_two(b)) {
            leave(c, EINVAL);
            return;
        }
        result = obtain(c, pc, r, d, b, false);
        if (result) {
            if (check_range(c, pc, a, 8, true, r->name))
                shadow_fill(a, 8, 0);
            *(gaddr *)guest(a) = result;
        }
        leave(c, result ? 0 : ENOMEM);
        return;
    case DO_VALLOC:
    case DO_PVALLOC:
        size = r->action == DO_PVALLOC ? (a + 4095) & ~4095ULL : a;
        result = obtain(c, pc, r, size < a ? a : size, 4096, false);
        failed = !result;
        break;
    case DO_ALIGNED_NEW:
    case DO_ALIGNED_NEW_ARRAY:
        result = obtain(c, pc, r, a, b, false);
        failed = !result;
        break;
    case DO_USABLE_SIZE: {
        struct block_view view;
        if (a && heap_find(a, &view) && view.start == a && view.state == HEAP_LIVE)
            result = view.size;
        break;
    }
    }
    if (failed) {
        /* The function itself sets errno or throws. realloc would not know the
           block: malloc answers for it. */
        if ((r->action == DO_REALLOC || r->action == DO_REALLOCARRAY) && malloc_place) {
            c->registers[RDI] = r->action == DO_REALLOC ? b : size;
            pc = malloc_place;
        }
        cache_run_original(c, pc);
        return;
    }
    leave(c, result);
}

/* --- what stops the program --- */

enum { FD_SET_SIZE = 1024 }; /* POSIX calls it FD_SETSIZE */

/* In characters of `width` bytes, as far as `most`. */
static uint64_t characters(gaddr text, uint64_t width, uint64_t most) {
    const uint8_t *bytes = guest(text);
    const uint32_t *words = guest(text);
    uint64_t n = 0;
    while (n < most && (width == 1 ? bytes[n] != 0 : words[n] != 0))
        n++;
    return n;
}

/* How many bytes the function writes from the target's first on, its final zero included. */
static uint64_t bytes_written(const struct context *c, const struct replaced *r, uint64_t width) {
    gaddr to = c->registers[RDI], from = c->registers[RSI];
    uint64_t count = c->registers[RDX];
    switch (r->action) {
    case DO_STRCPY:
    case DO_STPCPY:
    case DO_WCSCPY:
        count = characters(from, width, ~0ULL) + 1;
        break;
    case DO_STRCAT:
    case DO_WCSCAT:
        count = characters(to, width, ~0ULL) + characters(from, width, ~0ULL) + 1;
        break;
    case DO_STRNCAT:
    case DO_WCSNCAT:
        count = characters(to, width, ~0ULL) + characters(from, width, count) + 1;
        break;
    }
    return count > ~0ULL / width ? ~0ULL : count * width;
}

static bool is_wide(int action) {
    return action == DO_WCSCPY || action == DO_WCSCAT || action == DO_WCSNCPY ||
           action == DO_WCSNCAT || action == DO_WMEMSET;
}

/* Tells of a write that does not fit, as the function itself finds in the end. */
static bool exceeds_limit(struct context *c, const struct replaced *r) {
    uint64_t width = is_wide(r->action) ? 4 : 1, limit = c->registers[r->limit];
    gaddr to = c->registers[RDI];
    c->recover = RECOVER_CALL;
    uint64_t size = bytes_written(c, r, width);
    c->recover = 0;
    if (limit > ~0ULL / width || size <= limit * width)
        return false;
    char what[64];
    format(what, sizeof what, "whose target has room for %d bytes", limit * width, 0ULL);
    struct access a = {.kind = KIND_OUT_OF_BOUNDS_WRITE,
                       .address = to,
                       .size = size,
                       .bad = to + limit * width,
                       .write = true,
                       .function = r->name,
                       .what = what,
                       .origin = to >= c->stack_low && to < c->stack_high ? origin_frame(c, to) : 0};
    finding_report(c, c->pc, &a);
    c->stop_told = 1;
    return true;
}

static bool stops(int action) {
    return action == DO_STOPPED || action == DO_GUARD || action == DO_SET_ELEMENT;
}

/* What went over the guard went on over the return address, and is told as that. */
static bool guard_is_told(const struct context *c) {
    if (!c->overwrite_told || c->shadow - c->shadow_base < 2)
        return false;
    const struct shadow_entry *e = &c->shadow[-2]; /* of the function that has looked at its guard */
    return *(gaddr *)guest(e->stack_pointer) != e->return_address;
}

/* The program ends here, as it would without the engine; of a set of descriptors if the number is
   too large for it. */
static void tell_stop(struct context *c, const struct replaced *r) {
    char what[64] = "the C library stopped the call";
    if (r->action == DO_GUARD)
        copy_text(what, "the guard of the frame was overwritten", sizeof what);
    if (r->action == DO_SET_ELEMENT) {
        if (c->registers[RDI] < FD_SET_SIZE)
            return;
        format(what, sizeof what, "descriptor %d is beyond the set", c->registers[RDI]);
    }
    struct access a = {.kind = KIND_OUT_OF_BOUNDS_WRITE, .write = true, .what = what};
    if (!c->stop_told && !(r->action == DO_GUARD && guard_is_told(c)))
        finding_report(c, c->pc, &a);
    c->stop_told = 0;
}

void replaced_run(struct context *c, const struct replaced *r) {
    gaddr pc = c->pc;
    int at = c->argument & REPLACED_RESOLVER ? find_place(pc) : -1;
    if (at >= 0 && places[at].resolver) {
        resolver_entered(c, r);
        cache_run_original(c, pc);
        return;
    }
    bool limited = c->argument & REPLACED_BEYOND || (r->limit && measures(r->action));
    if (stops(r->action) || (limited && exceeds_limit(c, r))) {
        if (!limited)
            tell_stop(c, r);
        cache_run_original(c, pc);
        return;
    }
    if (r->action == DO_RESOLVED) {
        resolver_returned(c);
        c->target = 0;
        return;
    }
    gaddr first = c->registers[RDI];
    uint64_t third = c->registers[RDX];
    if (c->dirty)
        c->dirty = dirty_now(c);
    if (c->dirty & (1ULL << RDI | 1ULL << RSI | 1ULL << RDX | 1ULL << RCX)) {
        check_arguments(c, r);
        if (!replaced_is_heap(r)) {
            c->recover = RECOVER_CALL;
            uint32_t origin;
            uint64_t bits = strings_run(c, r->action, r->name, &origin);
            after_call(c, r, first, third);
            leave_undefined(c, c->registers[RAX], bits, origin);
            c->recover = 0;
            return;
        }
    }
    bool was_dirty = c->dirty; /* else it has been tried */
    if (was_dirty)
        dirty_clear(c, DIRTY_AFTER_CALL);
    c->recover = RECOVER_CALL;
    quick_function *quick = quick_functions[replaced_index(r)];
    struct quick q = {0, false};
    if (was_dirty && quick)
        q = quick(first, c->registers[RSI], third, c);
    if (q.done) {
        leave(c, q.value);
    } else if (replaced_is_heap(r)) {
        run_heap(c, pc, r);
    } else {
        uint32_t origin;
        uint64_t bits = strings_run(c, r->action, r->name, &origin);
        leave_undefined(c, c->registers[RAX], bits, origin);
    }
    c->recover = 0;
}

/* Whether it was the target that could not be touched. What is appended to is read first. */
static bool fault_is_write(const struct context *c, const struct replaced *r) {
    gaddr to = c->registers[RDI], from = c->registers[RSI], at = c->fault_address;
    switch (r->action) {
    case DO_MEMSET: case DO_BZERO: case DO_WMEMSET:
        return true;
    case DO_BCOPY:
        to = c->registers[RSI];
        from = c->registers[RDI];
        break;
    case DO_MEMCPY: case DO_MEMMOVE: case DO_MEMPCPY: case DO_MEMCCPY: case DO_STRCPY:
    case DO_STPCPY: case DO_STRNCPY: case DO_STPNCPY: case DO_WCSCPY: case DO_WCPCPY:
    case DO_WCSNCPY:
        break;
    default:
        return false;
    }
    return at >= to && (at < from || to > from);
}

/* A bad pointer made a replaced function fault: the real one would have, too. */
void replaced_fault(struct context *c, const struct replaced *r) {
    gaddr pc = c->pc;
    c->recover = 0;
    struct access a = {.kind = c->fault_address < 4096 ? KIND_NULL_DEREFERENCE
                                                       : KIND_INVALID_ACCESS,
                       .address = c->fault_address,
                       .bad = c->fault_address,
                       .size = 1,
                       .write = fault_is_write(c, r),
                       .function = r->name,
                       .signal = (int)c->fault_signal};
    finding_report(c, pc, &a);
    signals_raise(c, (int)c->fault_signal, 1, c->fault_address);
}

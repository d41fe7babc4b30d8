/* The code cache: finding translated code by guest address, leaving and
   re-entering it, and dropping what was made from code that changed. A dropped
   block's entry becomes a jump out; its space comes back when so much was dropped
   that all is given up at once, at a moment when no thread stands in the cache. */
#include "cache.h"
#include "decode.h"
#include "plan.h"

#include <asm/unistd.h>
#include <linux/mman.h>

struct cache cache;
struct cache_link *cache_links;
struct cache_place *cache_places;
struct cache_block *cache_blocks;
struct cache_check *cache_checks;
struct cache_version *cache_versions;
struct plan *cache_plans;
struct cache_return *cache_returns;

/* Blocks by guest page, for dropping them: chains of one hash bucket; those that
   reach over many pages have a chain of their own. */
enum { PAGE_BUCKETS = 1 << 16, FEW_PAGES = 4 };
static struct paged {
    uint32_t block, next;
} *paged;
static uint32_t page_heads[PAGE_BUCKETS + 1];

/* Entries of dropped code that go straight on to newer code, by where they lead. */
#define FORWARD_BUCKETS 4096u
static struct forward {
    uint32_t from, stub, to, next;
} *forwards;
static uint32_t forward_heads[FORWARD_BUCKETS], free_forwards;

#define TABLE (1u << 22)
static struct table_entry {
    gaddr pc;
    uint32_t host, block;
} *table;

void glue_exit(void);
void glue_exit_call(void);
void glue_quick(void);
void glue_store(void);
void glue_copy_few(void);
void glue_plain_store(void);
void glue_frame_store_1(void), glue_frame_store_2(void), glue_frame_store_4(void),
    glue_frame_store_8(void), glue_frame_store_16(void);
void glue_strange_store_1(void), glue_strange_store_2(void), glue_strange_store_4(void),
    glue_strange_store_8(void), glue_strange_store_16(void);
void glue_mark(void);
void glue_names(void);

_Static_assert(offsetof(struct context, shadow) == CTX_SHADOW, "context layout");
_Static_assert(offsetof(struct context, canary) == CTX_CANARY, "context layout");
_Static_assert(offsetof(struct context, guest_target) == CTX_GUEST_TARGET, "context layout");
_Static_assert(offsetof(struct context, spill) == CTX_SPILL, "context layout");
_Static_assert(offsetof(struct context, registers) == CTX_REGISTERS, "context layout");
_Static_assert(offsetof(struct context, flags) == CTX_FLAGS, "context layout");
_Static_assert(offsetof(struct context, cache_base) == CTX_CACHE_BASE, "context layout");
_Static_assert(offsetof(struct context, pc) == CTX_PC, "context layout");
_Static_assert(offsetof(struct context, recover_saved) == 0x200, "context layout");
_Static_assert(offsetof(struct context, unset) == CTX_UNSET, "context layout");
_Static_assert(offsetof(struct context, mark) == CTX_MARK, "context layout");
_Static_assert(offsetof(struct context, dirty) == CTX_DIRTY, "context layout");
_Static_assert(offsetof(struct context, mark_high) == CTX_MARK_HIGH, "context layout");
_Static_assert(offsetof(struct context, mark_origin) == CTX_MARK_ORIGIN, "context layout");
_Static_assert(offsetof(struct context, odd_at) == CTX_ODD_AT, "context layout");
_Static_assert(offsetof(struct context, stack_low) == CTX_STACK_LOW, "context layout");
_Static_assert(offsetof(struct context, old_sp) == CTX_OLD_SP, "context layout");
_Static_assert(offsetof(struct context, a_base) == CTX_A_BASE, "context layout");
_Static_assert(offsetof(struct context, origins) == CTX_ORIGINS, "context layout");
_Static_assert(offsetof(struct context, twice) == CTX_TWICE, "context layout");
_Static_assert(offsetof(struct context, least) == CTX_LEAST, "context layout");
_Static_assert(offsetof(struct context, fours) == CTX_FOUR_TABLE, "context layout");
_Static_assert(offsetof(struct context, way) == CTX_WAY, "context layout");
_Static_assert(sizeof(struct kept_name) == KEPT_SIZE, "context layout");
_Static_assert(offsetof(struct kept_name, name) == KEPT_CODE, "context layout");
_Static_assert(offsetof(struct kept_name, levels) == KEPT_LEVELS, "context layout");
_Static_assert(sizeof(struct kept_level) == KEPT_LEVEL, "context layout");
_Static_assert(offsetof(struct kept_level, node) == offsetof(struct shadow_entry, node), "layout");
_Static_assert(ORIGIN_BASE == 0x640000000000 && ORIGIN_SIZE == 0x100000000000 &&
                   HEAP_BASE == 0x0a0000000000 && STACK_TOP == 0x1fffff000000,
               "glue.S has them");
_Static_assert(offsetof(struct context, scratch) == CTX_SCRATCH, "context layout");
_Static_assert(sizeof(struct context) <= CTX_UNDEFINED, "context layout");

#define NO_ELEMENT (1ULL << 31) /* stands for the empty set; no element has that number */
static uint64_t sets[CACHE_SETS];

/* A full table names a larger set: all elements. */
uint16_t set_number(uint64_t elements) {
    uint64_t key = elements ? elements : NO_ELEMENT;
    uint32_t at = (uint32_t)(key * 0x9e3779b97f4a7c15ULL >> 52);
    for (uint32_t tries = 0; tries < 32; tries++, at = (at + 1) % CACHE_SETS) {
        if (!sets[at])
            sets[at] = key;
        if (sets[at] == key)
            return (uint16_t)at;
    }
    return CACHE_SETS;
}

uint64_t set_of(uint16_t number) {
    uint64_t key = number < CACHE_SETS ? sets[number] : ~0ULL;
    return key == NO_ELEMENT ? 0 : key;
}

static void *reserve(uint64_t at, uint64_t size, int protection) {
    long p = system_call(__NR_mmap, at, size, protection,
                         MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE | MAP_FIXED_NOREPLACE, -1, 0);
    if (p != (long)at)
        fail("cannot reserve %u MiB of address space for the code cache: raise the limit on "
             "address space (ulimit -v)",
             size >> 20);
    system_call(__NR_madvise, at, size, MADV_DONTDUMP);
    return (void *)(uintptr_t)at;
}

static uint64_t tables_end;

static void begin_anew(void) {
    cache.at = cache.first;
    cache.cold = (uint8_t *)(uintptr_t)(CACHE_BASE + CACHE_SIZE / 2);
    cache.link_count = cache.site_count = cache.check_count = cache.plan_count = 0;
    cache.return_count = 0;
    fill_bytes(page_heads, 0, sizeof page_heads);
    fill_bytes(forward_heads, 0, sizeof forward_heads);
    cache.forward_count = 1;
    free_forwards = 0;
    cache.block_count = 1;
    cache.paged_count = 1;
    cache.version_count = 1;
    cache.dropped = 0;
    cache.outdated = false;
}

void cache_start(void) {
    struct emitter e = {.at = reserve(CACHE_BASE, CACHE_SIZE, PROT_READ | PROT_WRITE | PROT_EXEC)};
    /* translated code is several times larger than the guest's: large pages keep
       it within reach of the processor's page tables */
    system_call(__NR_madvise, CACHE_BASE, CACHE_SIZE / 2, MADV_HUGEPAGE);
    uint64_t at = MAP_BASE;
#define TAKE(pointer, count)                                                                 \
    pointer = reserve(at, sizeof *(pointer) * (uint64_t)(count), PROT_READ | PROT_WRITE);     \
    at += sizeof *(pointer) * (uint64_t)(count)
    TAKE(cache_links, CACHE_LINKS);
    TAKE(cache_places, CACHE_PLACES);
    TAKE(cache_blocks, CACHE_BLOCKS);
    TAKE(table, TABLE);
    TAKE(cache_checks, CACHE_CHECKS);
    TAKE(paged, CACHE_PAGED);
    TAKE(forwards, CACHE_FORWARDS);
    TAKE(cache_versions, CACHE_VERSIONS);
    TAKE(cache_plans, CACHE_PLANS);
    TAKE(cache_returns, CACHE_RETURNS);
#undef TAKE
    /* the others go to C */
    static void (*const doors[EXIT_LAST + 1])(void) = {
        [EXIT_REPLACED] = glue_exit_call,
        [EXIT_QUICK] = glue_quick,
        [EXIT_COPY] = glue_copy_few,
        [EXIT_STORE] = glue_store,
        [EXIT_PLAIN_STORE] = glue_plain_store,
        [EXIT_MARK] = glue_mark,
        [EXIT_NAMES] = glue_names,
        [EXIT_FRAME_STORE] = glue_frame_store_1, glue_frame_store_2, glue_frame_store_4,
        glue_frame_store_8, glue_frame_store_16, glue_strange_store_1, glue_strange_store_2,
        glue_strange_store_4, glue_strange_store_8, glue_strange_store_16};
    for (int reason = 1; reason <= EXIT_LAST; reason++) {
        cache.exits[reason] = e.at;
        if (reason != EXIT_PLAIN_STORE && reason != EXIT_QUICK && (reason < EXIT_FRAME_STORE || reason >= EXIT_KEEP))
            emit_context_constant(&e, CTX_REASON, (uint32_t)reason);
        emit_jump(&e, (const uint8_t *)(uintptr_t)(doors[reason] ? doors[reason] : glue_exit));
    }
    cache.landing = e.at;
    emit_jump(&e, cache.exits[EXIT_LANDED]);
    cache.first = e.at;
    tables_end = at;
    begin_anew();
}

/* Neighbours stay neighbours, so that the table's pages are used densely. */
static uint32_t slot_of(gaddr pc) {
    return (uint32_t)(pc >> 3 ^ pc >> 32) & (TABLE - 1);
}

uint64_t cache_find(gaddr pc) {
    for (uint32_t at = slot_of(pc);; at = (at + 1) & (TABLE - 1)) {
        gaddr found = __atomic_load_n(&table[at].pc, __ATOMIC_ACQUIRE);
        if (found == pc)
            return table[at].host ? CACHE_BASE + table[at].host : 0;
        if (!found)
            return 0;
    }
}

static void enter(gaddr pc, uint64_t host, uint32_t block) {
    uint32_t at = slot_of(pc);
    while (table[at].pc && table[at].pc != pc)
        at = (at + 1) & (TABLE - 1);
    table[at].block = block;
    table[at].host = (uint32_t)(host - CACHE_BASE);
    __atomic_store_n(&table[at].pc, pc, __ATOMIC_RELEASE);
}

void vectors_save(struct context *c) {
    __asm__ volatile("xsave64 %0" : "+m"(*((char *)c + CTX_VECTOR)) : "a"(-1), "d"(-1) : "memory");
}

void vectors_restore(struct context *c) {
    __asm__ volatile("xrstor64 %0" : : "m"(*((char *)c + CTX_VECTOR)), "a"(-1), "d"(-1) : "memory");
}

static void drop_if_noticed(void) {
    gaddr low, high;
    if (translate_noticed_flags(&low, &high))
        cache_invalidate(low, high);
}

static uint64_t translate_locked(struct context *c, gaddr pc, bool original) {
    vectors_save(c);
    lock_take(&cache.lock);
    uint64_t host = original ? 0 : cache_find(pc);
    if (!host) {
        uint32_t block = cache.block_count;
        host = translate(pc, original);
        if (host && !original)
            enter(pc, host, block);
    }
    lock_drop(&cache.lock);
    drop_if_noticed();
    vectors_restore(c);
    return host;
}

uint64_t cache_lookup(struct context *c, gaddr pc) {
    uint64_t host = cache_find(pc);
    return host ? host : translate_locked(c, pc, false);
}

/* The function's own code, although the engine replaces it; it has been called and begins in its
   clean version. What the caller keeps in registers waits for the return (across.c). */
void cache_run_original(struct context *c, gaddr pc) {
    const uint64_t preserved = ~DIRTY_AFTER_CALL & ~(1ULL << RSP);
    gaddr sp = c->registers[RSP];
    uint64_t set = c->dirty ? (c->dirty = dirty_now(c)) & preserved : 0;
    if (set && c->shadow > c->shadow_base && c->shadow[-1].stack_pointer == sp) {
        c->registers[RSP] = sp + 8;
        across_keep(c, c->shadow[-1].return_address, set);
        c->registers[RSP] = sp;
        c->shadow[-1].host = (uint32_t)((uint64_t)(uintptr_t)cache.landing - CACHE_BASE);
    }
    dirty_clear(c, DIRTY_ALL);
    c->pc = pc;
    c->target = translate_locked(c, pc, true);
}

static uint64_t find_version(struct context *c, gaddr pc, uint64_t elements, uint32_t owes,
                             bool anew) {
    lock_take(&cache.lock);
    uint64_t wanted = elements;
    uint64_t host = anew ? 0 : dirty_find(pc, &wanted, owes);
    lock_drop(&cache.lock);
    if (host)
        return host;
    vectors_save(c);
    lock_take(&cache.lock);
    host = translate_version(pc, wanted, owes);
    if (host)
        dirty_enter(pc, wanted, owes, host);
    lock_drop(&cache.lock);
    drop_if_noticed();
    vectors_restore(c);
    return host;
}

uint64_t dirty_lookup(struct context *c, gaddr pc, uint64_t elements, bool anew) {
    return find_version(c, pc, elements, 0, anew);
}

bool cache_contains(uint64_t host) {
    return host >= CACHE_BASE && host < CACHE_BASE + CACHE_SIZE;
}

bool cache_site(uint64_t host, struct site *site) {
    uint32_t wanted = (uint32_t)(host - CACHE_BASE);
    uint32_t low = 0, high = __atomic_load_n(&cache.site_count, __ATOMIC_ACQUIRE);
    while (low < high) {
        uint32_t middle = low + (high - low) / 2;
        if (cache_places[middle].host <= wanted)
            low = middle + 1;
        else
            high = middle;
    }
    if (!low)
        return false;
    struct cache_place *p = &cache_places[low - 1];
    site->pc = place_pc(p);
    site->spilled = p->spilled;
    site->exact = (p->exact & PLACE_EXACT) && p->host == wanted;
    return true;
}

static uint32_t first_place(uint32_t host) {
    uint32_t low = 0, high = cache.site_count;
    while (low < high) {
        uint32_t middle = low + (high - low) / 2;
        if (cache_places[middle].host < host)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

static void redirect(uint32_t from, uint32_t to) {
    uint8_t *jump = (uint8_t *)(uintptr_t)(CACHE_BASE + from + 1);
    patch_jump(jump, (uint8_t *)(uintptr_t)(CACHE_BASE + to));
}

static uint32_t *forward_head(uint32_t to) {
    return &forward_heads[(to >> 3) * 0x9e3779b1u >> 20 & (FORWARD_BUCKETS - 1)];
}

/* Whoever still jumps to a dropped entry goes straight on, as long as what is there
   now stays: no chain of dropped entries grows. */
static void forward(uint32_t from, uint32_t to) {
    lock_take(&cache.lock);
    int32_t delta;
    __builtin_memcpy(&delta, (uint8_t *)(uintptr_t)(CACHE_BASE + from + 1), 4);
    uint32_t stub = from + 5 + (uint32_t)delta, i = 0;
    if (stub < CACHE_SIZE / 2) /* another thread was quicker */
        ;
    else if (free_forwards) {
        i = free_forwards;
        free_forwards = forwards[i].next;
    } else if (cache.forward_count < CACHE_FORWARDS)
        i = cache.forward_count++;
    if (i) {
        uint32_t *head = forward_head(to);
        forwards[i] = (struct forward){from, stub, to, *head};
        *head = i;
        redirect(from, to);
    }
    lock_drop(&cache.lock);
}

static void stop_forwarding(uint32_t to) {
    for (uint32_t *at = forward_head(to); *at;) {
        struct forward *f = &forwards[*at];
        if (f->to != to) {
            at = &f->next;
            continue;
        }
        redirect(f->from, f->stub);
        uint32_t i = *at;
        *at = f->next;
        f->next = free_forwards;
        free_forwards = i;
    }
}

/* Turns an entry into a jump to a stub that asks for the address anew. */
static void close_entry(const struct cache_place *place) {
    uint32_t at = slot_of(place_pc(place));
    while (table[at].pc && table[at].pc != place_pc(place))
        at = (at + 1) & (TABLE - 1);
    if (table[at].pc == place_pc(place) && table[at].host == place->host)
        table[at].host = 0;
    dirty_forget(place_pc(place), place->host);
    stop_forwarding(place->host);
    struct emitter e = {.at = cache.cold};
    uint8_t *stub = e.at;
    emit_context_constant(&e, CTX_ARGUMENT, place->host);
    emit_jump(&e, cache.exits[EXIT_STALE]);
    cache.cold = e.at;
    uint64_t host = CACHE_BASE + place->host, word;
    uint8_t entry[8];
    __builtin_memcpy(entry, (void *)(uintptr_t)host, 8);
    int32_t delta = (int32_t)(stub - (uint8_t *)(uintptr_t)(host + 5));
    entry[0] = 0xe9;
    __builtin_memcpy(entry + 1, &delta, 4);
    __builtin_memcpy(&word, entry, 8);
    __atomic_store_n((uint64_t *)(uintptr_t)host, word, __ATOMIC_SEQ_CST);
}

static uint32_t *page_head(gaddr page) {
    return &page_heads[(page * 0x9e3779b97f4a7c15ULL) >> 48 & (PAGE_BUCKETS - 1)];
}

static void file_under(uint32_t *head, uint32_t block) {
    if (cache.paged_count >= CACHE_PAGED)
        fail("the translation cache is full");
    paged[cache.paged_count] = (struct paged){block, *head};
    *head = cache.paged_count++;
}

void cache_file_block(uint32_t block) {
    gaddr first = cache_blocks[block].start >> 12, last = (cache_blocks[block].end - 1) >> 12;
    if (last - first >= FEW_PAGES) {
        file_under(&page_heads[PAGE_BUCKETS], block);
        return;
    }
    for (gaddr page = first; page <= last; page++)
        file_under(page_head(page), block);
}

static void drop(struct cache_block *block) {
    block->valid = 0;
    cache.dropped += block->host_end - block->host;
    for (uint32_t i = first_place(block->host);
         i < cache.site_count && cache_places[i].host < block->host_end; i++)
        if (cache_places[i].exact & PLACE_ENTRY)
            close_entry(&cache_places[i]);
}

/* Drops the blocks of one chain that touch the range, and unlinks what is gone. */
static void drop_chain(uint32_t *head, gaddr start, gaddr end) {
    for (uint32_t *at = head; *at;) {
        struct cache_block *block = &cache_blocks[paged[*at].block];
        if (block->valid && block->end > start && block->start < end)
            drop(block);
        if (block->valid)
            at = &paged[*at].next;
        else
            *at = paged[*at].next;
    }
}

/* A dirty version that copies undefined bytes, in which one more load is known to meet some,
   is made anew, with all of them. */
static void renew_version(uint32_t host) {
    lock_take(&cache.lock);
    uint32_t low = 0, high = cache.block_count;
    while (low < high) {
        uint32_t middle = low + (high - low) / 2;
        if (cache_blocks[middle].host <= host)
            low = middle + 1;
        else
            high = middle;
    }
    struct cache_block *block = &cache_blocks[low ? low - 1 : 0];
    if (low && block->valid && block->renews && host < block->host_end)
        drop(block);
    lock_drop(&cache.lock);
}

void cache_invalidate(gaddr start, gaddr end) {
    lock_take(&cache.lock);
    if ((end - start) >> 12 < PAGE_BUCKETS)
        for (gaddr page = start >> 12; page <= (end - 1) >> 12; page++)
            drop_chain(page_head(page), start, end);
    else
        for (uint32_t i = 0; i < PAGE_BUCKETS; i++)
            drop_chain(&page_heads[i], start, end);
    drop_chain(&page_heads[PAGE_BUCKETS], start, end);
    lock_drop(&cache.lock);
}

/* What a thread keeps of the cache: its tables of branch targets, and where returns
   land. */
static void thread_forget(struct context *c) {
    fill_bytes((char *)c + CTX_LOOKUP_KEY, 0, CTX_LOOKUP_HOST - CTX_LOOKUP_KEY);
    fill_bytes((char *)c + CTX_DIRTY_KEY, 0, CTX_DIRTY_HOST - CTX_DIRTY_KEY);
    *(uint64_t *)((char *)c + CTX_LOOKUP_KEY) = 1; /* address 0 is never found */
    for (struct shadow_entry *e = c->shadow_base; e < c->shadow; e++)
        e->host = (uint64_t)(uintptr_t)cache.landing - CACHE_BASE;
}

static bool is_wasteful(void) {
    uint64_t used = (uint64_t)(cache.at - cache.first);
    return cache.dropped > (8u << 20) && cache.dropped > used / 2;
}

static bool is_nearly_full(void) {
    if (cache.outdated)
        return true;
    uint64_t cold = (uint64_t)(uintptr_t)cache.cold - CACHE_BASE - CACHE_SIZE / 2;
    return (uint64_t)(cache.at - cache.first) > CACHE_SIZE / 8 * 3 || cold > CACHE_SIZE / 8 * 3 ||
           cache.site_count > CACHE_PLACES / 4 * 3 || cache.check_count > CACHE_CHECKS / 4 * 3 ||
           cache.link_count > CACHE_LINKS / 4 * 3 || cache.plan_count > CACHE_PLANS / 4 * 3 ||
           cache.return_count > CACHE_RETURNS / 4 * 3 ||
           cache.paged_count > CACHE_PAGED / 4 * 3 ||
           cache.version_count > CACHE_VERSIONS / 4 * 3 || cache.block_count > CACHE_BLOCKS / 4 * 3;
}

static void wait_a_little(void) {
    long pause[2] = {0, 20000};
    system_call(__NR_nanosleep, pause, 0);
}

/* Whether every other thread stands where it keeps nothing of the cache: in a system
   call, or in cache_rest. Those that do not are asked to (see on_signal). */
static bool others_rest(struct context *c, uint32_t round) {
    bool all = true;
    for (struct context *t = threads; t; t = t->next) {
        if (t == c || !t->alive || __atomic_load_n(&t->in_syscall, __ATOMIC_SEQ_CST))
            continue;
        all = false;
        if (t->asked == round || !t->tid) /* none: it is just being made */
            continue;
        t->asked = round;
        __atomic_store_n(&t->asked_to_rest, true, __ATOMIC_SEQ_CST);
        __atomic_store_n(&t->pending, 1, __ATOMIC_SEQ_CST);
        if (system_call(__NR_tgkill, system_call(__NR_getpid), t->tid, STOP_SIGNAL) < 0)
            t->asked_to_rest = false;
    }
    return all;
}

/* Gives all code up. False: another thread could not be brought to rest in time (then
   it is not tried again at once), or does the same. */
static bool flush(struct context *c) {
    static uint32_t rounds, patience;
    enum { TRIES = 10000, PATIENCE = 10000 };
    uint32_t none = 0;
    if (patience || memory_is_shared) {
        patience -= patience > 0;
        return false;
    }
    if (!__atomic_compare_exchange_n(&cache.flushing, &none, 1, false, __ATOMIC_SEQ_CST,
                                     __ATOMIC_SEQ_CST))
        return false;
    uint32_t round = ++rounds;
    bool all = others_rest(c, round);
    for (int tries = 0; !all && tries < TRIES; tries++) {
        wait_a_little();
        all = others_rest(c, round);
    }
    if (all) {
        lock_take(&cache.lock);
        uint64_t hot = ((uint64_t)(uintptr_t)cache.first + 4095) & ~4095ULL;
        uint64_t cold = CACHE_BASE + CACHE_SIZE / 2;
        system_call(__NR_madvise, hot, cold - hot, MADV_DONTNEED);
        system_call(__NR_madvise, cold, CACHE_SIZE / 2, MADV_DONTNEED);
        system_call(__NR_madvise, MAP_BASE, tables_end - MAP_BASE, MADV_DONTNEED);
        dirty_begin_anew();
        begin_anew();
        for (struct context *t = threads; t; t = t->next)
            thread_forget(t);
        lock_drop(&cache.lock);
    }
    patience = all ? 0 : PATIENCE;
    __atomic_store_n(&cache.flushing, 0, __ATOMIC_SEQ_CST);
    return all;
}

bool cache_is_flushing(void) { return __atomic_load_n(&cache.flushing, __ATOMIC_SEQ_CST); }


void cache_rest(struct context *c) {
    while (cache_is_flushing()) {
        __atomic_store_n(&c->in_syscall, true, __ATOMIC_SEQ_CST);
        while (cache_is_flushing())
            wait_a_little();
        __atomic_store_n(&c->in_syscall, false, __ATOMIC_SEQ_CST);
    }
}

/* The child of a fork is alone: nobody gives the cache up for it. */
void cache_child(void) { cache.flushing = 0; }

void cache_fork(bool begin) {
    if (begin)
        lock_take(&cache.lock);
    else
        lock_drop(&cache.lock);
}

static void leave_system_call(struct context *c) {
    __atomic_store_n(&c->in_syscall, false, __ATOMIC_SEQ_CST);
    cache_rest(c);
    if (is_wasteful() || is_nearly_full())
        flush(c);
}

/* --- leaving and re-entering --- */

static void remember(struct context *c, gaddr pc, uint64_t host) {
    uint64_t *keys = (uint64_t *)((char *)c + CTX_LOOKUP_KEY);
    uint64_t *hosts = (uint64_t *)((char *)c + CTX_LOOKUP_HOST);
    hosts[pc & 0xffff] = host;
    keys[pc & 0xffff] = -pc;
}

/* An exit from a dirty version, where `possible` may be undefined, found this. */
static void remember_dirty(struct context *c, gaddr pc, uint64_t possible, uint64_t host) {
    uint64_t key = pc + dirty_key(possible);
    ((uint64_t *)((char *)c + CTX_DIRTY_HOST))[key & 0xffff] = host;
    ((uint64_t *)((char *)c + CTX_DIRTY_KEY))[key & 0xffff] = key;
}

static void unexecutable(struct context *c, gaddr pc) {
    struct access a = {.kind = pc < 4096 ? KIND_NULL_DEREFERENCE : KIND_INVALID_ACCESS,
                       .address = pc,
                       .bad = pc,
                       .size = 1,
                       .signal = 11};
    if (!process_traced) /* else it is between the program and its tracer */
        finding_report(c, pc, &a);
    struct mapping m;
    signals_raise(c, 11, memory_lookup(pc, &m) ? 2 : 1, pc);
}

/* Sets the target for the guest's pc. */
static void go_on(struct context *c) {
    for (;;) {
        if (c->dirty)
            c->dirty = dirty_now(c);
        c->target = c->dirty ? dirty_lookup(c, c->pc, c->dirty, false) : cache_lookup(c, c->pc);
        if (c->target)
            return;
        unexecutable(c, c->pc);
    }
}

/* The same from a dirty version by an indirect branch or a return: next time the
   thread's table knows the way. */
static void go_on_dirty(struct context *c) {
    uint64_t possible = c->dirty;
    c->dirty = dirty_now(c);
    if (!c->dirty || count_ones(possible) > 12) {
        go_on(c);
        return;
    }
    c->target = dirty_lookup(c, c->pc, possible, false);
    if (c->target)
        remember_dirty(c, c->pc, possible, c->target);
    else
        go_on(c);
}

/* A check met undefined or forbidden bytes. */
static void checked(struct context *c, const struct cache_check *check) {
    c->pc = (gaddr)check->pc_high << 32 | check->pc_low;
    enum checked found = check_instruction(c, c->pc, check->trusted);
    if (found == CHECKED_TOLD && check->store) {
        c->target = CACHE_BASE + check->patch;
        return;
    }
    if (found != CHECKED_UNDEFINED || !check->patch || check->store) {
        c->target = CACHE_BASE + check->resume;
        return;
    }
    bool anew = dirty_site_add(c->pc);
    if (anew)
        renew_version(check->resume);
    c->target = find_version(c, c->pc, set_of(check->possible), check->owes, anew);
    patch_jump((uint8_t *)(uintptr_t)(CACHE_BASE + check->patch),
               (uint8_t *)(uintptr_t)c->target);
}

/* C has followed an instruction; in the clean version nothing may be left
   undefined: if it is, the dirty version follows it once more. */
static void followed(struct context *c, const struct plan *plan) {
    evaluate(c, plan);
    if (!plan->clean)
        return;
    c->dirty = plan->outputs;
    if (dirty_now(c)) {
        dirty_clear(c, plan->outputs);
        stack_owes(c);
        c->target = dirty_lookup(c, plan->pc, 0, dirty_site_add(plan->pc));
    }
    c->dirty = 0;
}

/* As glue_mark. */
static void tidy_stack(struct context *c, gaddr sp) {
    gaddr from = c->mark > sp - 65536 ? c->mark : sp - 65536;
    shadow_fill(from, sp - from, 0xff);
    if (c->mark_origin > from)
        from = c->mark_origin;
    if (from < sp)
        origin_clear(from, sp - from);
    bool more = c->mark_high > sp;
    if (!more || c->mark_origin < sp)
        c->mark_origin = more ? sp : ~0ULL;
    c->mark = c->mark_origin;
    if (!more)
        c->mark_high = 0;
}

/* longjmp and the unwinder leave many frames at once, with the new stack pointer in a
   register. Functions that change stacks load it from memory: one of these stacks may
   lie inside a caller's frame. */
static bool leaves_frames(struct context *c, gaddr from, gaddr to) {
    struct instruction i;
    if (!symbols_is_system(c->pc))
        return false;
    decode_here(&i, c->pc);
    for (int k = 0; k < i.memory_count; k++)
        if (i.memory[k].read)
            return false;
    enum { FRAMES = 4096 };
    struct shadow_entry *e = c->shadow;
    for (int n = 0; n < FRAMES && e-- > c->shadow_base; n++)
        if (e->stack_pointer >= to)
            return true;
        else if (e->stack_pointer < from) /* of another stack, or of who knows when */
            return false;
    return false;
}

/* Where the red zone begins that was written to before the stack pointer was moved beyond it, for
   a while; 0: there is none. A function that has called others has none; copies of what is
   undefined on the stack are marked as well. */
static gaddr red_zone_in_use(const struct context *c, gaddr from, gaddr to) {
    if (c->mark < from || c->mark >= to || to - c->mark > RED_ZONE || to - from < RED_ZONE)
        return 0;
    return c->mark != c->mark_origin || !c->shadow->stack_pointer ? c->mark : 0;
}

/* The stack pointer moved up: a frame was left, unless stacks were changed. */
static void release_stack(struct context *c) {
    gaddr from = c->old_sp, to = c->registers[RSP];
    c->target = CACHE_BASE + c->argument;
    if (to <= from || from < c->stack_low || to > c->stack_high)
        return;
    if (c->shadow == c->shadow_base)
        return;
    if (to > c->shadow[-1].stack_pointer) {
        if (!leaves_frames(c, from, to))
            return;
        while (c->shadow[-1].stack_pointer < to)
            c->shadow--;
    }
    gaddr frame = c->registers[RBP]; /* what stays in use in the red zone begins there */
    signals_left(c, from, to);
    if (frame > from && frame < to && to - frame <= RED_ZONE)
        to = frame;
    else if (red_zone_in_use(c, from, to))
        to = c->mark;
    shadow_fill(from, to - from, 0xff);
    if (c->mark_origin > from)
        from = c->mark_origin;
    if (from < to)
        origin_clear(from, to - from);
    if (c->mark < to)
        tidy_stack(c, to);
}

/* Values on their way out of a frame keep its name. */
static void keep_origins(struct context *c) {
    for (uint64_t left = dirty_now(c); left; left &= left - 1) {
        int e = __builtin_ctzll(left);
        uint32_t *origins = dirty_origins(c, e), last = 0, kept = 0;
        for (int k = 0; k < (e < ELEMENT_VECTOR ? 2 : 4); k++) {
            if (origins[k] < ORIGIN_STACK_CODES)
                continue;
            if (origins[k] != last) {
                last = origins[k];
                uint64_t bits = e < ELEMENT_FLAGS ? dirty_words(c)[e] : ~0ULL;
                kept = origin_keep_few(c, last, !(bits >> 8) ? 1 : !(bits >> 16) ? 2 : 4);
            }
            origins[k] = kept;
        }
    }
}

/* The return was not the one foreseen: drop entries the stack pointer has
   passed, and take the one that fits, if any. */
static void return_missed(struct context *c) {
    gaddr sp = c->registers[RSP];
    if (recover_enter(c)) {
        signals_raise(c, (int)c->fault_signal, 1, c->fault_address);
        go_on(c);
        return;
    }
    gaddr to = *(gaddr *)guest(sp);
    if (c->dirty) {
        dirty_returned(c, to);
        keep_origins(c); /* while the frame's record is still there */
    }
    c->recover = 0;
    struct shadow_entry *e = c->shadow;
    while (e > c->shadow_base && e[-1].stack_pointer < sp)
        e--;
    if (e > c->shadow_base && e[-1].stack_pointer == sp) {
        e--;
        c->shadow = e;
    } else if (e < c->shadow && sp >= c->stack_low && sp < c->stack_high) {
        c->shadow = e;
    }
    if (c->mark < sp + 8 && sp >= c->stack_low && sp < c->stack_high)
        tidy_stack(c, sp + 8);
    c->registers[RSP] = sp + 8 + c->argument;
    c->pc = to;
    across_return(c);
    if (c->dirty)
        go_on_dirty(c);
    else
        go_on(c);
}

static void keep_across(struct context *c) {
    struct instruction call;
    decode_here(&call, c->pc);
    across_keep(c, c->pc + call.z.length, c->guest_target);
}

static void dispatch_exit(struct context *c) {
    struct site site;
    gaddr pc;
    c->midway = c->reason == EXIT_UNDEFINED || c->reason == EXIT_RELEASE ||
                c->reason == EXIT_STRING || c->reason == EXIT_SLOW || c->reason == EXIT_POLL;
    switch (c->reason) {
    case EXIT_START:
        go_on(c);
        break;
    case EXIT_LINK: {
        struct cache_link *link = &cache_links[c->argument];
        c->pc = link_target(link);
        uint64_t host = cache_lookup(c, c->pc);
        if (host) {
            patch_jump((uint8_t *)(uintptr_t)(CACHE_BASE + link->patch),
                       (uint8_t *)(uintptr_t)host);
            c->target = host;
        } else {
            go_on(c);
        }
        break;
    }
    case EXIT_DIRTY_LINK: {
        struct cache_link *link = &cache_links[c->argument];
        uint64_t possible = set_of(link->possible);
        c->pc = link_target(link);
        c->dirty = dirty_now(c);
        /* of a loop, where nothing is undefined at the moment, its dirty version is meant as well */
        if ((!c->dirty && possible) || count_ones(possible) > 12) {
            go_on(c);
            break;
        }
        c->target = dirty_lookup(c, c->pc, possible, false);
        if (c->target)
            patch_jump((uint8_t *)(uintptr_t)(CACHE_BASE + link->patch),
                       (uint8_t *)(uintptr_t)c->target);
        else
            go_on(c);
        break;
    }
    case EXIT_LOOKUP:
        pc = c->pc = c->guest_target;
        if (c->dirty) {
            go_on_dirty(c);
            break;
        }
        go_on(c);
        if (c->pc == pc && !c->dirty)
            remember(c, pc, c->target);
        break;
    case EXIT_UNSET:
        unset_mark(c, c->argument);
        go_on_dirty(c);
        break;
    case EXIT_CHANGED:
        cache_invalidate(c->pc, c->pc + 1);
        stack_owes(c); /* it may have been taken over */
        go_on(c);
        break;
    case EXIT_UNBOUND: {
        bool bound;
        pc = c->pc;
        c->pc = transfer_slot(c->argument, &bound);
        if (bound)
            cache_invalidate(pc, pc + 1);
        go_on(c);
        break;
    }
    case EXIT_RETURN:
        return_missed(c);
        break;
    case EXIT_NEXT_RETURN:
        if (!returns_learn(c, c->argument)) {
            c->argument = cache_returns[c->argument].extra;
            return_missed(c);
        }
        break;
    case EXIT_KEEP:
        c->target = CACHE_BASE + c->argument;
        keep_across(c);
        break;
    case EXIT_STALE: {
        cache_site(CACHE_BASE + c->argument, &site);
        c->pc = site.pc;
        pc = c->pc;
        uint64_t possible;
        uint32_t owes = 0;
        bool version = dirty_was_version(pc, (uint32_t)c->argument, &possible, &owes);
        /* also where nothing is undefined now: the clean version may lead here */
        c->target = version ? find_version(c, pc, possible, owes, false) : 0;
        c->dirty = version ? DIRTY_ALL : 0; /* for a signal that waits */
        if (!c->target)
            go_on(c);
        if (c->pc == pc)
            forward((uint32_t)c->argument, (uint32_t)(c->target - CACHE_BASE));
        break;
    }
    case EXIT_LANDED:
        c->pc = c->shadow->return_address;
        across_return(c);
        go_on(c);
        break;
    case EXIT_SYSCALL:
        __atomic_store_n(&c->in_syscall, true, __ATOMIC_SEQ_CST);
        syscall_run(c);
        leave_system_call(c);
        go_on(c);
        break;
    case EXIT_EMULATE:
        emulate(c, c->pc);
        go_on(c);
        break;
    case EXIT_CHECK:
        checked(c, &cache_checks[c->argument]);
        break;
    case EXIT_SLOW:
        c->target = CACHE_BASE + c->argument;
        check_instruction(c, c->pc, false);
        break;
    case EXIT_UNDEFINED:
        c->target = CACHE_BASE + c->argument;
        followed(c, &cache_plans[(uint32_t)c->guest_target]);
        break;
    case EXIT_RELEASE:
        release_stack(c);
        break;
    case EXIT_POLL: /* on the way back the signal is seen to */
        c->target = CACHE_BASE + c->argument;
        break;
    case EXIT_STRING:
        c->target = CACHE_BASE + c->argument;
        check_string(c, (uint32_t)c->guest_target);
        break;
    default:
        fail("left the code cache for an unknown reason (%u)", c->reason);
    }
}

void dispatch(struct context *c) {
    dispatch_exit(c);
    if (is_nearly_full() && !c->midway && flush(c))
        go_on(c);
}

/* A replaced function was called: no flag is live. */
void dispatch_call(struct context *c) {
    c->target = 0;
    c->midway = false;
    replaced_run(c, replaced_row(c->argument & 0xffff));
    if (!c->target)
        go_on(c);
}

/* A quick call is done, but its return was not predicted, or a signal waits. */
void dispatch_quick_left(struct context *c) {
    c->midway = false;
    replaced_leave(c);
    if (!c->target)
        go_on(c);
}

void dispatch_call_fault(struct context *c) {
    replaced_fault(c, replaced_row(c->argument & 0xffff));
    go_on(c);
}

bool dispatch_pending(struct context *c) {
    gaddr pc = c->pc;
    if (c->midway && c->target) {
        signals_roll(c);
        return true;
    }
    signals_deliver(c);
    if (cache_is_flushing()) {
        cache_rest(c);
        c->target = 0;
    }
    if (c->pc != pc || !c->target)
        go_on(c);
    return false;
}

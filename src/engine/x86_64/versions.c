/* Dirty versions as a whole: what is undefined at this moment, which loads met
   undefined bytes, and which versions of the code at an address there are. */
#include "plan.h"
#include "translate.h"

static uint64_t bit(int element) { return 1ULL << element; }

/* --- the state at run time --- */

static bool any_word(const uint64_t *words, int count) {
    uint64_t all = 0;
    for (int k = 0; k < count; k++)
        all |= words[k];
    return all != 0;
}

enum { VECTOR_WORDS = 8, HALF_VECTOR = 4 };

static bool shared_undefined(struct context *c, int element) {
    bool found = false;
    switch (element) {
    case ELEMENT_MASKS:
        return any_word(dirty_masks(c), 8);
    case ELEMENT_MORE:
        return any_word(dirty_vector(c, 16), 16 * VECTOR_WORDS);
    default:
        for (int v = 0; v < 16; v++)
            found |= any_word(dirty_vector(c, v) + HALF_VECTOR, HALF_VECTOR);
        return found;
    }
}

static void clear_tops(struct context *c, int first) {
    for (int v = first; v < 16; v++)
        fill_bytes(dirty_vector(c, v) + HALF_VECTOR, 0, 32);
}

static void shared_clear(struct context *c, uint64_t elements) {
    if (elements & bit(ELEMENT_MASKS))
        fill_bytes(dirty_masks(c), 0, 64);
    if (elements & bit(ELEMENT_MORE))
        fill_bytes(dirty_vector(c, 16), 0, 16 * 64);
    if (elements & bit(ELEMENT_TOPS))
        clear_tops(c, 0);
}

/* Of these shared elements those that the code behind a call reads. What is known of a place is one
   word: threads may come by at the same time. */
static uint64_t read_behind(gaddr pc, uint64_t elements) {
    enum { KNOWN = 256, SET = 48, READ = 52 }; /* bits of the word; the place stands below */
    static uint64_t known[KNOWN];
    uint64_t *at = &known[(pc * 0x9e3779b97f4a7c15ULL) >> 56];
    uint64_t key = pc | elements >> ELEMENT_MASKS << SET, word = __atomic_load_n(at, __ATOMIC_RELAXED);
    if ((word & ((1ULL << READ) - 1)) != key) {
        word = key | across_read_while_running(pc, elements) >> ELEMENT_MASKS << READ;
        __atomic_store_n(at, word, __ATOMIC_RELAXED);
    }
    return word >> READ << ELEMENT_MASKS;
}

/* The function that is returned to may leave to its own callers what it does not touch. */
void dirty_returned(struct context *c, gaddr to) {
    enum { LEVELS = 16 };
    uint64_t elements = c->dirty & ELEMENTS_SHARED;
    if (elements)
        elements &= ~read_behind(to, elements);
    const struct shadow_entry *e = c->shadow;
    for (int n = 0; elements && n < LEVELS && e-- > c->shadow_base; n++)
        if (e->stack_pointer > c->registers[RSP])
            elements &= ~read_behind(e->return_address, elements);
    shared_clear(c, elements & ~bit(ELEMENT_TOPS));
    if (elements & bit(ELEMENT_TOPS))
        clear_tops(c, 2);
}

uint64_t dirty_now(struct context *c) {
    uint64_t set = 0;
    const uint64_t *u = dirty_words(c);
    for (uint64_t left = c->dirty; left; left &= left - 1) {
        int e = __builtin_ctzll(left);
        if (bit(e) & ELEMENTS_SHARED) {
            if (shared_undefined(c, e))
                set |= bit(e);
        } else if (e < ELEMENT_VECTOR) {
            if (e == ELEMENT_FLAGS ? (uint32_t)u[e] != 0 : u[e] || (e == ELEMENT_X87 && u[e + 1]))
                set |= bit(e);
        } else {
            int half = e >= ELEMENT_UPPER ? 2 : 0;
            const uint64_t *v = dirty_vector(c, (e - ELEMENT_VECTOR) & 15) + half;
            if (v[0] | v[1])
                set |= bit(e);
        }
    }
    return set;
}

void dirty_clear(struct context *c, uint64_t elements) {
    uint64_t *u = dirty_words(c);
    if (elements & c->dirty & ELEMENTS_SHARED)
        shared_clear(c, elements & c->dirty);
    for (uint64_t left = elements & c->dirty & ~ELEMENTS_SHARED; left; left &= left - 1) {
        int e = __builtin_ctzll(left);
        if (e == ELEMENT_X87)
            u[e] = u[e + 1] = 0;
        else if (e < ELEMENT_VECTOR)
            u[e] = 0;
        else
            fill_bytes(dirty_vector(c, (e - ELEMENT_VECTOR) & 15) + (e >= ELEMENT_UPPER ? 2 : 0), 0,
                       16);
    }
    c->dirty &= ~elements;
}

_Static_assert(CTX_UNDEFINED_FLAGS == CTX_UNDEFINED + 8 * ELEMENT_FLAGS, "element order");
_Static_assert(CTX_UNDEFINED_X87 == CTX_UNDEFINED + 8 * ELEMENT_X87, "element order");

uint32_t dirty_byte_origin(struct context *c, int element, int byte) {
    return origin_of_byte(dirty_origins(c, element)[byte / 4], (uint64_t)byte);
}

uint32_t dirty_origin(struct context *c, int element) {
    bool general = element < ELEMENT_FLAGS;
    if (!general && (element < ELEMENT_VECTOR || element >= ELEMENT_UPPER))
        return dirty_byte_origin(c, element, 0);
    const uint8_t *bits = general
                              ? (const uint8_t *)&dirty_words(c)[element]
                              : (const uint8_t *)dirty_vector(c, (element - ELEMENT_VECTOR) & 15);
    int byte = 0, last = general ? 7 : 31;
    while (byte < last && !bits[byte])
        byte++;
    return dirty_byte_origin(c, element, bits[byte] ? byte : 0);
}

#define SITES (1u << 16)
static gaddr sites[SITES];
static uint32_t site_count;

static uint32_t site_slot(gaddr pc) {
    uint32_t at = (uint32_t)((pc * 0x9e3779b97f4a7c15ULL) >> 48);
    while (sites[at] && sites[at] != pc)
        at = (at + 1) % SITES;
    return at;
}

bool dirty_site(gaddr pc) { return site_count > SITES * 3 / 4 || sites[site_slot(pc)] == pc; }

bool dirty_site_add(gaddr pc) {
    if (dirty_site(pc))
        return false;
    sites[site_slot(pc)] = pc;
    site_count++;
    return true;
}

/* --- versions --- */

static uint32_t buckets[CACHE_VERSION_BUCKETS];

static uint32_t *bucket_of(gaddr pc) {
    return &buckets[(pc * 0x9e3779b97f4a7c15ULL) >> 48 & (CACHE_VERSION_BUCKETS - 1)];
}

/* The caller holds the cache's lock. */
uint64_t dirty_find(gaddr pc, uint64_t *elements, uint32_t owes) {
    uint64_t all = *elements, best = 0;
    int count = 0;
    bool site = dirty_site(pc);
    for (uint32_t i = *bucket_of(pc); i; i = cache_versions[i].next) {
        const struct cache_version *v = &cache_versions[i];
        if (v->pc != pc || v->owes != owes || v->dropped || (site && !v->follows))
            continue;
        if (v->possible == *elements)
            return CACHE_BASE + v->host;
        count++;
        all |= v->possible;
        if ((v->possible & *elements) == *elements)
            best = CACHE_BASE + v->host;
    }
    if (best && count >= 3)
        return best;
    if (count >= 6)
        *elements = all; /* enough special cases */
    return 0;
}

void dirty_enter(gaddr pc, uint64_t elements, uint32_t owes, uint64_t host) {
    uint32_t *bucket = bucket_of(pc);
    if (cache.version_count >= CACHE_VERSIONS)
        fail("the translation cache is full");
    uint32_t i = cache.version_count++;
    cache_versions[i] =
        (struct cache_version){pc, owes, elements, (uint32_t)(host - CACHE_BASE),
                               *bucket & 0x3fffffff, dirty_site(pc), 0};
    *bucket = i;
}

void dirty_begin_anew(void) { fill_bytes(buckets, 0, sizeof buckets); }

void dirty_forget(gaddr pc, uint32_t host) {
    for (uint32_t i = *bucket_of(pc); i; i = cache_versions[i].next)
        if (cache_versions[i].pc == pc && cache_versions[i].host == host)
            cache_versions[i].dropped = 1;
}

bool dirty_was_version(gaddr pc, uint32_t host, uint64_t *possible, uint32_t *owes) {
    for (uint32_t i = *bucket_of(pc); i; i = cache_versions[i].next)
        if (cache_versions[i].pc == pc && cache_versions[i].host == host) {
            *possible = cache_versions[i].possible;
            *owes = cache_versions[i].owes;
            return true;
        }
    return false;
}

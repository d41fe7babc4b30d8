/* A local variable that nobody set, and that optimized code keeps in a register. When a function
   is entered RAX holds nothing (psABI 3.2.3; but where it counts the vectors of a variadic call),
   and what it pushes to keep for its caller holds nothing of its own behind the push. Where its
   code reads such a register before it sets it, it leaves by C there, which marks the register as
   undefined. The host drops what comes of it where debug information does not say that a
   compiler of C made the function. */
#include "../engine.h"
#include "cache.h"
#include "plan.h"
#include "translate.h"

enum { PLACES = 4096, MOST = 2000 /* times that a register is marked at one place */ };

static struct place {
    gaddr from, entry, where;
    uint64_t set;
    uint32_t count;
} places[PLACES]; /* by `from`, open addressing; 0 is not used */
static uint32_t place_count;

static struct place *place_at(gaddr from) {
    uint32_t at = (uint32_t)((from * 0x9e3779b97f4a7c15ULL) >> 52);
    while (!at || (places[at].from && places[at].from != from))
        at = (at + 1) % PLACES;
    return &places[at];
}

static void look_at_function(gaddr entry) {
    struct unset u;
    across_unset(entry, &u);
    for (uint64_t left = u.set; left && place_count < PLACES / 2; left &= left - 1) {
        int r = __builtin_ctzll(left);
        struct place *p = place_at(u.from[r]);
        if (p->from)
            continue;
        *p = (struct place){.from = u.from[r], .entry = entry, .where = u.where[r], .set = 1ULL << r};
        place_count++;
    }
}

bool unset_splits(gaddr pc) {
    return symbols_is_entry(pc) || (place_count && place_at(pc)->from == pc);
}

uint32_t unset_at(gaddr pc, bool called, uint64_t *set) {
    if (called && symbols_is_entry(pc))
        look_at_function(pc);
    struct place *p = place_count ? place_at(pc) : NULL;
    if (!p || p->from != pc || p->count >= MOST)
        return 0;
    *set = p->set;
    return (uint32_t)(p - places);
}

void unset_mark(struct context *c, uint32_t number) {
    struct place *p = &places[number];
    static const uint8_t dwarf_number[16] = {0, 2, 1, 3, 7, 6, 4, 5, 8, 9, 10, 11, 12, 13, 14, 15};
    c->dirty = dirty_now(c);
    bool again = !(p->set & ~c->dirty); /* its versions do not know that it was done */
    for (uint64_t left = p->set; left; left &= left - 1) {
        int e = __builtin_ctzll(left);
        uint32_t origin = origin_unset(c, p->where, p->entry, dwarf_number[e]);
        dirty_words(c)[e] = ~0ULL;
        dirty_origins(c, e)[0] = dirty_origins(c, e)[1] = origin;
        c->dirty |= 1ULL << e;
    }
    if (again)
        __atomic_store_n(&p->count, MOST, __ATOMIC_RELAXED);
    if (__atomic_add_fetch(&p->count, 1, __ATOMIC_RELAXED) >= MOST)
        cache_invalidate(p->from, p->from + 1);
}

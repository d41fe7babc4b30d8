/* Local variables that nobody set, where optimized code leaves something in their place. Those in
   registers: when a function
   is entered RAX holds nothing (psABI 3.2.3; but where it counts the vectors of a variadic call),
   and what it pushes to keep for its caller holds nothing of its own behind the push. Where its
   code reads such a register before it sets it, it leaves by C there, which marks the register as
   undefined. The host drops what comes of it where debug information does not say that a
   compiler of C made the function.
   Those in the frame, in a place that others of the function had before: the host says where their
   scopes begin (shared_slots.c), and there the code leaves by C as well. */
#include "../engine.h"
#include "cache.h"
#include "plan.h"
#include "translate.h"

enum {
    PLACES = 4096,
    MOST = 2000, /* times that a register is marked at one place */
    TOLD = 64,   /* and that it is noted by which calls */
    ROOMS = 8192,
    LARGE = 8192 /* bytes of a room that count as one time more */
};

static struct place {
    gaddr from, entry, where[UNSET_REGISTERS];
    uint64_t set;
    uint32_t rooms; /* among all, 0: none */
    uint32_t count, origin[UNSET_REGISTERS]; /* with the calls it was entered by last, at first */
} places[PLACES]; /* by `from`, open addressing; 0 is not used */
static uint32_t place_count;

static struct place *place_at(gaddr from) {
    uint32_t at = (uint32_t)((from * 0x9e3779b97f4a7c15ULL) >> 52);
    while (!at || (places[at].from && places[at].from != from))
        at = (at + 1) % PLACES;
    return &places[at];
}

static struct room {
    int64_t offset; /* from the canonical frame address, */
    bool by_pointer; /* or from the frame pointer */
    uint64_t size;
    uint32_t next;
} rooms[ROOMS];
static uint32_t room_count = 1;

/* Functions that were looked at. */
enum { LOOKED = 1 << 13 };
static gaddr looked[LOOKED];

static bool is_new(gaddr entry) {
    gaddr *l = &looked[(entry * 0x9e3779b97f4a7c15ULL) >> 51];
    bool new = *l != entry;
    *l = entry;
    return new;
}

static struct place *place_of(gaddr entry, gaddr from) {
    struct place *p = place_at(from);
    if (place_count == PLACES / 2 || (p->from && p->entry != entry))
        return NULL;
    place_count += !p->from;
    if (!p->from)
        *p = (struct place){.from = from, .entry = entry};
    return p;
}

static void note(gaddr entry, gaddr from, gaddr where, int element) {
    struct place *p = place_of(entry, from);
    if (!p)
        return;
    p->set |= 1ULL << element;
    p->where[unset_index(element)] = where;
}

static void note_room(gaddr entry, uint64_t answer) {
    const uint64_t mask = (1u << QUESTION_ROOM_BITS) - 1;
    struct place *p = place_of(entry, entry + (answer >> 2 * QUESTION_ROOM_BITS & mask));
    int64_t offset = -(int64_t)(answer >> QUESTION_ROOM_BITS & mask);
    if (!p || room_count == ROOMS)
        return;
    for (uint32_t k = p->rooms; k; k = rooms[k].next)
        if (rooms[k].offset == offset)
            return;
    rooms[room_count] = (struct room){.offset = offset,
                                      .size = answer & mask,
                                      .by_pointer = answer & QUESTION_BY_POINTER,
                                      .next = p->rooms};
    p->rooms = room_count++;
}

/* Registers for arguments (psABI 3.2.3). */
static const uint64_t integers = 1u << RDI | 1u << RSI | 1u << RDX | 1u << RCX | 3u << 8;
static const uint64_t vectors = 0xffULL << ELEMENT_VECTOR;
static const uint64_t unused = 1u << RAX | 1u << 11; /* never for arguments */

/* The registers that the host says the function takes arguments in. */
static uint64_t taken(uint64_t answer) {
    uint64_t set = 0;
    for (int k = 0; k < 16; k++)
        set |= answer >> k & 1 ? 1ULL << k : 0;
    return set | (answer >> QUESTION_VECTORS & 0xff) << ELEMENT_VECTOR;
}

uint64_t unset_may_take(gaddr function) {
    uint64_t answer = symbols_is_entry(function) ? process_ask(function, 0) : 0;
    return answer & QUESTION_KNOWN ? taken(answer) : ~0ULL;
}

/* Which of them the function takes, and whether it returns something in RAX, is for the host to
   say, from debug information. A function of another convention reads none of those that it
   ought to get. */
static void look_at_function(gaddr entry) {
    struct unset u;
    across_unset(entry, unused | integers | vectors, &u);
    uint64_t answer = 0;
    if ((u.set & (integers | vectors)) || (u.returns && !(u.set & 1ULL << RAX)))
        answer = process_ask(entry, 0);
    uint64_t takes = taken(answer), ought = takes & integers;
    if (!(answer & QUESTION_KNOWN) || (ought && !(u.set & ought)))
        u.set &= ~(integers | vectors);
    else
        u.set &= ~takes;
    for (uint64_t left = u.set; left; left &= left - 1) {
        int e = __builtin_ctzll(left), k = unset_index(e);
        note(entry, u.from[k], u.where[k], e);
    }
    if (u.returns && answer & QUESTION_RETURNS && !(u.set & 1ULL << RAX))
        note(entry, entry, u.returns, RAX);
    uint32_t number = 0;
    do {
        answer = process_ask(entry, ++number);
        if (answer)
            note_room(entry, answer);
    } while (answer && number < QUESTION_ROOMS);
}

bool unset_splits(gaddr pc) {
    if (symbols_is_entry(pc))
        return true;
    const struct place *p = place_count ? place_at(pc) : NULL;
    return p && p->from == pc && p->count < MOST;
}

uint32_t unset_at(gaddr pc, bool called) {
    if (called && symbols_is_entry(pc) && is_new(pc))
        look_at_function(pc);
    struct place *p = place_count ? place_at(pc) : NULL;
    if (!p || p->from != pc || p->count >= MOST)
        return 0;
    return (uint32_t)(p - places);
}

/* The registers' numbers of DWARF (psABI 3.6.2). */
static unsigned dwarf_number(int element) {
    static const uint8_t general[16] = {0, 2, 1, 3, 7, 6, 4, 5, 8, 9, 10, 11, 12, 13, 14, 15};
    enum { FIRST_VECTOR = 17 };
    return element < ELEMENT_FLAGS ? general[element]
                                   : FIRST_VECTOR + (unsigned)(element - ELEMENT_VECTOR);
}

/* In the frame of the function that runs. */
static void mark_rooms(struct context *c, struct place *p) {
    const struct shadow_entry *top = c->shadow - 1;
    if (c->shadow == c->shadow_base || top->stack_pointer < c->registers[RSP] ||
        *(gaddr *)guest(top->stack_pointer) != top->return_address)
        return;
    for (uint32_t k = p->rooms; k; k = rooms[k].next) {
        gaddr base = rooms[k].by_pointer ? c->registers[RBP] : top->stack_pointer + 8;
        gaddr start = base + (uint64_t)rooms[k].offset;
        if (start < c->registers[RSP] - RED_ZONE || start + rooms[k].size > top->stack_pointer)
            continue;
        shadow_fill(start, rooms[k].size, 0xff);
        origin_clear(start, rooms[k].size);
        __atomic_add_fetch(&p->count, (uint32_t)(rooms[k].size / LARGE), __ATOMIC_RELAXED);
    }
}

void unset_mark(struct context *c, uint32_t number) {
    struct place *p = &places[number];
    c->unset = number;
    c->dirty = dirty_now(c);
    for (uint64_t left = p->set; left; left &= left - 1) {
        int e = __builtin_ctzll(left), words = e < ELEMENT_FLAGS ? 1 : 2;
        uint32_t *origin = &p->origin[unset_index(e)];
        if (p->count < TOLD)
            *origin = origin_unset(c, p->where[unset_index(e)], p->entry, dwarf_number(e));
        uint64_t *bits = e < ELEMENT_FLAGS ? &dirty_words(c)[e] : dirty_vector(c, e - ELEMENT_VECTOR);
        for (int k = 0; k < words; k++)
            bits[k] = ~0ULL;
        for (int k = 0; k < 2 * words; k++)
            dirty_origins(c, e)[k] = *origin;
        c->dirty |= 1ULL << e;
    }
    mark_rooms(c, p);
    if (__atomic_add_fetch(&p->count, 1, __ATOMIC_RELAXED) >= MOST)
        cache_invalidate(p->from, p->from + 1);
}

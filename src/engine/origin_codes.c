/* What codes of origins stand for: blocks by allocation stack and size, bytes of one word,
   and records of the ledger. Tables that only grow; the numbers are in context.h. */
#include "engine.h"

/* Blocks of the heap as origins: by allocation stack and size, 0: none. */
#define KINDS (1u << 22)
#define KIND_BUCKETS (1u << 16)
static struct kinds {
    uint32_t buckets[KIND_BUCKETS], last;
    struct kind {
        uint32_t stack, next;
        uint64_t size;
    } all[KINDS];
} *kinds;

/* Bytes of one word from different places. With ORIGIN_OWN, a byte that is from where it
   stands, the code of the word holds there only. */
#define BY_BYTE (1u << 20)
static struct by_byte {
    uint32_t buckets[1u << 16], last;
    struct four {
        uint32_t of[4], next;
    } all[BY_BYTE];
} *by_byte;
_Static_assert(sizeof(struct four) == ORIGIN_FOUR, "as glue.S counts");
const struct four *origin_fours;

void origin_codes_start(void) {
    kinds = engine_alloc(sizeof *kinds);
    by_byte = engine_alloc(sizeof *by_byte);
    origin_fours = by_byte->all;
}

/* --- bytes of one word --- */

static const struct four *four_of(uint32_t origin) {
    bool own = origin && origin < ORIGIN_LEAST;
    uint32_t index = own ? origin : origin - ORIGIN_BYTE_CODES;
    return own || (origin >= ORIGIN_BYTE_CODES && origin < ORIGIN_STACK_CODES)
               ? &by_byte->all[index < BY_BYTE ? index : 0]
               : NULL;
}

bool origin_is_by_byte(uint32_t origin) { return four_of(origin); }

uint32_t origin_part(uint32_t origin, uint64_t place) {
    const struct four *four = four_of(origin);
    return four ? four->of[place & 3] : origin;
}

bool origin_is_own(uint32_t origin, uint64_t place) {
    return origin_is_by_byte(origin) && origin_part(origin, place) == ORIGIN_OWN;
}

uint32_t origin_of_four(const uint32_t *of) {
    uint32_t first = 0;
    bool same = true;
    for (int k = 0; k < 4; k++) {
        if (!first)
            first = of[k];
        same &= !of[k] || of[k] == first;
    }
    if (same)
        return first == ORIGIN_OWN ? 0 : first;
    uint64_t h = 0;
    uint32_t codes = ORIGIN_BYTE_CODES;
    for (int k = 0; k < 4; k++) {
        h = (h ^ of[k]) * 0x9e3779b97f4a7c15ULL;
        if (of[k] == ORIGIN_OWN)
            codes = 0; /* these are below ORIGIN_LEAST */
    }
    uint32_t *bucket = &by_byte->buckets[h >> 48];
    uint32_t head = __atomic_load_n(bucket, __ATOMIC_ACQUIRE);
    for (uint32_t i = head; i; i = by_byte->all[i].next)
        if (same_bytes(by_byte->all[i].of, of, sizeof by_byte->all[i].of))
            return codes + i;
    uint32_t i = __atomic_add_fetch(&by_byte->last, 1, __ATOMIC_RELAXED);
    if (i >= BY_BYTE) {
        by_byte->last = BY_BYTE - 1;
        return first == ORIGIN_OWN ? 0 : first;
    }
    copy_bytes(by_byte->all[i].of, of, sizeof by_byte->all[i].of);
    do
        by_byte->all[i].next = head;
    while (!__atomic_compare_exchange_n(bucket, &head, i, false, __ATOMIC_RELEASE,
                                        __ATOMIC_ACQUIRE));
    return codes + i;
}

uint32_t origin_of_byte(uint32_t origin, uint64_t place) {
    const struct four *four = four_of(origin);
    if (!four)
        return origin;
    if (four->of[place & 3] && four->of[place & 3] != ORIGIN_OWN)
        return four->of[place & 3];
    for (int k = 0; k < 4; k++)
        if (four->of[k] && four->of[k] != ORIGIN_OWN)
            return four->of[k];
    return 0;
}

/* --- blocks --- */

/* When there are too many, the first of their stack stands for the others of its bucket. */
static uint32_t kind_of(uint32_t stack, uint64_t size) {
    uint64_t h = (stack ^ size << 24) * 0x9e3779b97f4a7c15ULL;
    uint32_t *bucket = &kinds->buckets[h >> 48];
    uint32_t head = __atomic_load_n(bucket, __ATOMIC_ACQUIRE);
    for (uint32_t i = head; i; i = kinds->all[i].next)
        if (kinds->all[i].stack == stack && kinds->all[i].size == size)
            return ORIGIN_KIND_CODES + i;
    uint32_t i = __atomic_add_fetch(&kinds->last, 1, __ATOMIC_RELAXED);
    if (i >= KINDS) {
        kinds->last = KINDS;
        return head ? ORIGIN_KIND_CODES + head : 0;
    }
    struct kind *k = &kinds->all[i];
    k->stack = stack;
    k->size = size;
    do
        k->next = head;
    while (!__atomic_compare_exchange_n(bucket, &head, i, false, __ATOMIC_RELEASE,
                                        __ATOMIC_ACQUIRE));
    return ORIGIN_KIND_CODES + i;
}

uint32_t origin_of_block(gaddr address) {
    struct block_view view;
    if (!heap_near(address) || !heap_find(address, &view) || !view.start || !view.block->allocated)
        return 0;
    return kind_of(view.block->allocated, view.size);
}

/* --- records --- */

static uint32_t intern(const struct ledger_origin *wanted) {
    uint64_t h = (wanted->stack ^ (uint64_t)wanted->offset << 24) * 0x9e3779b97f4a7c15ULL;
    uint32_t *bucket = &ledger->origin_buckets[h >> 52];
    uint32_t head = __atomic_load_n(bucket, __ATOMIC_ACQUIRE);
    for (uint32_t i = head; i; i = ledger->origins[i].next) {
        const struct ledger_origin *o = &ledger->origins[i];
        if (o->kind == wanted->kind && o->stack == wanted->stack &&
            o->behind_call == wanted->behind_call &&
            ((o->offset == wanted->offset && o->frame == wanted->frame) || o->kind == ORIGIN_HEAP))
            return i;
    }
    uint32_t i = __atomic_add_fetch(&ledger->next_origin, 1, __ATOMIC_RELAXED);
    if (i >= LEDGER_ORIGINS) {
        ledger->next_origin = LEDGER_ORIGINS;
        return 0;
    }
    struct ledger_origin *o = &ledger->origins[i];
    *o = *wanted;
    do
        o->next = head;
    while (!__atomic_compare_exchange_n(bucket, &head, i, false, __ATOMIC_RELEASE,
                                        __ATOMIC_ACQUIRE));
    __atomic_store_n(&o->ready, 1, __ATOMIC_RELEASE);
    return i;
}

/* Where the frame pointer stands from the frame's address. A function that aligns its frame to
   more than the stack is aligned to, and cannot go by the stack pointer, puts the return address
   once more above it, so that debuggers find both. */
static int64_t frame_pointer(gaddr cfa, gaddr return_address, gaddr lowest) {
    for (uint64_t alignment = 32; alignment <= 4096; alignment *= 2) {
        gaddr frame = ((cfa - 8) & -alignment) - 16;
        if (frame != cfa - 16 && frame >= lowest && *(gaddr *)guest(frame + 8) == return_address)
            return (int64_t)(frame - cfa);
    }
    return -16;
}

/* The return slot of a handler between two addresses, 0: there is none. No call was noted there. */
static gaddr handler_between(const struct context *c, gaddr low, gaddr high, bool highest) {
    gaddr slot = 0;
    for (uint32_t k = 0; k < c->handled_count; k++) {
        gaddr at = c->handled[k];
        if (at >= low && at < high && (!slot || (at > slot) == highest))
            slot = at;
    }
    return slot;
}

uint32_t origin_frame(struct context *c, gaddr address) {
    gaddr inner = c->registers[RSP], leaf = c->pc;
    for (struct shadow_entry *e = c->shadow; e-- > c->shadow_base;) {
        if (e->stack_pointer < inner || *(gaddr *)guest(e->stack_pointer) != e->return_address)
            continue;
        if (e->stack_pointer > address) {
            struct shadow_entry *top = c->shadow;
            gaddr sp = c->registers[RSP], low = address < sp ? sp : address + 1;
            gaddr handler = handler_between(c, low, e->stack_pointer, false);
            gaddr cfa = (handler ? handler : e->stack_pointer) + 8;
            gaddr below = handler ? 0 : handler_between(c, inner, address, true);
            gaddr interrupted = below ? signals_interrupted(below) : 0;
            gaddr back = handler ? *(gaddr *)guest(handler) : e->return_address;
            c->shadow = e + 1;
            c->registers[RSP] = e->stack_pointer;
            uint32_t node = stack_capture(c, interrupted ? interrupted : leaf);
            c->shadow = top;
            c->registers[RSP] = sp;
            struct ledger_origin o = {.kind = ORIGIN_STACK,
                                      .stack = node,
                                      .offset = (int64_t)(address - cfa),
                                      .pointer = (int64_t)(inner - cfa),
                                      .frame = frame_pointer(cfa, back, inner),
                                      .behind_call = leaf != c->pc && !interrupted};
            return intern(&o);
        }
        inner = e->stack_pointer + 8;
        leaf = e->return_address;
    }
    return 0;
}

/* Where the call before the return address goes, 0: not known beforehand. */
static gaddr call_target(gaddr return_address) {
    const uint8_t *code = guest(return_address - 5);
    int32_t distance;
    if (code[0] != 0xe8)
        return 0;
    copy_bytes(&distance, code + 1, sizeof distance);
    gaddr target = return_address + (uint64_t)(int64_t)distance;
    code = guest(target);
    if (code[0] == 0xf3 && code[3] == 0xfa) /* endbr64 */
        code += 4;
    return code[0] == 0xff || code[0] == 0xf2 ? 0 : target; /* a linkage table's jump */
}

/* Above its top the shadow call stack still has the calls that returned last, up to an
   entry without a stack pointer: whoever is entered clears that of the entry behind. */
uint32_t origin_released(struct context *c, gaddr address) {
    enum { DEEPEST = 64 };
    struct shadow_entry *e = c->shadow;
    gaddr above = c->registers[RSP];
    uint32_t node = stack_capture(c, NO_LEAF);
    for (int depth = 0; depth < DEEPEST && e + 1 < c->shadow_end; depth++, e++) {
        if (!e->stack_pointer || e->stack_pointer >= above || e->stack_pointer < address)
            return 0;
        node = stack_intern(node, e->return_address);
        gaddr cfa = e->stack_pointer + 8;
        const struct shadow_entry *next = e + 1;
        bool called = next->stack_pointer && next->stack_pointer < e->stack_pointer;
        if (called && next->stack_pointer >= address) {
            above = e->stack_pointer;
            continue;
        }
        gaddr leaf = called ? next->return_address : call_target(e->return_address);
        if (!leaf)
            return 0;
        struct ledger_origin o = {.kind = ORIGIN_STACK,
                                  .stack = stack_intern(node, leaf),
                                  .offset = (int64_t)(address - cfa),
                                  .pointer = called ? (int64_t)(next->stack_pointer + 8 - cfa)
                                                    : LEDGER_NO_POINTER};
        return intern(&o);
    }
    return 0;
}

uint32_t origin_record(struct context *c, uint32_t origin) {
    origin = origin_of_byte(origin, 0);
    if (origin >= ORIGIN_STACK_CODES)
        return origin_frame(c, STACK_TOP - (origin - ORIGIN_STACK_CODES));
    if (origin >= ORIGIN_RECORD_CODES)
        return origin - ORIGIN_RECORD_CODES < LEDGER_ORIGINS ? origin - ORIGIN_RECORD_CODES : 0;
    if (origin < ORIGIN_KIND_CODES || origin - ORIGIN_KIND_CODES >= KINDS)
        return 0;
    const struct kind *k = &kinds->all[origin - ORIGIN_KIND_CODES];
    struct ledger_origin o = {.kind = ORIGIN_HEAP, .stack = k->stack, .block_size = k->size};
    return intern(&o);
}

uint32_t origin_unset(struct context *c, gaddr where, gaddr entry, unsigned number) {
    struct ledger_origin o = {.kind = ORIGIN_REGISTER,
                              .stack = stack_capture(c, where),
                              .offset = (int64_t)entry,
                              .frame = (int64_t)number};
    uint32_t record = intern(&o);
    return record ? ORIGIN_RECORD_CODES + record : 0;
}

uint32_t origin_elsewhere(struct context *c) {
    struct ledger_origin other = {.kind = ORIGIN_OTHER, .stack = stack_capture(c, c->pc)};
    uint32_t record = intern(&other);
    return record ? ORIGIN_RECORD_CODES + record : 0;
}

uint32_t origin_numbered(uint8_t number) {
    struct ledger_origin numbered = {.kind = ORIGIN_OTHER, .offset = number};
    uint32_t record = intern(&numbered);
    return record ? ORIGIN_RECORD_CODES + record : 0;
}

uint8_t origin_number(struct context *c, uint32_t origin) {
    const struct ledger_origin *o = &ledger->origins[origin_record(c, origin)];
    return o->kind == ORIGIN_OTHER ? (uint8_t)o->offset : 0;
}

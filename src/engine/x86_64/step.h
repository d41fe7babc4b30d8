/* What the shadow rules work on: one instruction about to run, with the values
   and undefined bits of its operands. Notation as in rules.h: a, b values; s, t
   their undefined bits. */
#ifndef TONDO_STEP_H
#define TONDO_STEP_H

#include "plan.h"

struct step {
    struct context *c;
    const struct plan *p;
    uint8_t value[PLAN_OPERANDS][64], bits[PLAN_OPERANDS][64];
    gaddr address[2];
    uint8_t out[PLAN_OPERANDS][64]; /* of outputs */
    uint32_t flags;                 /* their undefined bits afterwards */
    uint32_t origin;
    uint32_t parts[PARTS]; /* of the first output, when `noted` of them differ from it */
    int noted;
    bool is_mixed;  /* of each byte of the first outputs where it is from, 0: it is defined */
#define MIXED 3
    uint32_t mixed[MIXED][64];
    int writing;    /* the output that is written */
    uint64_t holds; /* a comparison into a mask: in which lanes it may be true */
    bool whole; /* all 8 bytes of a 32-bit output count: it may be left as it was */
};

static inline uint64_t mask_for(int size) { return size >= 8 ? ~0ULL : (1ULL << (8 * size)) - 1; }

static inline uint64_t load(const uint8_t *p, int size) {
    uint64_t w = 0;
    uint32_t four;
    uint16_t two;
    switch (size) {
    case 1: return *p;
    case 2: __builtin_memcpy(&two, p, 2); return two;
    case 4: __builtin_memcpy(&four, p, 4); return four;
    default: __builtin_memcpy(&w, p, 8); return w;
    }
}

static inline void store(uint8_t *p, uint64_t w, int size) {
    switch (size) {
    case 1: *p = (uint8_t)w; break;
    case 2: __builtin_memcpy(p, &w, 2); break;
    case 4: __builtin_memcpy(p, &w, 4); break;
    default: __builtin_memcpy(p, &w, 8);
    }
}

static inline bool any(const uint8_t *p, int size) {
    int i = 0;
    uint64_t w;
    for (; i + 8 <= size; i += 8) {
        __builtin_memcpy(&w, p + i, 8);
        if (w)
            return true;
    }
    for (; i < size; i++)
        if (p[i])
            return true;
    return false;
}

/* As copy_bytes and fill_bytes, quicker for a few. */
static inline void copy_few(void *to, const void *from, int size) {
    uint8_t *d = to;
    const uint8_t *s = from;
    int i = 0;
    for (; i + 8 <= size; i += 8)
        __builtin_memcpy(d + i, s + i, 8);
    for (; i < size; i++)
        *(volatile uint8_t *)(d + i) = s[i];
}

static inline uint32_t *undefined_flags(struct context *c) {
    return (uint32_t *)((char *)c + CTX_UNDEFINED_FLAGS);
}
static inline uint8_t *undefined_x87(struct context *c) {
    return (uint8_t *)c + CTX_UNDEFINED_X87;
}

static inline uint32_t derived(uint32_t f) {
    f &= FLAG_CF | FLAG_PF | FLAG_AF | FLAG_ZF | FLAG_SF | FLAG_OF;
    if (f & (FLAG_SF | FLAG_OF))
        f |= FLAG_LESS;
    if (f & (FLAG_LESS | FLAG_ZF))
        f |= FLAG_LESS_EQUAL;
    if (f & (FLAG_CF | FLAG_ZF))
        f |= FLAG_BELOW_EQUAL;
    return f;
}

/* ZF, SF and PF of a result with undefined bits r. */
struct bounds {
    __int128 low, high;
};

static inline struct bounds unsigned_bounds(uint64_t a, uint64_t s, int size) {
    uint64_t m = mask_for(size);
    return (struct bounds){(__int128)(a & ~s & m), (__int128)((a | s) & m)};
}

static inline int64_t extend(uint64_t a, int size) {
    return size == 8   ? (int64_t)a
           : size == 4 ? (int32_t)a
           : size == 2 ? (int16_t)a
                       : (int8_t)a;
}

static inline struct bounds signed_bounds(uint64_t a, uint64_t s, int size) {
    uint64_t top = 1ULL << (8 * size - 1);
    uint64_t low = (a & ~s) | (s & top), high = (a | s) & ~(s & top);
    return (struct bounds){extend(low, size), extend(high, size)};
}

/* --- sums with open bits --- */

static inline uint64_t add_bits(uint64_t a, uint64_t s, uint64_t b, uint64_t t, uint64_t carry,
                         uint64_t carry_bit) {
    uint64_t low = (a & ~s) + (b & ~t) + (carry & ~carry_bit);
    uint64_t high = (a | s) + (b | t) + (carry | carry_bit);
    return s | t | (low ^ high);
}

static inline uint64_t sub_bits(uint64_t a, uint64_t s, uint64_t b, uint64_t t, uint64_t borrow,
                         uint64_t borrow_bit) {
    uint64_t low = (a & ~s) - (b | t) - (borrow | borrow_bit);
    uint64_t high = (a | s) - (b & ~t) - (borrow & ~borrow_bit);
    return s | t | (low ^ high);
}

static inline uint64_t va(struct step *k, int n) { return load(k->value[n], k->p->operands[n].size); }
static inline uint64_t sa(struct step *k, int n) { return load(k->bits[n], k->p->operands[n].size); }

static inline void result(struct step *k, int n, uint64_t bits) {
    store(k->out[n], bits, k->p->operands[n].size);
}

static inline uint64_t smear_up(uint64_t s) { return s ? ~((s & -s) - 1) : 0; }
static inline uint64_t smear_down(uint64_t s) {
    for (int i = 1; i < 64; i <<= 1)
        s |= s >> i;
    return s;
}

/* A signed value of so many bytes, saturated to half of them: between the ends of what it can
   be, nothing above the highest bit in which they differ varies. */
static inline uint64_t packed_bits(uint64_t a, uint64_t s, int size, bool to_signed) {
    int bits = 4 * size;
    struct bounds b = signed_bounds(a, s, size);
    __int128 least = to_signed ? -((__int128)1 << (bits - 1)) : 0;
    __int128 most = least + ((__int128)1 << bits) - 1;
    if (b.low >= least && b.high <= most)
        return s & mask_for(size / 2);
    __int128 low = b.low < least ? least : b.low > most ? most : b.low;
    __int128 high = b.high < least ? least : b.high > most ? most : b.high;
    return smear_down((uint64_t)(low ^ high) & mask_for(size / 2));
}


static inline void fill_lane(uint8_t *out, int at, int lane, bool bad) {
    fill_bytes(out + at, bad ? 0xff : 0, (uint64_t)lane);
}

/* All of each lane, of so many bytes, of which any bit is set. */
static inline uint64_t lanes_with_any(uint64_t w, int lane) {
    if (lane >= 8)
        return w ? ~0ULL : 0;
    uint64_t ones = lane == 1 ? 0x0101010101010101 : lane == 2 ? 0x0001000100010001 : 0x100000001;
    uint64_t tops = ones << (8 * lane - 1), any = (w | ((w & ~tops) + ~tops)) & tops;
    return (any >> (8 * lane - 1)) * mask_for(lane);
}

static inline uint64_t merge_bits(uint64_t a, uint64_t s, uint64_t b, uint64_t t) {
    return s | t | (a ^ b);
}

/* --- rules_general.c, rules_vector.c: from k->value and k->bits to k->out, k->flags --- */
uint32_t sub_flags(uint64_t a, uint64_t s, uint64_t b, uint64_t t, int borrow, int borrow_bit,
                   uint64_t r, int size);
void shift_rule(struct step *k);
void carry_rotate_rule(struct step *k);
void shift_flagless(struct step *k);
void double_shift(struct step *k);
uint64_t low_product(uint64_t a, uint64_t s, uint64_t b, uint64_t t, bool *reaches);
void multiply(struct step *k);
void multiply_wide(struct step *k);
void scan_bits(struct step *k);
void bit_manipulation(struct step *k);
void bit_test(struct step *k);
void compare_exchange(struct step *k);
void compare_exchange_pair(struct step *k);
void add_rule(struct step *k);
void logic_rule(struct step *k);
void lea_rule(struct step *k);
void vector_bitwise(struct step *k);
void vector_lanes(struct step *k);
void vector_any(struct step *k);
void vector_scalar(struct step *k);
void vector_one(struct step *k);
void vector_shift(struct step *k);
void vector_shift_each(struct step *k);
void vector_shuffle(struct step *k);
void vector_permute(struct step *k);
void vector_permute_in(struct step *k);
void vector_pack(struct step *k);
void vector_pairs(struct step *k);
void vector_convert(struct step *k);
void vector_blend(struct step *k);
void vector_test(struct step *k);
void vector_compare(struct step *k);

/* --- parts.c --- */
/* RULE_JOIN: notes where the parts of the target are from, before it changes. */
void parts_join(struct step *k);
/* Of 0 for those that are defined. */
void parts_set(struct context *c, int element, const uint32_t *origins, int count);
/* Whether the undefined parts of the inputs may be from several places. */
bool parts_differ(struct step *k);
/* The same for a shift or rotate of a register. */
void parts_shift(struct step *k, int by);
/* Of a byte of an operand where it is from, to be kept; 0: it is defined, or that is not told. */
uint32_t origin_of_operand(struct step *k, int operand, int at);

/* --- byte_maps.c --- */
enum { MAP_BYTES = 32, MAP_SECOND = MAP_BYTES, MAP_NONE = 2 * MAP_BYTES };
struct byte_map {
    uint8_t from[MAP_BYTES]; /* bytes of the first source, from MAP_SECOND on of the second */
    int sources, next;       /* next: of which neighbour's bits a byte is made as well; 0: none */
    bool numbered;           /* the last operand is a number */
};
/* False: it is none of these. */
bool byte_map_of(const struct instruction *i, struct byte_map *m);

/* --- mixtures.c --- */
/* Before outputs are written: for rules of which `apply` may be asked several times. */
void mixtures_note(struct step *k, void (*apply)(struct step *k));
/* Of an output that has been written to the element. */
void mixtures_set(struct step *k, int n, int element);
/* The same for less than 4 bytes of a general register, whose origins were these. */
void mixtures_set_part(struct step *k, int n, uint32_t before);

/* --- masks.c --- */
void lanes_to_mask(struct step *k);
void vector_relate(struct step *k);
void vector_common(struct step *k);
void vector_signs(struct step *k);
void vector_resize(struct step *k);
void vector_extend(struct step *k);
void vector_ternary(struct step *k);
void vector_choose(struct step *k);
void vector_permute_two(struct step *k);
void vector_compress(struct step *k);
void mask_unpack(struct step *k);
void mask_or_test(struct step *k);
/* Leaves of out[0] what the mask lets through; `old`: the target's bits before. */
void mask_output(struct step *k, const uint8_t *old);

/* --- mmx.c: inputs and outputs, and the rule; false: there is none, `any_length`: it is that
   of other vectors --- */
void mmx_take(struct step *k, int n);
void mmx_put(struct step *k, int n);
bool mmx_rule(struct step *k, bool *any_length);

#endif

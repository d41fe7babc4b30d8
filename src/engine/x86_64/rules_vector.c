/* Shadow rules of vectors, lane by lane. Pure: from a step to a step. */
#include "step.h"

/* --- vectors --- */

/* First and second source: a two-operand form reads its target. */
static int first_source(const struct plan *p) { return p->vex && p->operands[1].kind != OPERAND_IMMEDIATE && p->count > 2 && p->operands[2].kind != OPERAND_IMMEDIATE && p->operands[2].kind != OPERAND_NONE && p->operands[2].read ? 1 : 0; }

/* Bytes of the target, before they become a mask. */
static int reach_of(const struct plan *p) {
    return p->evex && p->operands[0].kind == OPERAND_MASK ? p->span : p->operands[0].size;
}

static bool lane_any(struct step *k, int n, int at, int lane) {
    return any(k->bits[n] + at, lane);
}

void vector_bitwise(struct step *k) {
    const struct plan *p = k->p;
    int x = first_source(p), y = x + 1, size = p->operands[0].size;
    int piece = size < 8 ? size : 8;
    for (int i = 0; i < size; i += piece) {
        uint64_t a = load(k->value[x] + i, piece), s = load(k->bits[x] + i, piece);
        uint64_t b = load(k->value[y] + i, piece), t = load(k->bits[y] + i, piece), r;
        if (p->rule == RULE_V_ANDN)
            a = ~a;
        if (p->rule == RULE_V_OR)
            r = (s | t) & (~a | s) & (~b | t);
        else if (p->rule == RULE_V_XOR)
            r = s | t;
        else
            r = (s | t) & (a | s) & (b | t);
        store(k->out[0] + i, r, piece);
    }
}

void vector_lanes(struct step *k) {
    const struct plan *p = k->p;
    int x = first_source(p), y = x + 1, size = reach_of(p), lane = p->lane;
    bool compares = p->operands[0].kind == OPERAND_MASK; /* wants to know of values as well */
    bool same = p->operands[x].kind == OPERAND_VECTOR && p->operands[y].kind == OPERAND_VECTOR &&
                p->operands[x].number == p->operands[y].number;
    for (int at = 0; at < size; at += lane) {
        if (at % 8 == 0 && size - at >= 8 && !compares &&
            !(load(k->bits[x] + at, 8) | load(k->bits[y] + at, 8))) {
            store(k->out[0] + at, 0, 8);
            at += 8 - lane;
            continue;
        }
        uint64_t a = load(k->value[x] + at, lane), s = load(k->bits[x] + at, lane);
        uint64_t b = load(k->value[y] + at, lane), t = load(k->bits[y] + at, lane);
        uint64_t m = mask_for(lane), r = s | t;
        struct bounds u, v;
        switch (p->rule) {
        case RULE_V_ADD:
            r = same ? s << 1 : add_bits(a, s, b, t, 0, 0);
            break;
        case RULE_V_SUB:
            r = sub_bits(a, s, b, t, 0, 0);
            break;
        case RULE_V_MULTIPLY: {
            bool reaches;
            uint64_t half = p->half ? mask_for(lane / 2) : m;
            r = low_product(a & half, s & half, b & half, t & half, &reaches);
            break;
        }
        case RULE_V_EQUAL:
            if ((a ^ b) & m)
                k->holds &= ~(1ULL << (at / lane));
            r = r && !((a ^ b) & ~r & m) ? m : 0;
            break;
        case RULE_V_MIN: {
            if (!r || same)
                break;
            u = p->is_signed ? signed_bounds(a, s, lane) : unsigned_bounds(a, s, lane);
            v = p->is_signed ? signed_bounds(b, t, lane) : unsigned_bounds(b, t, lane);
            bool first = p->maximum ? u.low >= v.high : u.high <= v.low;
            bool second = p->maximum ? v.low >= u.high : v.high <= u.low;
            r = first ? s : second ? t : smear_down(s | t | (a ^ b));
            break;
        }
        case RULE_V_GREATER:
            if (extend(a, lane) <= extend(b, lane))
                k->holds &= ~(1ULL << (at / lane));
            u = signed_bounds(a, s, lane), v = signed_bounds(b, t, lane);
            r = r && u.high > v.low && u.low <= v.high ? m : 0;
            break;
        default:
            r = r ? m : 0;
        }
        store(k->out[0] + at, r & m, lane);
    }
}

/* Any undefined bit in a lane of any source makes that lane undefined. */
void vector_any(struct step *k) {
    const struct plan *p = k->p;
    int size = reach_of(p), lane = p->lane;
    bool plain = !p->half && !p->sums && size % 8 == 0;
    for (int at = 0; at < size && plain; at += 8) {
        uint64_t bits = 0;
        for (int n = 0; n < p->count; n++)
            if (p->operands[n].read && p->operands[n].kind != OPERAND_IMMEDIATE)
                bits |= load(k->bits[n] + at, 8);
        store(k->out[0] + at, lanes_with_any(bits, lane), 8);
    }
    for (int at = 0; at < size && !plain; at += lane) {
        bool bad = false;
        for (int n = 0; n < p->count; n++)
            if (p->operands[n].read && p->operands[n].kind != OPERAND_IMMEDIATE)
                bad |= lane_any(k, n, at, p->half ? lane / 2 : lane);
        fill_lane(k->out[0], at, lane, bad);
        if (p->sums)
            fill_lane(k->out[0], at + 2, lane - 2, false);
    }
}

void vector_scalar(struct step *k) {
    const struct plan *p = k->p;
    int lane = p->lane, size = p->operands[0].size;
    bool bad = false;
    int rest = -1;
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        if (!o->read || o->kind == OPERAND_IMMEDIATE || o->kind == OPERAND_NONE)
            continue;
        int width = o->kind != OPERAND_VECTOR ? o->size : lane;
        if (n == (p->vex && p->visible >= 3 ? 1 : 0)) {
            rest = n; /* the upper part comes from here */
            if (n == 1 && p->operands[0].read && p->operands[3].kind != OPERAND_IMMEDIATE)
                rest = 0; /* fused forms keep the target's */
        }
        bad |= any(k->bits[n], width);
    }
    if (rest < 0)
        rest = 0;
    copy_bytes(k->out[0], k->bits[rest], (uint64_t)size);
    fill_lane(k->out[0], 0, lane, bad);
}

/* A scalar made of one other; the rest of the target is the first source's, in the old
   forms its own. */
void vector_one(struct step *k) {
    const struct plan *p = k->p;
    int source = p->vex && p->visible >= 3 ? 2 : 1, size = p->operands[0].size;
    const struct plan_operand *o = &p->operands[source];
    int width = o->kind != OPERAND_VECTOR ? o->size : p->source ? p->source : p->lane;
    copy_bytes(k->out[0], k->bits[source - 1], (uint64_t)size);
    fill_lane(k->out[0], 0, p->lane, any(k->bits[source], width));
}

void vector_shift(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size, lane = p->lane;
    int x = p->vex ? 1 : 0, y = x + 1;
    bool immediate = p->operands[y].kind == OPERAND_IMMEDIATE;
    uint64_t n = immediate ? p->operands[y].value & 255 : load(k->value[y], 8);
    bool open = !immediate && any(k->bits[y], 8);
    int width = 8 * lane;
    for (int at = 0; at < size; at += lane) {
        uint64_t s = load(k->bits[x] + at, lane), r, m = mask_for(lane);
        if (open)
            r = m;
        else if (p->shift_sign)
            r = (uint64_t)(extend(s, lane) >> (n >= (uint64_t)width ? width - 1 : (int)n));
        else if (n >= (uint64_t)width)
            r = 0;
        else
            r = p->shift_right ? s >> n : s << n;
        store(k->out[0] + at, r & m, lane);
    }
}

void vector_shift_each(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size, lane = p->lane, width = 8 * lane;
    for (int at = 0; at < size; at += lane) {
        uint64_t s = load(k->bits[1] + at, lane), r, m = mask_for(lane);
        uint64_t n = load(k->value[2] + at, lane);
        if (lane_any(k, 2, at, lane))
            r = m;
        else if (p->rotate) {
            int by = (int)(n % (uint64_t)width);
            by = p->shift_right ? (width - by) % width : by;
            r = by ? s << by | (s & m) >> (width - by) : s;
        } else if (p->shift_sign)
            r = (uint64_t)(extend(s, lane) >> (n >= (uint64_t)width ? width - 1 : (int)n));
        else
            r = n >= (uint64_t)width ? 0 : p->shift_right ? s >> n : s << n;
        store(k->out[0] + at, r & m, lane);
    }
}

void vector_shuffle(struct step *k) {
    const struct plan *p = k->p;
    int x = first_source(p), y = x + 1, size = p->operands[0].size;
    for (int i = 0; i < size; i++) {
        uint8_t control = k->value[y][i];
        if (k->bits[y][i] & 0x8f)
            k->out[0][i] = 0xff;
        else
            k->out[0][i] = control & 0x80 ? 0 : k->bits[x][(i & ~15) + (control & 15)];
    }
}

void vector_permute(struct step *k) { /* vpermd: indexes in 1, data in 2 */
    int size = k->p->operands[0].size, lane = k->p->lane;
    uint64_t m = (uint64_t)(size / lane - 1);
    for (int at = 0; at < size; at += lane) {
        uint64_t n = load(k->value[1] + at, lane) & m;
        if (load(k->bits[1] + at, lane) & m)
            fill_lane(k->out[0], at, lane, true);
        else
            copy_bytes(k->out[0] + at, k->bits[2] + (uint64_t)lane * n, (uint64_t)lane);
    }
}

/* vpermilps by a register: within each 16 bytes, data in 1, indexes in 2; vpermilpd
   takes its index from the second bit. */
void vector_permute_in(struct step *k) {
    int size = k->p->operands[0].size, lane = k->p->lane;
    uint64_t m = lane == 8 ? 2 : 3;
    for (int at = 0; at < size; at += lane) {
        uint64_t n = (load(k->value[2] + at, lane) & m) >> (lane == 8);
        if (load(k->bits[2] + at, lane) & m)
            fill_lane(k->out[0], at, lane, true);
        else
            copy_bytes(k->out[0] + at, k->bits[1] + (at & ~15) + (uint64_t)lane * n,
                       (uint64_t)lane);
    }
}

static void pack_lane(struct step *k, int to, int source, int from) {
    int lane = k->p->lane;
    uint64_t a = load(k->value[source] + from, lane), s = load(k->bits[source] + from, lane);
    store(k->out[0] + to, s ? packed_bits(a, s, lane, k->p->is_signed) : 0, lane / 2);
}

void vector_pack(struct step *k) {
    const struct plan *p = k->p;
    int x = first_source(p), y = x + 1, size = p->operands[0].size, lane = p->lane;
    for (int half = 0; half < size; half += 16)
        for (int i = 0; i < 16 / lane; i++) {
            pack_lane(k, half + i * lane / 2, x, half + i * lane);
            pack_lane(k, half + i * lane / 2 + 8, y, half + i * lane);
        }
}

void vector_pairs(struct step *k) {
    const struct plan *p = k->p;
    int x = first_source(p), y = x + 1, size = p->operands[0].size, lane = p->lane;
    for (int half = 0; half < size; half += 16)
        for (int i = 0; i < 8 / lane; i++) {
            int from = half + 2 * i * lane, to = half + i * lane;
            fill_lane(k->out[0], to, lane, lane_any(k, x, from, 2 * lane));
            fill_lane(k->out[0], to + 8, lane, lane_any(k, y, from, 2 * lane));
        }
}

void vector_convert(struct step *k) {
    const struct plan *p = k->p;
    int from = p->lane, to = p->rule == RULE_V_WIDEN ? 2 * from : from / 2;
    int size = p->operands[0].size;
    int count = p->rule == RULE_V_WIDEN ? size / to : p->operands[1].size / from;
    fill_bytes(k->out[0], 0, 64);
    for (int i = 0; i < count && (i + 1) * to <= 64; i++)
        fill_lane(k->out[0], i * to, to, lane_any(k, 1, i * from, from));
}

void vector_blend(struct step *k) {
    const struct plan *p = k->p;
    int x = p->vex ? 1 : 0, y = x + 1, z = y + 1, lane = p->lane, size = p->operands[0].size;
    for (int at = 0; at < size; at += lane) {
        int sign = at + lane - 1;
        bool second = k->value[z][sign] & 0x80;
        for (int i = at; i < at + lane; i++)
            k->out[0][i] = k->bits[z][sign] & 0x80
                               ? k->bits[x][i] | k->bits[y][i] | (k->value[x][i] ^ k->value[y][i])
                               : k->bits[second ? y : x][i];
    }
}

void vector_test(struct step *k) {
    const struct plan *p = k->p;
    int signs = p->lane; /* bytes of the lanes whose signs alone are tested, 0: all bits are */
    bool and_known = false, and_open = false, not_known = false, not_open = false;
    for (int i = 0; i < p->operands[0].size; i++) {
        uint8_t a = k->value[0][i], s = k->bits[0][i], b = k->value[1][i], t = k->bits[1][i];
        uint8_t of = !signs ? 0xff : i % signs == signs - 1 ? 0x80 : 0;
        uint8_t r = (s | t) & (a | s) & (b | t) & of, v = a & b & of;
        and_open |= r != 0, and_known |= (v & ~r) != 0;
        a = (uint8_t)~a;
        r = (s | t) & (a | s) & (b | t) & of, v = a & b & of;
        not_open |= r != 0, not_known |= (v & ~r) != 0;
    }
    k->flags = derived((and_open && !and_known ? FLAG_ZF : 0) |
                       (not_open && !not_known ? FLAG_CF : 0));
}

void vector_compare(struct step *k) {
    bool bad = any(k->bits[0], k->p->lane) || any(k->bits[1], k->p->lane);
    k->flags = bad ? derived(FLAG_ZF | FLAG_PF | FLAG_CF) : 0;
}


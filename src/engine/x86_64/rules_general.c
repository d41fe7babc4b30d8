/* Shadow rules of general registers: sums with their carry reach, shifts, bits
   and multiplication, and the flags they leave. Pure: from a step to a step. */
#include "step.h"

static uint32_t result_flags(uint64_t value, uint64_t r, int size) {
    uint32_t f = 0;
    uint64_t m = mask_for(size);
    if ((r & m) && !(value & ~r & m))
        f |= FLAG_ZF;
    if (r >> (8 * size - 1) & 1)
        f |= FLAG_SF;
    if (r & 255)
        f |= FLAG_PF;
    return f;
}

/* --- adding --- */

static uint32_t range_flags(struct bounds u, struct bounds v, int size) {
    uint32_t f = 0;
    __int128 limit = (__int128)1 << (8 * size), half = limit >> 1;
    bool never = u.low >= 0 && u.high < limit, always = u.low >= limit || u.high < 0;
    if (!never && !always)
        f |= FLAG_CF;
    never = v.low >= -half && v.high < half;
    always = v.low >= half || v.high < -half;
    if (!never && !always)
        f |= FLAG_OF;
    return f;
}

static uint32_t add_flags(uint64_t a, uint64_t s, uint64_t b, uint64_t t, int carry, int carry_bit,
                          uint64_t r, int size) {
    uint64_t m = mask_for(size);
    uint64_t value = (a + b + (uint64_t)carry) & m;
    uint32_t f = result_flags(value, r, size);
    if (((s | t) & 15) || carry_bit)
        f |= FLAG_AF;
    struct bounds x = unsigned_bounds(a, s, size), y = unsigned_bounds(b, t, size);
    int low = carry & ~carry_bit, high = carry | carry_bit;
    struct bounds u = {x.low + y.low + low, x.high + y.high + high};
    x = signed_bounds(a, s, size), y = signed_bounds(b, t, size);
    struct bounds v = {x.low + y.low + low, x.high + y.high + high};
    f = derived(f | range_flags(u, v, size));
    if (v.high < 0 || v.low >= 0)
        f &= ~FLAG_LESS;
    if (v.high < 0)
        f &= ~FLAG_LESS_EQUAL;
    return f;
}

uint32_t sub_flags(uint64_t a, uint64_t s, uint64_t b, uint64_t t, int borrow,
                          int borrow_bit, uint64_t r, int size) {
    uint64_t m = mask_for(size);
    uint64_t value = (a - b - (uint64_t)borrow) & m;
    uint32_t f = result_flags(value, r, size);
    bool differ = !borrow && !borrow_bit && ((a ^ b) & ~(s | t) & m);
    if (differ)
        f &= ~FLAG_ZF;
    if (((s | t) & 15) || borrow_bit)
        f |= FLAG_AF;
    struct bounds x = unsigned_bounds(a, s, size), y = unsigned_bounds(b, t, size);
    int low = borrow & ~borrow_bit, high = borrow | borrow_bit;
    struct bounds u = {x.low - y.high - high, x.high - y.low - low};
    x = signed_bounds(a, s, size), y = signed_bounds(b, t, size);
    struct bounds v = {x.low - y.high - high, x.high - y.low - low};
    f = derived(f | range_flags(u, v, size));
    /* relations: a < b and a <= b by their bounds */
    if (v.high < 0 || v.low >= 0)
        f &= ~FLAG_LESS;
    if (v.high <= 0 || v.low > 0 || (differ && !(f & FLAG_LESS)))
        f &= ~FLAG_LESS_EQUAL;
    if (u.high <= 0 || u.low > 0 || (differ && !(f & FLAG_CF)))
        f &= ~FLAG_BELOW_EQUAL;
    return f;
}

/* --- general registers and memory as up to 8 bytes --- */


/* Around through the carry, which is the bit above the value's. */
void carry_rotate_rule(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size;
    unsigned width = 8 * (unsigned)size, limit = size == 8 ? 63 : 31;
    uint64_t m = mask_for(size), s = sa(k, 0) & m;
    bool by_one = p->count < 2 || (p->operands[1].kind != OPERAND_IMMEDIATE &&
                                   p->operands[1].kind != OPERAND_GENERAL);
    unsigned n = (by_one ? 1 : (unsigned)va(k, 1) & limit) % (width + 1);
    uint32_t old = *undefined_flags(k->c), kept = old & ~(FLAG_CF | FLAG_OF);
    if (!by_one && sa(k, 1) & limit) {
        result(k, 0, m);
        k->flags = FLAGS_ALL;
        return;
    }
    if (!n) {
        result(k, 0, s);
        k->flags = old;
        return;
    }
    unsigned left = p->rule == RULE_RCL ? n : width + 1 - n;
    unsigned __int128 all = (unsigned __int128)(old & FLAG_CF ? 1 : 0) << width | s;
    all = all << left | all >> (width + 1 - left);
    uint64_t r = (uint64_t)all & m, top = r >> (width - 1) & 1;
    bool carry = all >> width & 1;
    kept |= carry ? FLAG_CF : 0;
    if (p->rule == RULE_RCL ? top || carry : top || (r >> (width - 2) & 1))
        kept |= FLAG_OF;
    if (n > 1 && (s || old & FLAG_CF)) /* with larger counts the architecture leaves OF open */
        kept |= FLAG_OF;
    result(k, 0, r);
    k->flags = derived(kept);
}

void shift_rule(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size, width = 8 * size;
    uint64_t m = mask_for(size), a = va(k, 0), s = sa(k, 0);
    bool by_one = p->count < 2 || (p->operands[1].kind != OPERAND_IMMEDIATE &&
                                   p->operands[1].kind != OPERAND_GENERAL);
    uint64_t n = by_one ? 1 : va(k, 1), t = by_one ? 0 : sa(k, 1);
    uint64_t limit = size == 8 ? 63 : 31;
    n &= limit;
    if (t & limit) {
        result(k, 0, s || (a & m) ? m : 0);
        k->flags = FLAGS_ALL;
        return;
    }
    if (!n) {
        result(k, 0, s);
        k->flags = *undefined_flags(k->c);
        return;
    }
    uint64_t r = 0, v = 0, carry = 0;
    parts_shift(k, (int)n);
    switch (p->rule) {
    case RULE_SHL:
        r = n >= 64 ? 0 : s << n, v = n >= 64 ? 0 : a << n;
        carry = n <= (uint64_t)width ? s >> ((uint64_t)width - n) & 1 : 0;
        break;
    case RULE_SHR:
        r = (s & m) >> n, v = (a & m) >> n;
        carry = (s & m) >> (n - 1) & 1;
        break;
    case RULE_SAR:
        r = (uint64_t)(extend(s, size) >> n), v = (uint64_t)(extend(a, size) >> n);
        carry = (uint64_t)(extend(s, size) >> (n - 1)) & 1;
        break;
    default: {
        int by = (int)(n % (uint64_t)width);
        if (p->rule == RULE_ROR)
            by = (width - by) % width;
        s &= m;
        r = by ? s << by | s >> (width - by) : s;
        result(k, 0, r & m);
        /* with larger counts the architecture leaves OF open */
        uint32_t old = *undefined_flags(k->c) & ~(FLAG_CF | (n > 1 ? 0 : FLAG_OF));
        bool low = r & 1, high = r >> (width - 1) & 1, next = r >> (width - 2) & 1;
        if (p->rule == RULE_ROL)
            old |= (low ? FLAG_CF : 0) | (low || high ? FLAG_OF : 0);
        else
            old |= (high ? FLAG_CF : 0) | (high || next ? FLAG_OF : 0);
        if (n > 1 && s)
            old |= FLAG_OF;
        k->flags = derived(old);
        return;
    }
    }
    result(k, 0, r & m);
    uint32_t f = result_flags(v & m, r & m, size);
    if (carry)
        f |= FLAG_CF;
    if (p->rule == RULE_SHL ? carry || (r >> (width - 1) & 1)
                            : p->rule == RULE_SHR && (s >> (width - 1) & 1))
        f |= FLAG_OF;
    if (n > 1 && (s & m))
        f |= FLAG_OF;
    k->flags = derived(f);
}

/* shlx and the like: no flags, count in operand 2 */
void shift_flagless(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size, width = 8 * size;
    uint64_t m = mask_for(size), a = va(k, 1), s = sa(k, 1) & m;
    uint64_t n = va(k, 2) & (uint64_t)(width - 1), t = sa(k, 2) & (uint64_t)(width - 1);
    uint64_t r;
    if (t)
        r = s || (a & m) ? m : 0;
    else if (p->rule == RULE_SHLX)
        r = s << n;
    else if (p->rule == RULE_SHRX)
        r = s >> n;
    else if (p->rule == RULE_SARX)
        r = (uint64_t)(extend(s, size) >> n);
    else
        r = n ? s >> n | s << ((uint64_t)width - n) : s;
    result(k, 0, r & m);
}

void double_shift(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size, width = 8 * size;
    uint64_t m = mask_for(size), s = sa(k, 0) & m, t = sa(k, 1) & m;
    uint64_t n = va(k, 2) & (size == 8 ? 63 : 31), u = sa(k, 2) & (size == 8 ? 63 : 31);
    if (u || n > (uint64_t)width) {
        result(k, 0, s || t || u ? m : 0);
        k->flags = s || t || u ? FLAGS_ALL : 0;
        return;
    }
    if (!n) {
        result(k, 0, s);
        k->flags = *undefined_flags(k->c);
        return;
    }
    uint64_t a = va(k, 0) & m, b = va(k, 1) & m, r, v;
    uint64_t rest = (uint64_t)width - n;
    if (p->rule == RULE_SHLD) {
        r = (n == 64 ? 0 : s << n) | (rest == 64 ? 0 : t >> rest);
        v = a << n | (rest == 64 ? 0 : b >> rest);
    } else {
        r = s >> n | (rest == 64 ? 0 : t << rest);
        v = a >> n | (rest == 64 ? 0 : b << rest);
    }
    result(k, 0, r & m);
    uint32_t f = result_flags(v & m, r & m, size);
    uint64_t carry = p->rule == RULE_SHLD ? s >> rest & 1 : s >> (n - 1) & 1;
    if (carry)
        f |= FLAG_CF;
    if (n > 1 ? (s | t) != 0 : (s >> (width - 1) | r >> (width - 1) | r >> (width - 2)) & 1)
        f |= FLAG_OF; /* with larger counts the architecture leaves it open */
    k->flags = derived(f);
}

/* The sum of shifted partial products, each with its open bits. */
static uint64_t product_bits(uint64_t a, uint64_t s, uint64_t b, uint64_t t) {
    uint64_t open = 0, av = a & ~s, bv = b & ~t, known = av * bv;
    for (int i = 0; i < 64 && (av | s); i++, av >>= 1, s >>= 1) {
        uint64_t part = av & 1 ? t << i : s & 1 ? (bv | t) << i : 0;
        open |= part | (open + part);
    }
    return add_bits(known, 0, 0, open, 0, 0);
}

static int known_zeros(uint64_t a, uint64_t s) {
    uint64_t maybe = a | s;
    return maybe ? __builtin_ctzll(maybe) : 64;
}

/* Undefined bits of the low 64 bits of a product; `reaches`: whether any of the product's
   are undefined, further up as well. */
uint64_t low_product(uint64_t a, uint64_t s, uint64_t b, uint64_t t, bool *reaches) {
    int from = 128;
    if (s) {
        int at = __builtin_ctzll(s) + known_zeros(b, t);
        from = at < from ? at : from;
    }
    if (t) {
        int at = __builtin_ctzll(t) + known_zeros(a, s);
        from = at < from ? at : from;
    }
    if ((!(a | s) || !(b | t)))
        from = 128; /* times nothing */
    *reaches = from < 128 && (s || t);
    return from >= 64 ? 0 : ~0ULL << from & product_bits(a, s, b, t);
}

/* Ends of what a value of so many bytes can be. */
static __int128 least(uint64_t a, uint64_t s, int size, bool is_signed) {
    uint64_t sign = 1ULL << (8 * size - 1);
    return is_signed ? extend((a & ~s) | (s & sign), size) : (__int128)(a & ~s);
}

static __int128 greatest(uint64_t a, uint64_t s, int size, bool is_signed) {
    uint64_t sign = 1ULL << (8 * size - 1);
    return is_signed ? extend((a | s) & ~(s & sign), size) : (__int128)(a | s);
}

/* A product lies between two of those of its factors' ends: above the highest bit in which these
   differ nothing varies. */
struct product {
    uint64_t high; /* undefined bits above the factors' size */
    bool fits, exceeds; /* always in their size; never */
};

static struct product product_range(uint64_t a, uint64_t s, uint64_t b, uint64_t t, int size,
                                    bool is_signed) {
    __int128 ends[2] = {least(a, s, size, is_signed), greatest(a, s, size, is_signed)};
    __int128 others[2] = {least(b, t, size, is_signed), greatest(b, t, size, is_signed)};
    unsigned __int128 bias = is_signed ? (unsigned __int128)1 << 127 : 0; /* in order without sign */
    unsigned __int128 low = ~(unsigned __int128)0, high = 0;
    for (int n = 0; n < 4; n++) {
        unsigned __int128 one =
            ((unsigned __int128)ends[n & 1] * (unsigned __int128)others[n >> 1]) ^ bias;
        low = one < low ? one : low;
        high = one > high ? one : high;
    }
    unsigned __int128 from = is_signed ? bias - ((unsigned __int128)1 << (8 * size - 1)) : 0;
    unsigned __int128 to = is_signed ? bias + ((unsigned __int128)1 << (8 * size - 1)) - 1
                                     : (unsigned __int128)mask_for(size);
    return (struct product){
        .high = smear_down((uint64_t)((low ^ high) >> (8 * size))) & mask_for(size),
        .fits = low >= from && high <= to,
        .exceeds = high < from || low > to};
}

void multiply(struct step *k) {
    const struct plan *p = k->p;
    /* the two factors: explicit ones, or one explicit and the accumulator */
    int x = 0, y = 1;
    if (p->visible == 3) {
        x = 1, y = 2;
    } else if (p->visible == 1) {
        for (y = 1; y < p->count; y++)
            if (p->operands[y].kind == OPERAND_GENERAL && p->operands[y].number == RAX)
                break;
    }
    if (y >= p->count)
        return;
    int size = p->operands[x].size;
    uint64_t m = mask_for(size), a = va(k, x) & m, s = sa(k, x) & m, b = va(k, y) & m, t = sa(k, y) & m;
    bool high;
    uint64_t low = low_product(a, s, b, t, &high);
    struct product range = product_range(a, s, b, t, size, p->is_signed);
    uint64_t upper = high ? range.high : 0;
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        if (!o->write || o->kind != OPERAND_GENERAL)
            continue;
        if (p->visible == 1 && size == 1) /* AX as a whole */
            result(k, n, high ? (low & 0xff) | upper << 8 : 0);
        else if (p->visible == 1 && o->number == RDX)
            result(k, n, upper);
        else
            result(k, n, low & m);
    }
    uint32_t too_large = range.fits || range.exceeds ? FLAG_CF | FLAG_OF : 0;
    k->flags = high ? FLAGS_ALL & ~too_large : 0;
}

void multiply_wide(struct step *k) { /* mulx high, low, source; RDX */
    const struct plan *p = k->p;
    int y = 3;
    while (y < p->count && !(p->operands[y].kind == OPERAND_GENERAL && p->operands[y].number == RDX &&
                             p->operands[y].read))
        y++;
    if (y >= p->count)
        return;
    uint64_t m = mask_for(p->operands[2].size);
    uint64_t a = va(k, 2) & m, s = sa(k, 2) & m, b = va(k, y) & m, t = sa(k, y) & m;
    bool high;
    uint64_t low = low_product(a, s, b, t, &high);
    uint64_t upper = high ? product_range(a, s, b, t, p->operands[2].size, false).high : 0;
    result(k, 0, upper);
    /* one register for both holds the high half (SDM volume 2, MULX) */
    result(k, 1, p->operands[0].number == p->operands[1].number ? upper : low & m);
}

void scan_bits(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[1].size;
    uint64_t m = mask_for(size), a = va(k, 1) & m, s = sa(k, 1) & m, ones = a & ~s;
    bool down = p->rule == RULE_BSR, bad = false;
    if (s)
        bad = down ? !ones || (s >> (63 - __builtin_clzll(ones))) != 0
                   : !ones || (s & ((ones & -ones) - 1)) != 0;
    bool nothing = !p->condition && !ones; /* maybe: then the target stays as it was */
    uint64_t most = p->condition ? (uint64_t)(8 * size) : (uint64_t)(8 * size - 1);
    uint64_t r = bad ? smear_down(most) : 0;
    if (nothing && size >= 4) {
        k->whole = true;
        r = s ? ~0ULL : dirty_words(k->c)[p->operands[0].number];
    } else if (nothing) {
        r = s ? ~0ULL : sa(k, 0);
    }
    store(k->out[0], r, 8);
    bool zero = s && !ones;
    uint32_t f = 0;
    if (p->condition) { /* tzcnt, lzcnt: CF = nothing found; ZF = count is 0 */
        f = zero ? FLAG_CF : 0;
        uint64_t edge = down ? 1ULL << (8 * size - 1) : 1;
        if (s & edge)
            f |= FLAG_ZF;
    } else {
        f = (zero ? FLAG_ZF : 0) | (s ? FLAG_CF : 0);
    }
    if (s) /* left open by the architecture; processors derive them from the bits */
        f |= FLAG_PF | FLAG_SF | FLAG_OF | FLAG_AF;
    k->flags = derived(f);
}

void bit_manipulation(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size;
    uint64_t m = mask_for(size), a = va(k, 1) & m, s = sa(k, 1) & m, r = 0;
    uint64_t ones = a & ~s;
    switch (p->rule) {
    case RULE_BLSR:
    case RULE_BLSI:
    case RULE_BLSMSK: {
        /* up to the lowest bit that is surely set everything is open from the
           lowest undefined bit on */
        uint64_t surely = ones ? ones & -ones : 0;
        uint64_t region = s ? smear_up(s) : 0;
        if (surely)
            region &= surely | (surely - 1);
        bool early = s && (!surely || (s & (surely - 1)));
        if (p->rule == RULE_BLSR)
            r = s | (early ? region : 0);
        else
            r = early ? region : 0;
        r &= m;
        k->flags = s ? FLAGS_ALL & (uint32_t)~(ones && p->rule != RULE_BLSR ? FLAG_ZF | FLAG_CF : 0) : 0;
        if (p->rule == RULE_BLSR && count_ones(ones) >= 2)
            k->flags &= ~FLAG_ZF;
        k->flags = derived(k->flags);
        if (s)
            k->flags |= FLAG_LESS | FLAG_LESS_EQUAL;
        break;
    }
    case RULE_BEXTR: {
        uint64_t control = va(k, 2), t = sa(k, 2) & 0xffff;
        uint64_t start = control & 255, length = control >> 8 & 255;
        if (t)
            r = m;
        else {
            r = start >= 64 ? 0 : s >> start;
            if (length < 64)
                r &= (1ULL << length) - 1;
        }
        k->flags = r ? FLAGS_ALL : 0;
        break;
    }
    case RULE_BZHI: {
        uint64_t n = va(k, 2) & 255, t = sa(k, 2) & 255;
        r = t ? m : n < (uint64_t)(8 * size) ? s & ((1ULL << n) - 1) : s;
        k->flags = r || t ? FLAGS_ALL : 0;
        break;
    }
    case RULE_PEXT:
    case RULE_PDEP: {
        uint64_t mask = va(k, 2) & m, t = sa(k, 2) & m;
        if (t) {
            r = s || a ? m : 0;
            break;
        }
        uint64_t at = 1;
        for (uint64_t bit = 1; bit; bit <<= 1) {
            if (!(mask & bit))
                continue;
            if (p->rule == RULE_PEXT ? (s & bit) != 0 : (s & at) != 0)
                r |= p->rule == RULE_PEXT ? at : bit;
            at <<= 1;
        }
        break;
    }
    }
    result(k, 0, r);
}

void bit_test(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size;
    uint64_t limit = (uint64_t)(8 * size - 1);
    uint64_t n = va(k, 1) & limit, t = sa(k, 1) & limit, s = sa(k, 0);
    uint32_t f = *undefined_flags(k->c) & ~FLAG_CF;
    if (t || (s >> n & 1))
        f |= FLAG_CF;
    k->flags = derived(f);
    uint64_t r = t ? ~0ULL : p->rule == RULE_BITFLIP ? s : s & ~(1ULL << n);
    if (p->operands[0].write)
        result(k, 0, r);
}

void compare_exchange(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size, acc = 2;
    for (acc = 2; acc < p->count; acc++)
        if (p->operands[acc].kind == OPERAND_GENERAL && p->operands[acc].number == RAX)
            break;
    if (acc >= p->count)
        return;
    uint64_t m = mask_for(size);
    uint64_t d = va(k, 0) & m, ds = sa(k, 0) & m, b = va(k, 1) & m, t = sa(k, 1) & m;
    uint64_t a = va(k, acc) & m, s = sa(k, acc) & m;
    if (p->operands[0].kind == OPERAND_GENERAL && p->operands[0].number == RAX &&
        !p->operands[0].high) { /* with itself: it is equal */
        k->flags = 0;
        result(k, 0, t);
        result(k, acc, t);
        return;
    }
    uint64_t r = sub_bits(a, s, d, ds, 0, 0) & m;
    k->flags = sub_flags(a, s, d, ds, 0, 0, r, size);
    bool open = k->flags & FLAG_ZF, equal = a == d;
    uint64_t target = open ? merge_bits(d, ds, b, t) & m : equal ? t : ds;
    uint64_t kept = open ? merge_bits(a, s, d, ds) & m : equal ? s : ds;
    if (size == 4) { /* the register that is not written keeps its upper half */
        const uint64_t *u = dirty_words(k->c), *v = k->c->registers;
        int reg = p->operands[0].number;
        k->whole = true;
        if (p->operands[0].kind == OPERAND_GENERAL && (open || !equal))
            target |= (u[reg] | (open ? v[reg] : 0)) & ~m;
        if (open || equal)
            kept |= (u[RAX] | (open ? v[RAX] : 0)) & ~m;
    }
    store(k->out[0], target, 8);
    store(k->out[acc], kept, 8);
}

/* Memory against RDX:RAX, which it is loaded into where they differ; else RCX:RBX are stored
   (SDM volume 2, CMPXCHG8B). */
void compare_exchange_pair(struct step *k) {
    const struct plan *p = k->p;
    int half = p->operands[0].size / 2;
    enum { HIGH, LOW }; /* the order of RDX and RAX, and of RCX and RBX, among the operands */
    static const uint8_t compared[] = {RDX, RAX}, given[] = {RCX, RBX};
    int old[2] = {-1, -1}, new[2] = {-1, -1};
    for (int n = 1; n < p->count; n++)
        for (int part = HIGH; part <= LOW && p->operands[n].kind == OPERAND_GENERAL; part++) {
            if (p->operands[n].number == compared[part])
                old[part] = n;
            if (p->operands[n].number == given[part])
                new[part] = n;
        }
    if (old[HIGH] < 0 || old[LOW] < 0 || new[HIGH] < 0 || new[LOW] < 0)
        return;
    uint64_t m = mask_for(half), differ = 0, doubtful = 0;
    for (int part = HIGH; part <= LOW; part++) {
        int at = part == HIGH ? half : 0;
        uint64_t s = sa(k, old[part]) | load(k->bits[0] + at, half);
        differ |= (va(k, old[part]) ^ load(k->value[0] + at, half)) & ~s & m;
        doubtful |= s & m;
    }
    bool open = doubtful && !differ, equal = !differ;
    for (int part = HIGH; part <= LOW; part++) {
        int at = part == HIGH ? half : 0;
        uint64_t d = load(k->value[0] + at, half), ds = load(k->bits[0] + at, half);
        uint64_t a = va(k, old[part]) & m, s = sa(k, old[part]) & m;
        uint64_t b = va(k, new[part]) & m, t = sa(k, new[part]) & m;
        uint64_t kept = open ? merge_bits(a, s, d, ds) & m : equal ? s : ds;
        if (half == 4 && equal) { /* else loading clears the upper half */
            uint64_t u = dirty_words(k->c)[compared[part]], v = k->c->registers[compared[part]];
            kept |= (u | (open ? v : 0)) & ~m;
        }
        store(k->out[0] + at, open ? merge_bits(d, ds, b, t) & m : equal ? t : ds, half);
        store(k->out[old[part]], kept, 8);
    }
    k->whole = half == 4;
    k->flags = derived((*undefined_flags(k->c) & ~(uint32_t)FLAG_ZF) | (open ? FLAG_ZF : 0));
}

void add_rule(struct step *k) {
    const struct plan *p = k->p;
    int size = p->operands[0].size;
    uint64_t m = mask_for(size), a = va(k, 0) & m, s = sa(k, 0) & m, b = 0, t = 0, r;
    bool two = p->rule != RULE_NEG && p->rule != RULE_INC && p->rule != RULE_DEC;
    if (two)
        b = va(k, 1) & m, t = sa(k, 1) & m;
    uint32_t before = *undefined_flags(k->c);
    int carry = 0, carry_bit = 0;
    if (p->rule == RULE_ADC || p->rule == RULE_SBB) {
        carry = k->c->flags & 1;
        carry_bit = before & FLAG_CF ? 1 : 0;
    }
    bool same = two && p->operands[0].kind == OPERAND_GENERAL &&
                p->operands[1].kind == OPERAND_GENERAL &&
                p->operands[0].number == p->operands[1].number &&
                p->operands[0].high == p->operands[1].high;
    switch (p->rule) {
    case RULE_INC:
    case RULE_DEC:
        b = 1;
        break;
    case RULE_NEG:
        b = a, t = s, a = 0, s = 0;
        break;
    }
    if (p->rule == RULE_ADD || p->rule == RULE_ADC || p->rule == RULE_INC || p->rule == RULE_XADD) {
        r = add_bits(a, s, b, t, (uint64_t)carry, (uint64_t)carry_bit) & m;
        if (same)
            r = (s << 1 | (uint64_t)carry_bit) & m;
        k->flags = add_flags(a, s, b, t, carry, carry_bit, r, size);
    } else if (same && p->rule != RULE_NEG) { /* x - x - borrow */
        r = carry_bit ? m : 0;
        k->flags = carry_bit ? FLAGS_ALL & ~FLAG_OF : 0;
    } else {
        r = sub_bits(a, s, b, t, (uint64_t)carry, (uint64_t)carry_bit) & m;
        k->flags = sub_flags(a, s, b, t, carry, carry_bit, r, size);
    }
    if (p->rule == RULE_INC || p->rule == RULE_DEC) { /* CF stays */
        uint32_t relations = k->flags & (FLAG_LESS | FLAG_LESS_EQUAL);
        k->flags = (k->flags & ~FLAG_CF) | (before & FLAG_CF);
        k->flags = (derived(k->flags) & ~(FLAG_LESS | FLAG_LESS_EQUAL)) | relations;
    }
    if (p->rule == RULE_XADD)
        result(k, 1, same ? r : s); /* of one register the sum stays */
    if (p->rule != RULE_CMP)
        result(k, 0, r);
}

void logic_rule(struct step *k) {
    const struct plan *p = k->p;
    int x = p->rule == RULE_ANDN ? 1 : 0, y = x + 1;
    int size = p->operands[0].size;
    uint64_t m = mask_for(size), a = va(k, x) & m, s = sa(k, x) & m, b = va(k, y) & m,
             t = sa(k, y) & m, r, v;
    if (p->rule == RULE_ANDN)
        a = ~a & m;
    switch (p->rule) {
    case RULE_OR:
        r = (s | t) & (~a | s) & (~b | t);
        v = a | b;
        break;
    case RULE_XOR:
        r = s | t;
        v = a ^ b;
        break;
    default:
        r = (s | t) & (a | s) & (b | t);
        v = a & b;
    }
    r &= m;
    k->flags = derived(result_flags(v, r, size));
    if (p->rule != RULE_TEST)
        result(k, 0, r);
}

/* Whether the register's undefined parts, or bytes of one, are from several places, or from another
   than `first`, which it becomes. */
static bool has_several(struct context *c, int reg, uint32_t *first) {
    bool several = false;
    for (int part = 0; part < 2 && reg >= 0; part++) {
        uint32_t origin = dirty_origins(c, reg)[part];
        if (!(uint32_t)(dirty_words(c)[reg] >> 32 * part))
            continue;
        several |= origin_is_by_byte(origin) || (*first && origin != *first);
        *first = origin;
    }
    return several;
}

/* Bytes of a sum are from where the bytes at their place are, else from where those below them
   are, which carry into them. */
static void lea_origins(struct step *k, uint64_t bits) {
    const struct memory *m = &k->p->memory[0];
    const int regs[2] = {m->base, m->index};
    uint32_t below = 0;
    for (int at = 0; at < 8; at++) {
        uint32_t here = 0;
        for (int n = 0; n < 2 && !here; n++)
            for (int back = 0; back < (n && m->scale > 1 ? 2 : 1) && back <= at && !here; back++)
                if (regs[n] >= 0 && dirty_words(k->c)[regs[n]] >> 8 * (at - back) & 255)
                    here = origin_keep_byte(k->c, dirty_byte_origin(k->c, regs[n], at - back));
        below = here ? here : below;
        k->mixed[0][at] = bits >> 8 * at & 255 ? below : 0;
    }
    k->is_mixed = true;
}

void lea_rule(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    const struct memory *m = &p->memory[0];
    uint64_t *u = dirty_words(c);
    uint64_t a = m->base < 0 ? 0 : c->registers[m->base], s = m->base < 0 ? 0 : u[m->base];
    uint64_t b = 0, t = 0;
    if (m->index >= 0) {
        b = c->registers[m->index] * (uint64_t)m->scale;
        t = u[m->index] * (uint64_t)m->scale;
    }
    uint64_t bits = add_bits(a, s, b, t, 0, 0);
    bits = add_bits(a + b, bits, (uint64_t)m->displacement, 0, 0, 0);
    if (m->address32)
        bits &= 0xffffffff;
    k->origin = s ? dirty_origin(c, m->base) : t ? dirty_origin(c, m->index) : 0;
    uint32_t first = 0;
    if (has_several(c, m->base, &first) | has_several(c, m->index, &first))
        lea_origins(k, bits);
    result(k, 0, bits);
}


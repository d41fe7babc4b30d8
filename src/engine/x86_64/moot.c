/* Whether it makes no difference where a branch goes. Optimizers that turn `kind == K &&
   field == F` into two branches may ask for the field first: where the kind is another
   one, both ways meet again, and that the field was never set decides nothing. Both ways are
   walked in thought, over a few instructions without side effects. */
#include "decode.h"
#include "plan.h"
#include "translate.h"

enum { STEPS = 32, LOOK_AHEAD = 96, DEPTH = 8, MOST = 400 /* instructions */, RESULT = 1u << RAX | 1u << RDX,
       KEPT = 1u << RBX | 1u << RSP | 1u << RBP | 0xf000 /* R12 to R15, over calls */ };

struct walk {
    uint64_t value[16], undefined[16]; /* bits of the registers */
    uint64_t flags, flags_known;
    uint32_t written; /* registers that were changed */
    int stored;
    struct store { /* of defined values, each elsewhere */
        gaddr at;
        uint64_t size, value;
    } stores[4];
};

struct number {
    uint64_t value, undefined;
};

static uint64_t mask_of(uint64_t bits) { return bits >= 64 ? ~0ULL : (1ULL << bits) - 1; }

static bool is_high(ZydisRegister r) { return r >= ZYDIS_REGISTER_AH && r <= ZYDIS_REGISTER_BH; }

/* False: it cannot be told. */
static bool address_of(const struct walk *w, const struct memory *m, gaddr *address) {
    if (m->segment || m->vector_index || m->address32)
        return false;
    *address = (gaddr)m->displacement;
    if (m->base >= 0) {
        if (w->undefined[m->base])
            return false;
        *address += w->value[m->base];
    }
    if (m->index >= 0) {
        if (w->undefined[m->index])
            return false;
        *address += w->value[m->index] * (uint64_t)m->scale;
    }
    return true;
}

static bool read_memory(const struct walk *w, gaddr a, uint64_t size, struct number *n) {
    struct mapping m;
    if (size > 8 || a >= GUEST_END - 8)
        return false;
    for (int k = 0; k < w->stored; k++) {
        const struct store *s = &w->stores[k];
        if (s->at == a && s->size == size) {
            *n = (struct number){s->value, 0};
            return true;
        }
        if (a < s->at + s->size && s->at < a + size)
            return false;
    }
    if (!heap_near(a) && (!memory_lookup(a, &m) || !(m.protection & 1) || a + size > m.end))
        return false;
    *n = (struct number){0, 0};
    copy_bytes(&n->value, guest(a), size);
    copy_bytes(&n->undefined, shadow_of(a), size);
    return true;
}

static bool read_operand(const struct walk *w, const struct instruction *i, int k,
                         struct number *n) {
    const ZydisDecodedOperand *o = &i->operands[k];
    gaddr a;
    int r;
    switch (o->type) {
    case ZYDIS_OPERAND_TYPE_IMMEDIATE:
        *n = (struct number){o->imm.value.u, 0};
        return true;
    case ZYDIS_OPERAND_TYPE_REGISTER:
        r = register_number(o->reg.value);
        if (r < 0 || is_high(o->reg.value))
            return false;
        *n = (struct number){w->value[r] & mask_of(o->size), w->undefined[r] & mask_of(o->size)};
        return true;
    case ZYDIS_OPERAND_TYPE_MEMORY:
        return i->encoded >= 0 && address_of(w, &i->memory[i->encoded], &a) &&
               read_memory(w, a, o->size / 8u, n);
    default:
        return false;
    }
}

static bool is_of_itself(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    return o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && o[1].type == ZYDIS_OPERAND_TYPE_REGISTER &&
           o[0].reg.value == o[1].reg.value;
}

static bool write_register(struct walk *w, const ZydisDecodedOperand *o, struct number n) {
    int r = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o->reg.value) : -1;
    if (r < 0 || (r == RSP && (o->size < 64 || n.undefined)) || is_high(o->reg.value))
        return false;
    if (o->size < 32) {
        uint64_t m = mask_of(o->size);
        n.value = (w->value[r] & ~m) | (n.value & m);
        n.undefined = (w->undefined[r] & ~m) | (n.undefined & m);
    }
    w->value[r] = o->size == 32 ? (uint32_t)n.value : n.value;
    w->undefined[r] = o->size == 32 ? (uint32_t)n.undefined : n.undefined;
    w->written |= 1u << r;
    return true;
}

/* Both ways may put the same aside on the stack. What they set of the program's own is not looked
   into: that it is the same this time does not make up for a value nobody set. */
static bool store(struct walk *w, const struct instruction *i, struct number n) {
    enum { MOST_STORES = sizeof w->stores / sizeof *w->stores };
    uint64_t size = i->operands[0].size / 8u;
    gaddr a;
    int at = 0;
    if (i->encoded < 0 || i->memory[i->encoded].base != RSP || i->memory[i->encoded].index >= 0 ||
        size > 8 || (n.undefined & mask_of(8 * size)) ||
        !address_of(w, &i->memory[i->encoded], &a))
        return false;
    while (at < w->stored && (w->stores[at].at != a || w->stores[at].size != size)) {
        const struct store *s = &w->stores[at++];
        if (a < s->at + s->size && s->at < a + size)
            return false;
    }
    struct number old;
    if (at == w->stored && read_memory(w, a, size, &old) && !old.undefined &&
        !((old.value ^ n.value) & mask_of(8 * size)))
        return true; /* it is there already */
    if (at == MOST_STORES)
        return false;
    w->stores[at] = (struct store){a, size, n.value & mask_of(8 * size)};
    w->stored += at == w->stored;
    return true;
}

static bool same_stores(const struct walk *a, const struct walk *b) {
    for (int k = 0; k < a->stored; k++) {
        int n = 0;
        while (n < b->stored && (a->stores[k].at != b->stores[n].at ||
                                 a->stores[k].size != b->stores[n].size ||
                                 a->stores[k].value != b->stores[n].value))
            n++;
        if (n == b->stored)
            return false;
    }
    return a->stored == b->stored;
}

/* Of a result of so many bits; carry and overflow count where the operands are defined. */
static void set_flags(struct walk *w, struct number n, uint64_t bits, bool carry, bool overflow,
                      bool defined) {
    uint64_t m = mask_of(bits), result = n.value & m, open = n.undefined & m;
    w->flags = (result & ~open ? 0 : result ? 0 : FLAG_ZF) |
               (result >> (bits - 1) & 1 ? FLAG_SF : 0) |
               (__builtin_parity((unsigned)result & 0xff) ? 0 : FLAG_PF) | (carry ? FLAG_CF : 0) |
               (overflow ? FLAG_OF : 0);
    w->flags_known = (!open || (result & ~open) ? FLAG_ZF : 0) |
                     (open >> (bits - 1) & 1 ? 0 : FLAG_SF) | (open & 0xff ? 0 : FLAG_PF) |
                     (defined ? FLAG_CF | FLAG_OF : 0);
}

/* Bits that differ between the least and the most that a sum can be (rules_general.c). */
static struct number add(struct number a, struct number b, uint64_t m) {
    uint64_t least = (a.value & ~a.undefined) + (b.value & ~b.undefined);
    uint64_t most = (a.value | a.undefined) + (b.value | b.undefined);
    return (struct number){(a.value + b.value) & m, (a.undefined | b.undefined | (least ^ most)) & m};
}

static struct number subtract(struct number a, struct number b, uint64_t m) {
    uint64_t least = (a.value & ~a.undefined) - (b.value | b.undefined);
    uint64_t most = (a.value | a.undefined) - (b.value & ~b.undefined);
    return (struct number){(a.value - b.value) & m, (a.undefined | b.undefined | (least ^ most)) & m};
}

static struct number logic(ZydisMnemonic what, struct number a, struct number b, uint64_t m) {
    uint64_t open = a.undefined | b.undefined;
    struct number n = {a.value ^ b.value, open};
    if (what == ZYDIS_MNEMONIC_OR) /* a defined 1 decides */
        n = (struct number){a.value | b.value,
                            open & ~(a.value & ~a.undefined) & ~(b.value & ~b.undefined)};
    else if (what != ZYDIS_MNEMONIC_XOR) /* a defined 0 */
        n = (struct number){a.value & b.value, open & (a.value | a.undefined) & (b.value | b.undefined)};
    n.value &= m;
    n.undefined &= m;
    return n;
}

static struct number shifted(ZydisMnemonic what, struct number a, uint64_t by, uint64_t bits) {
    uint64_t m = mask_of(bits), r = 64 - bits;
    if (what == ZYDIS_MNEMONIC_SHL)
        return (struct number){a.value << by & m, a.undefined << by & m};
    if (what == ZYDIS_MNEMONIC_SHR)
        return (struct number){a.value >> by, a.undefined >> by};
    return (struct number){(uint64_t)((int64_t)(a.value << r) >> r >> by) & m,
                           (uint64_t)((int64_t)(a.undefined << r) >> r >> by) & m};
}

/* The number of the lowest or highest bit that is set, where that is known. */
static bool bit_found(ZydisMnemonic what, struct number a, uint64_t bits, struct number *n) {
    uint64_t ones = a.value & ~a.undefined;
    bool lowest = what == ZYDIS_MNEMONIC_TZCNT || what == ZYDIS_MNEMONIC_BSF;
    if (!ones || bits < 32)
        return false;
    uint64_t at = lowest ? (uint64_t)__builtin_ctzll(ones) : 63 - (uint64_t)__builtin_clzll(ones);
    if (a.undefined & (lowest ? mask_of(at) : ~mask_of(at)))
        return false;
    *n = (struct number){what == ZYDIS_MNEMONIC_LZCNT ? bits - 1 - at : at, 0};
    return true;
}

static uint64_t flags_of(int condition);

/* Whether the condition in the instruction's code holds; false: that is not known. */
static bool known_condition(const struct walk *w, const struct instruction *i, bool *holds) {
    *holds = condition_holds(w->flags, i->z.opcode & 15);
    return !(flags_of(i->z.opcode & 15) & ~w->flags_known);
}

/* An address is computed, not used: parts of it may be undefined. As lea_rule. */
static bool lea(const struct walk *w, const struct memory *m, struct number *n) {
    struct number base = {0, 0}, index = {0, 0}, displacement = {(uint64_t)m->displacement, 0};
    uint64_t scale = (uint64_t)m->scale;
    if (m->segment || m->vector_index || m->address32 || m->absolute)
        return false;
    if (m->base >= 0)
        base = (struct number){w->value[m->base], w->undefined[m->base]};
    if (m->index >= 0)
        index = (struct number){w->value[m->index] * scale, w->undefined[m->index] * scale};
    *n = add(add(base, index, ~0ULL), displacement, ~0ULL);
    return true;
}

/* Sign extensions within RAX and from there into RDX. */
static bool extend(struct walk *w, ZydisMnemonic what) {
    struct number a = {w->value[RAX], w->undefined[RAX]};
    uint64_t from = what == ZYDIS_MNEMONIC_CWDE ? 15 : what == ZYDIS_MNEMONIC_CQO ? 63 : 31;
    uint64_t sign = 1ULL << from, m = mask_of(from + 1);
    bool aside = what == ZYDIS_MNEMONIC_CDQ || what == ZYDIS_MNEMONIC_CQO;
    int to = aside ? RDX : RAX;
    if (aside) {
        a.value = a.value & sign ? ~0ULL : 0;
        a.undefined = a.undefined & sign ? ~0ULL : 0;
    } else {
        a.value = ((a.value & m) ^ sign) - sign;
        a.undefined = ((a.undefined & m) ^ sign) - sign;
    }
    bool narrow = what == ZYDIS_MNEMONIC_CWDE || what == ZYDIS_MNEMONIC_CDQ;
    w->value[to] = narrow ? (uint32_t)a.value : a.value;
    w->undefined[to] = narrow ? (uint32_t)a.undefined : a.undefined;
    w->written |= 1u << to;
    return true;
}

/* One instruction that only computes; false: it does more. */
static bool compute(struct walk *w, const struct instruction *i) {
    struct number a, b, n;
    uint64_t bits = i->operands[0].size, m = mask_of(bits), r;
    bool defined;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_NOP:
    case ZYDIS_MNEMONIC_ENDBR64:
        return true;
    case ZYDIS_MNEMONIC_CWDE: case ZYDIS_MNEMONIC_CDQE:
    case ZYDIS_MNEMONIC_CDQ: case ZYDIS_MNEMONIC_CQO:
        return extend(w, i->z.mnemonic);
    case ZYDIS_MNEMONIC_IMUL:
        r = i->z.operand_count_visible == 3;
        if (i->z.operand_count_visible < 2 || !read_operand(w, i, (int)r, &a) ||
            !read_operand(w, i, (int)r + 1, &b) || a.undefined || b.undefined)
            return false;
        n = (struct number){a.value * b.value & m, 0};
        w->flags_known = 0;
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_NEG:
        if (!read_operand(w, i, 0, &b))
            return false;
        n = subtract((struct number){0, 0}, b, m);
        set_flags(w, n, bits, b.value & m, (b.value & m) == 1ULL << (bits - 1), !b.undefined);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_SBB: /* spreads the carry */
        if (!is_of_itself(i) || !(w->flags_known & FLAG_CF))
            return false;
        n = (struct number){w->flags & FLAG_CF ? m : 0, 0};
        set_flags(w, n, bits, n.value != 0, false, true);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_LEA:
        return lea(w, &i->memory[i->encoded], &n) && write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_MOV:
    case ZYDIS_MNEMONIC_MOVZX:
        return read_operand(w, i, 1, &b) &&
               (i->operands[0].type == ZYDIS_OPERAND_TYPE_MEMORY
                    ? store(w, i, b)
                    : write_register(w, &i->operands[0], b));
    case ZYDIS_MNEMONIC_MOVSX:
    case ZYDIS_MNEMONIC_MOVSXD:
        if (!read_operand(w, i, 1, &b))
            return false;
        r = 1ULL << (i->operands[1].size - 1);
        b.value = (b.value ^ r) - r;
        b.undefined = (b.undefined ^ r) - r;
        return write_register(w, &i->operands[0], b);
    case ZYDIS_MNEMONIC_NOT:
        if (!read_operand(w, i, 0, &a))
            return false;
        a.value = ~a.value & m;
        return write_register(w, &i->operands[0], a);
    case ZYDIS_MNEMONIC_BSWAP:
        if (!read_operand(w, i, 0, &a) || bits < 32)
            return false;
        a.value = __builtin_bswap64(a.value) >> (64 - bits);
        a.undefined = __builtin_bswap64(a.undefined) >> (64 - bits);
        return write_register(w, &i->operands[0], a);
    case ZYDIS_MNEMONIC_SHL:
    case ZYDIS_MNEMONIC_SHR:
    case ZYDIS_MNEMONIC_SAR:
        if (!read_operand(w, i, 0, &a) || !read_operand(w, i, 1, &b) || bits < 32 ||
            (b.undefined & (bits - 1)))
            return false;
        r = b.value & (bits - 1);
        n = shifted(i->z.mnemonic, a, r, bits);
        if (r) /* else the flags stay */
            set_flags(w, n, bits, false, false, false);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_SHLX:
    case ZYDIS_MNEMONIC_SHRX:
    case ZYDIS_MNEMONIC_SARX:
        if (!read_operand(w, i, 1, &a) || !read_operand(w, i, 2, &b) || (b.undefined & (bits - 1)))
            return false;
        n = shifted(i->z.mnemonic == ZYDIS_MNEMONIC_SHLX   ? ZYDIS_MNEMONIC_SHL
                    : i->z.mnemonic == ZYDIS_MNEMONIC_SHRX ? ZYDIS_MNEMONIC_SHR
                                                           : ZYDIS_MNEMONIC_SAR,
                    a, b.value & (bits - 1), bits);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_BZHI:
        if (!read_operand(w, i, 1, &a) || !read_operand(w, i, 2, &b) || (b.undefined & 0xff))
            return false;
        r = (b.value & 0xff) >= bits ? m : mask_of(b.value & 0xff);
        n = (struct number){a.value & r, a.undefined & r};
        set_flags(w, n, bits, false, false, false);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_TZCNT: case ZYDIS_MNEMONIC_LZCNT:
    case ZYDIS_MNEMONIC_BSF: case ZYDIS_MNEMONIC_BSR:
        if (!read_operand(w, i, 1, &a) || !bit_found(i->z.mnemonic, a, bits, &n))
            return false;
        w->flags_known = 0;
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_POP: {
        struct memory top = {.base = RSP, .index = -1, .scale = 1};
        gaddr at;
        if (bits != 64 || !address_of(w, &top, &at) || !read_memory(w, at, 8, &n))
            return false;
        w->value[RSP] += 8;
        w->written |= 1u << RSP;
        return write_register(w, &i->operands[0], n);
    }
    case ZYDIS_MNEMONIC_SETO: case ZYDIS_MNEMONIC_SETNO: case ZYDIS_MNEMONIC_SETB:
    case ZYDIS_MNEMONIC_SETNB: case ZYDIS_MNEMONIC_SETZ: case ZYDIS_MNEMONIC_SETNZ:
    case ZYDIS_MNEMONIC_SETBE: case ZYDIS_MNEMONIC_SETNBE: case ZYDIS_MNEMONIC_SETS:
    case ZYDIS_MNEMONIC_SETNS: case ZYDIS_MNEMONIC_SETL: case ZYDIS_MNEMONIC_SETNL:
    case ZYDIS_MNEMONIC_SETLE: case ZYDIS_MNEMONIC_SETNLE:
        if (!known_condition(w, i, &defined))
            return false;
        return write_register(w, &i->operands[0], (struct number){defined, 0});
    case ZYDIS_MNEMONIC_CMOVO: case ZYDIS_MNEMONIC_CMOVNO: case ZYDIS_MNEMONIC_CMOVB:
    case ZYDIS_MNEMONIC_CMOVNB: case ZYDIS_MNEMONIC_CMOVZ: case ZYDIS_MNEMONIC_CMOVNZ:
    case ZYDIS_MNEMONIC_CMOVBE: case ZYDIS_MNEMONIC_CMOVNBE: case ZYDIS_MNEMONIC_CMOVS:
    case ZYDIS_MNEMONIC_CMOVNS: case ZYDIS_MNEMONIC_CMOVL: case ZYDIS_MNEMONIC_CMOVNL:
    case ZYDIS_MNEMONIC_CMOVLE: case ZYDIS_MNEMONIC_CMOVNLE:
        if (!known_condition(w, i, &defined) || !read_operand(w, i, defined, &n))
            return false;
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_INC:
    case ZYDIS_MNEMONIC_DEC: /* the carry stays, but nobody asks for it behind them */
        if (!read_operand(w, i, 0, &a))
            return false;
        b = (struct number){1, 0};
        n = i->z.mnemonic == ZYDIS_MNEMONIC_INC ? add(a, b, m) : subtract(a, b, m);
        set_flags(w, n, bits, false, false, false);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_ADD:
    case ZYDIS_MNEMONIC_CMP:
    case ZYDIS_MNEMONIC_SUB:
        if (!read_operand(w, i, 0, &a) || !read_operand(w, i, 1, &b))
            return false;
        a.value &= m;
        b.value &= m;
        defined = !a.undefined && !b.undefined;
        if (i->z.mnemonic == ZYDIS_MNEMONIC_ADD) {
            n = add(a, b, m);
            set_flags(w, n, bits, n.value < a.value,
                      (~(a.value ^ b.value) & (a.value ^ n.value)) >> (bits - 1) & 1, defined);
            return write_register(w, &i->operands[0], n);
        }
        n = subtract(a, b, m);
        if ((a.value ^ b.value) & ~a.undefined & ~b.undefined && n.undefined)
            n.undefined &= ~(n.value & -n.value); /* they differ, it is not 0; only ZF is known */
        set_flags(w, n, bits, a.value < b.value,
                  ((a.value ^ b.value) & (a.value ^ n.value)) >> (bits - 1) & 1, defined);
        n = is_of_itself(i) ? (struct number){0, 0} : subtract(a, b, m);
        return i->z.mnemonic == ZYDIS_MNEMONIC_CMP || write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_ANDN:
        if (!read_operand(w, i, 1, &a) || !read_operand(w, i, 2, &b))
            return false;
        a.value = ~a.value & m;
        n = logic(ZYDIS_MNEMONIC_AND, a, b, m);
        set_flags(w, n, bits, false, false, true);
        return write_register(w, &i->operands[0], n);
    case ZYDIS_MNEMONIC_TEST:
    case ZYDIS_MNEMONIC_AND:
    case ZYDIS_MNEMONIC_OR:
    case ZYDIS_MNEMONIC_XOR:
        if (!read_operand(w, i, 0, &a) || !read_operand(w, i, 1, &b))
            return false;
        n = logic(i->z.mnemonic, a, b, m);
        if (i->z.mnemonic == ZYDIS_MNEMONIC_XOR && is_of_itself(i)) /* of anything */
            n = (struct number){0, 0};
        set_flags(w, n, bits, false, false, true);
        return i->z.mnemonic == ZYDIS_MNEMONIC_TEST || write_register(w, &i->operands[0], n);
    default:
        return false;
    }
}

static bool is_conditional(const struct instruction *i) {
    return i->z.meta.category == ZYDIS_CATEGORY_COND_BR &&
           i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE &&
           ((i->z.opcode_map == ZYDIS_OPCODE_MAP_DEFAULT && (i->z.opcode & 0xf0) == 0x70) ||
            (i->z.opcode_map == ZYDIS_OPCODE_MAP_0F && (i->z.opcode & 0xf0) == 0x80));
}

/* That the condition asks for. */
static uint64_t flags_of(int condition) {
    static const uint64_t asked[] = {FLAG_OF, FLAG_CF, FLAG_ZF, FLAG_CF | FLAG_ZF,
                                     FLAG_SF, FLAG_PF, FLAG_SF | FLAG_OF, FLAG_ZF | FLAG_SF | FLAG_OF};
    return asked[condition >> 1];
}

static gaddr next_of(const struct instruction *i) { return i->pc + i->z.length; }
static gaddr target_of(const struct instruction *i) {
    return next_of(i) + (uint64_t)i->operands[0].imm.value.s;
}

/* What an instruction does with registers. */
struct effect {
    uint32_t low, all; /* read: of the lowest byte nothing else; more */
    uint32_t byte;     /* the lowest byte is written, and nothing else */
    uint32_t part;     /* other parts are, or it may stay as it was */
};

static struct effect effect_of(const struct instruction *i) {
    struct effect e = {0, 0, 0, 0};
    bool zero = (i->z.mnemonic == ZYDIS_MNEMONIC_XOR || i->z.mnemonic == ZYDIS_MNEMONIC_SUB) &&
                is_of_itself(i) && i->operands[0].size >= 32; /* of anything */
    if (i->z.mnemonic == ZYDIS_MNEMONIC_NOP) /* it has operands for its length */
        return e;
    for (int k = 0; k < i->z.operand_count && !zero; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int r = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o->reg.value) : -1;
        bool low = o->size == 8 && !is_high(o->reg.value);
        if (r >= 0 && (o->actions & ZYDIS_OPERAND_ACTION_MASK_READ))
            *(low ? &e.low : &e.all) |= 1u << r;
        bool stays = (o->actions & ZYDIS_OPERAND_ACTION_CONDWRITE) ||
                     i->z.mnemonic == ZYDIS_MNEMONIC_BSF || i->z.mnemonic == ZYDIS_MNEMONIC_BSR;
        if (r >= 0 && (o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE) && (o->size < 32 || stays))
            *(low && !stays ? &e.byte : &e.part) |= 1u << r;
        if (o->type == ZYDIS_OPERAND_TYPE_MEMORY) {
            int base = register_number(o->mem.base), index = register_number(o->mem.index);
            e.all |= (base >= 0 ? 1u << base : 0) | (index >= 0 ? 1u << index : 0);
        }
    }
    return e;
}

/* Branches on the way of are_dead, with the registers asked for there: where it comes again with
   none besides, nothing new is to be found. */
struct seen {
    gaddr pc[32];
    uint32_t set[32], upper[32];
    int count;
    gaddr back; /* where the function returns to; 0: not known */
    int steps;  /* of all ways */
    bool far;   /* they are followed over calls */
    uint32_t undefined; /* registers in which what differs is undefined both ways: who asks is told */
};

static bool was_seen(struct seen *s, gaddr pc, uint32_t set, uint32_t upper) {
    for (int k = 0; k < s->count; k++)
        if (s->pc[k] == pc && !(set & ~s->set[k]) && !(set & s->upper[k] & ~upper))
            return true;
    if (s->count < (int)(sizeof s->pc / sizeof s->pc[0])) {
        s->pc[s->count] = pc;
        s->upper[s->count] = upper;
        s->set[s->count++] = set;
    }
    return false;
}

/* Lowest bytes of registers that are known where the way goes, as compilers put it down in one
   which way they have come by; and whether the last of them that was tested is zero. */
struct marks {
    uint32_t known;
    uint8_t value[16];
    enum { TESTED_NOTHING, TESTED_ZERO, TESTED_OTHER } tested;
};

static void follow_marks(struct marks *m, const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    int r = o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && !is_high(o[0].reg.value)
                ? register_number(o[0].reg.value)
                : -1;
    bool same = r >= 0 && o[1].type == ZYDIS_OPERAND_TYPE_REGISTER && o[1].reg.value == o[0].reg.value;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_TEST && same && o[0].size == 8) {
        m->tested = !(m->known >> r & 1) ? TESTED_NOTHING : m->value[r] ? TESTED_OTHER : TESTED_ZERO;
        return;
    }
    if (flags_written(i))
        m->tested = TESTED_NOTHING;
    m->known &= ~i->registers_written;
    if (r < 0)
        return;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_XOR && same) {
        m->known |= 1u << r;
        m->value[r] = 0;
    } else if (i->z.mnemonic == ZYDIS_MNEMONIC_MOV && o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE) {
        m->known |= 1u << r;
        m->value[r] = (uint8_t)o[1].imm.value.u;
    }
}

/* It looks at the stack guard (psABI: at fs:0x28). */
static bool reads_guard(const struct instruction *i) {
    for (int k = 0; k < i->memory_count; k++)
        if (i->memory[k].segment && i->memory[k].base < 0 && i->memory[k].displacement == 0x28)
            return true;
    return false;
}

static bool is_call(gaddr pc) {
    struct instruction i;
    decode_here(&i, pc);
    return i.valid && i.z.meta.category == ZYDIS_CATEGORY_CALL;
}

/* Whether nobody asks for these registers from there on, before they are set anew; `upper`: of the
   set, those that have their lowest byte in common. */
static bool are_dead(struct seen *s, struct marks marks, gaddr pc, uint32_t set, uint32_t upper,
                     int depth) {
    struct instruction i;
    int guard = 0; /* instructions that the guard may still be compared by */
    for (int n = 0; n < LOOK_AHEAD && set; n++, guard--) {
        decode_here(&i, pc);
        if (!i.valid || ++s->steps > MOST)
            return false;
        if (i.z.meta.category == ZYDIS_CATEGORY_RET) {
            gaddr back = s->back;
            set &= (RESULT | KEPT) & ~s->undefined;
            if (!set || !back || (set & KEPT))
                return !set;
            struct seen caller = {.far = s->far}; /* does it ask for a second register at all? */
            return are_dead(&caller, (struct marks){0}, back, set, upper & set, depth);
        }
        if (i.z.meta.category == ZYDIS_CATEGORY_CALL) { /* what it does not take may be kept over it */
            set &= ~(1u << RAX);
            if (!set)
                return !(effect_of(&i).all & 1u << RAX);
            uint64_t left = set;
            if (!s->far || (effect_of(&i).all & set) || !across_called(pc, &left))
                return false;
            set = (uint32_t)left;
            upper &= set;
            marks = (struct marks){0};
            pc = next_of(&i);
            if (!(set & KEPT) && !across_read_while_running(pc, set))
                return true;
            continue;
        }
        follow_marks(&marks, &i);
        struct effect e = effect_of(&i);
        if ((e.low & set & ~upper) || (e.all & set))
            return false;
        set &= ~i.registers_written | e.byte | e.part;
        upper = (upper | e.byte) & set;
        pc = next_of(&i);
        if (reads_guard(&i))
            guard = 3;
        if (is_conditional(&i) && guard > 0 && is_call(target_of(&i)))
            continue; /* to __stack_chk_fail, which asks for nothing */
        if (is_conditional(&i)) {
            if (marks.tested && (i.z.opcode & 14) == 4) { /* by ZF: one way only */
                bool zero = marks.tested == TESTED_ZERO;
                pc = zero == !(i.z.opcode & 1) ? target_of(&i) : pc;
                continue;
            }
            if (was_seen(s, i.pc, set, upper))
                return true;
            marks = (struct marks){0}; /* who comes by here again may have others */
            if (!depth || !are_dead(s, marks, target_of(&i), set, upper, depth - 1))
                return false;
        } else if (i.z.mnemonic == ZYDIS_MNEMONIC_JMP) {
            if (i.operands[0].type != ZYDIS_OPERAND_TYPE_IMMEDIATE)
                return false;
            pc = target_of(&i);
        }
    }
    return !set;
}

/* Where jumps lead from there. */
static gaddr behind_jumps(gaddr pc) {
    struct instruction i;
    for (int n = 0; n < 4; n++) {
        decode_here(&i, pc);
        if (!i.valid || i.z.mnemonic != ZYDIS_MNEMONIC_JMP ||
            i.operands[0].type != ZYDIS_OPERAND_TYPE_IMMEDIATE)
            break;
        pc = target_of(&i);
    }
    return pc;
}

static bool is_return(gaddr pc) {
    struct instruction i;
    decode_here(&i, pc);
    return i.valid && i.z.meta.category == ZYDIS_CATEGORY_RET && i.z.operand_count_visible == 0;
}

/* Flags that the code asks for before it sets them; all if that is not seen soon. */
static uint64_t flags_asked(gaddr pc) {
    enum { SOON = 16 };
    struct instruction i;
    for (int n = 0; n < SOON; n++) {
        decode_here(&i, pc);
        if (!i.valid)
            break;
        if (i.flags_read & ARITHMETIC_FLAGS)
            return i.flags_read & ARITHMETIC_FLAGS;
        if (flags_written(&i) || i.z.meta.category == ZYDIS_CATEGORY_RET ||
            i.z.meta.category == ZYDIS_CATEGORY_CALL)
            return 0;
        bool jumps = i.z.mnemonic == ZYDIS_MNEMONIC_JMP;
        if (jumps && i.operands[0].type != ZYDIS_OPERAND_TYPE_IMMEDIATE)
            break;
        pc = jumps ? target_of(&i) : next_of(&i);
    }
    return ARITHMETIC_FLAGS;
}

/* Two ways have come to the same place: whether nobody asks there for what is different. */
static bool are_alike(struct context *c, const struct walk *a, const struct walk *b, gaddr pc,
                      bool far) {
    struct seen seen = {.far = far};
    uint32_t differ = 0, upper = 0;
    uint64_t flags = flags_asked(pc);
    if (!same_stores(a, b))
        return false;
    if (flags & ~(a->flags_known & b->flags_known & ~(a->flags ^ b->flags)))
        return false;
    if (c->shadow > c->shadow_base)
        seen.back = c->shadow[-1].return_address;
    for (int r = 0; r < 16; r++) {
        uint64_t open = a->undefined[r] | b->undefined[r], other = a->value[r] ^ b->value[r];
        if (c->dirty && dirty_words(c)[r] && !((open | other) & ~(a->undefined[r] & b->undefined[r])))
            seen.undefined |= 1u << r;
        if (!((a->written | b->written) >> r & 1) || !(open | other))
            continue;
        differ |= 1u << r;
        if (!((open | other) & 0xff))
            upper |= 1u << r;
    }
    struct seen again = seen;
    if (are_dead(&seen, (struct marks){0}, pc, differ, upper, DEPTH))
        return true;
    uint32_t scratch = differ & ~(KEPT | RESULT); /* which are followed further, bit by bit not */
    uint32_t dead = far && scratch ? scratch & ~(uint32_t)across_read_while_running(pc, scratch) : 0;
    return dead && are_dead(&again, (struct marks){0}, pc, differ & ~dead, upper & ~dead, DEPTH);
}

static void set_out(struct context *c, struct walk *w) {
    *w = (struct walk){.written = 0};
    for (int r = 0; r < 16; r++) {
        w->value[r] = c->registers[r];
        if (c->dirty)
            w->undefined[r] = dirty_words(c)[r];
    }
}

/* One instruction on the way; false: it does more than compute, or where it leads is not known.
   Where one way of a branch leads to the other way's begin, and nobody asks there for what has
   changed by now, the walk goes on with the other. */
static bool go_on(struct context *c, struct walk *w, gaddr *pc, gaddr other, bool far) {
    struct instruction i;
    decode_here(&i, *pc);
    if (!i.valid)
        return false;
    if (i.z.mnemonic == ZYDIS_MNEMONIC_JMP && i.operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE) {
        *pc = target_of(&i);
        return true;
    }
    if (!is_conditional(&i)) {
        *pc = next_of(&i);
        return compute(w, &i);
    }
    gaddr taken = target_of(&i), on = next_of(&i);
    if (!(flags_of(i.z.opcode & 15) & ~w->flags_known)) {
        *pc = condition_holds(w->flags, i.z.opcode & 15) ? taken : on;
        return true;
    }
    struct walk begin;
    set_out(c, &begin);
    if ((taken != other && on != other) || !are_alike(c, w, &begin, other, far))
        return false;
    *pc = taken == other ? on : taken;
    return true;
}

/* Branches that collectors of garbage come by with many undefined values, and that always decide
   something: there no more time is taken. */
static struct decided {
    gaddr pc;
    uint32_t times;
} decided[1024];
enum { OFTEN = 32 };

static struct decided *decided_at(gaddr pc) {
    struct decided *d = &decided[(pc * 0x9e3779b97f4a7c15ULL) >> 54];
    if (d->pc != pc)
        *d = (struct decided){pc, 0};
    return d;
}

static bool both_ways_meet(struct context *c, gaddr pc, bool far) {
    struct instruction i;
    decode_here(&i, pc);
    if (!i.valid || !is_conditional(&i))
        return false;
    gaddr taken = behind_jumps(target_of(&i)), on = behind_jumps(next_of(&i)), at = taken;
    struct stop {
        gaddr pc;
        struct walk walk;
    } stops[STEPS];
    struct walk w;
    int count = 0;
    set_out(c, &w);
    do
        stops[count++] = (struct stop){at, w};
    while (count < STEPS && go_on(c, &w, &at, on, far));
    bool returns = is_return(stops[count - 1].pc); /* all lead back to the same place */
    set_out(c, &w);
    at = on;
    int steps = 0;
    do
        for (int n = 0; n < count; n++)
            if ((stops[n].pc == at || (returns && n + 1 == count && is_return(at))) &&
                are_alike(c, &stops[n].walk, &w, at, far))
                return true;
    while (++steps < STEPS && go_on(c, &w, &at, taken, far));
    return false;
}

bool branch_is_moot(struct context *c, gaddr pc) {
    struct decided *d = decided_at(pc);
    bool moot = both_ways_meet(c, pc, d->times < OFTEN);
    d->times = moot ? 0 : d->times + 1;
    return moot;
}

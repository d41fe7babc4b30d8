/* Which bits of an operand matter. Fields and flags share their words with others that nobody may
   ever have set: where the code behind a load masks those out, what is loaded counts as defined
   when the bits that are left are; where the word goes back to its place with a field changed,
   the others stay as they are. */
#include "copies.h"

enum { AHEAD = 10 }; /* instructions behind the load */

/* The register that the load went to, on its way. */
struct walk {
    int reg;
    int shifted;    /* its bit n is bit n + shifted of what was loaded */
    uint64_t asked; /* of what was loaded: bits that are still in it */
    bool flags;     /* those that lost bits have set may be read */
};

static uint64_t low_bits(int count) { return count < 64 ? (1ULL << count) - 1 : ~0ULL; }

/* `bits` of the register, as bits of what was loaded. */
static uint64_t of_load(const struct walk *w, uint64_t bits) {
    return w->shifted >= 0 ? bits << w->shifted : bits >> -w->shifted;
}

static bool is_named(const ZydisDecodedOperand *o, int reg) {
    return o->type == ZYDIS_OPERAND_TYPE_REGISTER && register_number(o->reg.value) == reg &&
           !(o->reg.value >= ZYDIS_REGISTER_AH && o->reg.value <= ZYDIS_REGISTER_BH);
}

static bool is_own(const struct walk *w, const ZydisDecodedOperand *o) { return is_named(o, w->reg); }

/* Of a plain load of an integer, that is not made longer by its sign; -1: it is none. */
static int loaded_register(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    bool moves = i->z.mnemonic == ZYDIS_MNEMONIC_MOV || i->z.mnemonic == ZYDIS_MNEMONIC_MOVZX;
    if (!moves || o[1].type != ZYDIS_OPERAND_TYPE_MEMORY || o[0].type != ZYDIS_OPERAND_TYPE_REGISTER)
        return -1;
    int reg = register_number(o[0].reg.value);
    return is_named(&o[0], reg) ? reg : -1;
}

/* False: the instruction does something else with the register. */
static bool follow(struct walk *w, const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    int width = o[0].size, count = 0;
    bool immediate = o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    if (i->z.operand_count_visible != 2 || !is_own(w, &o[0]))
        return false;
    uint64_t asked = w->asked, within = of_load(w, low_bits(width));
    if (width == 32)
        asked &= within; /* the upper half becomes 0 */
    else if (asked & ~within)
        return false;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOV:
    case ZYDIS_MNEMONIC_MOVZX:
        if (!is_own(w, &o[1]) || width < 32)
            return false;
        asked &= of_load(w, low_bits(o[1].size));
        break;
    case ZYDIS_MNEMONIC_AND:
        if (!immediate)
            return false;
        asked &= of_load(w, o[1].imm.value.u);
        w->flags = false;
        break;
    case ZYDIS_MNEMONIC_SHR:
    case ZYDIS_MNEMONIC_SHL:
        count = immediate ? (int)o[1].imm.value.u : 0;
        if (count < 1 || count >= width || w->shifted > 63 - count || w->shifted < count - 63)
            return false;
        w->flags = true; /* the carry is a bit that was lost */
        if (i->z.mnemonic == ZYDIS_MNEMONIC_SHR) {
            asked &= ~of_load(w, low_bits(count));
            w->shifted += count;
        } else {
            asked &= of_load(w, low_bits(width - count));
            w->shifted -= count;
        }
        break;
    default:
        return false;
    }
    w->asked = asked;
    return true;
}

static uint64_t asked_of_load(const struct instruction *load) {
    const ZydisDecodedOperand *o = load->operands;
    int reg = loaded_register(load);
    if (reg < 0)
        return 0;
    uint64_t all = low_bits(o[1].size), asked = all;
    struct walk w = {.reg = reg, .asked = all};
    bool follows = true;
    for (const struct instruction *i = load + 1; i < trace + trace_count && i - load <= AHEAD; i++) {
        if (role_of(i) != PLAIN || (w.flags && i->flags_read))
            break;
        if ((i->flags_killed & ARITHMETIC_FLAGS) == ARITHMETIC_FLAGS)
            w.flags = false;
        if (i->registers_used & 1u << w.reg)
            follows = follows && follow(&w, i);
        if (!w.flags)
            asked = w.asked;
        if (!follows && !w.flags)
            break;
    }
    return asked == all ? 0 : asked;
}

uint64_t bits_asked(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    if (i->z.mnemonic != ZYDIS_MNEMONIC_TEST)
        return asked_of_load(i);
    return o[0].type == ZYDIS_OPERAND_TYPE_MEMORY && o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE
               ? o[1].imm.value.u & low_bits(o[0].size)
               : 0;
}

/* Bits of a register that may be 1 before the instruction, as far as the trace tells. */
static uint64_t bits_of(int reg, const struct instruction *at) {
    int shift = 0;
    for (const struct instruction *i = at; i-- > trace;) {
        const ZydisDecodedOperand *o = i->operands;
        if (!(i->registers_written & 1u << reg)) {
            if (role_of(i) != PLAIN)
                break;
            continue;
        }
        bool immediate = o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
        if (role_of(i) != PLAIN || i->z.operand_count_visible != 2 || !is_named(&o[0], reg) ||
            o[0].size < 32)
            break;
        switch (i->z.mnemonic) {
        case ZYDIS_MNEMONIC_SHL:
            if (!immediate || o[1].imm.value.u > 31 || shift > 31)
                return ~0ULL;
            shift += (int)o[1].imm.value.u;
            continue;
        case ZYDIS_MNEMONIC_ADD: /* to itself */
            if (!is_named(&o[1], reg) || shift > 31)
                return ~0ULL;
            shift++;
            continue;
        case ZYDIS_MNEMONIC_AND:
            return immediate && o[1].imm.value.s >= 0 ? o[1].imm.value.u << shift : ~0ULL;
        case ZYDIS_MNEMONIC_MOVZX:
            return low_bits(o[1].size) << shift;
        case ZYDIS_MNEMONIC_MOV:
            if (immediate)
                return (o[1].imm.value.u & low_bits(o[0].size)) << shift;
            reg = o[1].type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o[1].reg.value) : -1;
            if (reg < 0)
                return ~0ULL;
            continue;
        default:
            return ~0ULL;
        }
    }
    return ~0ULL;
}

/* What stays of the undefined bits of a word. */
static bool changes(const struct instruction *i, int reg, uint64_t *stay) {
    const ZydisDecodedOperand *o = i->operands;
    bool immediate = o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    if (i->z.operand_count_visible != 2 || i->memory_count || !is_named(&o[0], reg) ||
        (!immediate && (i->z.mnemonic == ZYDIS_MNEMONIC_AND || is_named(&o[1], reg))))
        return false;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_AND:
        *stay &= o[1].imm.value.u | ~low_bits(o[0].size);
        return true;
    case ZYDIS_MNEMONIC_OR: { /* with what is defined in the clean version: a 1 is defined then */
        uint64_t all = low_bits(o[0].size);
        if (immediate) {
            *stay &= ~(o[1].imm.value.u & all);
            return true;
        }
        int other = o[1].type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o[1].reg.value) : -1;
        return other >= 0 && is_named(&o[1], other) && !(bits_of(other, i) & all & *stay);
    }
    case ZYDIS_MNEMONIC_XOR:
        return true;
    default:
        return false;
    }
}

static bool same_place(const struct memory *a, const struct memory *b) {
    return a->base == b->base && a->index == b->index && a->scale == b->scale &&
           a->displacement == b->displacement && a->segment == b->segment &&
           a->absolute == b->absolute && a->address32 == b->address32;
}

/* The store that puts a loaded word back to its place, if nothing but that is done with it. */
static const struct instruction *store_back(const struct instruction *load, uint64_t *stay) {
    int reg = loaded_register(load);
    if (reg < 0 || load->encoded < 0)
        return NULL;
    const struct memory *from = &load->memory[load->encoded];
    uint32_t address = address_uses(from);
    bool flags = false, changed = false;
    if (address & 1u << reg)
        return NULL;
    for (const struct instruction *i = load + 1; i < trace + trace_count && i - load <= AHEAD; i++) {
        if (role_of(i) != PLAIN || (flags && i->flags_read) || (i->registers_written & address))
            return NULL;
        if ((i->flags_killed & ARITHMETIC_FLAGS) == ARITHMETIC_FLAGS)
            flags = false;
        if (!(i->registers_used & 1u << reg)) {
            if (i->memory_count)
                return NULL;
            continue;
        }
        if (changes(i, reg, stay)) {
            changed = flags = true;
            continue;
        }
        const struct memory *to = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
        if (!to || !changed || i->z.mnemonic != ZYDIS_MNEMONIC_MOV || !to->write ||
            !is_named(&i->operands[1], reg) || to->size > from->size || !same_place(from, to))
            return NULL;
        *stay |= ~low_bits(8 * (int)to->size);
        bool dead = flags_dead_behind(i) && across_overwritten(i->pc + i->z.length, 1ULL << reg);
        return dead ? i : NULL;
    }
    return NULL;
}

const struct instruction *stays_in_place(const struct instruction *i, uint64_t *stay) {
    const ZydisDecodedOperand *o = i->operands;
    *stay = ~0ULL;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_MOV || i->z.mnemonic == ZYDIS_MNEMONIC_MOVZX)
        return store_back(i, stay);
    if (i->z.operand_count_visible != 2 || o[0].type != ZYDIS_OPERAND_TYPE_MEMORY ||
        o[1].type != ZYDIS_OPERAND_TYPE_IMMEDIATE || !flags_dead_behind(i))
        return NULL;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_AND: *stay = o[1].imm.value.u; return i;
    case ZYDIS_MNEMONIC_OR: *stay = ~o[1].imm.value.u; return i;
    case ZYDIS_MNEMONIC_XOR: return i;
    default: return NULL;
    }
}

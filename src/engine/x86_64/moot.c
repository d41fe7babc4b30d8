/* Whether it makes no difference where a branch goes. Optimizers that turn `kind == K &&
   field == F` into two branches may ask for the field first: where the kind is another
   one, both ways meet again, and that the field was never set decides nothing. The way
   not taken is walked in thought, over a few instructions without side effects. */
#include "decode.h"
#include "plan.h"

enum { STEPS = 16, LOOK_AHEAD = 64, DEPTH = 3, RESULT = 1u << RAX | 1u << RDX,
       KEPT = 1u << RBX | 1u << RSP | 1u << RBP | 0xf000 /* R12 to R15, over calls */ };

struct walk {
    uint64_t value[16], flags;
    uint32_t known, written; /* registers: all bits are defined; they were changed */
    bool flags_known;
};

struct number {
    uint64_t value;
    bool known;
};

static uint64_t mask_of(uint64_t bits) { return bits >= 64 ? ~0ULL : (1ULL << bits) - 1; }

static bool is_high(ZydisRegister r) { return r >= ZYDIS_REGISTER_AH && r <= ZYDIS_REGISTER_BH; }

/* False: it cannot be told. */
static bool address_of(const struct walk *w, const struct memory *m, gaddr *address) {
    if (m->segment || m->vector_index || m->address32)
        return false;
    *address = (gaddr)m->displacement;
    if (m->base >= 0) {
        if (!(w->known & 1u << m->base))
            return false;
        *address += w->value[m->base];
    }
    if (m->index >= 0) {
        if (!(w->known & 1u << m->index))
            return false;
        *address += w->value[m->index] * (uint64_t)m->scale;
    }
    return true;
}

static bool read_memory(gaddr a, uint64_t size, struct number *n) {
    struct mapping m;
    if (size > 8 || a >= GUEST_END - 8)
        return false;
    if (!heap_near(a) && (!memory_lookup(a, &m) || !(m.protection & 1) || a + size > m.end))
        return false;
    n->known = !shadow_first_undefined(a, size);
    n->value = 0;
    copy_bytes(&n->value, guest(a), size);
    return true;
}

static bool read_operand(const struct walk *w, const struct instruction *i, int k,
                         struct number *n) {
    const ZydisDecodedOperand *o = &i->operands[k];
    gaddr a;
    int r;
    switch (o->type) {
    case ZYDIS_OPERAND_TYPE_IMMEDIATE:
        *n = (struct number){o->imm.value.u, true};
        return true;
    case ZYDIS_OPERAND_TYPE_REGISTER:
        r = register_number(o->reg.value);
        if (r < 0 || is_high(o->reg.value))
            return false;
        *n = (struct number){w->value[r] & mask_of(o->size), (w->known >> r & 1) != 0};
        return true;
    case ZYDIS_OPERAND_TYPE_MEMORY:
        return i->encoded >= 0 && address_of(w, &i->memory[i->encoded], &a) &&
               read_memory(a, o->size / 8u, n);
    default:
        return false;
    }
}

static bool write_register(struct walk *w, const ZydisDecodedOperand *o, struct number n) {
    int r = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o->reg.value) : -1;
    if (r < 0 || r == RSP || is_high(o->reg.value))
        return false;
    if (o->size < 32) {
        uint64_t m = mask_of(o->size);
        n.known &= (w->known >> r & 1) != 0;
        n.value = (w->value[r] & ~m) | (n.value & m);
    }
    w->value[r] = o->size == 32 ? (uint32_t)n.value : n.value;
    w->known = n.known ? w->known | 1u << r : w->known & ~(1u << r);
    w->written |= 1u << r;
    return true;
}

static void set_flags(struct walk *w, uint64_t result, uint64_t bits, bool carry, bool overflow,
                      bool known) {
    result &= mask_of(bits);
    w->flags = (result ? 0 : FLAG_ZF) | (result >> (bits - 1) & 1 ? FLAG_SF : 0) |
               (__builtin_parity((unsigned)result & 0xff) ? 0 : FLAG_PF) | (carry ? FLAG_CF : 0) |
               (overflow ? FLAG_OF : 0);
    w->flags_known = known;
}

/* One instruction that only computes; false: it does more. */
static bool compute(struct walk *w, const struct instruction *i) {
    struct number a, b;
    uint64_t bits = i->operands[0].size, m = mask_of(bits), r;
    gaddr address;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_NOP:
    case ZYDIS_MNEMONIC_ENDBR64:
        return true;
    case ZYDIS_MNEMONIC_LEA:
        return address_of(w, &i->memory[i->encoded], &address) &&
               write_register(w, &i->operands[0], (struct number){address, true});
    case ZYDIS_MNEMONIC_MOV:
    case ZYDIS_MNEMONIC_MOVZX:
        return read_operand(w, i, 1, &b) && write_register(w, &i->operands[0], b);
    case ZYDIS_MNEMONIC_MOVSX:
    case ZYDIS_MNEMONIC_MOVSXD:
        if (!read_operand(w, i, 1, &b))
            return false;
        r = 1ULL << (i->operands[1].size - 1);
        b.value = (b.value ^ r) - r;
        return write_register(w, &i->operands[0], b);
    case ZYDIS_MNEMONIC_CMP:
    case ZYDIS_MNEMONIC_SUB:
        if (!read_operand(w, i, 0, &a) || !read_operand(w, i, 1, &b))
            return false;
        a.value &= m;
        b.value &= m;
        r = (a.value - b.value) & m;
        set_flags(w, r, bits, a.value < b.value,
                  ((a.value ^ b.value) & (a.value ^ r)) >> (bits - 1) & 1, a.known && b.known);
        return i->z.mnemonic == ZYDIS_MNEMONIC_CMP ||
               write_register(w, &i->operands[0], (struct number){r, a.known && b.known});
    case ZYDIS_MNEMONIC_TEST:
    case ZYDIS_MNEMONIC_AND:
    case ZYDIS_MNEMONIC_OR:
    case ZYDIS_MNEMONIC_XOR:
        if (!read_operand(w, i, 0, &a) || !read_operand(w, i, 1, &b))
            return false;
        r = i->z.mnemonic == ZYDIS_MNEMONIC_OR    ? a.value | b.value
            : i->z.mnemonic == ZYDIS_MNEMONIC_XOR ? a.value ^ b.value
                                                  : a.value & b.value;
        set_flags(w, r, bits, false, false, a.known && b.known);
        return i->z.mnemonic == ZYDIS_MNEMONIC_TEST ||
               write_register(w, &i->operands[0], (struct number){r & m, a.known && b.known});
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

static gaddr next_of(const struct instruction *i) { return i->pc + i->z.length; }
static gaddr target_of(const struct instruction *i) {
    return next_of(i) + (uint64_t)i->operands[0].imm.value.s;
}

static uint32_t registers_read(const struct instruction *i) {
    uint32_t set = 0;
    if ((i->z.mnemonic == ZYDIS_MNEMONIC_XOR || i->z.mnemonic == ZYDIS_MNEMONIC_SUB) &&
        i->operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
        i->operands[1].type == ZYDIS_OPERAND_TYPE_REGISTER && i->operands[0].size >= 32 &&
        i->operands[0].reg.value == i->operands[1].reg.value)
        return 0; /* makes 0 of anything */
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int r = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o->reg.value) : -1;
        /* a part that is written leaves the rest */
        if (r >= 0 && ((o->actions & ZYDIS_OPERAND_ACTION_MASK_READ) || o->size < 32))
            set |= 1u << r;
        if (o->type == ZYDIS_OPERAND_TYPE_MEMORY) {
            int base = register_number(o->mem.base), index = register_number(o->mem.index);
            set |= (base >= 0 ? 1u << base : 0) | (index >= 0 ? 1u << index : 0);
        }
    }
    return set;
}

/* Whether nobody asks for these registers from there on, before they are set anew. */
static bool are_dead(gaddr pc, uint32_t set, int depth) {
    struct instruction i;
    for (int n = 0; n < LOOK_AHEAD && set; n++) {
        decode_here(&i, pc);
        if (!i.valid)
            return false;
        if (i.z.meta.category == ZYDIS_CATEGORY_RET)
            return !(set & (RESULT | KEPT));
        if (i.z.meta.category == ZYDIS_CATEGORY_CALL)
            return !(set & ~(1u << RAX | 1u << 10 | 1u << 11));
        if (registers_read(&i) & set)
            return false;
        set &= ~i.registers_written;
        pc = next_of(&i);
        if (is_conditional(&i)) {
            if (!depth || !are_dead(target_of(&i), set, depth - 1))
                return false;
        } else if (i.z.mnemonic == ZYDIS_MNEMONIC_JMP) {
            if (i.operands[0].type != ZYDIS_OPERAND_TYPE_IMMEDIATE)
                return false;
            pc = target_of(&i);
        }
    }
    return !set;
}

/* Whether the way from there leads to the goal whatever undefined values are. */
static bool reaches(struct context *c, gaddr pc, gaddr goal) {
    struct walk w = {.known = 0xffff};
    struct instruction i;
    for (int r = 0; r < 16; r++) {
        w.value[r] = c->registers[r];
        if (c->dirty && dirty_words(c)[r])
            w.known &= ~(1u << r);
    }
    for (int n = 0; n < STEPS; n++) {
        if (pc == goal)
            return are_dead(goal, w.written, DEPTH);
        decode_here(&i, pc);
        if (!i.valid)
            return false;
        if (i.z.mnemonic == ZYDIS_MNEMONIC_JMP &&
            i.operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE) {
            pc = target_of(&i);
        } else if (is_conditional(&i)) {
            gaddr taken = target_of(&i), on = next_of(&i);
            if (w.flags_known)
                pc = condition_holds(w.flags, i.z.opcode & 15) ? taken : on;
            else if (taken == goal) /* one way is there, the other goes on */
                pc = on;
            else if (on == goal)
                pc = taken;
            else
                return false;
        } else if (compute(&w, &i)) {
            pc = next_of(&i);
        } else {
            return false;
        }
    }
    return false;
}

bool branch_is_moot(struct context *c, gaddr pc) {
    struct instruction i;
    decode_here(&i, pc);
    if (!i.valid || !is_conditional(&i))
        return false;
    gaddr taken = target_of(&i), on = next_of(&i);
    return reaches(c, on, taken) || reaches(c, taken, on);
}

/* Lanes of vectors, beside each other: compute.c. */
#include "computed.h"

static bool has_wide_integers(void) { /* AVX2 */
    static int known;
    if (!known) {
        uint32_t a, b, c, d;
        __asm__ volatile("cpuid" : "=a"(a), "=b"(b), "=c"(c), "=d"(d) : "0"(7), "2"(0));
        known = b >> 5 & 1 ? 1 : -1;
    }
    return known > 0;
}

static int vector_of(const ZydisDecodedOperand *o) {
    return o->type == ZYDIS_OPERAND_TYPE_REGISTER ? vector_number(o->reg.value) : -1;
}

bool find_lanes(const struct instruction *i, const struct plan *p, struct lanes *l) {
    int rule = rule_of(i, &l->lane), count = i->z.operand_count_visible;
    const ZydisDecodedOperand *o = i->operands;
    if (rule == RULE_V_LANES && count > 2 && o[count - 1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
        count--; /* says which comparison, how to round */
    bool unary = rule == RULE_V_LANES && count == 2 && !(o[0].actions & ZYDIS_OPERAND_ACTION_MASK_READ);
    const ZydisDecodedOperand *first = &o[count == 3 || unary ? 1 : 0];
    const ZydisDecodedOperand *second = unary ? first : first + 1;
    l->rule = rule;
    l->vex = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_VEX;
    l->wide = o[0].size == 256;
    if ((!l->vex && i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY) || count < 2 || count > 3 ||
        (!unary && (count == 3) != l->vex) || i->mask || p->half || p->sums ||
        (l->wide && !has_wide_integers()))
        return false;
    l->target = vector_of(&o[0]);
    l->a = vector_of(first);
    l->b = vector_of(second);
    l->from = second->type == ZYDIS_OPERAND_TYPE_MEMORY ? &i->memory[i->encoded] : NULL;
    if (l->target < 0 || (l->a < 0 && !unary) || l->target > 15 || l->a > 15 || l->b > 15 ||
        (l->a == l->b && !unary) || (l->b < 0) != (l->from != NULL) ||
        (unary && o[0].size != o[1].size))
        return false;
    uint32_t size = rule == RULE_V_SCALAR ? (uint32_t)l->lane : l->wide ? 32 : 16;
    if (l->from && (i->encoded < 0 || !is_operand(l->from) || l->from->size != size))
        return false;
    switch (rule) {
    case RULE_V_AND: case RULE_V_ANDN: case RULE_V_OR: case RULE_V_XOR:
        l->lane = 4;
        return true;
    case RULE_V_LANES:
        return l->lane <= 4 && (first->actions & ZYDIS_OPERAND_ACTION_READ) &&
               (count == 2 || !(o[0].actions & ZYDIS_OPERAND_ACTION_READ));
    case RULE_V_SCALAR: /* when the lowest lanes are defined after all */
        return (l->lane == 4 || l->lane == 8) && count == 2 &&
               (first->actions & ZYDIS_OPERAND_ACTION_READ);
    case RULE_V_ADD: case RULE_V_SUB: case RULE_V_EQUAL:
        return l->lane <= 4;
    default:
        return false;
    }
}

enum { P_EQUAL_BYTES = 0x74, P_EQUAL_HALVES, P_EQUAL, P_OR = 0xeb, P_AND = 0xdb, P_ANDN = 0xdf,
       P_XOR = 0xef, P_MASK = 0xd7 };

static int lanes_equal(const struct lanes *l) {
    return l->lane == 1 ? P_EQUAL_BYTES : l->lane == 2 ? P_EQUAL_HALVES : P_EQUAL;
}

static int vx, vy, vz, vw; /* vectors to work with, saved in these slots */
enum { SAVED = CTX_VALUE + 64 * 3 };
static bool vex, wide;

/* 66 0F, or VEX of two sources, the first of which is the target; a register or context. */
static void vector_op(int opcode, int reg, int from, int offset) {
    bool memory = from < 0;
    int rm = memory ? 0 : from;
    if (memory)
        emit8(&out, 0x64);
    if (vex) {
        emit8(&out, 0xc4);
        emit8(&out, (reg & 8 ? 0 : 0x80) | 0x40 | (rm & 8 ? 0 : 0x20) | 1);
        emit8(&out, (~reg & 15) << 3 | wide << 2 | 1);
    } else {
        emit8(&out, 0x66);
        if ((reg | rm) & 8)
            emit8(&out, rex(0, reg, 0, rm));
        emit8(&out, 0x0f);
    }
    emit8(&out, opcode);
    if (memory)
        emit_memory(&out, reg, -1, -1, 1, offset);
    else
        emit8(&out, 0xc0 | (reg & 7) << 3 | (rm & 7));
}

static void with(int opcode, int reg, int from) { vector_op(opcode, reg, from, 0); }
static void with_word(int opcode, int reg, int offset) { vector_op(opcode, reg, -1, offset); }

static void move_vector(int opcode, int reg, int offset) { /* movups reg, fs:[offset] or back */
    emit8(&out, 0x64);
    if (vex) {
        emit8(&out, 0xc5);
        emit8(&out, (reg & 8 ? 0 : 0x80) | 0x78 | wide << 2);
    } else {
        if (reg & 8)
            emit8(&out, 0x44);
        emit8(&out, 0x0f);
    }
    emit8(&out, opcode);
    emit_memory(&out, reg, -1, -1, 1, offset);
}

static void move_operand(int reg, const struct memory *m) { /* movups reg, [m] */
    int index = m->index < 0 ? 0 : m->index, base = m->base < 0 ? 0 : m->base;
    if (vex) {
        emit8(&out, 0xc4);
        emit8(&out, (reg & 8 ? 0 : 0x80) | (index & 8 ? 0 : 0x40) | (base & 8 ? 0 : 0x20) | 1);
        emit8(&out, 0x78 | wide << 2);
    } else {
        if (rex(0, reg, index, base) != 0x40)
            emit8(&out, rex(0, reg, index, base));
        emit8(&out, 0x0f);
    }
    emit8(&out, 0x10);
    emit_operand(m, reg, 0);
}

static void take(int reg, int offset) { move_vector(0x10, reg, offset); }
static void put(int reg, int offset) { move_vector(0x11, reg, offset); }

/* Half of a vector from the context: its lower one, and the upper becomes 0, or its upper one. */
static void take_half_vector(bool upper, int reg, int offset) {
    emit8(&out, 0x64);
    if (vex) {
        emit8(&out, 0xc5);
        emit8(&out, (reg & 8 ? 0 : 0x80) | (upper ? ~reg & 15 : 15) << 3 | (upper ? 0 : 2));
    } else {
        if (!upper)
            emit8(&out, 0xf3);
        if (reg & 8)
            emit8(&out, 0x44);
        emit8(&out, 0x0f);
    }
    emit8(&out, upper ? 0x16 : 0x7e); /* movhps, movq */
    emit_memory(&out, reg, -1, -1, 1, offset);
}

/* Origins, as they were written: processors wait where a read is wider than the writes were. */
static void take_origins(int reg, int offset) {
    if (wide) {
        take(reg, offset);
        return;
    }
    take_half_vector(false, reg, offset);
    take_half_vector(true, reg, offset + 8);
}

static void copy_origins(int to, int from, int size) {
    if (to != from)
        emit_origins_through(vx, vex, to, from, size);
}

static int bits_of(int v) { return v < 0 ? MEMORY_BITS : CTX_UNDEFINED_VECTOR + 64 * v; }
static int origins_of(int v) { return v < 0 ? MEMORY_ORIGINS : CTX_ORIGIN_OF(ELEMENT_VECTOR + v); }

/* To C where 4 bytes are undefined in both, of different origin. */
static void leave_if_they_differ(const struct lanes *l) {
    take(vx, bits_of(l->a));
    with(P_XOR, vz, vz);
    with(P_EQUAL, vx, vz);
    take(vy, bits_of(l->b));
    with(P_EQUAL, vy, vz);
    with(P_OR, vx, vy);
    take_origins(vy, origins_of(l->a));
    take_origins(vz, origins_of(l->b));
    with(P_EQUAL, vy, vz);
    with(P_OR, vx, vy);
    emit_spill(&out, RCX);
    if (vex) { /* pmovmskb ecx, vx */
        emit8(&out, 0xc4);
        emit8(&out, 0xc0 | (vx & 8 ? 0 : 0x20) | 1);
        emit8(&out, 0x78 | wide << 2 | 1);
    } else {
        emit8(&out, 0x66);
        if (vx & 8)
            emit8(&out, 0x41);
        emit8(&out, 0x0f);
    }
    emit8(&out, P_MASK);
    emit8(&out, 0xc0 | RCX << 3 | (vx & 7));
    emit8(&out, 0x81); /* cmp ecx, all of them */
    emit8(&out, 0xf8 | RCX);
    emit32(&out, wide ? -1 : 0xffff);
    emit_unspill(&out, RCX);
    leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
}

/* Each 4 bytes from the first that is undefined there. */
static void emit_lane_origins(const struct lanes *l) {
    take(vx, bits_of(l->a));
    with(P_XOR, vz, vz);
    with(P_EQUAL, vx, vz);
    take_origins(vy, origins_of(l->b));
    with(P_AND, vy, vx);
    take_origins(vz, origins_of(l->a));
    with(P_ANDN, vx, vz);
    with(P_OR, vx, vy);
    put(vx, origins_of(l->target));
}

/* The same origins in both, as where they are from one object: they stay, and nothing else need
   be asked. The jumps taken where they are not, with RCX spilled. */
static int emit_unless_alike(const struct lanes *l, uint8_t **differ) {
    int count = 0;
    emit_spill(&out, RCX);
    for (int at = 0; at < (wide ? 32 : 16); at += 8) {
        emit_context_op(&out, OP_MOV, RCX, origins_of(l->a) + at);
        emit_context_op(&out, 0x3b, RCX, origins_of(l->b) + at); /* cmp */
        differ[count++] = emit_short_jump(IF_NOT_ZERO);
    }
    return count;
}

static void emit_origins_of_both(const struct lanes *l, bool bytewise) {
    uint8_t *differ[4];
    int count = emit_unless_alike(l, differ), size = wide ? 32 : 16;
    emit_unspill(&out, RCX);
    copy_origins(origins_of(l->target), origins_of(l->a), size);
    uint8_t *alike = emit_long_jump();
    for (int k = 0; k < count; k++)
        patch_jump(differ[k], out.at);
    emit_unspill(&out, RCX);
    if (bytewise)
        leave_if_they_differ(l);
    emit_lane_origins(l);
    patch_jump(alike, out.at);
}

/* What b may be at most or at least. */
static void emit_bound(int reg, const struct lanes *l, bool most) {
    int b = l->b;
    if (b < 0)
        move_operand(b = vw, l->from);
    take(reg, bits_of(l->b));
    with(most ? P_OR : P_ANDN, reg, b);
}

/* vx becomes the undefined bits (rules_vector.c). */
static void emit_lane_bits(const struct lanes *l) {
    static const uint8_t adds[] = {0xfc, 0xfd, 0, 0xfe}, subtracts[] = {0xf8, 0xf9, 0, 0xfa};
    int s = bits_of(l->a), t = bits_of(l->b);
    bool difference = l->rule == RULE_V_SUB;
    int op = (difference ? subtracts : adds)[l->lane - 1];
    switch (l->rule) {
    case RULE_V_ADD: case RULE_V_SUB:
        take(vy, s); /* the most */
        with(P_OR, vy, l->a);
        emit_bound(vz, l, !difference);
        with(op, vy, vz);
        take(vx, s); /* the least */
        with(P_ANDN, vx, l->a);
        emit_bound(vz, l, difference);
        with(op, vx, vz);
        with(P_XOR, vx, vy);
        with_word(P_OR, vx, s);
        with_word(P_OR, vx, t);
        return;
    case RULE_V_XOR:
        take(vx, s);
        with_word(P_OR, vx, t);
        return;
    case RULE_V_AND: case RULE_V_ANDN:
        take(vx, s);
        with_word(P_OR, vx, t);
        if (l->rule == RULE_V_ANDN) {
            with(P_EQUAL, vy, vy);
            with(P_XOR, vy, l->a);
        } else {
            with(P_XOR, vy, vy);
            with(P_OR, vy, l->a);
        }
        with_word(P_OR, vy, s);
        with(P_AND, vx, vy);
        emit_bound(vy, l, true);
        with(P_AND, vx, vy);
        return;
    case RULE_V_OR:
        take(vz, s);
        with_word(P_OR, vz, t);
        take(vy, s);
        with(P_ANDN, vy, l->a);
        with(P_ANDN, vy, vz);
        emit_bound(vx, l, false);
        with(P_ANDN, vx, vy);
        return;
    case RULE_V_EQUAL: /* lanes with undefined bits of which the others do not differ */
        take(vx, s);
        with_word(P_OR, vx, t);
        with(P_XOR, vy, vy);
        with(P_OR, vy, l->a);
        if (l->b < 0)
            move_operand(vz, l->from);
        with(P_XOR, vy, l->b < 0 ? vz : l->b);
        with(P_XOR, vz, vz);
        with(P_OR, vz, vx);
        with(P_ANDN, vz, vy);
        with(P_XOR, vy, vy);
        with(lanes_equal(l), vz, vy);
        with(lanes_equal(l), vx, vy);
        with(P_ANDN, vx, vz);
        return;
    default: /* any bit of a lane, for all of it */
        take(vy, s);
        with_word(P_OR, vy, t);
        with(P_XOR, vx, vx);
        with(lanes_equal(l), vy, vx);
        with(P_EQUAL, vx, vx);
        with(P_ANDN, vy, vx);
        with(P_XOR, vx, vx);
        with(P_OR, vx, vy);
    }
}

/* The same where all of the other is defined; false: as if it were not. */
static bool emit_lane_bits_of_one(const struct lanes *l, bool first) {
    int bits = bits_of(first ? l->a : l->b), other = first ? l->b : l->a;
    switch (l->rule) {
    case RULE_V_AND:
        take(vx, bits);
        with(P_AND, vx, other);
        return true;
    case RULE_V_OR:
        with(P_XOR, vx, vx);
        with(P_OR, vx, other);
        with_word(P_ANDN, vx, bits);
        return true;
    case RULE_V_XOR:
        take(vx, bits);
        return true;
    default:
        return false;
    }
}

static int pick_vector(uint32_t used) {
    int v = 0;
    while (used >> v & 1)
        v++;
    return v;
}

static bool may_be_undefined(int v) {
    return v < 0 || now.possible >> (ELEMENT_VECTOR + v) & 1 || now.possible >> (ELEMENT_UPPER + v) & 1;
}

static void emit_scalar(const struct lanes *l) {
    for (int k = 0; k < (l->b < 0 ? 1 : 2); k++) {
        emit8(&out, 0x64); /* cmp fs:[bits], 0 */
        if (l->lane == 8)
            emit8(&out, 0x48);
        emit8(&out, 0x83);
        emit_memory(&out, 7, -1, -1, 1, bits_of(k ? l->b : l->a));
        emit8(&out, 0);
        leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
    }
}

void emit_vectors(const struct instruction *i, const struct lanes *l) {
    uint32_t used = 1u << l->target | (l->a < 0 ? 0 : 1u << l->a) | (l->b < 0 ? 0 : 1u << l->b);
    int saved[4];
    for (int k = 0; k < 4; k++) {
        saved[k] = pick_vector(used);
        used |= 1u << saved[k];
    }
    vx = saved[0], vy = saved[1], vz = saved[2], vw = saved[3];
    vex = l->vex;
    wide = l->wide;
    if (l->rule == RULE_V_SCALAR) {
        if (l->from)
            leave_unless_defined(l->from);
        emit_scalar(l);
        uint8_t *done = emit_long_jump();
        for (int k = 0; k < leave_count; k++)
            patch_jump(leave[k], out.at);
        leave[0] = done;
        return;
    }
    uint32_t general = 0;
    if (l->from) {
        int place = pick_scratch(address_uses(l->from) | 1u << RSP);
        int word = pick_scratch(address_uses(l->from) | 1u << RSP | 1u << place);
        general = 1u << place | 1u << word;
        emit_registers(general, emit_spill);
        emit_memory_bits(l->from, place, word);
        emit_registers(general, emit_unspill);
    }
    int first = leave_count;
    bool open_a = may_be_undefined(l->a);
    bool one = !open_a || !may_be_undefined(l->b) || l->a == l->b;
    for (int k = 0; k < 4; k++)
        emit_vector_to_context(saved[k], vex, SAVED + 64 * k);
    note_place(i->pc, 0, false);
    bool sum = l->rule == RULE_V_ADD || l->rule == RULE_V_SUB;
    bool bytewise = l->lane < 4 || (l->rule != RULE_V_LANES && !sum);
    if (one)
        copy_origins(origins_of(l->target), origins_of(open_a ? l->a : l->b), wide ? 32 : 16);
    else
        emit_origins_of_both(l, bytewise);
    if (!one || !emit_lane_bits_of_one(l, open_a))
        emit_lane_bits(l);
    wide = vex; /* what stands above it is 0 */
    put(vx, bits_of(l->target));
    for (int k = 0; k < 4; k++)
        emit_vector_from_context(saved[k], vex, SAVED + 64 * k);
    uint8_t *done = emit_long_jump();
    for (int k = first; k < leave_count; k++)
        patch_jump(leave[k], out.at);
    for (int k = 0; k < 4; k++)
        emit_vector_from_context(saved[k], vex, SAVED + 64 * k);
    uint8_t *over = emit_long_jump();
    for (int k = 0; k < first; k++)
        patch_jump(leave[k], out.at);
    emit_registers(general, emit_unspill);
    patch_jump(over, out.at);
    leave[0] = done;
}

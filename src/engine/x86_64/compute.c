/* The rules that are asked for most, in code of their own: sums, logic and moves of general
   registers, and lanes of vectors. It stands behind the code of a dirty version and runs where
   an input really is undefined; what it says is what evaluate.c would. It goes on to C where a
   result would have several origins. Flags are dead there. */
#include "compute.h"
#include "copies.h"

static uint64_t bit(int element) { return 1ULL << element; }

static bool is_register(const ZydisDecodedOperand *o) {
    int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
    return e >= 0 && e < 16 && e != RSP;
}

static bool is_high(const ZydisDecodedOperand *o) {
    return o->reg.value >= ZYDIS_REGISTER_AH && o->reg.value <= ZYDIS_REGISTER_BH;
}

/* --- what is computed --- */

enum kind { NOTHING, SUM, DIFFERENCE, AND, OR, XOR, ADDRESS, NARROW, PART, SHIFT };

/* In place of a register: memory, whose undefined bits and origins are fetched first. */
enum { MEMORY = 64, MEMORY_BITS = CTX_VALUE + 64 * 7, MEMORY_ORIGINS = CTX_VALUE };

/* Of general registers: `b` is a register, MEMORY, or -1: an immediate. */
struct sum {
    enum kind kind;
    int a, b, target, size, high;
    int64_t immediate;
    const struct memory *from, *memory; /* of b, where it is that; of ADDRESS and PART */
};

/* Memory whose address is defined. */
static bool is_operand(const struct memory *m) {
    return !is_foreign(m) && !m->address32 && !m->vector_index && fits(m->displacement + 64) &&
           !(address_uses(m) & now.possible);
}

static bool find_second(const struct instruction *i, struct sum *q) {
    const ZydisDecodedOperand *o = &i->operands[1];
    q->b = -1;
    switch (o->type) {
    case ZYDIS_OPERAND_TYPE_REGISTER:
        q->b = is_register(o) && !is_high(o) ? element_of(o->reg.value) : -1;
        return q->b >= 0 && q->b != q->a;
    case ZYDIS_OPERAND_TYPE_IMMEDIATE:
        q->immediate = o->imm.value.s;
        return fits(q->immediate);
    case ZYDIS_OPERAND_TYPE_MEMORY:
        q->from = &i->memory[i->encoded];
        q->b = MEMORY;
        return i->encoded >= 0 && is_operand(q->from) && q->from->size == (uint32_t)q->size;
    default:
        return false;
    }
}

bool loads_part(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    return i->z.mnemonic == ZYDIS_MNEMONIC_MOV && i->z.operand_count_visible == 2 && o[0].size < 32 &&
           is_register(&o[0]) && !is_high(&o[0]) && o[1].type == ZYDIS_OPERAND_TYPE_MEMORY &&
           i->encoded >= 0 && is_operand(&i->memory[i->encoded]);
}

static bool find_sum(const struct instruction *i, struct sum *q) {
    const ZydisDecodedOperand *o = i->operands;
    int lane, rule = rule_of(i, &lane);
    *q = (struct sum){.size = o[0].size / 8, .b = -1};
    if (!is_register(&o[0]) || is_high(&o[0]) || i->mask)
        return false;
    q->a = q->target = element_of(o[0].reg.value);
    switch (rule) {
    case RULE_ADD: q->kind = SUM; break;
    case RULE_SUB: q->kind = DIFFERENCE; break;
    case RULE_AND: q->kind = AND; break;
    case RULE_OR: q->kind = OR; break;
    case RULE_XOR: q->kind = XOR; break;
    case RULE_INC:
    case RULE_DEC:
        q->kind = SUM;
        q->b = -1;
        q->immediate = rule == RULE_INC ? 1 : -1;
        return true;
    case RULE_SHL: case RULE_SHR: case RULE_SAR:
        q->kind = SHIFT;
        q->immediate = o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE ? o[1].imm.value.s & 63 : 0;
        return q->size == 8 && q->immediate;
    case RULE_LEA:
        q->kind = ADDRESS;
        q->memory = &i->memory[0];
        return q->size >= 4 && !q->memory->address32 && !q->memory->segment && !q->memory->absolute;
    case RULE_COPY: /* from a part of itself or the second byte of another; into a part */
        if (loads_part(i)) {
            q->kind = PART;
            q->memory = &i->memory[i->encoded];
            return true;
        }
        if (i->z.mnemonic != ZYDIS_MNEMONIC_MOVZX || !is_register(&o[1]))
            return false;
        q->kind = NARROW;
        q->a = element_of(o[1].reg.value);
        q->high = is_high(&o[1]);
        q->size = o[1].size / 8;
        return true;
    default:
        return false;
    }
    return i->z.operand_count_visible == 2 && find_second(i, q);
}

static bool has_wide_integers(void) { /* AVX2 */
    static int known;
    if (!known) {
        uint32_t a, b, c, d;
        __asm__ volatile("cpuid" : "=a"(a), "=b"(b), "=c"(c), "=d"(d) : "0"(7), "2"(0));
        known = b >> 5 & 1 ? 1 : -1;
    }
    return known > 0;
}

/* Lanes of vectors: `b` is a register, or -1: memory; of both halves when it is wide. */
struct lanes {
    int rule, lane, a, b, target;
    const struct memory *from;
    bool vex, wide;
};

static int vector_of(const ZydisDecodedOperand *o) {
    return o->type == ZYDIS_OPERAND_TYPE_REGISTER ? vector_number(o->reg.value) : -1;
}

static bool find_lanes(const struct instruction *i, const struct plan *p, struct lanes *l) {
    int rule = rule_of(i, &l->lane), count = i->z.operand_count_visible;
    const ZydisDecodedOperand *o = i->operands, *first = &o[count == 3 ? 1 : 0], *second = first + 1;
    l->rule = rule;
    l->vex = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_VEX;
    l->wide = o[0].size == 256;
    if ((!l->vex && i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY) || count < 2 || count > 3 ||
        (count == 3) != l->vex || i->mask || p->half || p->sums ||
        (l->wide && !has_wide_integers()))
        return false;
    l->target = vector_of(&o[0]);
    l->a = vector_of(first);
    l->b = vector_of(second);
    l->from = second->type == ZYDIS_OPERAND_TYPE_MEMORY ? &i->memory[i->encoded] : NULL;
    if (l->target < 0 || l->a < 0 || l->target > 15 || l->a > 15 || l->b > 15 || l->a == l->b ||
        (l->b < 0) != (l->from != NULL))
        return false;
    if (l->from && (i->encoded < 0 || !is_operand(l->from) ||
                    l->from->size != (rule == RULE_V_SCALAR ? (uint32_t)l->lane : l->wide ? 32 : 16)))
        return false;
    switch (rule) {
    case RULE_V_AND: case RULE_V_ANDN: case RULE_V_OR: case RULE_V_XOR:
        l->lane = 4;
        return true;
    case RULE_V_LANES:
        return l->lane == 4 && (first->actions & ZYDIS_OPERAND_ACTION_READ) &&
               (count == 2 || !(o[0].actions & ZYDIS_OPERAND_ACTION_READ));
    case RULE_V_SCALAR: /* when the lowest lanes are defined after all */
        return (l->lane == 4 || l->lane == 8) && count == 2 &&
               (first->actions & ZYDIS_OPERAND_ACTION_READ);
    case RULE_V_ADD: case RULE_V_SUB:
        return l->lane <= 4;
    default:
        return false;
    }
}

bool computes(const struct instruction *i, const struct plan *p, uint32_t live_after) {
    struct sum q;
    struct lanes l;
    if (live_after || (now.possible & ELEMENTS_SHARED))
        return false;
    return find_sum(i, &q) || find_lanes(i, p, &l);
}

/* --- general registers --- */

static uint8_t *leave[32]; /* jumps to C */
static int leave_count;
static int x, y, w; /* registers to work with */

static void context_op(int opcode, int reg, int offset) { /* op reg, fs:[offset] */
    emit8(&out, 0x64);
    emit8(&out, rex(1, reg, 0, 0));
    emit8(&out, opcode);
    emit_memory(&out, reg, -1, -1, 1, offset);
}

static void register_op(int opcode, int reg, int from) { /* op reg, from */
    emit8(&out, rex(1, reg, 0, from));
    emit8(&out, opcode);
    emit8(&out, 0xc0 | (reg & 7) << 3 | (from & 7));
}

enum { OP_ADD = 0x03, OP_OR = 0x0b, OP_AND = 0x23, OP_SUB = 0x2b, OP_XOR = 0x33, OP_MOV = 0x8b };

static void emit_not(int reg) {
    emit8(&out, rex(1, 0, 0, reg));
    emit8(&out, 0xf7);
    emit8(&out, 0xd0 | (reg & 7));
}

static void immediate_op(int extension, int reg, int64_t value) {
    emit8(&out, rex(1, 0, 0, reg));
    emit8(&out, 0x81);
    emit8(&out, 0xc0 | extension << 3 | (reg & 7));
    emit32(&out, value);
}

static int word_of(int reg) { return reg == MEMORY ? MEMORY_BITS : CTX_UNDEFINED + 8 * reg; }
static int origin_of(int reg) { return reg == MEMORY ? MEMORY_ORIGINS : CTX_ORIGIN_OF(reg); }

static void emit_load(const struct memory *m, int reg) {
    emit8(&out, rex(m->size == 8, reg, m->index < 0 ? 0 : m->index, m->base < 0 ? 0 : m->base));
    if (m->size <= 2) { /* movzx */
        emit8(&out, 0x0f);
        emit8(&out, m->size == 1 ? 0xb6 : 0xb7);
    } else {
        emit8(&out, OP_MOV);
    }
    emit_operand(m, reg, 0);
}

/* The value of b. */
static void emit_b(const struct sum *q, int reg) {
    if (q->b == MEMORY) {
        emit_load(q->from, reg);
    } else if (q->b >= 0) {
        register_op(OP_MOV, reg, q->b);
    } else {
        emit8(&out, rex(1, 0, 0, reg)); /* mov reg, imm32 */
        emit8(&out, 0xc7);
        emit8(&out, 0xc0 | (reg & 7));
        emit32(&out, q->immediate);
    }
}

/* To C where memory is not defined, or must not be touched. */
static void leave_unless_defined(const struct memory *m) {
    int piece = m->size < 8 ? (int)m->size : 8;
    for (int done = 0; done < (int)m->size; done += piece) {
        if (piece == 2)
            emit8(&out, 0x66);
        emit_gs(m, piece == 8, 0);
        emit8(&out, piece == 1 ? 0x80 : 0x83);
        emit_operand(m, 7, done);
        emit8(&out, 0);
        leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
    }
}

/* The undefined bits of memory and where they are from; to C where it may be that it must not
   be touched: recorded origins are the program's. Two registers to work with. */
static void emit_memory_bits(const struct memory *m, int place, int word) {
    int piece = m->size >= 8 ? 8 : 4;
    if (m->size < 4) { /* defined, or by C */
        leave_unless_defined(m);
        emit_context_constant(&out, MEMORY_BITS, 0);
        emit_context_constant(&out, MEMORY_BITS + 4, 0);
        return;
    }
    emit_lea(m, place);
    leave[leave_count++] = emit_origin_place(place);
    for (int done = 0; done < (int)m->size; done += piece) {
        emit_take_bits(m, word, piece == 8, done);
        emit_to_context(&out, word, MEMORY_BITS + done);
        emit_take_origin(place, word, done, piece == 8);
        if (piece == 4)
            emit_twice(word);
        emit_to_context(&out, word, MEMORY_ORIGINS + done);
        for (int half = 0; half < piece; half += 4)
            leave[leave_count++] = emit_unless_least(word, half, m, done + half);
    }
}


/* What it may be at least and at most: undefined bits 0, or 1. */
static void emit_least(int reg, int of) {
    context_op(OP_MOV, reg, word_of(of));
    emit_not(reg);
    register_op(OP_AND, reg, of);
}

static void emit_most(int reg, int of) {
    register_op(OP_MOV, reg, of);
    context_op(OP_OR, reg, word_of(of));
}

static void emit_b_bound(const struct sum *q, int reg, bool most) {
    emit_b(q, reg);
    if (q->b >= 0 && most) {
        context_op(OP_OR, reg, word_of(q->b));
    } else if (q->b >= 0) { /* not: (~b | t) is b & ~t */
        emit_not(reg);
        context_op(OP_OR, reg, word_of(q->b));
        emit_not(reg);
    }
}

/* x becomes the undefined bits of a + b or a - b (step.h: add_bits, sub_bits). */
static void emit_sum(const struct sum *q) {
    bool difference = q->kind == DIFFERENCE;
    int op = difference ? OP_SUB : OP_ADD;
    emit_most(y, q->a);
    emit_b_bound(q, w, !difference);
    register_op(op, y, w);
    emit_least(x, q->a);
    emit_b_bound(q, w, difference);
    register_op(op, x, w);
    register_op(OP_XOR, x, y);
    context_op(OP_OR, x, word_of(q->a));
    if (q->b >= 0)
        context_op(OP_OR, x, word_of(q->b));
}

static void emit_logic(const struct sum *q) {
    context_op(OP_MOV, x, word_of(q->a));
    if (q->b >= 0)
        context_op(OP_OR, x, word_of(q->b));
    if (q->kind == XOR)
        return;
    register_op(OP_MOV, y, q->a); /* where a decides, it is defined */
    if (q->kind == OR)
        emit_not(y);
    context_op(OP_OR, y, word_of(q->a));
    register_op(OP_AND, x, y);
    emit_b(q, y);
    if (q->kind == OR)
        emit_not(y);
    if (q->b >= 0)
        context_op(OP_OR, y, word_of(q->b));
    register_op(OP_AND, x, y);
}

static void emit_scale(int reg, int scale) { /* shl reg, log2(scale) */
    if (scale == 1)
        return;
    emit8(&out, rex(1, 0, 0, reg));
    emit8(&out, 0xc1);
    emit8(&out, 0xe0 | (reg & 7));
    emit8(&out, __builtin_ctz((unsigned)scale));
}

/* Base and index, then the displacement, as lea_rule does. */
static void emit_address_bits(const struct memory *m) {
    for (int most = 0; most < 2; most++) {
        int sum = most ? y : x;
        if (m->base >= 0)
            (most ? emit_most : emit_least)(sum, m->base);
        else
            register_op(OP_XOR, sum, sum);
        if (m->index >= 0) {
            (most ? emit_most : emit_least)(w, m->index);
            emit_scale(w, m->scale);
            register_op(OP_ADD, sum, w);
        }
    }
    register_op(OP_XOR, x, y);
    if (m->base >= 0)
        context_op(OP_OR, x, word_of(m->base));
    if (m->index >= 0) {
        context_op(OP_MOV, w, word_of(m->index));
        emit_scale(w, m->scale);
        register_op(OP_OR, x, w);
    }
    if (!m->displacement)
        return;
    struct memory sum = *m;
    sum.displacement = 0;
    emit_lea(&sum, y);
    register_op(OP_MOV, w, x); /* y: the sum; the bounds of what is added to */
    emit_not(w);
    register_op(OP_AND, w, y);
    register_op(OP_OR, y, x);
    immediate_op(0, w, m->displacement);
    immediate_op(0, y, m->displacement);
    register_op(OP_XOR, y, w);
    register_op(OP_OR, x, y);
}

static void emit_narrow(const struct sum *q) { /* movzx x, fs:[word] */
    emit8(&out, 0x64);
    emit8(&out, rex(0, x, 0, 0));
    emit8(&out, 0x0f);
    emit8(&out, q->size == 1 ? 0xb6 : 0xb7);
    emit_memory(&out, x, -1, -1, 1, word_of(q->a) + q->high);
}

/* To C where y, an origin, is not that of a whole register or has a part for each byte. */
static void leave_unless_uniform(void) {
    register_op(OP_MOV, w, y);
    emit8(&out, rex(1, 0, 0, w)); /* ror w, 32 */
    emit8(&out, 0xc1);
    emit8(&out, 0xc8 | (w & 7));
    emit8(&out, 32);
    register_op(0x3b, w, y);
    leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
}

static void leave_if_by_byte(void) { leave[leave_count++] = leave_by_byte(y); }

static uint8_t *emit_if_defined(int reg, int size) { /* cmp <size> fs:[word], 0; je */
    emit8(&out, 0x64);
    if (size == 2)
        emit8(&out, 0x66);
    if (size == 8)
        emit8(&out, 0x48);
    emit8(&out, size == 1 ? 0x80 : 0x83);
    emit_memory(&out, 7, -1, -1, 1, word_of(reg));
    emit8(&out, 0);
    return emit_short_jump(IF_ZERO);
}

static void emit_lower_twice(void) { /* mov y, y */
    emit8(&out, rex(0, y, 0, y));
    emit8(&out, OP_MOV);
    emit8(&out, 0xc0 | (y & 7) << 3 | (y & 7));
    emit_twice(y);
}

/* y becomes the origin of the result: of the first input that is undefined. */
static void emit_sum_origin(const struct sum *q, int a, int b) {
    bool logic = q->kind == AND || q->kind == OR || q->kind == XOR;
    int size = q->kind == ADDRESS ? 8 : q->size;
    if (a >= 0 && b >= 0) {
        uint8_t *only_b = emit_if_defined(a, size);
        context_op(OP_MOV, y, origin_of(a));
        uint8_t *only_a = emit_if_defined(b, size);
        context_op(0x3b, y, origin_of(b)); /* cmp */
        leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
        uint8_t *both = emit_long_jump();
        patch_jump(only_b, out.at);
        context_op(OP_MOV, y, origin_of(b));
        patch_jump(only_a, out.at);
        patch_jump(both, out.at);
    } else {
        context_op(OP_MOV, y, origin_of(a >= 0 ? a : b));
    }
    if (size == 8 && !logic)
        leave_unless_uniform();
    if (!logic || size < 4) /* else bytes stay in their place */
        leave_if_by_byte();
    if (size < 8 && (!logic || size < 4))
        emit_lower_twice();
}

/* Of another register than the target only where all of the target's other bytes are defined. */
static void leave_if_rest_undefined(const struct sum *q) {
    if (q->size >= 4 || (q->b < 0 && q->kind != PART))
        return;
    emit8(&out, 0x64); /* test dword fs:[word], the other bytes */
    emit8(&out, 0xf7);
    emit_memory(&out, 0, -1, -1, 1, word_of(q->a));
    emit32(&out, (int64_t)(0xffffffffu << 8 * q->size));
    leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
    emit8(&out, 0x64); /* cmp dword fs:[word + 4], 0 */
    emit8(&out, 0x83);
    emit_memory(&out, 7, -1, -1, 1, word_of(q->a) + 4);
    emit8(&out, 0);
    leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
}

static uint8_t *emit_if_half_defined(const struct sum *q, int half) {
    emit8(&out, 0x64); /* cmp dword fs:[word + half], 0 */
    emit8(&out, 0x83);
    emit_memory(&out, 7, -1, -1, 1, word_of(q->a) + half);
    emit8(&out, 0);
    return emit_short_jump(IF_ZERO);
}

static void take_half(const struct sum *q, int half) { /* mov y, fs:[origin + half] */
    emit8(&out, 0x64);
    emit8(&out, rex(0, y, 0, 0));
    emit8(&out, OP_MOV);
    emit_memory(&out, y, -1, -1, 1, CTX_ORIGIN_OF(q->a) + half);
}

/* Halves of different origin, of which one is shifted out or defined: the other's is that of
   the whole. The bits are shifted where this goes on. */
static void emit_shift_origin(const struct instruction *i, const struct sum *q) {
    int lane, left = rule_of(i, &lane) == RULE_SHL;
    take_half(q, left ? 0 : 4);
    if (q->immediate < 32) {
        uint8_t *other = emit_if_half_defined(q, left ? 4 : 0);
        take_half(q, left ? 4 : 0);
        uint8_t *first = emit_if_half_defined(q, left ? 0 : 4);
        leave[leave_count++] = emit_long_jump();
        patch_jump(other, out.at);
        patch_jump(first, out.at);
    }
    leave_if_by_byte();
    emit_twice(y);
    emit_to_context(&out, y, CTX_ORIGIN_OF(q->a));
}

static void store_bits(const struct sum *q, int size) { /* mov <size> fs:[word], x */
    emit8(&out, 0x64);
    if (size == 2)
        emit8(&out, 0x66);
    emit8(&out, rex(size == 8, x, 0, 0));
    emit8(&out, size == 1 ? 0x88 : 0x89);
    emit_memory(&out, x, -1, -1, 1, word_of(q->target));
}

static void emit_general(const struct instruction *i, const struct sum *q) {
    uint32_t used = i->registers_used | i->registers_written | 1u << RSP;
    x = pick_scratch(used);
    y = pick_scratch(used | 1u << x);
    w = pick_scratch(used | 1u << x | 1u << y);
    uint32_t spilled = 1u << x | 1u << y | 1u << w;
    emit_registers(spilled, emit_spill);
    note_place(i->pc, spilled, false);
    if (q->from)
        emit_memory_bits(q->from, w, y);
    leave_if_rest_undefined(q);
    if (q->kind == SHIFT) {
        emit_shift_origin(i, q);
    } else if (q->kind == PART) {
        leave_count += emit_part_origin(q->memory, w, y, leave + leave_count);
        emit_gs(q->memory, 0, x); /* movzx x, gs:[m] */
        emit8(&out, 0x0f);
        emit8(&out, q->size == 1 ? 0xb6 : 0xb7);
        emit_operand(q->memory, x, 0);
        emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        store_bits(q, 8);
    } else if (q->kind == NARROW) {
        bool stays = q->a == q->target && !q->high;
        if (!stays) {
            context_op(OP_MOV, y, CTX_ORIGIN_OF(q->a));
            leave_if_by_byte();
            emit_lower_twice();
        }
        emit_narrow(q);
        if (!stays)
            emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        store_bits(q, 8);
    } else {
        int a = q->kind == ADDRESS ? q->memory->base : q->a, b = q->kind == ADDRESS ? q->memory->index : q->b;
        uint64_t open = now.possible;
        a = a >= 0 && open & bit(a) ? a : -1;
        b = b == MEMORY || (b >= 0 && open & bit(b)) ? b : -1;
        emit_sum_origin(q, a, b);
        emit_to_context(&out, y, CTX_VALUE); /* y is needed */
        if (q->kind == ADDRESS)
            emit_address_bits(q->memory);
        else if (q->kind == SUM || q->kind == DIFFERENCE)
            emit_sum(q);
        else
            emit_logic(q);
        if (q->size == 4) { /* mov x, x: the upper half is 0 */
            emit8(&out, rex(0, x, 0, x));
            emit8(&out, OP_MOV);
            emit8(&out, 0xc0 | (x & 7) << 3 | (x & 7));
        }
        store_bits(q, q->size < 4 ? q->size : 8);
        if (q->size >= 4 || q->b >= 0) { /* else that of the target stays */
            emit_from_context(&out, y, CTX_VALUE);
            emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        }
    }
    if (q->kind != SHIFT && now.possible & bit(ELEMENT_FLAGS)) {
        emit_context_constant(&out, CTX_UNDEFINED_FLAGS, 0);
        emit_context_constant(&out, CTX_UNDEFINED_FLAGS + 4, 0);
    }
    emit_registers(spilled, emit_unspill);
    uint8_t *done = emit_long_jump();
    for (int k = 0; k < leave_count; k++)
        patch_jump(leave[k], out.at);
    emit_registers(spilled, emit_unspill);
    note_place(i->pc, 0, false);
    leave[0] = done;
}

/* --- vectors --- */

enum { P_EQUAL = 0x76, P_OR = 0xeb, P_AND = 0xdb, P_ANDN = 0xdf, P_XOR = 0xef, P_MASK = 0xd7 };

static int vx, vy, vz, vw; /* vectors to work with, saved in these slots */
enum { SAVED = CTX_VALUE + 64 * 3, KEPT_BITS = CTX_VALUE + 64 * 2 };
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
    take(vy, origins_of(l->a));
    with_word(P_EQUAL, vy, origins_of(l->b));
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
    take(vy, origins_of(l->b));
    with(P_AND, vy, vx);
    with_word(P_ANDN, vx, origins_of(l->a));
    with(P_OR, vy, vx);
    put(vy, origins_of(l->target));
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
    default: /* any bit of a lane, for all of it */
        take(vy, s);
        with_word(P_OR, vy, t);
        with(P_XOR, vx, vx);
        with(P_EQUAL, vy, vx);
        with(P_EQUAL, vx, vx);
        with(P_ANDN, vy, vx);
        with(P_XOR, vx, vx);
        with(P_OR, vx, vy);
    }
}

static int pick_vector(uint32_t used) {
    int v = 0;
    while (used >> v & 1)
        v++;
    return v;
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

static void emit_vectors(const struct instruction *i, const struct lanes *l) {
    uint32_t used = 1u << l->target | 1u << l->a | (l->b < 0 ? 0 : 1u << l->b);
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
    for (int k = 0; k < 4; k++)
        emit_vector_to_context(saved[k], vex, SAVED + 64 * k);
    note_place(i->pc, 0, false);
    bool bytewise = l->rule != RULE_V_LANES && (l->lane < 4 || (l->rule != RULE_V_ADD && l->rule != RULE_V_SUB));
    if (bytewise)
        leave_if_they_differ(l);
    emit_lane_bits(l);
    put(vx, KEPT_BITS);
    emit_lane_origins(l);
    take(vx, KEPT_BITS);
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

/* --- where it stands --- */

enum { MOST = 24 };
static struct later {
    const struct instruction *i;
    int cold; /* where C is asked */
    uint8_t *resume; /* null: where the cold piece does */
} laters[MOST];
static int later_count;

void computes_forget(void) { later_count = 0; }

void compute_later(const struct instruction *i, int cold, uint8_t *resume) {
    if (later_count < MOST)
        laters[later_count++] = (struct later){i, cold, resume};
}

static void emit_later(const struct later *l) {
    struct cold *c = &colds[l->cold];
    struct sum q;
    struct lanes lanes;
    now.pc = c->pc;
    now.possible = c->possible;
    out.kept = c->kept;
    leave_count = 0;
    note_place(l->i->pc, 0, false);
    if (find_sum(l->i, &q))
        emit_general(l->i, &q);
    else if (find_lanes(l->i, &cache_plans[c->argument], &lanes))
        emit_vectors(l->i, &lanes);
    patch_jump(leave[0], l->resume ? l->resume : c->resume);
    c->patch = emit_long_jump();
}

void emit_computed(void) {
    struct translation last = now;
    const uint8_t *start = NULL;
    for (int k = 0; k < later_count; k++) {
        struct cold *c = &colds[laters[k].cold];
        if (k && laters[k - 1].i == laters[k].i && laters[k - 1].resume == laters[k].resume) {
            patch_jump(c->patch, start); /* several tests of the same operands */
            c->patch = emit_long_jump(); /* never */
            continue;
        }
        start = out.at;
        patch_jump(c->patch, out.at);
        emit_later(&laters[k]);
    }
    now = last;
}

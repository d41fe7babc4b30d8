/* Sums, logic, addresses and moves of general registers: compute.c. */
#include "computed.h"

static uint64_t bit(int element) { return 1ULL << element; }

static bool is_register(const ZydisDecodedOperand *o) {
    int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
    return e >= 0 && e < 16 && e != RSP;
}

static bool is_high(const ZydisDecodedOperand *o) {
    return o->reg.value >= ZYDIS_REGISTER_AH && o->reg.value <= ZYDIS_REGISTER_BH;
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

static bool loads_part(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    return i->z.mnemonic == ZYDIS_MNEMONIC_MOV && i->z.operand_count_visible == 2 &&
           o[0].size < 32 && is_register(&o[0]) && !is_high(&o[0]) && o[1].type == ZYDIS_OPERAND_TYPE_MEMORY &&
           i->encoded >= 0 && is_operand(&i->memory[i->encoded]);
}

/* From the lower bytes of a register to those of another. */
static bool moves_lower(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    return i->z.mnemonic == ZYDIS_MNEMONIC_MOV && i->z.operand_count_visible == 2 &&
           o[0].size < 32 && is_register(&o[0]) && !is_high(&o[0]) && is_register(&o[1]) &&
           !is_high(&o[1]) && element_of(o[0].reg.value) != element_of(o[1].reg.value);
}

bool moves_part(const struct instruction *i) { return loads_part(i) || moves_lower(i); }

bool find_sum(const struct instruction *i, struct sum *q) {
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
        if (moves_lower(i)) {
            q->kind = MOVED_PART;
            q->b = element_of(o[1].reg.value);
            return true;
        }
        if (i->z.mnemonic != ZYDIS_MNEMONIC_MOVZX || !is_register(&o[1]) || o[0].size < 32)
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

static int x, y, w; /* registers to work with */

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
        emit_register_op(&out, OP_MOV, reg, q->b);
    } else {
        emit8(&out, rex(1, 0, 0, reg)); /* mov reg, imm32 */
        emit8(&out, 0xc7);
        emit8(&out, 0xc0 | (reg & 7));
        emit32(&out, q->immediate);
    }
}

static bool is_open(int reg) { return reg == MEMORY || (reg >= 0 && now.possible & bit(reg)); }

/* What it may be at least and at most: undefined bits 0, or 1. */
static void emit_least(int reg, int of) {
    if (!is_open(of)) {
        emit_register_op(&out, OP_MOV, reg, of);
        return;
    }
    emit_context_op(&out, OP_MOV, reg, word_of(of));
    emit_not(reg);
    emit_register_op(&out, OP_AND, reg, of);
}

static void emit_most(int reg, int of) {
    emit_register_op(&out, OP_MOV, reg, of);
    if (is_open(of))
        emit_context_op(&out, OP_OR, reg, word_of(of));
}

static void emit_b_bound(const struct sum *q, int reg, bool most) {
    emit_b(q, reg);
    if (is_open(q->b) && most) {
        emit_context_op(&out, OP_OR, reg, word_of(q->b));
    } else if (is_open(q->b)) { /* not: (~b | t) is b & ~t */
        emit_not(reg);
        emit_context_op(&out, OP_OR, reg, word_of(q->b));
        emit_not(reg);
    }
}

/* x becomes the undefined bits of a + b or a - b (step.h: add_bits, sub_bits). */
static void emit_sum(const struct sum *q) {
    bool difference = q->kind == DIFFERENCE;
    int op = difference ? OP_SUB : OP_ADD;
    emit_most(y, q->a);
    emit_b_bound(q, w, !difference);
    emit_register_op(&out, op, y, w);
    emit_least(x, q->a);
    emit_b_bound(q, w, difference);
    emit_register_op(&out, op, x, w);
    emit_register_op(&out, OP_XOR, x, y);
    if (is_open(q->a))
        emit_context_op(&out, OP_OR, x, word_of(q->a));
    if (is_open(q->b))
        emit_context_op(&out, OP_OR, x, word_of(q->b));
}

static void emit_logic(const struct sum *q) {
    emit_context_op(&out, OP_MOV, x, word_of(q->a));
    if (q->b >= 0)
        emit_context_op(&out, OP_OR, x, word_of(q->b));
    if (q->kind == XOR)
        return;
    emit_register_op(&out, OP_MOV, y, q->a); /* where a decides, it is defined */
    if (q->kind == OR)
        emit_not(y);
    emit_context_op(&out, OP_OR, y, word_of(q->a));
    emit_register_op(&out, OP_AND, x, y);
    emit_b(q, y);
    if (q->kind == OR)
        emit_not(y);
    if (q->b >= 0)
        emit_context_op(&out, OP_OR, y, word_of(q->b));
    emit_register_op(&out, OP_AND, x, y);
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
            emit_register_op(&out, OP_XOR, sum, sum);
        if (m->index >= 0) {
            (most ? emit_most : emit_least)(w, m->index);
            emit_scale(w, m->scale);
            emit_register_op(&out, OP_ADD, sum, w);
        }
    }
    emit_register_op(&out, OP_XOR, x, y);
    if (m->base >= 0)
        emit_context_op(&out, OP_OR, x, word_of(m->base));
    if (m->index >= 0) {
        emit_context_op(&out, OP_MOV, w, word_of(m->index));
        emit_scale(w, m->scale);
        emit_register_op(&out, OP_OR, x, w);
    }
    if (!m->displacement)
        return;
    struct memory sum = *m;
    sum.displacement = 0;
    emit_lea(&sum, y);
    emit_register_op(&out, OP_MOV, w, x); /* y: the sum; the bounds of what is added to */
    emit_not(w);
    emit_register_op(&out, OP_AND, w, y);
    emit_register_op(&out, OP_OR, y, x);
    immediate_op(0, w, m->displacement);
    immediate_op(0, y, m->displacement);
    emit_register_op(&out, OP_XOR, y, w);
    emit_register_op(&out, OP_OR, x, y);
}

static void emit_narrow(const struct sum *q, int from) { /* movzx x, fs:[word] */
    emit8(&out, 0x64);
    emit8(&out, rex(0, x, 0, 0));
    emit8(&out, 0x0f);
    emit8(&out, q->size == 1 ? 0xb6 : 0xb7);
    emit_memory(&out, x, -1, -1, 1, word_of(from) + q->high);
}

/* To C where y, an origin, is not that of a whole register or has a part for each byte. */
static void leave_unless_uniform(void) {
    emit_register_op(&out, OP_MOV, w, y);
    emit_rotate(w);
    emit_register_op(&out, 0x3b, w, y);
    leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
}

static void leave_if_by_byte(void) { leave[leave_count++] = leave_by_byte(y); }

static uint8_t *emit_if_defined(int word, int size) { /* cmp <size> fs:[word], 0; je */
    emit8(&out, 0x64);
    if (size == 2)
        emit8(&out, 0x66);
    if (size == 8)
        emit8(&out, 0x48);
    emit8(&out, size == 1 ? 0x80 : 0x83);
    emit_memory(&out, 7, -1, -1, 1, word);
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
        uint8_t *only_b = emit_if_defined(word_of(a), size);
        emit_context_op(&out, OP_MOV, y, origin_of(a));
        uint8_t *only_a = emit_if_defined(word_of(b), size);
        emit_context_op(&out, 0x3b, y, origin_of(b)); /* cmp */
        leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
        uint8_t *both = emit_long_jump();
        patch_jump(only_b, out.at);
        emit_context_op(&out, OP_MOV, y, origin_of(b));
        patch_jump(only_a, out.at);
        patch_jump(both, out.at);
    } else {
        emit_context_op(&out, OP_MOV, y, origin_of(a >= 0 ? a : b));
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
        uint8_t *other = emit_if_defined(word_of(q->a) + (left ? 4 : 0), 4);
        take_half(q, left ? 4 : 0);
        uint8_t *first = emit_if_defined(word_of(q->a) + (left ? 0 : 4), 4);
        leave[leave_count++] = emit_long_jump();
        patch_jump(other, out.at);
        patch_jump(first, out.at);
    }
    leave_if_by_byte();
    emit_twice(y);
    emit_to_context(&out, y, CTX_ORIGIN_OF(q->a));
}

/* As a whole: who reads it next is not to wait for several stores. */
static void store_bits(const struct sum *q, int size) {
    int all = x;
    if (size < 8) { /* mov <size> w, x: into what there is */
        all = w;
        emit_context_op(&out, OP_MOV, w, word_of(q->target));
        if (size == 2)
            emit8(&out, 0x66);
        emit8(&out, rex(0, x, 0, w));
        emit8(&out, size == 1 ? 0x88 : 0x89);
        emit8(&out, 0xc0 | (x & 7) << 3 | (w & 7));
    }
    emit_to_context(&out, all, word_of(q->target));
}

static void emit_lower_half(void) { /* mov x, x: the upper half is 0 */
    emit8(&out, rex(0, x, 0, x));
    emit8(&out, OP_MOV);
    emit8(&out, 0xc0 | (x & 7) << 3 | (x & 7));
}

static void emit_flags_defined(void) {
    if (!(now.possible & bit(ELEMENT_FLAGS)))
        return;
    emit_context_constant(&out, CTX_UNDEFINED_FLAGS, 0);
    emit_context_constant(&out, CTX_UNDEFINED_FLAGS + 4, 0);
}

/* Of registers of which one is defined: its bits say which of the other's stay undefined. */
static bool emit_logic_of_one(const struct instruction *i, const struct sum *q) {
    bool logic = q->kind == AND || q->kind == OR || q->kind == XOR;
    if (!logic || q->from || q->size < 4 || is_open(q->a) == is_open(q->b))
        return false;
    int open = is_open(q->a) ? q->a : q->b;
    x = pick_scratch(i->registers_used | i->registers_written | 1u << RSP);
    emit_registers(1u << x, emit_spill);
    note_place(i->pc, 1u << x, false);
    if (open != q->target) {
        emit_context_op(&out, OP_MOV, x, origin_of(open));
        emit_to_context(&out, x, CTX_ORIGIN_OF(q->target));
    }
    if (q->kind == XOR) {
        emit_context_op(&out, OP_MOV, x, word_of(open));
    } else {
        if (open == q->a)
            emit_b(q, x);
        else
            emit_register_op(&out, OP_MOV, x, q->a);
        if (q->kind == OR)
            emit_not(x);
        emit_context_op(&out, OP_AND, x, word_of(open));
    }
    if (q->size == 4)
        emit_lower_half();
    store_bits(q, 8);
    emit_flags_defined();
    emit_registers(1u << x, emit_unspill);
    leave[0] = emit_long_jump();
    return true;
}

void emit_general(const struct instruction *i, const struct sum *q) {
    if (emit_logic_of_one(i, q))
        return;
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
        emit_twice(y);
        emit_gs(q->memory, 0, x); /* movzx x, gs:[m] */
        emit8(&out, 0x0f);
        emit8(&out, q->size == 1 ? 0xb6 : 0xb7);
        emit_operand(q->memory, x, 0);
        emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        store_bits(q, 8);
    } else if (q->kind == MOVED_PART) { /* bytes stay in their place */
        emit_context_op(&out, OP_MOV, y, CTX_ORIGIN_OF(q->b));
        emit_lower_twice();
        emit_narrow(q, q->b);
        emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        store_bits(q, q->size);
    } else if (q->kind == NARROW) {
        bool stays = q->a == q->target && !q->high;
        if (!stays) {
            emit_context_op(&out, OP_MOV, y, CTX_ORIGIN_OF(q->a));
            leave_if_by_byte();
            emit_lower_twice();
        }
        emit_narrow(q, q->a);
        if (!stays)
            emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        store_bits(q, 8);
    } else {
        bool sum = q->kind == ADDRESS;
        int a = sum ? q->memory->base : q->a, b = sum ? q->memory->index : q->b;
        a = is_open(a) ? a : -1;
        b = is_open(b) ? b : -1;
        emit_sum_origin(q, a, b);
        emit_to_context(&out, y, CTX_VALUE); /* y is needed */
        if (q->kind == ADDRESS)
            emit_address_bits(q->memory);
        else if (q->kind == SUM || q->kind == DIFFERENCE)
            emit_sum(q);
        else
            emit_logic(q);
        if (q->size == 4)
            emit_lower_half();
        store_bits(q, q->size < 4 ? q->size : 8);
        if (q->size >= 4 || q->b >= 0) { /* else that of the target stays */
            emit_from_context(&out, y, CTX_VALUE);
            emit_to_context(&out, y, CTX_ORIGIN_OF(q->target));
        }
    }
    if (q->kind != SHIFT)
        emit_flags_defined();
    emit_registers(spilled, emit_unspill);
    uint8_t *done = emit_long_jump();
    for (int k = 0; k < leave_count; k++)
        patch_jump(leave[k], out.at);
    emit_registers(spilled, emit_unspill);
    note_place(i->pc, 0, false);
    leave[0] = done;
}

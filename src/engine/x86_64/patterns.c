/* Undefined words that are copied again and again, as padding, mostly have the same bits
   undefined and one origin: comparing each with a constant takes less than to compare it
   with its target, and what was compared once in a round need not be again. */
#include "patterns.h"
#include "../engine.h"

enum { FACTS = 48 };

static struct fact {
    struct memory m; /* as named now, of 4 or 8 bytes */
    struct pattern pattern;
} facts[FACTS];
static int fact_count;

struct constant constants[CONSTANTS];
int constant_count;

void patterns_begin(void) {
    constant_count = 0;
    patterns_forget();
}

void patterns_forget(void) { fact_count = 0; }

static struct memory word_of(const struct memory *m, int done) {
    struct memory word = *m;
    word.displacement += done;
    word.size = m->size >= 8 ? 8 : 4;
    return word;
}

static bool same_registers(const struct memory *a, const struct memory *b) {
    return a->base == b->base && a->index == b->index && (a->index < 0 || a->scale == b->scale);
}

static struct fact *fact_of(const struct memory *m, int done) {
    struct memory word = word_of(m, done);
    for (struct fact *f = facts; f < facts + fact_count; f++)
        if (same_registers(&f->m, &word) && f->m.size == word.size &&
            f->m.displacement == word.displacement)
            return f;
    return NULL;
}

bool pattern_known(const struct memory *m, int done, struct pattern *p) {
    const struct fact *f = fact_of(m, done);
    if (f)
        *p = f->pattern;
    return f != NULL;
}

void pattern_learn(const struct memory *m, int done, const struct pattern *p, bool origins) {
    struct fact *f = fact_of(m, done);
    if (!f && fact_count < FACTS) {
        f = &facts[fact_count++];
        *f = (struct fact){word_of(m, done), *p};
        f->pattern.compared = false;
    }
    if (f)
        f->pattern.compared |= origins;
}

bool pattern_is_defined(const struct memory *m) {
    if (is_foreign(m) || m->absolute || m->address32 || !m->size || m->size > 8)
        return false;
    for (const struct fact *f = facts; f < facts + fact_count; f++) {
        int64_t at = m->displacement - f->m.displacement;
        if (!same_registers(&f->m, m) || at < 0 || at + m->size > f->m.size)
            continue;
        uint64_t bits = f->pattern.bits >> (8 * at);
        if (!(m->size == 8 ? bits : bits & ((1ULL << (8 * m->size)) - 1)))
            return true;
    }
    return false;
}

/* Whether a branch of the trace leads to one of the steps behind `after`, up to `last`. */
static bool is_led_to(const struct instruction *after, const struct instruction *last) {
    for (const struct instruction *b = trace; b < trace + trace_count; b++)
        for (const struct instruction *s = after + 1; s <= last && role_of(b) == BRANCH; s++)
            if (s->pc == branch_target(b))
                return true;
    return false;
}

/* mov reg, reg64 or lea reg, [reg64 + amount]; else -1. */
static int copied_from(const struct instruction *i, int64_t *amount) {
    const ZydisDecodedOperand *to = &i->operands[0], *from = &i->operands[1];
    const struct memory *m = &i->memory[0];
    *amount = 0;
    if (to->type != ZYDIS_OPERAND_TYPE_REGISTER || to->size != 64)
        return -1;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_MOV && from->type == ZYDIS_OPERAND_TYPE_REGISTER)
        return register_number(from->reg.value);
    if (i->z.mnemonic != ZYDIS_MNEMONIC_LEA || is_foreign(m) || m->address32 || m->index >= 0)
        return -1;
    *amount = m->displacement;
    return m->base;
}

/* The same by a register between: lea a, [reg + amount]; ...; mov reg, a. */
static bool comes_back(const struct instruction *i, int *reg, int64_t *amount) {
    int64_t part;
    int from = copied_from(i, amount);
    uint32_t written = 0;
    *reg = register_number(i->operands[0].reg.value);
    if (from < 0 || *reg < 0)
        return false;
    for (const struct instruction *w = i; w-- > trace && from != *reg;) {
        if (w->registers_written & 1u << from) {
            int added, source = copied_from(w, &part);
            if (source < 0 && adds_constant(w, &added, &part) && added == from)
                source = from;
            if (source < 0)
                return false;
            *amount += part;
            from = source;
            if (from == *reg)
                return !((written | w->registers_written) & 1u << *reg) && !is_led_to(w, i);
        }
        written |= w->registers_written;
    }
    return false;
}

bool operand_moves(const struct memory *m, const struct instruction *i, int64_t *by) {
    int reg;
    int64_t amount;
    *by = 0;
    if (!(i->registers_written & address_uses(m)))
        return true;
    if (!adds_constant(i, &reg, &amount) && !comes_back(i, &reg, &amount))
        return false;
    *by = (reg == m->base ? amount : 0) + (reg == m->index ? amount * m->scale : 0);
    return true;
}

void patterns_follow(const struct instruction *i) {
    for (int k = 0; k < fact_count;) {
        int64_t by;
        if (operand_moves(&facts[k].m, i, &by)) {
            facts[k++].m.displacement -= by;
        } else {
            facts[k] = facts[--fact_count];
        }
    }
}

static int constant_for(uint64_t origins, bool whole) {
    for (int k = 0; k < constant_count; k++) {
        uint64_t now = constants[k].now;
        if ((!origins || !now || now == origins) && (whole || (uint32_t)now == now >> 32)) {
            constants[k].now |= origins;
            constants[k].twice |= !whole;
            return k;
        }
    }
    if (constant_count == CONSTANTS)
        return -1;
    static unsigned next;
    constants[constant_count] =
        (struct constant){.now = origins, .slot = CTX_RECORDED + 8 * (int)(next++ % RECORDED_COUNT),
                          .reg = -1, .twice = !whole};
    return constant_count++;
}

/* Registers as they will be where the trace has come to an instruction, if memory stays as it is:
   a guess, but mostly right. */
static struct {
    uint64_t values[16];
    uint32_t known;
} ahead;

static bool address_ahead(const struct memory *m, gaddr *address) {
    if (is_foreign(m) || m->absolute || m->address32 || (address_uses(m) & ~ahead.known))
        return false;
    *address = (gaddr)m->displacement + (m->base >= 0 ? ahead.values[m->base] : 0) +
               (m->index >= 0 ? ahead.values[m->index] * (uint64_t)m->scale : 0);
    return true;
}

/* Of the thread's own stack: nobody takes that away. */
static bool can_be_read(gaddr at) {
    const struct context *c = current();
    return at >= c->registers[RSP] - RED_ZONE && at >= c->stack_low && at < c->stack_high - 8;
}

static bool operand_ahead(const struct instruction *i, int k, uint64_t *value) {
    const ZydisDecodedOperand *o = &i->operands[k];
    gaddr at;
    switch (o->type) {
    case ZYDIS_OPERAND_TYPE_IMMEDIATE:
        *value = o->imm.value.u;
        return true;
    case ZYDIS_OPERAND_TYPE_REGISTER: {
        int reg = register_number(o->reg.value);
        if (reg < 0 || o->size < 32 || !(ahead.known & 1u << reg))
            return false;
        *value = o->size == 32 ? (uint32_t)ahead.values[reg] : ahead.values[reg];
        return true;
    }
    case ZYDIS_OPERAND_TYPE_MEMORY:
        if (i->encoded < 0 || (o->size != 32 && o->size != 64) ||
            !address_ahead(&i->memory[i->encoded], &at) || !can_be_read(at))
            return false;
        *value = 0;
        copy_bytes(value, guest(at), o->size / 8);
        return true;
    default:
        return false;
    }
}

static bool result_ahead(const struct instruction *i, uint64_t *value) {
    uint64_t a, b;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOV:
        return operand_ahead(i, 1, value);
    case ZYDIS_MNEMONIC_MOVSXD:
        if (!operand_ahead(i, 1, value))
            return false;
        *value = (uint64_t)(int64_t)(int32_t)*value;
        return true;
    case ZYDIS_MNEMONIC_LEA:
        return address_ahead(&i->memory[0], value);
    case ZYDIS_MNEMONIC_INC:
    case ZYDIS_MNEMONIC_DEC:
        if (!operand_ahead(i, 0, &a))
            return false;
        *value = i->z.mnemonic == ZYDIS_MNEMONIC_INC ? a + 1 : a - 1;
        return true;
    case ZYDIS_MNEMONIC_IMUL: { /* two factors stand last, or the first of them is the result's */
        int first = i->z.operand_count_visible - 2;
        if (first < 0 || !operand_ahead(i, first, &a) || !operand_ahead(i, first + 1, &b))
            return false;
        *value = a * b;
        return true;
    }
    case ZYDIS_MNEMONIC_CDQE:
        if (!operand_ahead(i, 0, &a))
            return false;
        *value = (uint64_t)(int64_t)(int32_t)a;
        return true;
    case ZYDIS_MNEMONIC_ADD:
    case ZYDIS_MNEMONIC_SUB:
    case ZYDIS_MNEMONIC_AND:
    case ZYDIS_MNEMONIC_OR:
    case ZYDIS_MNEMONIC_XOR:
    case ZYDIS_MNEMONIC_SHL:
    case ZYDIS_MNEMONIC_SHR:
        if (!operand_ahead(i, 0, &a) || !operand_ahead(i, 1, &b))
            return false;
        switch (i->z.mnemonic) {
        case ZYDIS_MNEMONIC_ADD: *value = a + b; break;
        case ZYDIS_MNEMONIC_SUB: *value = a - b; break;
        case ZYDIS_MNEMONIC_AND: *value = a & b; break;
        case ZYDIS_MNEMONIC_OR: *value = a | b; break;
        case ZYDIS_MNEMONIC_XOR: *value = a ^ b; break;
        case ZYDIS_MNEMONIC_SHL: *value = a << (b & 63); break;
        default: *value = a >> (b & 63); break;
        }
        return true;
    default:
        return false;
    }
}

static void go_ahead(const struct instruction *i) {
    const ZydisDecodedOperand *to = &i->operands[0];
    int reg = to->type == ZYDIS_OPERAND_TYPE_REGISTER && to->size >= 32
                  ? register_number(to->reg.value)
                  : -1;
    uint64_t value;
    bool known = reg >= 0 && result_ahead(i, &value);
    ahead.known &= ~i->registers_written;
    if (known) {
        ahead.values[reg] = to->size == 32 ? (uint32_t)value : value;
        ahead.known |= 1u << reg;
    }
}

bool operand_now(const struct instruction *at, const struct memory *m, gaddr *address) {
    const struct context *c = current();
    copy_bytes(ahead.values, c->registers, sizeof ahead.values);
    ahead.known = 0xffff;
    for (const struct instruction *i = trace; i < at; i++)
        go_ahead(i);
    struct mapping mapping;
    return address_ahead(m, address) && *address < GUEST_END - 32 &&
           (heap_near(*address) || memory_lookup(*address, &mapping));
}

bool address_now(const struct instruction *load, gaddr *address) {
    return operand_now(load, &load->memory[load->encoded], address);
}

static const uint32_t *origin_word(gaddr a) {
    return (const uint32_t *)(uintptr_t)(ORIGIN_BASE + (a & (ORIGIN_SIZE - 1) & ~3ULL));
}

bool pattern_now(const struct instruction *load, int done, struct pattern *p) {
    gaddr a;
    if (!address_now(load, &a))
        return false;
    a += (gaddr)done;
    bool wide = load->memory[load->encoded].size >= 8;
    uint32_t origins[2] = {0, 0};
    *p = (struct pattern){.constant = -1, .whole = true};
    copy_bytes(&p->bits, shadow_of(a), wide ? 8 : 4);
    if (!p->bits)
        return true;
    if (a & 3)
        return false;
    for (int k = 0; k < (wide ? 2 : 1); k++)
        origins[k] = *origin_word(a + 4u * (unsigned)k);
    p->whole = !wide || ((uint32_t)p->bits && p->bits >> 32);
    p->at = !p->whole && !(uint32_t)p->bits ? 4 : 0;
    if (!wide)
        origins[1] = origins[0];
    else if (!p->whole)
        origins[!p->at] = origins[p->at / 4];
    bool known = origins[0] >= ORIGIN_LEAST && origins[1] >= ORIGIN_LEAST;
    p->constant = constant_for(known ? origins[0] | (uint64_t)origins[1] << 32 : 0, wide && p->whole);
    return p->constant >= 0;
}

/* Where the load is of at present, and so many bytes further on; false: that cannot be told. */
static bool addresses_now(const struct instruction *load, int64_t ahead, gaddr *a, gaddr *b) {
    struct mapping m;
    if (!address_now(load, a))
        return false;
    *b = *a + (gaddr)ahead;
    return *b < GUEST_END - 64 && (heap_near(*b) || memory_lookup(*b, &m));
}

/* Whether one is in a block that the other is not in: a loop turns back at its end. */
static bool leaves_block(gaddr a, gaddr b) {
    struct block_view view;
    return heap_find(a, &view) && b - view.start >= view.size;
}

bool pattern_changes(const struct instruction *load, int done, int64_t ahead) {
    gaddr a, b;
    if (!addresses_now(load, ahead, &a, &b) || leaves_block(a, b))
        return false;
    for (unsigned k = (unsigned)done, end = k + (load->memory[load->encoded].size >= 8 ? 8 : 4);
         k < end; k += 4) {
        uint32_t here = 0, there = 0;
        copy_bytes(&here, shadow_of(a + k), 4);
        copy_bytes(&there, shadow_of(b + k), 4);
        if (here != there || (here && *origin_word(a + k) != *origin_word(b + k)))
            return true;
    }
    return false;
}

bool pattern_undefined(const struct instruction *load, int64_t ahead) {
    gaddr a, b;
    uint8_t bits = 0;
    if (!addresses_now(load, ahead, &a, &b))
        return false;
    for (unsigned k = 0; k < load->memory[load->encoded].size; k++)
        bits |= *(const uint8_t *)shadow_of(b + k);
    return bits;
}

uint8_t *emit_pattern_bits(const struct memory *m, int done, const struct pattern *p, int word,
                           uint64_t *held) {
    bool wide = m->size >= 8;
    if (wide && (int64_t)p->bits != (int32_t)p->bits) {
        if (*held != p->bits)
            emit_constant(&out, word, p->bits);
        *held = p->bits;
        return emit_compare_bits(m, word, true, done);
    }
    bool byte = wide ? (int64_t)p->bits == (int8_t)p->bits
                     : (int32_t)p->bits == (int8_t)p->bits;
    emit_gs(m, wide, 0); /* cmp gs:[m + done], bits */
    emit8(&out, byte ? 0x83 : 0x81);
    emit_operand(m, 7, done);
    if (byte)
        emit8(&out, (int)p->bits & 0xff);
    else
        emit32(&out, (int64_t)p->bits);
    return emit_short_jump(IF_NOT_ZERO);
}

void emit_constant_origin(const struct constant *c, int reg) {
    if (!c->twice) {
        emit_from_context(&out, reg, c->slot);
        return;
    }
    emit8(&out, 0x64); /* mov reg, fs:[slot], of 4 bytes: others may have set it */
    if (reg >= 8)
        emit8(&out, rex(0, reg, 0, 0));
    emit8(&out, 0x8b);
    emit_memory(&out, reg, -1, -1, 1, c->slot);
    emit_twice(reg);
}

void emit_constants(void) {
    for (int k = 0; k < constant_count; k++)
        if (constants[k].reg >= 0)
            emit_constant_origin(&constants[k], constants[k].reg);
}

uint8_t *emit_pattern_origin(int place, int offset, int size, const struct pattern *p, int word) {
    const struct constant *c = &constants[p->constant];
    if (c->reg < 0)
        emit_constant_origin(c, word);
    return emit_compare_origin(place, c->reg < 0 ? word : c->reg, size >= 8 && p->whole,
                               offset + p->at);
}

void emit_new_constant(int place, int offset, int size, const struct pattern *p, int word,
                       int spare) {
    const struct constant *c = &constants[p->constant];
    bool wide = size >= 8 && p->whole;
    uint8_t *leave[3];
    int count = 0;
    emit_take_origin(place, word, offset + p->at, wide);
    emit_compare_least(word);
    leave[count++] = emit_short_jump(IF_BELOW);
    if (wide) {
        emit_op(&out, 0x8d, spare, word, 0); /* lea */
        emit_rotate(word);
        emit_compare_least(word);
        leave[count++] = emit_short_jump(IF_BELOW);
        if (c->twice) {
            emit_register_op(&out, OP_COMPARE, word, spare);
            leave[count++] = emit_short_jump(IF_NOT_ZERO);
        }
        emit_rotate(word);
    } else {
        emit_twice(word);
    }
    emit_to_context(&out, word, c->slot);
    if (c->reg >= 0)
        emit_op(&out, 0x8d, c->reg, word, 0);
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
}

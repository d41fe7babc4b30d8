/* The dirty version of a block: the same instructions, and beside each that may
   meet an undefined bit what happens to it. Which elements may be undefined is
   known when the version is made and narrows as they are overwritten; all other
   instructions are those of the clean version. Moves of whole vectors run on the
   undefined bits themselves (SAME); the other rules are evaluated by C. */
#include "compute.h"
#include "copies.h"
#include "plan.h"

#include "translate.h"

static uint64_t bit(int element) { return 1ULL << element; }

/* --- emitting --- */

static int words_of(int element, int *offset) {
    switch (element) {
    case ELEMENT_MASKS:
        *offset = CTX_UNDEFINED_MASKS;
        return 8;
    case ELEMENT_MORE:
        *offset = CTX_UNDEFINED_VECTOR + 64 * 16;
        return 8 * 16;
    case ELEMENT_X87:
        *offset = CTX_UNDEFINED_X87;
        return 2;
    case ELEMENT_TOPS: /* not side by side: only counted, never gone through */
        *offset = CTX_UNDEFINED_VECTOR;
        return 4 * 16;
    default:
        break;
    }
    if (element < ELEMENT_VECTOR) {
        *offset = CTX_UNDEFINED + 8 * element;
        return 1;
    }
    *offset = CTX_UNDEFINED_VECTOR + 64 * ((element - ELEMENT_VECTOR) & 15) +
              (element >= ELEMENT_UPPER ? 16 : 0);
    return 2;
}

int dirty_word_count(uint64_t set) {
    int n = 0, offset;
    for (; set; set &= set - 1)
        n += words_of(__builtin_ctzll(set), &offset);
    return n;
}

void emit_dirty_set(void) {
    if (!now.dirty)
        return;
    emit_context_constant(&out, CTX_DIRTY, (uint32_t)now.possible);
    emit_context_constant(&out, CTX_DIRTY + 4, (uint32_t)(now.possible >> 32));
}

void emit_zero_word(int offset) { /* mov qword fs:[offset], 0 */
    emit8(&out, 0x64);
    emit8(&out, 0x48);
    emit8(&out, 0xc7);
    emit_memory(&out, 0, -1, -1, 1, offset);
    emit32(&out, 0);
}

void dirty_drop(uint64_t elements) {
    uint64_t set = now.dirty ? elements & now.possible & ~ELEMENTS_SHARED : 0;
    now.possible &= ~set;
    now.changed |= set != 0;
    for (; set; set &= set - 1) {
        int offset, n = words_of(__builtin_ctzll(set), &offset);
        while (n--)
            emit_zero_word(offset + 8 * n);
    }
}

void dirty_overwritten(const struct instruction *i) { dirty_drop(plan_outputs(i)); }

uint64_t dirty_inputs(const struct instruction *i) { return plan_inputs(i); }

int emit_test_words(uint64_t set, uint8_t **jumps) {
    int count = 0;
    for (; set; set &= set - 1) {
        int offset, n = words_of(__builtin_ctzll(set), &offset);
        for (int w = 0; w < n; w++) {
            emit_from_context(&out, RCX, offset + 8 * w);
            emit8(&out, 0xe3); /* jrcxz over the jump */
            emit8(&out, 5);
            emit8(&out, 0xe9);
            jumps[count++] = out.at;
            emit32(&out, 0);
        }
    }
    return count;
}

/* The same where flags are dead and no register is to be free. */
int emit_compare_words(uint64_t set, uint8_t **jumps) {
    int count = 0;
    for (; set; set &= set - 1) {
        int offset, n = words_of(__builtin_ctzll(set), &offset);
        for (int w = 0; w < n; w++) {
            emit8(&out, 0x64); /* cmp qword fs:[word], 0 */
            emit8(&out, 0x48);
            emit8(&out, 0x83);
            emit_memory(&out, 7, -1, -1, 1, offset + 8 * w);
            emit8(&out, 0);
            jumps[count++] = emit_if(&out, 5); /* jne */
        }
    }
    return count;
}

/* Behind a copy of undefined bits in a loop: the next round may have a steady version, though
   nothing is undefined at the moment. */
bool goes_round(gaddr target) {
    enum { LOOP_BYTES = 1024 };
    if (!now.dirty || !now.changed || target >= trace[0].pc || trace[0].pc - target > LOOP_BYTES)
        return false;
    for (const struct instruction *i = trace; i < trace + trace_count; i++)
        if (steady_copies(i))
            return true;
    return false;
}

static void add_dirty_link(gaddr target) {
    align_patch(1);
    emit8(&out, 0xe9);
    struct cold *c = cold_add(COLD_LINK, out.at);
    c->target = target;
    c->dirty_link = true;
    emit32(&out, 0);
}

static bool go_on_steady; /* emit_dirty_link goes back to where the trace began */

void emit_dirty_link(gaddr target) {
    if (!now.dirty || !now.possible) {
        if (go_on_steady && steady_is_dense())
            emit_into_steady(0, false);
        if (goes_round(target))
            add_dirty_link(target);
        else
            emit_link(target);
        return;
    }
    /* whoever came here found something undefined, and that is still so */
    if (!now.changed || dirty_word_count(now.possible) > FEW_WORDS) {
        if (go_on_steady)
            emit_into_steady(0, false);
        add_dirty_link(target);
        return;
    }
    uint8_t *jumps[FEW_WORDS];
    bool dead = flags_dead_at(target);
    int count = 0;
    if (go_on_steady && steady_is_dense())
        emit_into_steady(0, false);
    if (dead) {
        count = emit_compare_words(now.possible, jumps);
    } else {
        emit_spill(&out, RCX);
        count = emit_test_words(now.possible, jumps);
        emit_unspill(&out, RCX);
    }
    emit_link(target);
    for (int k = 0; k < count; k++)
        patch_jump(jumps[k], out.at);
    if (!dead)
        emit_unspill(&out, RCX);
    if (go_on_steady)
        emit_into_steady(0, false);
    add_dirty_link(target);
}

void emit_cold_dirty(struct cold *c) {
    go_on_steady = c->steady;
    emit_dirty_link(c->target);
    go_on_steady = false;
}

/* For returns and indirect jumps: out through C unless all is defined. The
   caller has set up what the door wants. */
void emit_leave_dirty(int reason, uint32_t argument) {
    uint8_t *jumps[FEW_WORDS], *over = NULL;
    int count = 0;
    bool many = !now.changed || dirty_word_count(now.possible) > FEW_WORDS;
    if (!many) {
        emit_spill(&out, RCX);
        count = emit_test_words(now.possible, jumps);
        emit_unspill(&out, RCX);
        emit8(&out, 0xe9);
        over = out.at;
        emit32(&out, 0);
        for (int k = 0; k < count; k++)
            patch_jump(jumps[k], out.at);
        emit_unspill(&out, RCX);
    }
    emit_exit(reason, now.pc, argument);
    if (over)
        patch_jump(over, out.at);
}

void emit_dirty_lookup(void) {
    emit_constant(&out, RDX, dirty_key(now.possible));
    emit8(&out, 0x48); /* lea rcx, [rcx + rdx]: the key */
    emit8(&out, 0x8d);
    emit_memory(&out, RCX, RCX, RDX, 1, 0);
    emit8(&out, 0x0f); /* movzx edx, cx */
    emit8(&out, 0xb7);
    emit8(&out, 0xd1);
    emit8(&out, 0x48); /* not rcx: now key + ~found + 1 is 0 when they are the same */
    emit8(&out, 0xf7);
    emit8(&out, 0xd1);
    emit8(&out, 0x64); /* mov fs:[target], rdx keeps the index */
    emit8(&out, 0x48);
    emit8(&out, 0x89);
    emit_memory(&out, RDX, -1, -1, 1, CTX_TARGET);
    emit8(&out, 0x64); /* mov rdx, fs:[keys + rdx * 8] */
    emit8(&out, 0x48);
    emit8(&out, 0x8b);
    emit_memory(&out, RDX, -1, RDX, 8, CTX_DIRTY_KEY);
    emit8(&out, 0x48); /* lea rcx, [rcx + rdx + 1] */
    emit8(&out, 0x8d);
    emit_memory(&out, RCX, RCX, RDX, 1, 1);
    emit8(&out, 0xe3);
    emit8(&out, 5);
    emit8(&out, 0xe9);
    cold_add(COLD_LOOKUP, out.at);
    emit32(&out, 0);
    emit_from_context(&out, RDX, CTX_TARGET);
    emit_jump_to_host(CTX_DIRTY_HOST);
}

/* --- single instructions --- */

static uint64_t address_registers(const struct instruction *i) {
    uint64_t set = 0;
    for (int k = 0; k < i->memory_count; k++) {
        if (i->memory[k].base >= 0)
            set |= bit(i->memory[k].base);
        if (i->memory[k].index >= 0)
            set |= bit(i->memory[k].index);
    }
    return set;
}

/* Leaves a part of what it writes as it was. */
static bool writes_part(const struct instruction *i) {
    uint32_t flags = flags_written(i);
    if (plan_outputs(i) & now.possible & ELEMENTS_SHARED)
        return true;
    if ((now.possible & bit(ELEMENT_FLAGS)) && flags && i->flags_killed != ARITHMETIC_FLAGS)
        return true;
    int lane, rule = rule_of(i, &lane);
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        if (o->type != ZYDIS_OPERAND_TYPE_REGISTER ||
            !(o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE))
            continue;
        int e = element_of(o->reg.value);
        if (e >= ELEMENT_VECTOR && (now.possible & bit(ELEMENT_TOPS)) &&
            i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY)
            return true; /* its top becomes 0 */
        if (e < 0 || !(now.possible & bit(e)))
            continue;
        if (e < 16 && o->size < 32)
            return true;
        if (e == ELEMENT_X87)
            return true;
        if (e >= ELEMENT_VECTOR && i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_LEGACY &&
            (rule == RULE_V_SCALAR || rule == RULE_V_ONE || rule == RULE_SAME))
            return true;
        if (o->actions & ZYDIS_OPERAND_ACTION_CONDWRITE)
            return true;
    }
    return false;
}

static bool reads_memory(const struct instruction *i) {
    for (int k = 0; k < i->memory_count; k++)
        if (i->memory[k].read)
            return true;
    return false;
}

bool wants_dirty(const struct instruction *i) {
    if (i->memory_count == 1 && is_stack_probe(i, &i->memory[0]))
        return false;
    int lane;
    if (!now.dirty || wants_slow_check(i))
        return false;
    if (rule_of(i, &lane) == RULE_ZERO_UPPER)
        return now.possible &
               (~0ULL << (i->z.mnemonic == ZYDIS_MNEMONIC_VZEROALL ? ELEMENT_VECTOR : ELEMENT_UPPER) |
                bit(ELEMENT_TOPS));
    if (rule_of(i, &lane) == RULE_NOTHING)
        return (plan_outputs(i) & now.possible) && writes_part(i);
    if (plan_inputs(i) & now.possible)
        return true;
    if ((now.possible & bit(ELEMENT_X87)) && is_x87(i))
        return true;
    if (((plan_outputs(i) & now.possible) || (now.possible & ELEMENTS_SHARED)) && writes_part(i))
        return true;
    if ((now.possible & bit(ELEMENT_FLAGS)) && !i->flags_killed && flags_written(i))
        return true; /* a shift by a register may leave the flags */
    return wants_plan(i) || (reads_memory(i) && dirty_site(i->pc));
}

bool wants_plan(const struct instruction *i) {
    int lane, rule = rule_of(i, &lane);
    if (rule == RULE_MASKED || rule == RULE_GATHER || rule == RULE_SCATTER || rule == RULE_SAVE ||
        rule == RULE_RESTORE || masks_memory(i))
        return true;
    for (int k = 0; k < i->memory_count; k++)
        if (i->memory[k].vector_index)
            return true;
    return (rule == RULE_BIT || rule == RULE_BITSET || rule == RULE_BITCLEAR ||
            rule == RULE_BITFLIP) &&
           i->memory_count && i->operands[1].type == ZYDIS_OPERAND_TYPE_REGISTER;
}

/* Moves 16 bytes (the old forms leave the rest of a register alone), else all there are. */
static void emit_vector(int opcode, int number, bool wide, int offset) {
    emit8(&out, 0x64);
    if (wide && cache.wide) { /* vmovups zmm (SDM volume 2, 2.7: EVEX) */
        emit8(&out, 0x62);
        emit8(&out, 0xf1 & ~(number & 8 ? 0x80 : 0) & ~(number & 16 ? 0x10 : 0));
        emit8(&out, 0x7c);
        emit8(&out, 0x48);
    } else if (wide) { /* vmovups ymm */
        emit8(&out, 0xc5);
        emit8(&out, number >= 8 ? 0x7c : 0xfc);
    } else {
        if (number >= 8)
            emit8(&out, 0x44);
        emit8(&out, 0x0f);
    }
    emit8(&out, opcode);
    emit_memory(&out, number, -1, -1, 1, offset);
}

#define LOAD_VECTOR 0x10
#define STORE_VECTOR 0x11

void emit_vector_to_context(int number, bool all, int offset) {
    emit_vector(STORE_VECTOR, number, all, offset);
}

void emit_vector_from_context(int number, bool all, int offset) {
    emit_vector(LOAD_VECTOR, number, all, offset);
}

static void emit_mask(int number, int slot) { /* kmovq fs:[slot], k; without AVX512BW kmovw */
    emit8(&out, 0x64);
    if (cache.wide_masks) {
        emit8(&out, 0xc4);
        emit8(&out, 0xe1);
        emit8(&out, 0xf8);
    } else {
        emit8(&out, 0xc5);
        emit8(&out, 0xf8);
    }
    emit8(&out, 0x91);
    emit_memory(&out, number, -1, -1, 1, CTX_VALUE + 64 * slot);
}

static void emit_mmx(int number, int slot) { /* movq fs:[slot], mm */
    emit8(&out, 0x64);
    emit8(&out, 0x0f);
    emit8(&out, 0x7f);
    emit_memory(&out, number, -1, -1, 1, CTX_VALUE + 64 * slot);
}

/* Hands the values of vector operands to C. */
static void emit_values(const struct plan *p) {
    for (int n = 0; n < p->count; n++)
        if (p->operands[n].kind == OPERAND_VECTOR)
            emit_vector(STORE_VECTOR, p->operands[n].number, p->vex, CTX_VALUE + 64 * n);
        else if (p->operands[n].kind == OPERAND_MASK)
            emit_mask(p->operands[n].number, n);
        else if (mmx_is(&p->operands[n]))
            emit_mmx(p->operands[n].number & 7, n);
    if (p->rule == RULE_GATHER || p->rule == RULE_SCATTER)
        emit_vector(STORE_VECTOR, p->index_vector, true, CTX_VALUE + 64 * VALUE_INDEX);
    if (p->mask)
        emit_mask(p->mask, VALUE_MASK);
}

void emit_plan_values(uint32_t plan) { emit_values(&cache_plans[plan]); }

static void emit_plan(uint32_t index) {
    now.changed = true; /* C may find that all is defined */
    emit_values(&cache_plans[index]);
    emit_context_constant(&out, CTX_GUEST_TARGET, index);
    emit_exit_and_back(EXIT_UNDEFINED, now.pc);
}

/* In the clean version, memory under a mask: C need not be asked where nothing of the
   whole operand is undefined or forbidden. */
bool emit_masked_use(const struct instruction *i, bool flags_live, uint32_t live_after) {
    const struct memory *m = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
    int lane;
    if (now.dirty || !m || m->vector_index || is_foreign(m) || !m->size || m->size > 64 ||
        (!masks_memory(i) && rule_of(i, &lane) != RULE_MASKED))
        return false;
    uint32_t index = plan_make(i, 0, live_after);
    cache_plans[index].clean = true;
    emit_values(&cache_plans[index]);
    int first = cold_count;
    emit_touch_check(m, flags_live);
    for (int k = first; k < cold_count; k++) {
        colds[k].argument = index;
        colds[k].resume = out.at;
    }
    return true;
}

void emit_on_shadow(const struct instruction *i) {
    if (i->encoded >= 0)
        emit8(&out, 0x65);
    emit_as_it_is(i);
}

/* VEX.256.66 of two or three registers; `map` 1: 0F, 2: 0F38. */
static void emit_vex(int map, int opcode, int reg, int second, int rm) {
    emit8(&out, 0xc4);
    emit8(&out, (reg & 8 ? 0 : 0x80) | 0x40 | (rm & 8 ? 0 : 0x20) | map);
    emit8(&out, (~second & 15) << 3 | 4 | 1);
    emit8(&out, opcode);
    emit8(&out, 0xc0 | (reg & 7) << 3 | (rm & 7));
}

/* A gather in the clean version gathers D first, into its own target: C need not be
   asked where that is 0. */
bool emit_gather_use(const struct instruction *i, bool flags_live, uint32_t live_after) {
    int lane;
    if (now.dirty || flags_live || rule_of(i, &lane) != RULE_GATHER || i->encoded < 0 ||
        is_foreign(&i->memory[i->encoded]) || i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_VEX)
        return false;
    int target = vector_number(i->operands[0].reg.value);
    int mask = vector_number(i->operands[2].reg.value);
    uint32_t index = plan_make(i, 0, live_after);
    cache_plans[index].clean = true;
    emit_values(&cache_plans[index]);
    emit_vex(1, 0xef, target, target, target); /* vpxor: lanes that are off stay 0 */
    note_place(i->pc, 0, false);
    emit_on_shadow(i);
    emit_vex(2, 0x17, target, 0, target); /* vptest */
    emit_vector(LOAD_VECTOR, target, true, CTX_VALUE);
    emit_vector(LOAD_VECTOR, mask, true, CTX_VALUE + 64 * 2);
    uint8_t *jump = emit_if(&out, 5); /* jne */
    struct cold *c = cold_add(COLD_TOUCH, jump);
    c->argument = index;
    c->resume = out.at;
    return true;
}

void emit_dirty_use(const struct instruction *i, int rule, uint32_t live_after) {
    uint32_t index = plan_make(i, now.possible, live_after);
    cache_plans[index].clean = !now.dirty;
    if (rule > 0)
        cache_plans[index].rule = (uint8_t)rule;
    if (rule < 0) { /* a loop: by the count register */
        cache_plans[index].rule = RULE_BRANCH;
        cache_plans[index].condition = 0xff;
    }
    emit_plan(index);
}

static bool is_general(const ZydisDecodedOperand *o) {
    int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
    return e >= 0 && e < 16;
}

/* A move into a whole register, from memory or another. */
static bool is_general_move(const struct instruction *i) {
    const ZydisDecodedOperand *to = &i->operands[0], *from = &i->operands[1];
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOV:
    case ZYDIS_MNEMONIC_MOVZX:
    case ZYDIS_MNEMONIC_MOVSX:
    case ZYDIS_MNEMONIC_MOVSXD:
        break;
    default:
        return false;
    }
    if (!is_general(to) || to->size < 32 || to->reg.value == ZYDIS_REGISTER_RSP)
        return false;
    if (from->type == ZYDIS_OPERAND_TYPE_MEMORY)
        return !is_foreign(&i->memory[i->encoded]);
    return is_general(from) && element_of(from->reg.value) != element_of(to->reg.value) &&
           !(from->reg.value >= ZYDIS_REGISTER_AH && from->reg.value <= ZYDIS_REGISTER_BH);
}

/* The instruction can run on undefined bits as it would on values. */
static bool runs_on_bits(const struct instruction *i) {
    int lane, rule = rule_of(i, &lane);
    bool vectors = false;
    if (is_general_move(i))
        return true;
    if (masks_memory(i))
        return false;
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        if (o->type == ZYDIS_OPERAND_TYPE_REGISTER) {
            int e = element_of(o->reg.value);
            if (e == ELEMENT_X87 || e == ELEMENT_MASKS)
                return false;
            vectors |= e >= ELEMENT_VECTOR || e == ELEMENT_MORE;
        }
        if (o->type == ZYDIS_OPERAND_TYPE_MEMORY &&
            (o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE))
            return false;
    }
    bool shifts = rule == RULE_V_SHIFT && i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_EVEX &&
                  i->operands[i->z.operand_count_visible - 1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    if (rule != RULE_SAME && rule != RULE_COPY && rule != RULE_V_EXTEND && !shifts)
        return false;
    if (i->encoded >= 0 && is_foreign(&i->memory[i->encoded]))
        return false;
    return vectors;
}

/* A store of a register, or of the lower part of one, as it is. */
bool is_plain_store(const struct instruction *i) {
    int lane, rule = rule_of(i, &lane);
    const ZydisDecodedOperand *to = &i->operands[0], *from = &i->operands[1];
    if ((rule != RULE_COPY && rule != RULE_SAME) || i->z.operand_count_visible != 2 ||
        to->type != ZYDIS_OPERAND_TYPE_MEMORY || from->type != ZYDIS_OPERAND_TYPE_REGISTER ||
        i->encoded < 0 || is_foreign(&i->memory[i->encoded]) || i->memory[i->encoded].size > 64 ||
        i->mask)
        return false;
    int e = element_of(from->reg.value);
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOVBE:
    case ZYDIS_MNEMONIC_MOVHPS:
    case ZYDIS_MNEMONIC_MOVHPD:
    case ZYDIS_MNEMONIC_VMOVHPS:
    case ZYDIS_MNEMONIC_VMOVHPD:
        return false;
    default:
        break;
    }
    if (from->reg.value >= ZYDIS_REGISTER_AH && from->reg.value <= ZYDIS_REGISTER_BH)
        return false;
    return e >= 0 && e != ELEMENT_X87 && e != ELEMENT_MASKS;
}

/* A VEX instruction of 128 bits has left zeros in the upper half. */
static void drop_upper(const struct instruction *i) {
    if (i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_LEGACY)
        return;
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
        if (e >= ELEMENT_VECTOR && o->size <= 128 && /* none of zmm16 to zmm31 */
            (o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE))
            now.possible &= ~bit(e - ELEMENT_VECTOR + ELEMENT_UPPER);
    }
}

void emit_bits_to_context(const struct instruction *load) {
    int e = element_of(load->operands[0].reg.value);
    int v = vector_number(load->operands[0].reg.value);
    if (v < 0)
        emit_to_context(&out, e, CTX_UNDEFINED + 8 * e);
    else
        emit_vector(STORE_VECTOR, v, load->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY,
                    CTX_UNDEFINED_VECTOR + 64 * v);
}

/* A load of a whole register that its address does not need: the undefined bits come by
   the register itself, which the load overwrites next. first: of the pieces that look at what is
   loaded, -1: there are none that go on here. */
static bool emit_loaded_bits(const struct instruction *i, bool vex, int first) {
    const ZydisDecodedOperand *to = &i->operands[0];
    if (i->z.operand_count_visible != 2 || to->type != ZYDIS_OPERAND_TYPE_REGISTER ||
        i->operands[1].type != ZYDIS_OPERAND_TYPE_MEMORY ||
        (to->actions & ZYDIS_OPERAND_ACTION_MASK_READ) || i->mask)
        return false;
    int e = element_of(to->reg.value), v = vector_number(to->reg.value), lane;
    if (is_general_move(i)) {
        if (address_registers(i) & bit(e))
            return false;
        emit_spill(&out, e);
        for (int k = first; k >= 0 && k < cold_count; k++)
            colds[k].loaded = out.at;
        emit_on_shadow(i);
        emit_bits_to_context(i);
        now.fetched = 1u << e;
        return true;
    }
    if (v < 0 || (rule_of(i, &lane) != RULE_SAME && rule_of(i, &lane) != RULE_COPY) ||
        (!vex && i->memory[i->encoded].size != 16))
        return false;
    emit_on_shadow(i);
    emit_bits_to_context(i);
    return true;
}

/* A load after which each byte stands in the register as it does in memory. */
bool moves_whole(const struct instruction *i) {
    if (i->z.operand_count_visible != 2 || i->mask ||
        (i->operands[0].actions & ZYDIS_OPERAND_ACTION_MASK_READ))
        return false;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOV: case ZYDIS_MNEMONIC_MOVQ: case ZYDIS_MNEMONIC_VMOVQ:
    case ZYDIS_MNEMONIC_MOVSD: case ZYDIS_MNEMONIC_VMOVSD:
    case ZYDIS_MNEMONIC_MOVAPS: case ZYDIS_MNEMONIC_VMOVAPS:
    case ZYDIS_MNEMONIC_MOVAPD: case ZYDIS_MNEMONIC_VMOVAPD:
    case ZYDIS_MNEMONIC_MOVUPS: case ZYDIS_MNEMONIC_VMOVUPS:
    case ZYDIS_MNEMONIC_MOVUPD: case ZYDIS_MNEMONIC_VMOVUPD:
    case ZYDIS_MNEMONIC_MOVDQA: case ZYDIS_MNEMONIC_VMOVDQA:
    case ZYDIS_MNEMONIC_MOVDQU: case ZYDIS_MNEMONIC_VMOVDQU:
    case ZYDIS_MNEMONIC_LDDQU: case ZYDIS_MNEMONIC_VLDDQU:
        return true;
    default:
        return false;
    }
}

static void emit_same(const struct instruction *i, bool flags_live) {
    bool vex = i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY;
    const struct memory *m = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
    uint64_t outputs = plan_outputs(i), inputs = plan_inputs(i) & now.possible & ~address_registers(i);
    int copied = -1;
    if (emit_register_move(i, flags_live)) {
        now.possible |= outputs;
        drop_upper(i);
        return;
    }
    emit_origins_along(i, inputs, outputs, flags_live);
    if (m && m->read) {
        uint32_t index = plan_make(i, now.possible, 0);
        cache_plans[index].rule = RULE_TOUCH;
        cache_plans[index].moves_whole = moves_whole(i);
        cache_plans[index].moves_few = is_general_move(i);
        struct parts *parts = &cache_plans[index].parts;
        bool moves = parts_of(i, parts) &&
                     (parts->first == PARTS_MEMORY || parts->second == PARTS_MEMORY);
        bool bytes = !moves && joins_bytes(i, parts);
        bool joins = (moves || bytes) && parts->second == PARTS_MEMORY &&
                     parts->first != PARTS_MEMORY &&
                     (now.possible & whole_element(parts->first)); /* always by C */
        if (moves || bytes)
            cache_plans[index].rule = RULE_JOIN;
        if (address_registers(i) & now.possible) {
            emit_plan(index);
            dirty_drop(address_registers(i));
        } else {
            uint64_t named = outputs & ~bit(ELEMENT_TOPS);
            int first = cold_count, to = named ? __builtin_ctzll(named) : ELEMENT_FLAGS;
            emit_touch_check(m, flags_live);
            for (int k = first; k < cold_count; k++) {
                colds[k].argument = index;
                colds[k].memory = *m;
                if (!joins)
                    colds[k].way = WAY_LOAD | WAY_STRANGE | (uint32_t)ORIGIN_SLOT(to) << WAY_SLOT;
            }
            copied = joins ? -1 : first;
            if (moves)
                emit_parts_beside(parts, first);
        }
    }
    if (copied >= 0)
        copy_begins(i, flags_live, copied);
    if (emit_loaded_bits(i, vex, copied)) {
        now.possible |= outputs;
        drop_upper(i);
        return;
    }
    uint64_t saved = 0; /* a register that stands twice is saved once, before it changes */
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
        if (e < 0)
            continue;
        int v = vector_number(o->reg.value);
        uint64_t name = v < 0 ? bit(e) : 1ULL << (16 + v);
        bool again = saved & name;
        saved |= name;
        bool reads = (o->actions & ZYDIS_OPERAND_ACTION_MASK_READ) || (!vex && e >= ELEMENT_VECTOR);
        if (v < 0) {
            if (!again)
                emit_spill(&out, e);
            if (reads)
                emit_from_context(&out, e, CTX_UNDEFINED + 8 * e);
        } else {
            if (!again)
                emit_vector(STORE_VECTOR, v, vex, CTX_VALUE + 64 * k);
            if (reads)
                emit_vector(LOAD_VECTOR, v, vex, CTX_UNDEFINED_VECTOR + 64 * v);
        }
    }
    emit_on_shadow(i);
    for (int pass = 0; pass < 2; pass++) {
        saved = 0;
        for (int k = 0; k < i->z.operand_count; k++) {
            const ZydisDecodedOperand *o = &i->operands[k];
            int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
            if (e < 0)
                continue;
            int v = vector_number(o->reg.value);
            uint64_t name = v < 0 ? bit(e) : 1ULL << (16 + v);
            bool again = saved & name;
            saved |= name;
            bool writes = o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE;
            if (v < 0) {
                if (pass)
                    emit_unspill(&out, e);
                else if (writes)
                    emit_to_context(&out, e, CTX_UNDEFINED + 8 * e);
            } else if (pass) {
                if (!again)
                    emit_vector(LOAD_VECTOR, v, vex, CTX_VALUE + 64 * k);
            } else if (writes) {
                emit_vector(STORE_VECTOR, v, vex, CTX_UNDEFINED_VECTOR + 64 * v);
            }
        }
    }
    now.possible |= outputs;
    drop_upper(i);
}

/* D of the operand takes the undefined bits of the element; where they are from is
   noted when there are any. */
static void emit_bits_out(const struct instruction *i, const struct memory *m, int e, bool vex,
                          bool flags_live) {
    int offset, words = words_of(e, &offset);
    int number = e < 16 ? -1 : vector_number(i->operands[1].reg.value);
    if (e < 16) {
        int scratch = pick_scratch(i->registers_used | 1u << RSP);
        emit_spill(&out, scratch);
        emit_from_context(&out, scratch, offset);
        emit_shadow_store(m, scratch);
        emit_unspill(&out, scratch);
    } else {
        offset = CTX_UNDEFINED_VECTOR + 64 * number;
        emit_vector(STORE_VECTOR, number, vex, CTX_VALUE);
        emit_vector(LOAD_VECTOR, number, vex, offset);
        emit_on_shadow(i);
        emit_vector(LOAD_VECTOR, number, vex, CTX_VALUE);
        words = m->size > 16 ? (int)m->size / 8 : 2;
    }
    uint32_t index = plan_make(i, now.possible, 0);
    cache_plans[index].rule = RULE_STORED;
    int first = cold_count;
    emit_words_check(offset, words, m, flags_live);
    for (int k = first; k < cold_count; k++) {
        colds[k].argument = index;
        colds[k].resume = out.at;
        colds[k].way = WAY_ORIGIN | (uint32_t)ORIGIN_SLOT(e) << WAY_SLOT;
    }
}

/* movs of one word between two places that both are known. */
static bool emit_string_move(const struct instruction *i, bool flags_live) {
    uint32_t size = 1u << (i->z.mnemonic == ZYDIS_MNEMONIC_MOVSW   ? 1
                           : i->z.mnemonic == ZYDIS_MNEMONIC_MOVSD ? 2
                           : i->z.mnemonic == ZYDIS_MNEMONIC_MOVSQ ? 3
                                                                   : 0);
    if (!is_string_instruction(i) || i->repeated || flags_live ||
        (size == 1 && i->z.mnemonic != ZYDIS_MNEMONIC_MOVSB) ||
        ((bit(RSI) | bit(RDI)) & now.possible))
        return false;
    for (int k = 0; k < i->memory_count; k++)
        if (i->memory[k].segment || i->memory[k].address32)
            return false;
    uint8_t *done[WORD_MOVE_JUMPS];
    int first = cold_count, count = emit_word_move(size, done), end = cold_count;
    uint64_t possible = now.possible;
    emit_plan(plan_make(i, now.possible, 0));
    now.possible = possible;
    out.kept = 0;
    for (int k = 0; k < count; k++)
        patch_jump(done[k], out.at);
    for (int k = first; k < end; k++)
        colds[k].beyond = out.at;
    note_place(i->pc, 0, false);
    emit_plain(i);
    forget_registers(i);
    forget_proofs();
    return true;
}

/* A slot of a frame, or of arguments, for which the trace has just made room: its D changes. */
static bool is_fresh(const struct instruction *i, const struct memory *m) {
    if (m->base != RSP || m->index >= 0 || m->displacement < 0)
        return false;
    int64_t room = 0;
    for (const struct instruction *b = trace; b < i; b++)
        room -= stack_shift(b);
    return m->displacement < room;
}

static bool emit_inline(const struct instruction *i, bool flags_live) {
    if (emit_string_move(i, flags_live))
        return true;
    if (runs_on_bits(i)) {
        struct cold *asks = NULL;
        if (i->mask && (now.possible & bit(ELEMENT_MASKS))) { /* not by an undefined mask */
            uint32_t index = plan_make(i, now.possible, 0);
            emit_values(&cache_plans[index]);
            emit_spill(&out, RCX);
            emit_from_context(&out, RCX, CTX_UNDEFINED_MASKS + 8 * i->mask);
            emit8(&out, 0xe3); /* jrcxz over the jump */
            emit8(&out, 5);
            emit8(&out, 0xe9);
            asks = cold_add(COLD_TOUCH, out.at);
            asks->spilled = 1u << RCX;
            asks->argument = index;
            emit32(&out, 0);
            emit_unspill(&out, RCX);
        }
        emit_same(i, flags_live);
        if (asks) {
            asks->resume = out.at;
            out.kept &= asks->kept;
        }
        note_place(i->pc, now.fetched, false); /* in its slot, should the load fail */
        now.fetched = 0;
        emit_plain(i);
        forget_registers(i);
        return true;
    }
    if (address_registers(i) & now.possible)
        return false;
    if (is_plain_store(i)) {
        const struct memory *m = &i->memory[i->encoded];
        int e = element_of(i->operands[1].reg.value);
        int offset;
        words_of(e, &offset);
        if (vector_number(i->operands[1].reg.value) >= 0)
            offset = CTX_UNDEFINED_VECTOR + 64 * vector_number(i->operands[1].reg.value);
        uint8_t *over = !flags_live && m->size && m->size <= 32 && !(m->size & (m->size - 1)) &&
                                !is_fresh(i, m)
                            ? emit_same_store(m, e, offset)
                            : NULL;
        int first = cold_count;
        emit_dirty_store_check(m, flags_live);
        int end = cold_count;
        emit_bits_out(i, m, element_of(i->operands[1].reg.value),
                      i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY, flags_live);
        if (over)
            patch_jump(over, out.at);
        for (int k = first; k < end; k++)
            colds[k].beyond = out.at;
        if (end > first)
            out.kept = 0;
        note_place(i->pc, 0, false);
        emit_plain(i);
        copy_ends(i);
        forget_proofs();
        return true;
    }
    if (i->z.mnemonic == ZYDIS_MNEMONIC_PUSH && is_general(&i->operands[0]) &&
        i->operands[0].size == 64 && i->operands[0].reg.value != ZYDIS_REGISTER_RSP) {
        struct memory slot = {.base = RSP, .index = -1, .scale = 1, .size = 8};
        emit_plain(i);
        note_place(i->pc + i->z.length, 0, false);
        emit_bits_out(i, &slot, element_of(i->operands[0].reg.value), false,
                      flags_live);
        forget_registers(i);
        forget_proofs();
        return true;
    }
    return false;
}

enum { TEST_WORD = 0xf6, AND_WORD = 0x80, SHIFT_WORD = 0xc0 };

/* op <size> fs:[offset], value; 64 bits wide it is extended with its sign. */
static void emit_word_op(int opcode, int extension, int size, int offset, int64_t value) {
    emit8(&out, 0x64);
    if (size == 2)
        emit8(&out, 0x66);
    if (size == 8)
        emit8(&out, 0x48);
    emit8(&out, size == 1 ? opcode : opcode + 1);
    emit_memory(&out, extension, -1, -1, 1, offset);
    if (size == 1 || opcode == SHIFT_WORD) {
        emit8(&out, (int)(value & 0xff));
    } else if (size == 2) {
        emit8(&out, (int)(value & 0xff));
        emit8(&out, (int)(value >> 8 & 0xff));
    } else {
        emit32(&out, value);
    }
}

/* Much that may be undefined is not: then C need not be asked, and what the
   instruction writes is defined. */
static bool emit_unless_defined(const struct instruction *i, uint32_t index, bool flags_live,
                                uint32_t live_after) {
    uint64_t outputs = plan_outputs(i) & now.possible;
    uint64_t tested = plan_inputs(i) & now.possible;
    uint8_t *jumps[FEW_WORDS];
    const struct memory *m = NULL;
    bool computed = !flags_live && computes(i, &cache_plans[index], live_after);
    if (wants_plan(i) || (writes_part(i) && !computed) || is_string_instruction(i) ||
        cache_plans[index].rule == RULE_ZERO_UPPER)
        return false;
    tested |= address_registers(i) & now.possible;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_PUSH:
    case ZYDIS_MNEMONIC_PUSHF:
    case ZYDIS_MNEMONIC_PUSHFQ:
    case ZYDIS_MNEMONIC_POP:
    case ZYDIS_MNEMONIC_ENTER:
    case ZYDIS_MNEMONIC_LEAVE:
        return false;
    default:
        break;
    }
    if (dirty_word_count(tested) > 8 || is_x87(i) ||
        (tested & bit(ELEMENT_X87)))
        return false;
    for (int k = 0; k < i->memory_count; k++) {
        if (!i->memory[k].read && !i->memory[k].write)
            continue;
        if (m || !i->memory[k].encoded || is_foreign(&i->memory[k]) || !i->memory[k].size ||
            i->memory[k].size > 32)
            return false;
        m = &i->memory[k];
    }
    int first = cold_count, count = 0;
    if (tested && flags_live) {
        emit_spill(&out, RCX);
        count = emit_test_words(tested, jumps);
        emit_unspill(&out, RCX);
    } else if (tested) {
        count = emit_compare_words(tested, jumps);
        uint8_t *last = jumps[count - 1] - 2; /* the others go to that jump */
        for (int k = 0; k + 1 < count; k++)
            patch_jump(jumps[k], last);
        cold_add(COLD_TOUCH, jumps[count - 1]);
        if (computed)
            compute_later(i, cold_count - 1, NULL);
        count = 0;
    }
    int touches = cold_count;
    if (m)
        emit_touch_check(m, flags_live);
    for (int k = touches; k < cold_count && computed; k++)
        compute_later(i, k, NULL);
    if (computed && moves_part(i)) {
        if (outputs)
            emit_word_op(AND_WORD, 4, 8, CTX_UNDEFINED + 8 * element_of(i->operands[0].reg.value),
                         -(1LL << i->operands[0].size));
        outputs = 0;
    }
    for (int k = first; k < cold_count; k++) {
        colds[k].argument = index;
        colds[k].values = true;
    }
    uint64_t stays = plan_stays(&cache_plans[index]);
    for (int k = touches; k < cold_count && !flags_live && !computed; k++) {
        colds[k].masked = cache_plans[index].stays == STAYS_MASKED && m && m->size <= 8 &&
                          (m->size < 8 || stays == (uint64_t)(int32_t)stays);
        colds[k].mask = (int32_t)stays;
        colds[k].memory = *m;
    }
    for (uint64_t set = outputs & ~tested; set; set &= set - 1) {
        int offset, n = words_of(__builtin_ctzll(set), &offset);
        while (n--)
            emit_zero_word(offset + 8 * n);
    }
    for (int k = 0; k < count; k++) {
        struct cold *c = cold_add(COLD_TOUCH, jumps[k]);
        c->spilled = 1u << RCX;
        c->argument = index;
        c->values = true;
    }
    for (int k = first; k < cold_count; k++)
        colds[k].resume = out.at;
    return true;
}

/* Of the bits of a general register an immediate masks out or moves some: the others, or
   those moved, stay undefined. C is asked when flags are wanted and any stays so. */
static bool emit_on_word(const struct instruction *i, uint32_t index, bool flags_live,
                         uint32_t live_after) {
    enum { ROTATE_LEFT, ROTATE_RIGHT, LEFT = 4, RIGHT, ARITHMETIC_RIGHT = 7 };
    const ZydisDecodedOperand *o = i->operands;
    int lane, rule = rule_of(i, &lane), shift = -1, size = o[0].size / 8;
    if (flags_live || i->memory_count || i->z.operand_count_visible != 2 || !is_general(&o[0]) ||
        o[1].type != ZYDIS_OPERAND_TYPE_IMMEDIATE || o[0].reg.value == ZYDIS_REGISTER_RSP ||
        (o[0].reg.value >= ZYDIS_REGISTER_AH && o[0].reg.value <= ZYDIS_REGISTER_BH))
        return false;
    int e = element_of(o[0].reg.value), word = CTX_UNDEFINED + 8 * e;
    int64_t value = o[1].imm.value.s, stays = -1;
    bool wanted = (flags_written(i) & live_after) != 0;
    if (!(now.possible & bit(e)))
        return false;
    switch (rule) {
    case RULE_AND: case RULE_TEST: stays = value; break;
    case RULE_OR: stays = ~value; break;
    case RULE_XOR: break;
    case RULE_SHL: shift = LEFT; break;
    case RULE_SHR: shift = RIGHT; break;
    case RULE_SAR: shift = ARITHMETIC_RIGHT; break;
    case RULE_ROL: shift = ROTATE_LEFT; break;
    case RULE_ROR: shift = ROTATE_RIGHT; break;
    default: return false;
    }
    if (shift >= 0 && (wanted || !(value & (size == 8 ? 63 : 31))))
        return false;
    if (stays != (int32_t)stays)
        return false;
    uint8_t *asks = NULL;
    uint32_t kept = out.kept; /* whoever comes by C has not passed what is spilled here */
    if (wanted || rule == RULE_TEST) {
        emit_word_op(TEST_WORD, 0, size, word, stays);
        asks = emit_if(&out, 5); /* jne */
    }
    uint8_t *moves = NULL, *uniform = NULL;
    if (shift >= 0) { /* parts of different origin: C moves them about */
        emit8(&out, 0x64); /* cmp dword fs:[origin], the first of those */
        emit8(&out, 0x81);
        emit_memory(&out, 7, -1, -1, 1, CTX_ORIGIN_OF(e));
        emit32(&out, ORIGIN_BYTE_CODES);
        asks = emit_if(&out, 13); /* jge: those of stack slots are below 0 */
    }
    if (shift >= 0 && size == 8) {
        int scratch = e == RCX ? RDX : RCX;
        emit_spill(&out, scratch);
        emit_from_context(&out, scratch, CTX_ORIGIN_OF(e));
        emit_rotate(scratch);
        emit8(&out, 0x64); /* cmp scratch, fs:[origin] */
        emit8(&out, 0x48);
        emit8(&out, 0x3b);
        emit_memory(&out, scratch, -1, -1, 1, CTX_ORIGIN_OF(e));
        emit_unspill(&out, scratch);
        moves = emit_if(&out, 5); /* jne */
        uniform = out.at;
    }
    /* as a whole: who reads it next is not to wait for several stores */
    if ((size == 4 || (size < 4 && shift >= 0)) && rule != RULE_TEST) {
        int scratch = e == RCX ? RDX : RCX;
        emit_spill(&out, scratch);
        emit_from_context(&out, scratch, word);
        if (shift >= 0) {
            if (size == 2)
                emit8(&out, 0x66);
            emit8(&out, size == 1 ? SHIFT_WORD : SHIFT_WORD + 1); /* shift scratch, value */
            emit8(&out, 0xc0 | shift << 3 | scratch);
            emit8(&out, (int)(value & 0xff));
        } else {
            emit8(&out, 0x81); /* and scratch, stays */
            emit8(&out, 0xe0 | scratch);
            emit32(&out, stays);
        }
        emit_to_context(&out, scratch, word);
        emit_unspill(&out, scratch);
    } else if (shift >= 0) {
        emit_word_op(SHIFT_WORD, shift, size, word, value);
    } else if (stays != -1 && rule != RULE_TEST) {
        uint64_t others = size == 8 ? 0 : ~0ULL << 8 * size;
        emit_word_op(AND_WORD, 4, 8, word, (int64_t)((uint64_t)stays | others));
    }
    if ((now.possible | plan_outputs(i)) & bit(ELEMENT_FLAGS))
        emit_zero_word(CTX_UNDEFINED_FLAGS);
    uint8_t *leave[] = {asks, moves};
    out.kept = kept;
    for (int k = 0; k < 2; k++)
        if (leave[k]) {
            struct cold *c = cold_add(COLD_TOUCH, leave[k]);
            c->argument = index;
            c->resume = out.at;
            if (k && computes(i, &cache_plans[index], live_after))
                compute_later(i, cold_count - 1, uniform);
        }
    return true;
}

static bool emit_pop(const struct instruction *i, bool flags_live) {
    if (i->z.mnemonic != ZYDIS_MNEMONIC_POP || !is_general(&i->operands[0]) ||
        i->operands[0].size != 64 || i->operands[0].reg.value == ZYDIS_REGISTER_RSP)
        return false;
    struct memory slot = {.base = RSP, .index = -1, .scale = 1, .size = 8};
    int reg = element_of(i->operands[0].reg.value);
    uint32_t index = plan_make(i, now.possible, 0);
    cache_plans[index].moves_whole = true;
    int first = cold_count;
    emit_touch_check(&slot, flags_live);
    for (int k = first; k < cold_count; k++) {
        colds[k].argument = index;
        colds[k].memory = slot;
        colds[k].way = WAY_LOAD | WAY_STRANGE | (uint32_t)ORIGIN_SLOT(reg) << WAY_SLOT;
    }
    emit8(&out, 0x65); /* mov reg, gs:[rsp] */
    emit_op(&out, 0x8b, reg, RSP, 0);
    emit_to_context(&out, reg, CTX_UNDEFINED + 8 * reg);
    note_place(i->pc, 0, false);
    emit_plain(i);
    emit_stack_after(i, flags_live);
    forget_proofs();
    now.possible |= bit(reg);
    return true;
}

/* Only the stack pointer's move counts; what is popped nobody reads. */
static bool emit_frame(const struct instruction *i, uint32_t live_after) {
    bool drops = drops_frame(i);
    if (!drops && !makes_frame(i))
        return false;
    note_place(i->pc, 0, false);
    emit_plain(i);
    emit_stack_after(i, (live_after & ARITHMETIC_FLAGS) != 0);
    if (drops)
        dirty_drop(bit(element_of(i->operands[0].reg.value)));
    forget_proofs();
    return true;
}

/* Registers of an address that may be undefined mostly are not: C is asked only if they are, and
   makes them defined. What follows need not look at them any more. */
static void emit_address_check(const struct instruction *i, bool flags_live) {
    const struct memory *m = &i->memory[0];
    uint64_t set = address_registers(i) & now.possible;
    int lane;
    if (!set || i->memory_count != 1 || !(m->read || m->write) || m->vector_index || m->address32 ||
        is_foreign(m) || wants_plan(i) || is_string_instruction(i) || rule_of(i, &lane) == RULE_NOTHING)
        return;
    int first = cold_count;
    uint32_t index = plan_make(i, now.possible, 0);
    cache_plans[index].rule = RULE_ADDRESS;
    cache_plans[index].stays = false;
    for (uint64_t left = set; left; left &= left - 1)
        emit_words_check(CTX_UNDEFINED + 8 * __builtin_ctzll(left), 1, m, flags_live);
    for (int k = first; k < cold_count; k++) {
        colds[k].argument = index;
        colds[k].resume = out.at;
    }
    out.kept = 0;
    now.possible &= ~set;
    now.changed = true;
}

void emit_dirty(const struct instruction *i, bool flags_live, uint32_t live_after) {
    now.changed |= !is_plain_store(i);
    if (emit_frame(i, live_after))
        return;
    emit_address_check(i, flags_live);
    if (emit_inline(i, flags_live) || emit_pop(i, flags_live))
        return;
    uint64_t outputs = plan_outputs(i);
    uint32_t index = plan_make(i, now.possible, live_after);
    if (!emit_on_word(i, index, flags_live, live_after) &&
        !emit_unless_defined(i, index, flags_live, live_after))
        emit_plan(index);
    emit_stack_note(i);
    note_place(i->pc, 0, false);
    emit_plain(i);
    int rule = cache_plans[index].rule;
    if (rule != RULE_PUSH && rule != RULE_PUSH_FLAGS && rule != RULE_ENTER)
        emit_stack_after(i, (live_after & ARITHMETIC_FLAGS) != 0);
    else
        forget_registers(i);
    forget_proofs();
    if (rule == RULE_ZERO_UPPER)
        now.possible &= (1ULL << ELEMENT_UPPER) - 1;
    if (rule != RULE_NOTHING)
        now.possible &= ~(address_registers(i) & ~outputs); /* C made them defined */
    if (i->z.mnemonic == ZYDIS_MNEMONIC_LEA)
        now.possible |= plan_inputs(i) & address_registers(i);
    now.possible |= outputs;
    drop_upper(i);
    if (outputs & bit(ELEMENT_FLAGS) && !live_after)
        now.possible &= ~bit(ELEMENT_FLAGS); /* C has set the word to 0 */
}

void emit_dirty_branch(const struct instruction *i, uint32_t live_after) {
    uint32_t live = flags_dead_at(branch_target(i)) ? live_after : ARITHMETIC_FLAGS;
    uint32_t index = plan_make(i, now.possible, live);
    cache_plans[index].rule = RULE_BRANCH;
    now.changed = true;
    emit_spill(&out, RCX);
    emit_from_context(&out, RCX, CTX_UNDEFINED_FLAGS);
    emit8(&out, 0xe3); /* jrcxz over the exit */
    uint8_t *over = out.at;
    emit8(&out, 0);
    emit_unspill(&out, RCX);
    emit8(&out, 0xe9);
    struct cold *c = cold_add(COLD_TOUCH, out.at);
    emit32(&out, 0);
    *over = (uint8_t)(out.at - over - 1);
    emit_unspill(&out, RCX);
    c->resume = out.at;
    c->argument = index;
    if (!live)
        now.possible &= ~bit(ELEMENT_FLAGS); /* C has set the word to 0 */
}

/* Making plans: from the decoder's operand list to what a shadow rule needs. */
#include "plan.h"

#include "cache.h"
#include "decode.h"
#include "translate.h"

#define PARENTHESES ()
#define EXPAND(...) EXPAND4(EXPAND4(EXPAND4(EXPAND4(__VA_ARGS__))))
#define EXPAND4(...) EXPAND3(EXPAND3(EXPAND3(EXPAND3(__VA_ARGS__))))
#define EXPAND3(...) EXPAND2(EXPAND2(EXPAND2(EXPAND2(__VA_ARGS__))))
#define EXPAND2(...) EXPAND1(EXPAND1(EXPAND1(EXPAND1(__VA_ARGS__))))
#define EXPAND1(...) __VA_ARGS__
#define ROWS(rule, lane, ...) __VA_OPT__(EXPAND(ROW(rule, lane, __VA_ARGS__)))
#define ROW(rule, lane, name, ...)                                                            \
    [ZYDIS_MNEMONIC_##name] = {RULE_##rule, lane},                                            \
    __VA_OPT__(ROW_AGAIN PARENTHESES(rule, lane, __VA_ARGS__))
#define ROW_AGAIN() ROW

static const struct {
    uint8_t rule, lane;
} rules[ZYDIS_MNEMONIC_MAX_VALUE + 1] = {SHADOW_RULES(ROWS)};

bool is_x87(const struct instruction *i) {
    return i->z.meta.category == ZYDIS_CATEGORY_X87_ALU || i->z.meta.category == ZYDIS_CATEGORY_FCMOV;
}

int rule_of(const struct instruction *i, int *lane) {
    int mnemonic = i->z.mnemonic;
    *lane = rules[mnemonic].lane;
    bool text = is_string_instruction(i);
    switch (mnemonic) {
    case ZYDIS_MNEMONIC_MOVSD:
        return text ? RULE_STRING_MOVE : RULE_SAME;
    case ZYDIS_MNEMONIC_CMPSD:
        *lane = 8;
        return text ? RULE_STRING_COMPARE : RULE_V_SCALAR;
    }
    if (is_x87(i))
        return RULE_X87;
    if ((rules[mnemonic].rule == RULE_V_PERMUTE || rules[mnemonic].rule == RULE_V_PERMUTE_IN) &&
        i->operands[2].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
        return RULE_SAME; /* the mnemonic has forms of both kinds */
    return rules[mnemonic].rule;
}

int element_of(int reg) {
    int n = register_number((ZydisRegister)reg);
    if (n >= 0)
        return n;
    n = vector_number((ZydisRegister)reg);
    if (n >= 0)
        return vector_element(n);
    if (mask_number((ZydisRegister)reg) >= 0)
        return ELEMENT_MASKS;
    if ((reg >= ZYDIS_REGISTER_ST0 && reg <= ZYDIS_REGISTER_ST7) ||
        (reg >= ZYDIS_REGISTER_MM0 && reg <= ZYDIS_REGISTER_MM7))
        return ELEMENT_X87;
    return -1;
}

/* x ^ x and the like are defined whatever x is. */
static bool is_zeroing(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    int a, b;
    if (i->mask)
        return false;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_XOR:
    case ZYDIS_MNEMONIC_SUB:
    case ZYDIS_MNEMONIC_PXOR:
    case ZYDIS_MNEMONIC_XORPS:
    case ZYDIS_MNEMONIC_XORPD:
    case ZYDIS_MNEMONIC_PSUBB:
    case ZYDIS_MNEMONIC_PSUBW:
    case ZYDIS_MNEMONIC_PSUBD:
    case ZYDIS_MNEMONIC_PSUBQ:
    case ZYDIS_MNEMONIC_PCMPEQB:
    case ZYDIS_MNEMONIC_PCMPEQW:
    case ZYDIS_MNEMONIC_PCMPEQD:
    case ZYDIS_MNEMONIC_PCMPEQQ:
    case ZYDIS_MNEMONIC_PCMPGTB:
    case ZYDIS_MNEMONIC_PCMPGTW:
    case ZYDIS_MNEMONIC_PCMPGTD:
    case ZYDIS_MNEMONIC_PCMPGTQ:
        a = 0, b = 1;
        break;
    case ZYDIS_MNEMONIC_VPXOR:
    case ZYDIS_MNEMONIC_VXORPS:
    case ZYDIS_MNEMONIC_VXORPD:
    case ZYDIS_MNEMONIC_VPCMPEQB:
    case ZYDIS_MNEMONIC_VPCMPEQW:
    case ZYDIS_MNEMONIC_VPCMPEQD:
    case ZYDIS_MNEMONIC_VPCMPEQQ:
    case ZYDIS_MNEMONIC_VPCMPGTB:
    case ZYDIS_MNEMONIC_VPCMPGTW:
    case ZYDIS_MNEMONIC_VPCMPGTD:
    case ZYDIS_MNEMONIC_VPCMPGTQ:
    case ZYDIS_MNEMONIC_VPSUBB:
    case ZYDIS_MNEMONIC_VPSUBW:
    case ZYDIS_MNEMONIC_VPSUBD:
    case ZYDIS_MNEMONIC_VPSUBQ:
    case ZYDIS_MNEMONIC_VPXORD: case ZYDIS_MNEMONIC_VPXORQ:
    case ZYDIS_MNEMONIC_KXORB: case ZYDIS_MNEMONIC_KXORW: case ZYDIS_MNEMONIC_KXORD:
    case ZYDIS_MNEMONIC_KXORQ: case ZYDIS_MNEMONIC_KXNORB: case ZYDIS_MNEMONIC_KXNORW:
    case ZYDIS_MNEMONIC_KXNORD: case ZYDIS_MNEMONIC_KXNORQ:
        a = 1, b = 2;
        break;
    default:
        return false;
    }
    return o[a].type == ZYDIS_OPERAND_TYPE_REGISTER && o[b].type == ZYDIS_OPERAND_TYPE_REGISTER &&
           o[a].reg.value == o[b].reg.value;
}

static uint64_t bit_of(int element) { return element < 0 ? 0 : 1ULL << element; }

/* Of a wide vector register also the upper parts; `all`: of YMM in any case. */
static uint64_t register_bits(const ZydisDecodedOperand *o, bool all) {
    int e = element_of(o->reg.value);
    uint64_t set = bit_of(e);
    if (e >= ELEMENT_VECTOR && (all || o->size > 128))
        set |= 1ULL << (e - ELEMENT_VECTOR + ELEMENT_UPPER);
    if (e >= ELEMENT_VECTOR && o->size > 256)
        set |= bit_of(ELEMENT_TOPS);
    return set;
}

static const uint64_t all_vectors = ~0ULL << ELEMENT_VECTOR | ELEMENTS_SHARED;

uint64_t plan_inputs(const struct instruction *i) {
    uint64_t set = i->flags_read ? 1ULL << ELEMENT_FLAGS : 0;
    bool zeroing = is_zeroing(i);
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        if (o->type == ZYDIS_OPERAND_TYPE_REGISTER) {
            bool stack = o->visibility == ZYDIS_OPERAND_VISIBILITY_HIDDEN &&
                         o->reg.value == ZYDIS_REGISTER_RSP;
            if ((o->actions & ZYDIS_OPERAND_ACTION_MASK_READ) && !zeroing && !stack)
                set |= register_bits(o, false);
        } else if (o->type == ZYDIS_OPERAND_TYPE_MEMORY) {
            set |= bit_of(element_of(o->mem.base)) | bit_of(element_of(o->mem.index));
        }
    }
    if (i->mask)
        set |= bit_of(ELEMENT_MASKS);
    int lane;
    if (rule_of(i, &lane) == RULE_SAVE)
        set |= all_vectors;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_XCHG || i->z.mnemonic == ZYDIS_MNEMONIC_BSF ||
        i->z.mnemonic == ZYDIS_MNEMONIC_BSR) /* may leave its target as it was */
        set |= plan_outputs(i) & 0xffff;
    return set;
}

uint64_t plan_outputs(const struct instruction *i) {
    uint64_t set = flags_written(i) ? 1ULL << ELEMENT_FLAGS : 0;
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        if (o->type == ZYDIS_OPERAND_TYPE_REGISTER &&
            (o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE))
            set |= register_bits(o, i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY);
    }
    if (is_x87(i))
        set |= 1ULL << ELEMENT_X87;
    int lane;
    if (rule_of(i, &lane) == RULE_RESTORE)
        set |= all_vectors;
    return set;
}

static int x87_move(int mnemonic) {
    switch (mnemonic) {
    case ZYDIS_MNEMONIC_FLD: case ZYDIS_MNEMONIC_FILD: case ZYDIS_MNEMONIC_FBLD:
    case ZYDIS_MNEMONIC_FLD1: case ZYDIS_MNEMONIC_FLDZ: case ZYDIS_MNEMONIC_FLDPI:
    case ZYDIS_MNEMONIC_FLDL2E: case ZYDIS_MNEMONIC_FLDL2T: case ZYDIS_MNEMONIC_FLDLG2:
    case ZYDIS_MNEMONIC_FLDLN2: case ZYDIS_MNEMONIC_FSINCOS: case ZYDIS_MNEMONIC_FPTAN:
    case ZYDIS_MNEMONIC_FXTRACT:
        return 1;
    case ZYDIS_MNEMONIC_FSTP: case ZYDIS_MNEMONIC_FISTP: case ZYDIS_MNEMONIC_FISTTP:
    case ZYDIS_MNEMONIC_FBSTP: case ZYDIS_MNEMONIC_FADDP: case ZYDIS_MNEMONIC_FSUBP:
    case ZYDIS_MNEMONIC_FSUBRP: case ZYDIS_MNEMONIC_FMULP: case ZYDIS_MNEMONIC_FDIVP:
    case ZYDIS_MNEMONIC_FDIVRP: case ZYDIS_MNEMONIC_FCOMP: case ZYDIS_MNEMONIC_FUCOMP:
    case ZYDIS_MNEMONIC_FICOMP: case ZYDIS_MNEMONIC_FCOMIP: case ZYDIS_MNEMONIC_FUCOMIP:
    case ZYDIS_MNEMONIC_FYL2X: case ZYDIS_MNEMONIC_FYL2XP1: case ZYDIS_MNEMONIC_FPATAN:
        return -1;
    case ZYDIS_MNEMONIC_FCOMPP: case ZYDIS_MNEMONIC_FUCOMPP:
        return -2;
    default:
        return 0;
    }
}

static int x87_conditions(int mnemonic) {
    switch (mnemonic) {
    case ZYDIS_MNEMONIC_FCOM: case ZYDIS_MNEMONIC_FCOMP: case ZYDIS_MNEMONIC_FCOMPP:
    case ZYDIS_MNEMONIC_FUCOM: case ZYDIS_MNEMONIC_FUCOMP: case ZYDIS_MNEMONIC_FUCOMPP:
    case ZYDIS_MNEMONIC_FICOM: case ZYDIS_MNEMONIC_FICOMP: case ZYDIS_MNEMONIC_FTST:
    case ZYDIS_MNEMONIC_FXAM: case ZYDIS_MNEMONIC_FPREM: case ZYDIS_MNEMONIC_FPREM1:
    case ZYDIS_MNEMONIC_FNINIT:
        return CONDITIONS_SET;
    case ZYDIS_MNEMONIC_FNSTSW:
        return CONDITIONS_READ;
    default:
        return CONDITIONS_STAY;
    }
}

static void take_operand(struct plan *p, const struct instruction *i, const ZydisDecodedOperand *o,
                         int *memory_seen) {
    struct plan_operand *to = &p->operands[p->count];
    to->read = o->actions & ZYDIS_OPERAND_ACTION_MASK_READ;
    to->write = o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE;
    if (i->z.meta.category == ZYDIS_CATEGORY_FCMOV) /* else it stays as it was */
        to->read = true;
    to->size = o->size / 8;
    if (o->type == ZYDIS_OPERAND_TYPE_IMMEDIATE) {
        to->kind = OPERAND_IMMEDIATE;
        to->value = o->imm.value.u;
        to->read = true;
        to->size = 8;
    } else if (o->type == ZYDIS_OPERAND_TYPE_MEMORY) {
        int which = (*memory_seen)++;
        bool stack = o->visibility == ZYDIS_OPERAND_VISIBILITY_HIDDEN &&
                     (p->rule == RULE_PUSH || p->rule == RULE_POP ||
                      p->rule == RULE_PUSH_FLAGS || p->rule == RULE_POP_FLAGS ||
                      p->rule == RULE_ENTER || p->rule == RULE_LEAVE);
        if (stack) /* those rules know it themselves */
            return;
        if (which >= i->memory_count || p->memory_count == 2)
            return;
        to->kind = OPERAND_MEMORY;
        to->number = p->memory_count;
        p->memory[p->memory_count++] = i->memory[which];
        if (o->mem.type == ZYDIS_MEMOP_TYPE_VSIB) {
            p->index_vector = (uint8_t)vector_number(o->mem.index);
            p->index_size = 4;
        }
    } else if (o->type == ZYDIS_OPERAND_TYPE_REGISTER) {
        int e = element_of(o->reg.value);
        if (e < 0 || (e == RSP && o->visibility == ZYDIS_OPERAND_VISIBILITY_HIDDEN))
            return;
        to->kind = e < 16               ? OPERAND_GENERAL
                   : e == ELEMENT_X87   ? OPERAND_X87
                   : e == ELEMENT_MASKS ? OPERAND_MASK
                                        : OPERAND_VECTOR;
        to->number = (uint8_t)(to->kind == OPERAND_GENERAL ? e
                               : to->kind == OPERAND_MASK  ? mask_number(o->reg.value)
                                                           : vector_number(o->reg.value));
        if (e == ELEMENT_X87)
            to->number = (uint8_t)(o->reg.value >= ZYDIS_REGISTER_MM0 &&
                                           o->reg.value <= ZYDIS_REGISTER_MM7
                                       ? 8 + o->reg.value - ZYDIS_REGISTER_MM0
                                       : o->reg.value - ZYDIS_REGISTER_ST0);
        to->high = o->reg.value >= ZYDIS_REGISTER_AH && o->reg.value <= ZYDIS_REGISTER_BH;
        if (to->high) /* AH follows BL in the decoder's numbering */
            to->number = (uint8_t)(o->reg.value - ZYDIS_REGISTER_AH);
    } else {
        return;
    }
    p->count++;
}

/* Stores of a part of a vector register: where that part begins. */
static int part_stored(const struct instruction *i) {
    uint64_t n = i->operands[2].type == ZYDIS_OPERAND_TYPE_IMMEDIATE ? i->operands[2].imm.value.u : 0;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOVHPS: case ZYDIS_MNEMONIC_MOVHPD: case ZYDIS_MNEMONIC_VMOVHPS:
    case ZYDIS_MNEMONIC_VMOVHPD:
        return 8;
    case ZYDIS_MNEMONIC_PEXTRB: case ZYDIS_MNEMONIC_VPEXTRB:
        return n & 15;
    case ZYDIS_MNEMONIC_PEXTRW: case ZYDIS_MNEMONIC_VPEXTRW:
        return (n & 7) * 2;
    case ZYDIS_MNEMONIC_PEXTRD: case ZYDIS_MNEMONIC_VPEXTRD: case ZYDIS_MNEMONIC_EXTRACTPS:
    case ZYDIS_MNEMONIC_VEXTRACTPS:
        return (n & 3) * 4;
    case ZYDIS_MNEMONIC_PEXTRQ: case ZYDIS_MNEMONIC_VPEXTRQ:
        return (n & 1) * 8;
    case ZYDIS_MNEMONIC_VEXTRACTI128: case ZYDIS_MNEMONIC_VEXTRACTF128:
        return (n & 1) * 16;
    case ZYDIS_MNEMONIC_VEXTRACTI32X4: case ZYDIS_MNEMONIC_VEXTRACTF32X4:
    case ZYDIS_MNEMONIC_VEXTRACTI64X2: case ZYDIS_MNEMONIC_VEXTRACTF64X2:
        return (n & (i->operands[1].size > 256 ? 3 : 1)) * 16;
    case ZYDIS_MNEMONIC_VEXTRACTI32X8: case ZYDIS_MNEMONIC_VEXTRACTF32X8:
    case ZYDIS_MNEMONIC_VEXTRACTI64X4: case ZYDIS_MNEMONIC_VEXTRACTF64X4:
        return (n & 1) * 32;
    default:
        return 0;
    }
}

static uint8_t stays_undefined(const struct plan *p) {
    const struct plan_operand *o = p->operands;
    if (o->kind != OPERAND_MEMORY || !o->read || !o->write || o->size > 8 ||
        (p->flags_written & p->flags_wanted))
        return STAYS_NOT;
    switch (p->rule) {
    case RULE_ADD: case RULE_SUB: case RULE_ADC: case RULE_SBB: case RULE_INC: case RULE_DEC:
    case RULE_NEG:
        return STAYS_UNKNOWN;
    case RULE_NOT:
        return STAYS_MASKED;
    case RULE_XOR:
        return o[1].kind == OPERAND_IMMEDIATE ? STAYS_MASKED : STAYS_UNKNOWN;
    case RULE_AND: case RULE_OR:
        return o[1].kind == OPERAND_IMMEDIATE ? STAYS_MASKED : STAYS_NOT;
    default:
        return STAYS_NOT;
    }
}

uint64_t plan_stays(const struct plan *p) {
    uint64_t value = p->operands[1].value;
    return p->rule == RULE_AND ? value : p->rule == RULE_OR ? ~value : ~0ULL;
}

static bool is_narrow(const struct plan *p) {
    bool narrow = p->rule != RULE_SAVE && p->rule != RULE_RESTORE;
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        narrow &= (o->kind == OPERAND_GENERAL || o->kind == OPERAND_IMMEDIATE || o->kind == OPERAND_MEMORY) &&
                  o->size && o->size <= 8;
    }
    return narrow;
}

uint32_t plan_make(const struct instruction *i, uint64_t possible, uint32_t live_after) {
    (void)possible;
    if (cache.plan_count >= CACHE_PLANS)
        fail("the translation cache is full");
    uint32_t index = cache.plan_count++;
    struct plan *p = &cache_plans[index];
    __builtin_memset(p, 0, sizeof *p);
    int lane, seen = 0;
    p->pc = i->pc;
    p->rule = (uint8_t)rule_of(i, &lane);
    p->lane = (uint8_t)lane;
    p->vex = i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_LEGACY;
    p->width = i->z.operand_width / 8;
    p->condition = i->z.opcode & 15;
    p->visible = i->z.operand_count_visible;
    p->flags_read = i->flags_read;
    p->flags_written = flags_written(i);
    p->flags_wanted = live_after;
    p->outputs = plan_outputs(i);
    p->reversed = i->z.mnemonic == ZYDIS_MNEMONIC_MOVBE;
    p->is_signed = i->z.mnemonic == ZYDIS_MNEMONIC_IMUL;
    for (int k = 0; k < i->z.operand_count && p->count < PLAN_OPERANDS; k++)
        take_operand(p, i, &i->operands[k], &seen);
    if (is_zeroing(i)) /* what it reads does not matter */
        p->rule = RULE_NOTHING;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_PSRLW: case ZYDIS_MNEMONIC_VPSRLW: case ZYDIS_MNEMONIC_PSRLD:
    case ZYDIS_MNEMONIC_VPSRLD: case ZYDIS_MNEMONIC_PSRLQ: case ZYDIS_MNEMONIC_VPSRLQ:
    case ZYDIS_MNEMONIC_VPSRLVD: case ZYDIS_MNEMONIC_VPSRLVQ: case ZYDIS_MNEMONIC_VPSRLVW:
    case ZYDIS_MNEMONIC_KSHIFTRB: case ZYDIS_MNEMONIC_KSHIFTRW: case ZYDIS_MNEMONIC_KSHIFTRD:
    case ZYDIS_MNEMONIC_KSHIFTRQ:
        p->shift_right = true;
        break;
    case ZYDIS_MNEMONIC_VPROLVD: case ZYDIS_MNEMONIC_VPROLVQ:
        p->rotate = true;
        break;
    case ZYDIS_MNEMONIC_VPRORVD: case ZYDIS_MNEMONIC_VPRORVQ:
        p->rotate = p->shift_right = true;
        break;
    case ZYDIS_MNEMONIC_PSRAW: case ZYDIS_MNEMONIC_VPSRAW: case ZYDIS_MNEMONIC_PSRAD:
    case ZYDIS_MNEMONIC_VPSRAD: case ZYDIS_MNEMONIC_VPSRAVD: case ZYDIS_MNEMONIC_VPSRAQ:
    case ZYDIS_MNEMONIC_VPSRAVW: case ZYDIS_MNEMONIC_VPSRAVQ:
        p->shift_right = p->shift_sign = true;
        break;
    case ZYDIS_MNEMONIC_PMULUDQ: case ZYDIS_MNEMONIC_VPMULUDQ: case ZYDIS_MNEMONIC_PMULDQ:
    case ZYDIS_MNEMONIC_VPMULDQ:
        p->half = true;
        break;
    case ZYDIS_MNEMONIC_CVTSD2SS: case ZYDIS_MNEMONIC_VCVTSD2SS:
        p->source = 8;
        break;
    case ZYDIS_MNEMONIC_CVTSS2SD: case ZYDIS_MNEMONIC_VCVTSS2SD:
        p->source = 4;
        break;
    case ZYDIS_MNEMONIC_PSADBW: case ZYDIS_MNEMONIC_VPSADBW:
        p->sums = true;
        break;
    case ZYDIS_MNEMONIC_TZCNT: case ZYDIS_MNEMONIC_LZCNT: /* CF: the source was 0 */
        p->condition = 1;
        break;
    case ZYDIS_MNEMONIC_BSF: case ZYDIS_MNEMONIC_BSR:
        p->condition = 0;
        break;
    case ZYDIS_MNEMONIC_BT: case ZYDIS_MNEMONIC_BTS: case ZYDIS_MNEMONIC_BTR:
    case ZYDIS_MNEMONIC_BTC:
        p->bit_offset = i->memory_count && i->operands[1].type == ZYDIS_OPERAND_TYPE_REGISTER;
        break;
    case ZYDIS_MNEMONIC_VPGATHERQD: case ZYDIS_MNEMONIC_VGATHERQPS:
    case ZYDIS_MNEMONIC_VPGATHERQQ: case ZYDIS_MNEMONIC_VGATHERQPD:
    case ZYDIS_MNEMONIC_VPSCATTERQD: case ZYDIS_MNEMONIC_VSCATTERQPS:
    case ZYDIS_MNEMONIC_VPSCATTERQQ: case ZYDIS_MNEMONIC_VSCATTERQPD:
        p->index_size = 8;
        break;
    default:
        break;
    }
    p->extended = i->z.meta.category == ZYDIS_CATEGORY_XSAVE ||
                  i->z.meta.category == ZYDIS_CATEGORY_XSAVEOPT;
    p->compact = i->z.mnemonic == ZYDIS_MNEMONIC_XSAVEC || i->z.mnemonic == ZYDIS_MNEMONIC_XSAVEC64;
    if (p->rule == RULE_V_MIN) { /* the letters of PMINUB and PMAXSD tell */
        const char *name = ZydisMnemonicGetString(i->z.mnemonic);
        name += name[0] == 'v';
        p->maximum = name[2] == 'a';
        p->is_signed = name[4] == 's';
    }
    if (p->rule == RULE_V_PACK) /* of PACKSSWB and PACKUSDW */
        p->is_signed = ZydisMnemonicGetString(i->z.mnemonic)[p->vex ? 5 : 4] == 's';
    if (p->rule == RULE_SAME && p->operands[0].kind == OPERAND_MEMORY) {
        p->rule = RULE_COPY;
        p->from = (uint8_t)part_stored(i);
    }
    if (p->vex)
        plan_masked(p, i);
    mmx_plan(p, i->z.mnemonic);
    if (i->z.mnemonic == ZYDIS_MNEMONIC_VZEROALL)
        p->zeroing = true;
    p->exchanges = i->z.mnemonic == ZYDIS_MNEMONIC_FXCH;
    p->stays = stays_undefined(p);
    if (p->rule == RULE_X87) {
        p->stack_x87 = (int8_t)x87_move(i->z.mnemonic);
        p->conditions = x87_conditions(i->z.mnemonic);
    }
    p->narrow = is_narrow(p);
    return index;
}

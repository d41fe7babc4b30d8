/* Decoding through Zydis, reduced to what the translator needs. */
#include "decode.h"

static ZydisDecoder decoder;
static bool decoder_ready;

int register_number(ZydisRegister reg) {
    if (reg >= ZYDIS_REGISTER_RAX && reg <= ZYDIS_REGISTER_R15)
        return reg - ZYDIS_REGISTER_RAX;
    if (reg >= ZYDIS_REGISTER_EAX && reg <= ZYDIS_REGISTER_R15D)
        return reg - ZYDIS_REGISTER_EAX;
    if (reg >= ZYDIS_REGISTER_AX && reg <= ZYDIS_REGISTER_R15W)
        return reg - ZYDIS_REGISTER_AX;
    if (reg >= ZYDIS_REGISTER_AL && reg <= ZYDIS_REGISTER_BL)
        return reg - ZYDIS_REGISTER_AL;
    if (reg >= ZYDIS_REGISTER_AH && reg <= ZYDIS_REGISTER_BH)
        return reg - ZYDIS_REGISTER_AH;
    if (reg >= ZYDIS_REGISTER_SPL && reg <= ZYDIS_REGISTER_R15B)
        return reg - ZYDIS_REGISTER_SPL + 4;
    return -1;
}

int vector_number(ZydisRegister reg) {
    if (reg >= ZYDIS_REGISTER_XMM0 && reg <= ZYDIS_REGISTER_XMM31)
        return reg - ZYDIS_REGISTER_XMM0;
    if (reg >= ZYDIS_REGISTER_YMM0 && reg <= ZYDIS_REGISTER_YMM31)
        return reg - ZYDIS_REGISTER_YMM0;
    if (reg >= ZYDIS_REGISTER_ZMM0 && reg <= ZYDIS_REGISTER_ZMM31)
        return reg - ZYDIS_REGISTER_ZMM0;
    return -1;
}

int mask_number(ZydisRegister reg) {
    return reg >= ZYDIS_REGISTER_K0 && reg <= ZYDIS_REGISTER_K7 ? (int)(reg - ZYDIS_REGISTER_K0) : -1;
}

bool is_string_instruction(const struct instruction *i) {
    return i->z.meta.category == ZYDIS_CATEGORY_STRINGOP;
}

/* By a constant of which no bit counts (SDM volume 2, SAL/SAR/SHL/SHR and RCL/RCR/ROL/ROR). */
static bool shifts_by_none(const struct instruction *i) {
    unsigned size = i->operands[0].size, around = 64;
    int last = 1;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_RCL: case ZYDIS_MNEMONIC_RCR:
        around = size < 32 ? size + 1 : 64;
        break;
    case ZYDIS_MNEMONIC_SHLD: case ZYDIS_MNEMONIC_SHRD:
        last = 2;
        break;
    case ZYDIS_MNEMONIC_SHL: case ZYDIS_MNEMONIC_SHR: case ZYDIS_MNEMONIC_SAR:
    case ZYDIS_MNEMONIC_ROL: case ZYDIS_MNEMONIC_ROR:
        break;
    default:
        return false;
    }
    const ZydisDecodedOperand *count = &i->operands[last];
    return count->type == ZYDIS_OPERAND_TYPE_IMMEDIATE &&
           (count->imm.value.u & (size == 64 ? 63 : 31)) % around == 0;
}

uint32_t flags_written(const struct instruction *i) {
    const ZydisAccessedFlags *f = i->z.cpu_flags;
    if (!f || shifts_by_none(i))
        return 0;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_BT: case ZYDIS_MNEMONIC_BTS: case ZYDIS_MNEMONIC_BTR:
    case ZYDIS_MNEMONIC_BTC:
        return ZYDIS_CPUFLAG_CF;
    default:
        return (f->modified | f->set_0 | f->set_1 | f->undefined) & ARITHMETIC_FLAGS;
    }
}

static void take_memory(struct instruction *i, const ZydisDecodedOperand *o) {
    if (o->mem.type == ZYDIS_MEMOP_TYPE_AGEN || i->memory_count == 3)
        if (i->memory_count == 3)
            return;
    struct memory *m = &i->memory[i->memory_count];
    m->base = register_number(o->mem.base);
    m->index = register_number(o->mem.index);
    m->scale = o->mem.scale ? o->mem.scale : 1;
    m->displacement = o->mem.disp.value;
    m->absolute = o->mem.base == ZYDIS_REGISTER_RIP || o->mem.base == ZYDIS_REGISTER_EIP;
    if (m->absolute)
        m->displacement += (int64_t)(i->pc + i->z.length);
    m->segment = o->mem.segment == ZYDIS_REGISTER_FS   ? 'f'
                 : o->mem.segment == ZYDIS_REGISTER_GS ? 'g'
                                                       : 0;
    m->address32 = i->z.address_width == 32;
    m->size = o->size / 8u;
    m->read = o->actions & ZYDIS_OPERAND_ACTION_MASK_READ;
    m->write = o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE;
    m->vector_index = o->mem.type == ZYDIS_MEMOP_TYPE_VSIB;
    m->encoded = o->encoding == ZYDIS_OPERAND_ENCODING_MODRM_RM;
    if (o->mem.type == ZYDIS_MEMOP_TYPE_AGEN || o->mem.type == ZYDIS_MEMOP_TYPE_MIB)
        m->read = m->write = false;
    if (o->mem.type == ZYDIS_MEMOP_TYPE_AGEN && m->base == m->index && m->base >= 0 && m->scale == 1) {
        m->base = -1; /* lea r, [x + x]: no carry comes out of twice the same */
        m->scale = 2;
    }
    if (m->encoded)
        i->encoded = i->memory_count;
    i->memory_count++;
}

/* Apart from the mask the operands of EVEX forms are those of the others. */
static void take_mask(struct instruction *i) {
    const ZydisDecodedOperand *o = &i->operands[1];
    if (i->z.operand_count < 2 || o->encoding != ZYDIS_OPERAND_ENCODING_MASK)
        return;
    i->mask = (uint8_t)mask_number(o->reg.value);
    i->zeroing = i->z.avx.mask.mode == ZYDIS_MASK_MODE_ZEROING ||
                 i->z.avx.mask.mode == ZYDIS_MASK_MODE_CONTROL_ZEROING;
    i->z.operand_count--;
    i->z.operand_count_visible--;
    for (int k = 1; k < i->z.operand_count; k++)
        i->operands[k] = i->operands[k + 1];
}

void decode(struct instruction *i, gaddr pc, uint64_t available) {
    if (!decoder_ready) {
        ZydisDecoderInit(&decoder, ZYDIS_MACHINE_MODE_LONG_64, ZYDIS_STACK_WIDTH_64);
        decoder_ready = true;
    }
    i->pc = pc;
    i->memory_count = 0;
    i->encoded = -1;
    i->flags_read = i->flags_killed = i->registers_used = i->registers_written = 0;
    i->mask = 0;
    i->zeroing = false;
    ZydisDecoderContext context; /* in two steps: the whole-in-one call clears all operands */
    i->valid = ZYAN_SUCCESS(ZydisDecoderDecodeInstruction(&decoder, &context, guest(pc), available,
                                                          &i->z)) &&
               ZYAN_SUCCESS(ZydisDecoderDecodeOperands(&decoder, &context, &i->z, i->operands,
                                                       i->z.operand_count));
    if (!i->valid) {
        i->z.length = 1;
        i->flags_read = ARITHMETIC_FLAGS;
        return;
    }
    if (i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_EVEX)
        take_mask(i);
    i->repeated = i->z.attributes &
                  (ZYDIS_ATTRIB_HAS_REP | ZYDIS_ATTRIB_HAS_REPE | ZYDIS_ATTRIB_HAS_REPNE);
    if (i->z.cpu_flags) {
        const ZydisAccessedFlags *f = i->z.cpu_flags;
        i->flags_read = f->tested & ARITHMETIC_FLAGS;
        i->flags_killed = flags_written(i);
    }
    if (i->z.mnemonic == ZYDIS_MNEMONIC_VEXTRACTF128) /* said to be half as wide as it is */
        i->operands[1].size = 256;
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        if (o->type == ZYDIS_OPERAND_TYPE_REGISTER) {
            int r = register_number(o->reg.value);
            if (r >= 0)
                i->registers_used |= 1u << r;
            if (r >= 0 && (o->actions & ZYDIS_OPERAND_ACTION_MASK_WRITE))
                i->registers_written |= 1u << r;
            /* a shift by a register may leave the flags alone */
            if (k == 1 && o->reg.value == ZYDIS_REGISTER_CL)
                i->flags_killed = 0;
        } else if (o->type == ZYDIS_OPERAND_TYPE_MEMORY) {
            int base = register_number(o->mem.base), index = register_number(o->mem.index);
            if (base >= 0)
                i->registers_used |= 1u << base;
            if (index >= 0)
                i->registers_used |= 1u << index;
            take_memory(i, o);
        }
    }
    for (int k = 2; k < i->z.operand_count; k++) /* shld, shrd by cl */
        if (i->operands[k].type == ZYDIS_OPERAND_TYPE_REGISTER &&
            i->operands[k].reg.value == ZYDIS_REGISTER_CL &&
            i->z.meta.category == ZYDIS_CATEGORY_SHIFT)
            i->flags_killed = 0;
    if (is_string_instruction(i) && i->repeated)
        i->flags_killed = 0;
}

/* The translator comes to the same places again and again, looking ahead and for each
   version. */
#define KNOWN 512
static gaddr known_pc[KNOWN];
static struct known {
    uint8_t code[16];
    struct instruction instruction;
} *known;

static void copy_words(void *to, const void *from, size_t size) {
    size_t count = size / 8; /* not by vectors: the guest's may be in the registers */
    __asm__ volatile("rep movsq" : "+D"(to), "+S"(from), "+c"(count) : : "memory");
}

static void copy_decoded(struct instruction *to, const struct instruction *from) {
    enum { OPERANDS = offsetof(struct instruction, operands),
           REST = OPERANDS + sizeof from->operands };
    _Static_assert(OPERANDS % 8 == 0 && sizeof *from->operands % 8 == 0 && sizeof *from % 8 == 0,
                   "instructions are copied by words");
    copy_words(to, from, OPERANDS + from->z.operand_count * sizeof *from->operands);
    copy_words((char *)to + REST, (const char *)from + REST, sizeof *to - REST);
}

static bool is_known(const struct known *k, gaddr pc, uint64_t available) {
    const uint8_t *code = guest(pc);
    uint64_t length = k->instruction.z.length;
    if (length > available)
        return false;
    for (uint64_t n = 0; n < length; n++)
        if (k->code[n] != code[n])
            return false;
    return true;
}

void decode_again(struct instruction *i, gaddr pc, uint64_t available) {
    if (!known)
        known = engine_alloc(KNOWN * sizeof *known);
    uint32_t at = (uint32_t)((pc * 0x9e3779b97f4a7c15ULL) >> 40) % KNOWN;
    struct known *k = &known[at];
    if (known_pc[at] == pc && is_known(k, pc, available)) {
        copy_decoded(i, &k->instruction);
        return;
    }
    decode(i, pc, available);
    known_pc[at] = i->valid ? pc : 0;
    if (!i->valid)
        return;
    copy_decoded(&k->instruction, i);
    for (uint64_t n = 0; n < i->z.length; n++)
        k->code[n] = ((const uint8_t *)guest(pc))[n];
}

/* Moves of whole registers: what is undefined in one, and where that is from, goes to the other
   by the target itself, which is overwritten next. */
#include "compute.h"
#include "copies.h"
#include "plan.h"

static bool is_open(int element) { return now.possible >> element & 1; }

/* The instruction with fs:[offset] in place of its source. */
static void emit_from_word(const struct instruction *i, int to, int offset) {
    bool wide = i->operands[0].size == 64;
    int from = i->operands[1].size;
    emit8(&out, 0x64);
    emit8(&out, rex(wide, to, 0, 0));
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOVZX:
        emit8(&out, 0x0f);
        emit8(&out, from == 8 ? 0xb6 : 0xb7);
        break;
    case ZYDIS_MNEMONIC_MOVSX:
        emit8(&out, 0x0f);
        emit8(&out, from == 8 ? 0xbe : 0xbf);
        break;
    case ZYDIS_MNEMONIC_MOVSXD:
        emit8(&out, 0x63);
        break;
    default:
        emit8(&out, OP_MOV);
    }
    emit_memory(&out, to, -1, -1, 1, offset);
}

static void emit_word_half(int opcode, int reg, int offset) { /* mov dword */
    emit8(&out, 0x64);
    emit8(&out, rex(0, reg, 0, 0));
    emit8(&out, opcode);
    emit_memory(&out, reg, -1, -1, 1, offset);
}

static void emit_general_move(const struct instruction *i, int to, int from, bool flags_live) {
    int at = CTX_ORIGIN_OF(to);
    emit_from_word(i, to, CTX_UNDEFINED + 8 * from);
    emit_to_context(&out, to, CTX_UNDEFINED + 8 * to);
    if (i->z.mnemonic == ZYDIS_MNEMONIC_MOV) {
        emit_from_context(&out, to, CTX_ORIGIN_OF(from));
        emit_to_context(&out, to, at);
        return;
    }
    emit_word_half(OP_MOV, to, CTX_ORIGIN_OF(from)); /* the lower word is that of all */
    if (flags_live) {
        emit_word_half(0x89, to, at);
        emit_word_half(0x89, to, at + 4);
    } else {
        emit_twice(to);
        emit_to_context(&out, to, at);
    }
}

/* movq reg, fs:[offset], or back; VEX or legacy. */
static void emit_quarter(bool back, bool vex, int reg, int offset) {
    emit8(&out, 0x64);
    if (vex) {
        emit8(&out, 0xc5);
        emit8(&out, (reg & 8 ? 0 : 0x80) | 0x78 | (back ? 1 : 2));
    } else {
        emit8(&out, back ? 0x66 : 0xf3);
        if (reg & 8)
            emit8(&out, 0x44);
        emit8(&out, 0x0f);
    }
    emit8(&out, back ? 0xd6 : 0x7e);
    emit_memory(&out, reg, -1, -1, 1, offset);
}

void emit_origins_through(int vector, bool vex, int to, int from, int bytes) {
    for (int at = 0; at < bytes; at += 8) {
        emit_quarter(false, vex, vector, from + at);
        emit_quarter(true, vex, vector, to + at);
    }
}

/* Of a vector the lower 4 or 8 bytes, to a general register. */
static void emit_move_out(const struct instruction *i, int to, int from) {
    int bits = CTX_UNDEFINED_VECTOR + 64 * from;
    if (i->operands[0].size == 64)
        emit_from_context(&out, to, bits);
    else
        emit_word_half(OP_MOV, to, bits);
    emit_to_context(&out, to, CTX_UNDEFINED + 8 * to);
    emit_from_context(&out, to, CTX_ORIGIN_OF(ELEMENT_VECTOR + from));
    emit_to_context(&out, to, CTX_ORIGIN_OF(to));
}

/* The other way about, or between vectors: all else of the target becomes 0. */
static void emit_move_in(const struct instruction *i, int to, int bits, int origins) {
    bool vex = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_VEX;
    if (i->operands[1].size >= 64) {
        emit_quarter(false, vex, to, bits);
    } else { /* movd to, fs:[bits] */
        emit8(&out, 0x64);
        if (vex) {
            emit8(&out, 0xc5);
            emit8(&out, (to & 8 ? 0 : 0x80) | 0x79);
        } else {
            emit8(&out, 0x66);
            if (to & 8)
                emit8(&out, 0x44);
            emit8(&out, 0x0f);
        }
        emit8(&out, 0x6e);
        emit_memory(&out, to, -1, -1, 1, bits);
    }
    emit_vector_to_context(to, vex, CTX_UNDEFINED_VECTOR + 64 * to);
    emit_origins_through(to, vex, CTX_ORIGIN_OF(ELEMENT_VECTOR + to), origins, 8);
}

static void emit_vector_move(const struct instruction *i, int to, int from) {
    bool vex = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_VEX;
    int bytes = i->operands[0].size / 8;
    if (vex) { /* vmovups: the rest becomes 0 */
        emit8(&out, 0x64);
        emit8(&out, 0xc5);
        emit8(&out, (to & 8 ? 0 : 0x80) | 0x78 | (bytes == 32) << 2);
        emit8(&out, 0x10);
        emit_memory(&out, to, -1, -1, 1, CTX_UNDEFINED_VECTOR + 64 * from);
    } else {
        emit_vector_from_context(to, false, CTX_UNDEFINED_VECTOR + 64 * from);
    }
    emit_vector_to_context(to, vex, CTX_UNDEFINED_VECTOR + 64 * to);
    emit_origins_through(to, vex, CTX_ORIGIN_OF(ELEMENT_VECTOR + to),
                         CTX_ORIGIN_OF(ELEMENT_VECTOR + from), bytes);
}

bool emit_register_move(const struct instruction *i, bool flags_live) {
    const ZydisDecodedOperand *to = &i->operands[0], *from = &i->operands[1];
    if (i->memory_count || i->z.operand_count_visible != 2 ||
        to->type != ZYDIS_OPERAND_TYPE_REGISTER || from->type != ZYDIS_OPERAND_TYPE_REGISTER)
        return false;
    int v = vector_number(to->reg.value), w = vector_number(from->reg.value);
    int e = element_of(to->reg.value), f = element_of(from->reg.value);
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOV: case ZYDIS_MNEMONIC_MOVZX:
    case ZYDIS_MNEMONIC_MOVSX: case ZYDIS_MNEMONIC_MOVSXD:
        if (e < 0 || e > 15 || f < 0 || f > 15 || to->size < 32 || e == f || e == RSP || !is_open(f) ||
            (from->reg.value >= ZYDIS_REGISTER_AH && from->reg.value <= ZYDIS_REGISTER_BH))
            return false;
        emit_general_move(i, e, f, flags_live);
        return true;
    case ZYDIS_MNEMONIC_MOVAPS: case ZYDIS_MNEMONIC_MOVAPD: case ZYDIS_MNEMONIC_MOVDQA:
    case ZYDIS_MNEMONIC_MOVUPS: case ZYDIS_MNEMONIC_MOVUPD: case ZYDIS_MNEMONIC_MOVDQU:
    case ZYDIS_MNEMONIC_VMOVAPS: case ZYDIS_MNEMONIC_VMOVAPD: case ZYDIS_MNEMONIC_VMOVDQA:
    case ZYDIS_MNEMONIC_VMOVUPS: case ZYDIS_MNEMONIC_VMOVUPD: case ZYDIS_MNEMONIC_VMOVDQU:
        if (v < 0 || w < 0 || v > 15 || w > 15 || v == w || i->mask ||
            i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_EVEX ||
            !(is_open(ELEMENT_VECTOR + w) || is_open(ELEMENT_UPPER + w)))
            return false;
        emit_vector_move(i, v, w);
        return true;
    case ZYDIS_MNEMONIC_MOVD: case ZYDIS_MNEMONIC_VMOVD:
    case ZYDIS_MNEMONIC_MOVQ: case ZYDIS_MNEMONIC_VMOVQ:
        if (i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_EVEX || v > 15 || w > 15 || e == f || e == RSP)
            return false;
        if (e < 16 && w >= 0 && is_open(ELEMENT_VECTOR + w))
            emit_move_out(i, e, w);
        else if (v >= 0 && f < 16 && is_open(f))
            emit_move_in(i, v, CTX_UNDEFINED + 8 * f, CTX_ORIGIN_OF(f));
        else if (v >= 0 && w >= 0 && is_open(ELEMENT_VECTOR + w))
            emit_move_in(i, v, CTX_UNDEFINED_VECTOR + 64 * w, CTX_ORIGIN_OF(ELEMENT_VECTOR + w));
        else
            return false;
        return true;
    default:
        return false;
    }
}

/* Writing x86-64 machine code: the few encodings the translator needs. */
#ifndef TONDO_EMIT_H
#define TONDO_EMIT_H

#include "../engine.h"

struct emitter {
    uint8_t *at;
    uint32_t kept; /* registers whose slots in the context hold what the guest has in them */
};

/* Those that are needed most; stubs put others into their slots as they are. */
#define KEPT_SLOTS (1u << 1 | 1u << 2) /* RCX, RDX */

/* A memory operand in registers of the machine; -1: none. */
struct memory {
    int base, index;
    int scale; /* 1, 2, 4, 8 */
    int64_t displacement;
    bool absolute; /* displacement is the whole address (was relative to RIP) */
    int segment;   /* 0, or 'f', 'g': the guest's FS or GS */
    bool address32;
    uint32_t size; /* bytes */
    bool read, write;
    bool vector_index; /* gather and scatter */
    bool encoded;      /* has a ModRM form */
};

static inline void emit8(struct emitter *e, int byte) { *e->at++ = (uint8_t)byte; }
static inline void emit32(struct emitter *e, int64_t word) {
    uint32_t w = (uint32_t)word;
    __builtin_memcpy(e->at, &w, 4);
    e->at += 4;
}
static inline void emit64(struct emitter *e, uint64_t word) {
    __builtin_memcpy(e->at, &word, 8);
    e->at += 8;
}

/* ModRM, SIB and displacement of [base + index * scale + displacement]. */
static inline void emit_memory(struct emitter *e, int reg, int base, int index, int scale,
                               int64_t displacement) {
    int r = (reg & 7) << 3;
    if (base < 0) {
        emit8(e, r | 4);
        int s = scale == 8 ? 3 : scale == 4 ? 2 : scale == 2 ? 1 : 0;
        emit8(e, s << 6 | (index < 0 ? 4 : index & 7) << 3 | 5);
        emit32(e, displacement);
        return;
    }
    bool small = displacement >= -128 && displacement < 128;
    int mode = displacement == 0 && (base & 7) != 5 ? 0 : small ? 0x40 : 0x80;
    if (index >= 0 || (base & 7) == 4) {
        int s = scale == 8 ? 3 : scale == 4 ? 2 : scale == 2 ? 1 : 0;
        emit8(e, mode | r | 4);
        emit8(e, s << 6 | (index < 0 ? 4 : index & 7) << 3 | (base & 7));
    } else {
        emit8(e, mode | r | (base & 7));
    }
    if (mode == 0x40)
        emit8(e, (int)displacement);
    else if (mode == 0x80)
        emit32(e, displacement);
}

static inline int rex(int wide, int reg, int index, int base) {
    return 0x40 | wide << 3 | (reg >= 8 ? 4 : 0) | (index >= 8 ? 2 : 0) | (base >= 8 ? 1 : 0);
}

/* mov fs:[offset], reg and back */
static inline void emit_to_context(struct emitter *e, int reg, int offset) {
    emit8(e, 0x64);
    emit8(e, rex(1, reg, 0, 0));
    emit8(e, 0x89);
    emit_memory(e, reg, -1, -1, 1, offset);
}
static inline void emit_from_context(struct emitter *e, int reg, int offset) {
    emit8(e, 0x64);
    emit8(e, rex(1, reg, 0, 0));
    emit8(e, 0x8b);
    emit_memory(e, reg, -1, -1, 1, offset);
}
/* The register becomes free; its slot is written unless it has the value already. */
static inline void emit_spill(struct emitter *e, int reg) {
    if (e->kept & 1u << reg)
        return;
    emit_to_context(e, reg, CTX_SPILL + 8 * reg);
    e->kept |= 1u << reg & KEPT_SLOTS;
}
static inline void emit_unspill(struct emitter *e, int reg) {
    emit_from_context(e, reg, CTX_SPILL + 8 * reg);
}
/* mov dword fs:[offset], value (the upper half of the slot stays 0) */
static inline void emit_context_constant(struct emitter *e, int offset, uint32_t value) {
    emit8(e, 0x64);
    emit8(e, 0xc7);
    emit_memory(e, 0, -1, -1, 1, offset);
    emit32(e, value);
}
static inline void emit_constant(struct emitter *e, int reg, uint64_t value) {
    if (value >> 32) {
        emit8(e, rex(1, 0, 0, reg));
        emit8(e, 0xb8 | (reg & 7));
        emit64(e, value);
    } else {
        if (reg >= 8)
            emit8(e, 0x41);
        emit8(e, 0xb8 | (reg & 7));
        emit32(e, (int64_t)value);
    }
}
/* op reg, [base + displacement], 64 bits wide */
static inline void emit_op(struct emitter *e, int opcode, int reg, int base, int64_t displacement) {
    emit8(e, rex(1, reg, 0, base));
    emit8(e, opcode);
    emit_memory(e, reg, base, -1, 1, displacement);
}
/* op reg, fs:[offset] and op reg, from, 64 bits wide */
enum { OP_ADD = 0x03, OP_OR = 0x0b, OP_AND = 0x23, OP_SUB = 0x2b, OP_XOR = 0x33, OP_COMPARE = 0x3b,
       OP_MOV = 0x8b };
static inline void emit_context_op(struct emitter *e, int opcode, int reg, int offset) {
    emit8(e, 0x64);
    emit8(e, rex(1, reg, 0, 0));
    emit8(e, opcode);
    emit_memory(e, reg, -1, -1, 1, offset);
}
static inline void emit_register_op(struct emitter *e, int opcode, int reg, int from) {
    emit8(e, rex(1, reg, 0, from));
    emit8(e, opcode);
    emit8(e, 0xc0 | (reg & 7) << 3 | (from & 7));
}
static inline void emit_jump(struct emitter *e, const uint8_t *target) {
    emit8(e, 0xe9);
    emit32(e, target - (e->at + 4));
}
static inline void patch_jump(uint8_t *rel32, const uint8_t *target) {
    int32_t delta = (int32_t)(target - (rel32 + 4));
    __atomic_store_n((int32_t *)rel32, delta, __ATOMIC_RELEASE);
}

/* A conditional jump: its displacement, for patch_jump. */
static inline uint8_t *emit_if(struct emitter *e, int condition) {
    emit8(e, 0x0f);
    emit8(e, 0x80 | condition);
    emit32(e, 0);
    return e->at - 4;
}

#endif

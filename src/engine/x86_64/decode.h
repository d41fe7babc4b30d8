/* What the translator wants to know of one instruction. */
#ifndef TONDO_DECODE_H
#define TONDO_DECODE_H

#include "emit.h"

#include <Zydis/Zydis.h>

#define ARITHMETIC_FLAGS                                                                     \
    (ZYDIS_CPUFLAG_CF | ZYDIS_CPUFLAG_PF | ZYDIS_CPUFLAG_AF | ZYDIS_CPUFLAG_ZF |               \
     ZYDIS_CPUFLAG_SF | ZYDIS_CPUFLAG_OF)

struct instruction {
    gaddr pc;
    bool valid;
    ZydisDecodedInstruction z;
    ZydisDecodedOperand operands[ZYDIS_MAX_OPERAND_COUNT];
    uint32_t flags_read, flags_killed;
    uint32_t registers_used, registers_written; /* general registers, by number */
    struct memory memory[3];
    int memory_count;
    int encoded; /* which of them the ModRM byte describes, -1: none */
    bool repeated;
    /* EVEX: the mask register that governs the lanes, 0 when none does (it is not among
       the operands), and whether the others become 0. */
    uint8_t mask;
    bool zeroing;
};

/* Decodes at the guest address, of which `available` bytes may be read. */
void decode(struct instruction *i, gaddr pc, uint64_t available);
/* The same in the translator, which comes to most places more than once. */
void decode_again(struct instruction *i, gaddr pc, uint64_t available);
/* The same, mapped or not, outside the translator: the guest's vector registers stay. */
void decode_here(struct instruction *i, gaddr pc);
/* The arithmetic flags it writes, maybe: processors leave alone what a bit test
   is said to leave open. */
uint32_t flags_written(const struct instruction *i);
/* 0..15, or -1. */
int register_number(ZydisRegister reg);
/* 0..31 of XMM, YMM and ZMM registers, or -1. */
int vector_number(ZydisRegister reg);
/* 0..7 of K registers, or -1. */
int mask_number(ZydisRegister reg);
bool is_string_instruction(const struct instruction *i);

#endif

/* One instruction boiled down to what its shadow rule needs: made once, when
   the dirty version is translated, evaluated each time it runs there. */
#ifndef TONDO_PLAN_H
#define TONDO_PLAN_H

#include "emit.h"
#include "rules.h"

/* Undefined bits of the flags, by their place in the flags register; relations
   that are known better than the flags they are made of have bits of their own. */
#define FLAG_CF 0x1u
#define FLAG_PF 0x4u
#define FLAG_AF 0x10u
#define FLAG_ZF 0x40u
#define FLAG_SF 0x80u
#define FLAG_DF 0x400u
#define FLAG_OF 0x800u
#define FLAG_LESS 0x10000u
#define FLAG_LESS_EQUAL 0x20000u
#define FLAG_BELOW_EQUAL 0x40000u
#define FLAGS_ALL 0x708d5u

enum operand_kind { OPERAND_NONE, OPERAND_GENERAL, OPERAND_VECTOR, OPERAND_MEMORY, OPERAND_IMMEDIATE,
                    OPERAND_X87, OPERAND_MASK };

struct plan_operand {
    uint8_t kind;   /* enum operand_kind */
    uint8_t number; /* register, or index into memory[] */
    uint8_t high;   /* AH to DH */
    bool read, write;
    uint16_t size; /* bytes */
    uint64_t value; /* immediate, extended to 64 bits */
};

/* What an instruction told last: the same from the same caller is only counted. */
struct told {
    uint32_t stack, record, finding, process, element;
};

/* Of instructions that make a register of parts of others (parts.c): elements, or one of
   these, and for each 4 bytes where it is from. */
#define PARTS 8
#define PARTS_MEMORY 126
#define PARTS_NONE 127
struct parts {
    int8_t target, first, second;
    uint8_t from[PARTS];
    uint8_t count; /* of the target's parts */
};

enum { MMX_NONE, MMX_LOW, MMX_HIGH, MMX_WORDS, MMX_SIGNS, MMX_PACK, MMX_PAIRS, MMX_ALIGN, MMX_SHUFFLE,
       MMX_INSERT, MMX_EXTRACT };

/* Sums leave a word of which nothing is known as it is; an immediate masks bits out. */
enum { STAYS_NOT, STAYS_UNKNOWN, STAYS_MASKED };

#define PLAN_OPERANDS 6
struct plan {
    gaddr pc;
    uint8_t rule, lane, condition, count, memory_count;
    int8_t stack_x87; /* registers pushed (1) or popped (-1, -2) */
    bool exchanges;   /* two x87 registers */
    enum { CONDITIONS_STAY, CONDITIONS_SET, CONDITIONS_READ } conditions; /* C0 to C3 of x87 */
    bool vex, sets_flags, shift_right, shift_sign, reversed, bit_offset;
    bool is_signed, maximum; /* of RULE_V_MIN; is_signed: of products as well */
    bool extended; /* XSAVE and XRSTOR: upper halves, too */
    bool compact;  /* XSAVEC */
    uint8_t mmx; /* MMX_*: how parts of MMX registers move (mmx.c) */
    uint8_t source; /* of a scalar made of another: bytes of the register it is in */
    bool half; /* only the lower half of each lane is read */
    bool sums; /* only the lowest 16 bits of each lane may be set */
    bool clean; /* asked in the clean version */
    uint8_t stays; /* STAYS_*: an undefined target in memory, when nobody wants the flags */
    bool moves_whole; /* a load whose bytes stand in the register as in memory */
    bool moves_few;   /* one that fills up the rest */
    bool narrow;      /* none of the operands has more than 8 bytes */
    uint8_t from; /* copies: first byte of the source */
    uint8_t width; /* operand width in bytes */
    uint8_t visible;
    /* EVEX forms (masks.c) */
    bool evex, zeroing, rotate;
    uint8_t mask;      /* the register that governs the lanes; 0: none */
    uint8_t lanes;     /* that a mask has a bit for each */
    uint8_t granule;   /* bytes of the target each of them stands for */
    uint8_t piece;     /* of a memory operand: bytes read or written by each; 0: as a whole */
    uint8_t broadcast; /* bytes of memory that are repeated in all lanes */
    uint8_t span;      /* bytes of the vectors */
    uint8_t predicate; /* of comparisons */
    uint32_t flags_read, flags_written, flags_wanted;
    uint64_t outputs; /* elements */
    struct plan_operand operands[PLAN_OPERANDS];
    struct memory memory[2];
    uint8_t index_vector, index_size; /* gathers */
    struct parts parts;
    struct told told;
};

struct instruction;
/* A condition by its code in jumps and moves (0 to 15), for flags that are defined. */
bool condition_holds(uint64_t flags, int condition);
/* Whether both ways of a conditional jump meet again, whatever undefined values are,
   before anything comes of it (moot.c). */
bool branch_is_moot(struct context *c, gaddr pc);
/* The rule of an instruction, and the width of its lanes. */
/* STAYS_MASKED: the bits of the target that stay as they are, undefined or not. */
uint64_t plan_stays(const struct plan *p);
int rule_of(const struct instruction *i, int *lane);
/* Of the x87's stack; conditional moves among them have a category of their own. */
bool is_x87(const struct instruction *i);
/* Elements it reads (addresses included) and writes. */
uint64_t plan_inputs(const struct instruction *i);
uint64_t plan_outputs(const struct instruction *i);
int element_of(int zydis_register);
/* A bit for each of its lanes. */
static inline uint64_t lanes_of(const struct plan *p) {
    return (p->lanes < 64 ? 1ULL << p->lanes : 0) - 1;
}
/* False: it does not only move parts about. */
bool parts_of(const struct instruction *i, struct parts *parts);
/* The same of single bytes, some of them in memory (byte_maps.c). */
bool joins_bytes(const struct instruction *i, struct parts *parts);
/* Adds what EVEX forms have besides (masks.c). */
void plan_masked(struct plan *p, const struct instruction *i);
/* An EVEX form touches only that part of its memory operand which its mask lets it. */
bool masks_memory(const struct instruction *i);

/* --- mmx.c --- */
bool mmx_is(const struct plan_operand *o);
bool mmx_has(const struct plan *p);
void mmx_plan(struct plan *p, int mnemonic);
/* x87 or a restored state has taken the registers over. */
void mmx_forget(struct context *c);

#endif

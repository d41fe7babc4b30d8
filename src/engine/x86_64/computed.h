/* What the parts of compute.c share. */
#ifndef TONDO_COMPUTED_H
#define TONDO_COMPUTED_H

#include "compute.h"
#include "copies.h"

/* In place of a register: memory, whose undefined bits and origins are fetched first. */
enum { MEMORY = 64, MEMORY_BITS = CTX_VALUE + 64 * 7, MEMORY_ORIGINS = CTX_VALUE };

enum computed_kind {
    NOTHING, SUM, DIFFERENCE, AND, OR, XOR, ADDRESS, NARROW, PART, MOVED_PART, SHIFT
};

/* Of general registers: `b` is a register, MEMORY, or -1: an immediate. */
struct sum {
    enum computed_kind kind;
    int a, b, target, size, high;
    int64_t immediate;
    const struct memory *from, *memory; /* of b, where it is that; of ADDRESS and PART */
};

bool find_sum(const struct instruction *i, struct sum *q);
void emit_general(const struct instruction *i, const struct sum *q);

/* Lanes of vectors: `b` is a register, or -1: memory; of both halves when it is wide. */
struct lanes {
    int rule, lane, a, b, target;
    const struct memory *from;
    bool vex, wide;
};

bool find_lanes(const struct instruction *i, const struct plan *p, struct lanes *l);
void emit_vectors(const struct instruction *i, const struct lanes *l);

/* Jumps to C. Whoever emits a rule leaves one, the first: to where the program goes on. */
extern uint8_t *leave[32];
extern int leave_count;

/* Memory whose address is defined. */
bool is_operand(const struct memory *m);
/* To C where memory is not defined, or must not be touched. */
void leave_unless_defined(const struct memory *m);
/* The undefined bits of memory and where they are from; to C where it may be that it must not
   be touched: recorded origins are the program's. Two registers to work with. */
void emit_memory_bits(const struct memory *m, int place, int word);

#endif

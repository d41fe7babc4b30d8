/* What steady.c expects of the words that a loop moves: undefined bits that are known when the
   code is made, and origins that are read from the context when the loop is entered. */
#ifndef TONDO_PATTERNS_H
#define TONDO_PATTERNS_H

#include "copies.h"

enum { CONSTANTS = 4 };

/* A word of origin, or two, that undefined words of the loop have. */
struct constant {
    uint64_t now; /* where the code was made; 0: not known */
    int slot;     /* in the context: one that is recorded, or none */
    int reg;      /* that has it while the loop runs; -1: none */
    bool twice;   /* both halves are the same: it stands for half a word as well */
};
extern struct constant constants[CONSTANTS];
extern int constant_count;

/* Of 4 or 8 bytes. */
struct pattern {
    uint64_t bits; /* that are undefined */
    int constant;  /* where they are from; -1: they are all defined */
    bool whole;    /* bytes of both halves are undefined, or there is but one half */
    int at;        /* else the half: 0 or 4 */
    bool compared; /* origins as well, not only the bits */
};

void patterns_begin(void);
/* Ways of the code meet: what was known no longer is. */
void patterns_forget(void);
/* The word at `done` in the operand; false: nothing is known of it. */
bool pattern_known(const struct memory *m, int done, struct pattern *p);
void pattern_learn(const struct memory *m, int done, const struct pattern *p, bool origins);
/* Whether all of the operand is known to be defined. */
bool pattern_is_defined(const struct memory *m);
/* How far the operand moves when the instruction has run; false: that cannot be told. */
bool operand_moves(const struct memory *m, const struct instruction *i, int64_t *by);
/* The instruction has changed registers. */
void patterns_follow(const struct instruction *i);
/* What the operand's address will be before the instruction, as far as can be told; false: not at
   all. */
bool operand_now(const struct instruction *at, const struct memory *m, gaddr *address);
/* That of a load. */
bool address_now(const struct instruction *load, gaddr *address);
/* The word that the load finds, as memory was when the trace was come to; false: that cannot be
   told, or there are too many origins. */
bool pattern_now(const struct instruction *load, int done, struct pattern *p);

/* Whether the word so many bytes further on has other undefined bits than this one, or the same
   from elsewhere; false, too: that cannot be told. */
bool pattern_changes(const struct instruction *load, int done, int64_t ahead);

/* Whether it would find anything undefined so many bytes further on. */
bool pattern_undefined(const struct instruction *load, int64_t ahead);

/* Leaves unless the bits at gs:[m + done] are those; `word` may change: its value since is in
   `held`, 0 at first. */
uint8_t *emit_pattern_bits(const struct memory *m, int done, const struct pattern *p, int word,
                           uint64_t *held);
/* Leaves unless the origins at [place + offset] are the constant's. */
uint8_t *emit_pattern_origin(int place, int offset, int size, const struct pattern *p, int word);
/* The constants, to their registers. */
void emit_constants(void);
/* The same of one, to a register. */
void emit_constant_origin(const struct constant *c, int reg);
/* The origins at [place + offset] become the constant where they hold anywhere; both registers
   and flags change. */
void emit_new_constant(int place, int offset, int size, const struct pattern *p, int word,
                       int spare);

#endif

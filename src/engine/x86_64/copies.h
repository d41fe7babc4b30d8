/* What the parts that copy undefined bits share: steps of code, and which store belongs to
   a load. */
#ifndef TONDO_COPIES_H
#define TONDO_COPIES_H

#include "translate.h"

enum { IF_BELOW = 2, IF_NOT_BELOW, IF_ZERO, IF_NOT_ZERO, IF_SIGN = 8 };
/* Both return the displacement to be patched. */
uint8_t *emit_short_jump(int condition);
uint8_t *emit_long_jump(void);

/* A register holds a guest address and becomes the place of its origin; leaves by the jump
   returned when the address is not aligned. */
uint8_t *emit_origin_place(int reg);
/* Leaves when the word of origin at the place is 0. */
uint8_t *emit_unless_recorded(int place, int offset);
/* cmp reg, [place + offset]; leaves when they differ. */
uint8_t *emit_compare_origin(int place, int reg, bool wide, int offset);
/* mov reg, gs:[from + done] */
void emit_take_bits(const struct memory *from, int reg, bool wide, int done);
/* cmp gs:[to + done], reg; leaves when they differ. */
uint8_t *emit_compare_bits(const struct memory *to, int reg, bool wide, int done);
/* `word` takes the one origin of `size` bytes, twice when they are 8 or more; returns how
   many jumps it added to `leave`, taken where it is none or several. */
int emit_one_origin(int place, int word, int offset, int size, uint8_t **leave);
/* The element's origin becomes the register's, which holds it twice when it is `doubled`. */
void emit_set_origin(int reg, int element, bool doubled);
/* The words of origin at the place become `word`, `piece` bytes of it at a time: where each
   is recorded already, and not by the name of a stack slot, which may stand in the running
   frame only. */
int emit_change_origins(int place, int word, int offset, int size, int piece, uint8_t **leave);

/* By how much the instruction adds to a register without touching memory; false: it does
   something else. */
bool adds_constant(const struct instruction *i, int *reg, int64_t *amount);
uint32_t address_uses(const struct memory *m);
/* Bytes that a load takes as they are and a store of them may put elsewhere in one go;
   0: none. */
uint32_t copied_size(const struct instruction *load);
/* The store of what the load brings, close behind it with nothing but `between` before it;
   `to` is its operand as it is named before the load. */
const struct instruction *copy_store(const struct instruction *load,
                                     bool (*between)(const struct instruction *i, int value),
                                     struct memory *to);

#endif

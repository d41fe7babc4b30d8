/* What the parts that copy undefined bits share: steps of code, and which store belongs to
   a load. */
#ifndef TONDO_COPIES_H
#define TONDO_COPIES_H

#include "translate.h"

enum { IF_BELOW = 2, IF_NOT_BELOW, IF_ZERO, IF_NOT_ZERO, IF_SIGN = 8, IF_LESS = 12, IF_NOT_LESS };
/* Both return the displacement to be patched. */
uint8_t *emit_short_jump(int condition);
uint8_t *emit_long_jump(void);

/* A register holds a guest address and becomes the place of its origin; leaves by the jump
   returned when the address is not aligned. */
uint8_t *emit_origin_place(int reg);
void emit_place_of_word(int reg); /* without that */
/* The same for a part of a word: `size` is 1, from which nothing leaves (NULL), or 2. */
uint8_t *emit_part_place(int reg, int size);
/* Leaves where one of the lowest bits is set. */
uint8_t *leave_by_bits(int reg, int bits);
void emit_compare_least(int word); /* cmp word, ORIGIN_LEAST, of its lower half */
/* What a load will find at 4 or 8 bytes from `done` on, if that is as it was when the trace was
   come to: what is there is mostly what was there the last time. */
enum word { WORD_UNKNOWN, WORD_DEFINED, WORD_UNDEFINED, WORD_LOWER_DEFINED, WORD_UPPER_DEFINED };
enum word word_now(const struct instruction *load, int done);
/* Leaves where a word of origin in a register, which stays as it is, does not hold anywhere though
   bytes of it, at gs:[m + done], are undefined; of two words (`wide`) both. The second part goes
   out of the way; it returns how many jumps it has put in `leave`. */
struct unrecorded {
    struct memory m;
    int done, word, slot;
    bool wide;
    enum word now;
    uint8_t *jumps[2];
    const uint8_t *back;
};
void emit_unless_recorded(int word, bool wide, const struct memory *m, int done, enum word now,
                          struct unrecorded *u);
int emit_unrecorded(const struct unrecorded *u, uint8_t **leave);
/* A word of origin, or two of them, to the register; and one made two. */
void emit_take_origin(int place, int word, int offset, bool wide);
void emit_twice(int word);
/* Its halves change places. */
void emit_rotate(int word);
/* cmp reg, [place + offset]; leaves when they differ. */
uint8_t *emit_compare_origin(int place, int reg, bool wide, int offset);
/* Leaves where half of an origin word is none for a register though the bytes at gs:[m + done]
   are undefined; for the upper half the register is shifted. */
uint8_t *emit_unless_least(int word, int half, const struct memory *m, int done);
/* Leaves where the word of origin is one for each byte. */
uint8_t *leave_by_byte(int word);
/* Of 1 or 2 bytes at m, to `word`: where it is recorded, and of all of their word. */
int emit_part_origin(const struct memory *m, int place, int word, uint8_t **leave);
/* mov reg, gs:[from + done] */
void emit_take_bits(const struct memory *from, int reg, bool wide, int done);
/* cmp gs:[to + done], reg; leaves when they differ. */
uint8_t *emit_compare_bits(const struct memory *to, int reg, bool wide, int done);
/* One or two words of origin (`piece`: 4 or 8 bytes) at the place become those in `word`:
   where each is recorded already, and not by the name of a stack slot, which may stand in the
   running frame only. Those of defined bytes may stay as they are: the value's undefined bits
   are at gs:[m + done] or, without m, in the context. */
int emit_change_origins(int place, int word, int offset, int piece, const struct memory *m,
                        int bits, int done, uint8_t **leave);
void emit_registers(uint32_t set, void (*each)(struct emitter *e, int reg));

/* By how much the instruction adds to a register without touching memory; false: it does
   something else. */
bool adds_constant(const struct instruction *i, int *reg, int64_t *amount);
uint32_t address_uses(const struct memory *m);
/* Registers, and what loads bring, of which nothing stays. */
uint64_t wholly_written(const struct instruction *i);
/* Those of which a load of so many bytes notes undefined bits. */
uint64_t noted_elements(int element, int size);
/* Where the context has the undefined bits of a general or vector register. */
int bits_of_element(int element);
/* Bytes that a load takes as they are and a store of them may put elsewhere in one go;
   0: none. */
uint32_t copied_size(const struct instruction *load);
/* The store of what the load brings, close behind it with nothing but `between` before it;
   `to` is its operand as it is named before the load or, where that cannot be told (not `known`),
   at the store. */
const struct instruction *copy_store(const struct instruction *load,
                                     bool (*between)(const struct instruction *i, int value),
                                     struct memory *to, bool *known);

/* --- bundles.c --- */
/* To be told where a trace begins; of a load that meets undefined bits, and whether it alone can
   be copied otherwise (true: it begins a bundle); of each store behind its code. */
void bundles_forget(void);
bool bundle_begins(const struct instruction *load, bool single);
bool bundle_ends(const struct instruction *store);
/* Of the bundle that begins with the load: goes on behind it, or here where it cannot. */
void emit_bundle(const struct instruction *load, uint32_t kept);

#endif

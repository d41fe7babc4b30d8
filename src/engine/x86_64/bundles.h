/* What bundles.c and changes.c share: the pieces of a structure that are moved together. */
#ifndef TONDO_BUNDLES_H
#define TONDO_BUNDLES_H

#include "copies.h"

enum { PIECES = 8, OTHERS = 6, PLACES = 3, PARTS = 8, JUMPS = 128 };

/* What an address is made of, in registers as they are at the first load:
   base + index * factor + add. */
struct form {
    bool known;
    int base, index; /* -1: none; an index from PART on is one of the bundle's parts */
    int64_t factor, add;
};
enum { PART = 16 };

/* A part of an address that is no such sum, but made from one. */
struct part {
    struct form of;
    enum { PART_LOWER, PART_SIGNED, PART_AND, PART_SHIFTED } how; /* all of the lower 32 bits */
    int64_t value;
};

/* One load with its store. */
struct piece {
    const struct instruction *load, *store;
    struct form from, to;
    int from_place, to_place; /* which of the bundle's */
    int size, element;
    bool defined; /* expected to be */
    bool late;    /* the register is needed before it is loaded: its bits come last */
    bool dead;    /* nothing asks for the register but the store */
};

struct bundle {
    const struct instruction *load, *last;
    uint64_t possible;
    struct piece pieces[PIECES];
    int piece_count;
    struct {
        const struct instruction *i;
        struct form at;
        int size;
    } others[OTHERS]; /* words moved in between that have to be defined */
    int other_count;
    uint64_t dropped; /* elements that become defined in between */
    uint64_t spent;   /* that nothing asks for behind the bundle: they count as defined there */
    uint64_t possible_after; /* what may be undefined where it goes on */
    struct part parts[PARTS];
    int part_count;
    struct form places[PLACES]; /* without what is added */
    int registers[PLACES], place_count, word;
    bool below[PLACES]; /* all targets there: see frame_has_below */
    uint32_t free; /* of the registers: those that need not be kept */
    int second; /* one more register to work with; -1: there is none */
    bool changes; /* goes on by changes.c where targets are not yet what they become */
    uint8_t *back; /* behind the last store */
};

/* The pieces of a bundle, as operands. */
struct memory piece_source(const struct bundle *b, const struct piece *p);
struct memory piece_target(const struct bundle *b, const struct piece *p);
/* Where the undefined bits of what is loaded stand in the context. */
int piece_bits(const struct piece *p);
/* The guest addresses of the places, to their registers. */
void emit_places(const struct bundle *b);
/* Words in between: each is a jump in `leave`, taken where it is not defined. */
int emit_others(const struct bundle *b, uint8_t **leave);
struct memory other_operand(const struct bundle *b, int k);
bool same_base(const struct form *a, const struct form *b);
uint8_t *leave_unless_zero(const struct memory *m, bool wide, int done);

/* --- changes.c --- */
/* Whether the pieces may be followed so. */
bool can_change(const struct bundle *b);
/* D and the origins at the targets become what they have to, where all of them may be written
   and nothing hangs on a stack frame; what is loaded gets its own. All registers of the bundle
   are spilled. Jumps in `leave` are taken before anything is written; their number is returned. */
int emit_changes(const struct bundle *b, uint8_t **leave);

#endif

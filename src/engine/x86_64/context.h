/* Offsets inside the per-thread context that FS points to, shared by C, the
   assembly glue and the code the translator emits. Checked in context.c. */
#ifndef TONDO_CONTEXT_H
#define TONDO_CONTEXT_H

#define CTX_SELF 0x00
#define CTX_REASON 0x08
#define CTX_ARGUMENT 0x10
#define CTX_TARGET 0x18
#define CTX_SHADOW 0x20   /* top of the shadow call stack */
#define CTX_CANARY 0x28   /* constant: the decoder library's stack protector reads it */
#define CTX_ENGINE_SP 0x30
#define CTX_PENDING 0x38
#define CTX_FS_BASE 0x40  /* the guest's */
#define CTX_GS_BASE 0x48
#define RECOVER_CALL 1 /* value: resume at glue_call_fault */
#define CTX_RECOVER 0x50  /* where a fault inside a helper resumes, or 0 */
#define CTX_RECOVER_SP 0x58
#define CTX_GUEST_TARGET 0x60
#define CTX_CACHE_BASE 0x68 /* constant */
/* Lowest stack address that a return above it must tidy up: part of the red
   zone that was written to, or a slot with a recorded origin; ~0: none. */
#define CTX_MARK 0x70
/* In the dirty version, on the way to C: a superset of what is undefined. */
#define CTX_DIRTY 0x78
#define CTX_SPILL 0x80    /* 16 slots, by register number */
#define CTX_REGISTERS 0x100 /* 16, by register number */
#define CTX_FLAGS 0x180
#define CTX_PC 0x188
#define CTX_MARK_HIGH 0x198 /* slots with recorded origins end here; 0: there are none */
#define CTX_STACK_LOW 0x1a0 /* of the stack the thread began on */
#define CTX_STACK_HIGH 0x1a8
#define CTX_OLD_SP 0x1b0
#define CTX_FLAG_SAVE 0x1b8
#define CTX_A_BASE 0x1c0 /* constant */
#define CTX_SCRATCH 0x1c8
#define CTX_WAY 0x1d0 /* EDX as it came into glue_store */
/* Its bits above the size; the slot of the element's origins stands above them. */
#define WAY_STRANGE 0x100 /* by another register than the stack's */
#define WAY_LOAD 0x200    /* notes the origin of what is loaded */
#define WAY_ORIGIN 0x400  /* notes the origin of what was stored */
#define WAY_FRAMES 0x400000 /* how many frames a plain store looks through, from bit 16 on */
#define WAY_SLOT 16
#define CTX_ORIGINS 0x1d8 /* constant */
#define CTX_TWICE 0x1e0   /* constant: makes one word of origin two */
#define CTX_LEAST 0x1e8   /* constant: ORIGIN_LEAST in the upper half */
#define CTX_ODD_AT 0x1f8  /* where in the context a load's own of CTX_ODD is */
#define CTX_UNSET 0x230   /* the place (unset.c) where registers have just been marked */
#define CTX_FOUR_TABLE 0x238 /* constant: codes of bytes, in fours (origin_codes.c) */
#define CTX_MARK_ORIGIN 0x1f0 /* and begin here, not below CTX_MARK; ~0: there are none */
/* Undefined bits of registers. A word is 0 wherever nothing is undefined. */
#define CTX_UNDEFINED 0xb000 /* 16 words by register number */
#define CTX_UNDEFINED_FLAGS 0xb080
/* A byte for each physical register, 0 or 0xFF, and a word for the condition bits. */
#define CTX_UNDEFINED_X87 0xb088
#define CTX_UNDEFINED_VECTOR 0xb100 /* 32 registers of 64 bytes */
#define CTX_VALUE 0xb900   /* vector and mask operands on their way to C, 64 bytes each */
#define VALUE_INDEX 6      /* behind the operands': the index of a gather */
#define VALUE_MASK 7       /* and the mask that governs the lanes */
/* Origins of elements as they stand in memory: a word for each 4 bytes, those that are
   defined mean nothing. In slots of 16 bytes: elements below ELEMENT_VECTOR by number, then
   both halves of each vector. They are read and written in pieces of 8 bytes. */
#define CTX_ORIGIN 0xc500
#define ORIGIN_SLOT(element)                                                                 \
    ((element) < ELEMENT_VECTOR  ? (element)                                                 \
     : (element) < ELEMENT_UPPER ? 2 * (element) - ELEMENT_VECTOR                            \
                                 : 2 * (element) - 2 * ELEMENT_UPPER + ELEMENT_VECTOR + 1)
#define CTX_ORIGIN_OF(element) (CTX_ORIGIN + 16 * ORIGIN_SLOT(element))
#define CTX_UNDEFINED_MASKS 0xbd00 /* 8 words */
#define CTX_VECTOR 0xd000 /* XSAVE area */
#define CTX_LOOKUP_KEY 0x10000  /* 65536 negated guest addresses */
#define CTX_LOOKUP_HOST 0x90000 /* 65536 code-cache addresses */
/* The same for dirty versions; keyed by the address and what may be undefined. */
#define CTX_DIRTY_KEY 0x110000
#define CTX_DIRTY_HOST 0x190000
/* Records that names of stack slots got when they left their frame (remember_kept): 64 of them,
   by the name and the instruction. */
#define CTX_KEPT 0x210000
#define KEPT_COUNT 64
#define KEPT_SIZE 128
#define KEPT_PC 0
#define KEPT_CODE 8
#define KEPT_LEVELS 16 /* 3 calls from the innermost outwards, then zeros */
#define KEPT_LEVEL 24  /* as struct shadow_entry, with the record's code instead of `host` */
/* What words became when some of their bytes were stored (remember_four): 256 of them, by the
   code before, that of the stored bytes and which these are. */
#define CTX_FOURS 0x212000
#define FOURS_BITS 8
#define FOURS_OLD 0
#define FOURS_CODE 4
#define FOURS_WHICH 8 /* bits: undefined ones stored, from 4 on such of others; FOURS_KNOWN */
#define FOURS_KNOWN 0x100
#define FOURS_NOW 12
#define FOURS_TURN 11 /* the code's turn to the left before the factor */
#define FOURS_FACTOR 0x9e3779b1
/* Words of origin of which both halves were seen to be codes that hold anywhere: 64 of them, each
   for some of the places in the code that ask (emit_unless_recorded). */
#define CTX_RECORDED 0x213000
#define RECORDED_COUNT 64
/* The same of codes that are no names of stack slots (changes.c). */
#define CTX_PORTABLE 0x213200
#define PORTABLE_COUNT 64
/* Loads at odd places or of parts of words: the words of origin they meet, of which all bytes that
   are loaded have the same; 64 of them, each for some of the places in the code that load (emit_known_origin). */
#define CTX_ODD 0x213400
#define ODD_COUNT 64
#define ODD_SIZE 32
#define ODD_WORDS 0 /* three of them */
#define ODD_CODE 12
#define ODD_SHAPE 16 /* the address modulo 4, and the bytes that are loaded above */
#define ODD_SHIFT 8
/* As CTX_RECORDED where the lower half, in the second part the upper one, is that of defined
   bytes and may be anything. */
#define CTX_HALF_RECORDED 0x213c00
#define HALF_RECORDED_COUNT 32 /* in each part */
/* How many rounds of a steady loop may still be other than expected, each for some of the loops. */
#define CTX_PATIENCE 0x213e00
#define PATIENCE_COUNT 64
#define CTX_SIZE 0x214000

#define RAX 0
#define RCX 1
#define RDX 2
#define RBX 3
#define RSP 4
#define RBP 5
#define RSI 6
#define RDI 7

/* Why translated code came out. */
#define EXIT_LINK 1    /* a direct branch that was not linked yet; argument: link */
#define EXIT_LOOKUP 2  /* an indirect branch to CTX_GUEST_TARGET */
#define EXIT_RETURN 3  /* a return that was not predicted */
#define EXIT_SYSCALL 4 /* argument: code-cache offset of the call site */
#define EXIT_REPLACED 5
#define EXIT_CHECK 6   /* shadow said no; argument: index of the check */
#define EXIT_EMULATE 7 /* instruction done in C; argument: offset of the site */
#define EXIT_SLOW 8    /* an operand too odd for an inline check */
#define EXIT_START 0
#define EXIT_STRING 11 /* repeated move or store; CTX_GUEST_TARGET: how */
#define EXIT_UNDEFINED 12 /* C follows an instruction; CTX_GUEST_TARGET: its plan */
#define EXIT_DIRTY_LINK 13 /* as EXIT_LINK, between dirty versions */
#define EXIT_RELEASE 14    /* the stack pointer moved up from CTX_OLD_SP */
#define EXIT_STORE 15      /* to glue_store, not to C */
#define EXIT_MARK 9        /* to glue_mark, not to C */
#define EXIT_QUICK 17  /* to glue_quick: a replaced function that has a quick way */
#define EXIT_UNBOUND 18 /* a jump through a place not bound yet; argument: the place */
#define EXIT_PLAIN_STORE 19 /* to glue_plain_store */
#define EXIT_CHANGED 20 /* the code is not what was translated */
#define EXIT_FRAME_STORE 21 /* to glue_frame_store_1, _2, _4, _8, _16 by the size's logarithm;
                               and again for stores through other registers than the frame's */
#define EXIT_COPY 31 /* to glue_copy_few: memcpy and memmove, which have a quick way, too */
#define EXIT_KEEP 32 /* a call, across which registers are kept; CTX_GUEST_TARGET: which */
#define EXIT_NEXT_RETURN 33 /* a return not foreseen by its chain; argument: which (returns.c) */
#define EXIT_NAMES 34 /* to glue_names, not to C */
#define EXIT_POLL 35 /* a signal came during a repeated instruction, which is done */
#define EXIT_UNSET 36 /* entry of a function that reads what nobody set; argument: which (unset.c) */
#define EXIT_LAST 36
#define RED_ZONE 128 /* psABI 3.2.2 */
#define EXIT_LANDED 16 /* a return into code that was given up: see cache_flush */
#define EXIT_STALE 10  /* entry of code that was dropped; argument: block */

/* Origin codes: first, of words, four for bytes that are from different places (by_byte)
   and among them such of which nothing is recorded: these hold only where they stand; then
   blocks by allocation stack and size, counted in the order of their first use; records of
   the ledger; four for the bytes of a word that may go elsewhere; last, with the highest bit,
   bytes of the first thread's stack from its top: names that hold in the running frame only.
   All bytes of a block have one code, and so has the next block of its kind: what is copied
   about within a structure or an array leaves recorded origins as they are. */
#define ORIGIN_LEAST 0x10000000 /* of those that registers may have; anywhere: not by sign */
#define ORIGIN_KIND_CODES ORIGIN_LEAST
#define ORIGIN_RECORD_CODES 0x40000000
#define ORIGIN_BYTE_CODES 0x60000000
#define ORIGIN_STACK_CODES 0x80000000
#define ORIGIN_FOUR 20 /* bytes of what is known of a code by byte: first, its four codes */

/* Elements of the register state, as numbered in sets: general registers by
   number, then these. */
#define ELEMENT_FLAGS 16
#define ELEMENT_X87 17
/* Of AVX-512, several registers each: none of these is ever wholly overwritten, only C
   tells that they are defined again. */
#define ELEMENT_MASKS 18 /* k0 to k7 */
#define ELEMENT_TOPS 19  /* the upper halves of zmm0 to zmm15 */
#define ELEMENT_MORE 20  /* zmm16 to zmm31 */
#define ELEMENTS_SHARED (7ULL << ELEMENT_MASKS)
#define ELEMENT_VECTOR 32 /* 16 of them: the lower 16 bytes */
#define ELEMENT_UPPER 48  /* and the upper 16 */
#define ELEMENTS 64

#endif

/* What the parts of the translator share: the code being written and the
   translation it belongs to. One translation at a time, under the cache's lock. */
#ifndef TONDO_TRANSLATE_H
#define TONDO_TRANSLATE_H

#include "cache.h"
#include "decode.h"

#define COLD 512

enum cold_kind {
    COLD_LINK,
    COLD_CHECK, /* a load met undefined or forbidden bytes */
    COLD_STORE, /* the same for a store: mostly it only becomes defined */
    COLD_LOOKUP,
    COLD_RETURN,
    COLD_KEPT_RETURN, /* the same, with RAX and the flags put aside */
    COLD_NEXT_RETURN, /* to C, which may know where a return leads (returns.c) */
    COLD_MARK,    /* a return with something to tidy up on the stack */
    COLD_RELEASE, /* a large or doubtful release of stack */
    COLD_STEP,    /* the same by a constant, where the red zone was written to */
    COLD_DIRTY,   /* a branch out of the dirty version */
    COLD_TOUCH,   /* to C with a plan, and back */
};

/* Code that is seldom run, written behind the block. */
struct cold {
    enum cold_kind kind;
    uint8_t *patch;  /* displacement of the jump that leads here */
    gaddr pc;        /* of the instruction */
    gaddr target;    /* COLD_LINK, COLD_DIRTY */
    uint64_t possible, elements;
    uint8_t *resume;
    uint8_t *loaded; /* COLD_TOUCH: the same, behind where the register to be loaded was spilled */
    uint8_t *beyond; /* COLD_STORE of undefined bits: behind the change of D, or null;
                        COLD_RELEASE: fills eight bytes more */
    uint32_t spilled, kept;
    uint32_t argument;
    uint32_t way; /* COLD_TOUCH: WAY_*, 0: to C at once */
    bool dirty_link;
    bool steady; /* COLD_DIRTY: into the steady version, where there is one */
    bool changed;
    bool trusted; /* COLD_CHECK, see cache_check */
    uint64_t asked; /* the same: of a whole operand only these bits decide; 0: all */
    uint32_t owes; /* the same: what the trace has still to undo (frames.c) */
    struct memory memory; /* COLD_STORE, COLD_TOUCH */
    bool values; /* COLD_TOUCH: hands C the values of the plan's vectors */
    bool masked; /* COLD_TOUCH, COLD_CHECK: of the target's bits those of the mask stay, the
                    others become defined */
    int32_t mask;
};

struct translation {
    gaddr pc;          /* of the instruction being translated */
    bool dirty;        /* which version */
    uint64_t possible; /* dirty: elements that may hold undefined bits here */
    uint32_t owes;     /* the same: taken over from the version that led here (frames.c) */
    bool function;     /* it begins where a function is entered */
    bool changed;      /* an element of the set may have become defined since the entry */
    uint32_t fetched;  /* a register that has its undefined bits in it, its value in its slot */
};

extern struct emitter out;
extern struct translation now;
extern struct cold colds[COLD];
extern int cold_count;

struct cold *cold_add(enum cold_kind kind, uint8_t *patch);
/* Notes that the code from here on belongs to the guest instruction at pc. */
void note_place(gaddr pc, uint32_t spilled, int exact);
void align_patch(int opcode_bytes);
void emit_link(gaddr target);
void emit_conditional_link(int condition, gaddr target);
void emit_conditional_dirty_link(int condition, gaddr target);
void emit_exit(int reason, gaddr pc, uint32_t argument);
void emit_exit_and_back(int reason, gaddr pc);
void emit_address(const struct memory *m, int scratch);
bool is_foreign(const struct memory *m);
int pick_scratch(uint32_t used);
/* CTX_TARGET becomes the place, by way of the register: in one piece, for processors wait
   long where eight bytes are read that were just written in two. */
void emit_goal(int reg, const uint8_t *place);
/* The guest's bytes; only an operand relative to the program counter is encoded anew. */
void emit_as_it_is(const struct instruction *i);
void emit_plain(const struct instruction *i);
static inline bool fits(int64_t v) { return v == (int32_t)v; }

/* The instructions of the translation. */
extern struct instruction trace[];
extern int trace_count;
enum role { PLAIN, BRANCH, JUMP, INDIRECT, CALL, RETURN, LOOP, SYSTEM_CALL, EMULATED, BROKEN };
enum role role_of(const struct instruction *i);

/* Whether the code there overwrites all flags before it reads one. */
bool flags_dead_at(gaddr pc);
/* The same behind an instruction of the translation. */
bool flags_dead_behind(const struct instruction *i);

/* --- across.c --- */
/* What returns drop. */
#define RETURN_DEAD                                                                          \
    (DIRTY_AFTER_CALL & ~(1ULL << RAX | 1ULL << RDX | 1ULL << ELEMENT_X87 | ELEMENTS_SHARED |  \
                          3ULL << ELEMENT_VECTOR | 3ULL << ELEMENT_UPPER))
/* Of a set of elements (general registers, halves of vectors) those that the code
   at pc, and what is near behind it, reads before it overwrites them. */
uint64_t across_read(gaddr pc, uint64_t set);
/* And those that may be arguments of a function it is not known which. */
uint64_t across_read_or_handed_on(gaddr pc, uint64_t set);
uint64_t across_read_while_running(gaddr pc, uint64_t set); /* not by the translator */
/* False where the function called there may take one of these general registers; else *set has
   those that it may leave as they are. Not by the translator. */
bool across_called(gaddr call, uint64_t *set);
/* Those that are overwritten on every way from there before anything reads them. */
uint64_t across_overwritten(gaddr pc, uint64_t set);

/* Of some registers that hold nothing when a function is entered, and of those that it keeps for
   its caller, which hold nothing of its own behind where they are pushed: which are read before
   they are set. */
enum { UNSET_REGISTERS = 32 }; /* general ones, vectors */
static inline int unset_element(int index) {
    return index < ELEMENT_FLAGS ? index : index - ELEMENT_FLAGS + ELEMENT_VECTOR;
}
static inline int unset_index(int element) {
    return element < ELEMENT_FLAGS ? element : element - ELEMENT_VECTOR + ELEMENT_FLAGS;
}
struct unset {
    uint64_t set;
    gaddr from[UNSET_REGISTERS];  /* from where on one holds nothing */
    gaddr where[UNSET_REGISTERS]; /* and where it is read */
    gaddr returns;                /* a return before which RAX is not set, 0: none */
};
void across_unset(gaddr entry, uint64_t set, struct unset *u);

/* --- unset.c --- */
/* Whether the code there is to begin by EXIT_UNSET, 0 or its argument. `called`: it may be the
   entry of a function. */
uint32_t unset_at(gaddr pc, bool called);
/* Registers that a function may take arguments in; all where that is not known. */
uint64_t unset_may_take(gaddr function);
/* Whether a trace is to end before the code there. */
bool unset_splits(gaddr pc);

/* --- transfers.c --- */
void emit_entry(gaddr pc, int kind);
/* Checks its own operand. */
/* `keeps`: it comes back by C (across.c). */
void emit_call(const struct instruction *i, bool flags_live, bool keeps);
/* Before an indirect jump with dead flags: goes straight on where its fixed place of
   memory leads. True: nothing else is to be emitted. */
bool emit_slot_jump(const struct instruction *i);
/* The fixed place of memory that an indirect jump or call goes by; 0: none. */
gaddr transfer_slot_of(const struct instruction *i);
/* Where that leads once the loader has bound it; 0: not yet, or not to code. */
gaddr transfer_bound(gaddr slot);
void emit_indirect_jump(const struct instruction *i, bool flags_live);
void emit_return(const struct instruction *i, bool flags_live);
/* Live flags are put aside in the context, and come back from there, with RAX, which was
   spilled. */
void emit_save_flags(void);
void emit_restore_flags(void);
/* flags_after: those that are live behind the instruction. */
void emit_branch(const struct instruction *i, uint32_t flags_after);
void emit_loop(const struct instruction *i);
/* To the RDX-th address of the thread's table; RCX and RDX are spilled. */
void emit_jump_to_host(int hosts);
/* What a call or jump goes to is used; undefined bits in it are told. */
void emit_target_use(const struct instruction *i);
gaddr branch_target(const struct instruction *i);

/* --- checks.c --- */
void forget_proofs(void);
void forget_registers(const struct instruction *i);
void emit_checks(const struct instruction *i, bool flags_live);
/* Whether only C can check the instruction's operands. */
bool wants_slow_check(const struct instruction *i);
enum check { CHECK_NONE, CHECK_LOAD, CHECK_STORE, CHECK_ZERO };
bool is_stack_probe(const struct instruction *i, const struct memory *m);
enum check check_of(const struct instruction *i, const struct memory *m);
/* To a COLD_TOUCH piece when any byte of the operand is not 0 in D. */
void emit_touch_check(const struct memory *m, bool flags_live);
void emit_zero(const struct memory *m);
/* Operands that this trace has checked: the same bytes need no second check. first, end:
   the load's cold pieces. */
bool is_proved(const struct memory *m);
void prove(const struct memory *m, int first, int end);
void emit_load_check(const struct memory *m, bool flags_live);
void emit_check_flags_dead(const struct memory *m, enum cold_kind kind);
void emit_cold_check(struct cold *c);
void emit_cold_store(struct cold *c);
void emit_cold_touch(struct cold *c);
/* Prefixes of an instruction that goes to D of the operand, and the operand itself. */
void emit_gs(const struct memory *m, int wide, int reg);
void emit_operand(const struct memory *m, int reg, int64_t offset);
void emit_lea(const struct memory *m, int reg);
/* dirty.c: values of vector operands, for C. */
void emit_plan_values(uint32_t plan);
void emit_dirty_store_check(const struct memory *m, bool flags_live);
void emit_words_check(int offset, int words, const struct memory *m, bool flags_live);
void emit_shadow_store(const struct memory *m, int reg);

/* --- asked.c --- */
/* Which bits of its operand in memory the instruction asks for, that is, which the code behind
   a load leaves over, and those a test looks at; 0: all. */
uint64_t bits_asked(const struct instruction *i);
/* The instruction that puts a word back to memory of which fields alone were changed, where it is
   loaded by `i`; that may be `i` itself. NULL: it is nothing of the kind, or in doubt. Those of the
   word's undefined bits that are not in `stay` become defined. In the clean version. */
const struct instruction *stays_in_place(const struct instruction *i, uint64_t *stay);

/* --- frames.c --- */
/* By how many bytes the stack pointer moves; 0: not by a known distance. */
int64_t stack_shift(const struct instruction *i);
/* Keeps D of the stack in step with an instruction that moves the stack pointer. */
void emit_stack_before(const struct instruction *i, bool flags_live);
void emit_stack_note(const struct instruction *i); /* the part of it without checks */
void emit_stack_after(const struct instruction *i, bool flags_live);
/* cmp rsp, fs:[mark], and a jump (returns.c) */
uint8_t *emit_mark_test(int condition);
/* What it gives back of the stack by a constant becomes undefined. */
void emit_shift_back(const struct instruction *i, bool flags_live);
void emit_cold_release(const struct cold *c); /* of more than a few words */
void emit_cold_step(const struct cold *c);
/* Follows where the frame pointer stands: to be told of each instruction, null where a
   trace begins. */
void frame_follow(const struct instruction *i);
/* Whether the operand lies between the frame pointer and the stack pointer. */
bool frame_has(const struct memory *m);
/* The same in the red zone, of a function that goes straight back from here: what was
   defined so is undone by emit_frame_end, to be told of each instruction before it runs. */
bool frame_has_below(const struct instruction *i, const struct memory *m);
/* Origins are recorded in such a place without telling the next return: emit_frame_end forgets
   them. */
void frame_records(const struct memory *m);
/* What the trace has defined there and not undone yet: how many words of 8 bytes from the stack
   pointer down, and OWES_ORIGINS where any are recorded there; 0: nothing. */
enum { OWES_WORDS = 31, OWES_ORIGINS = 32 };
uint32_t frame_owes(void);
/* The trace begins in the middle of another one, which owes that. */
void frame_takes_over(uint32_t owes, bool flags_live);
/* The next return sees to it. */
void emit_owing(uint32_t owes, bool flags_live);
/* What the stack pointer has left becomes undefined: before the first instruction of a trace, and
   behind each, and where the trace ends. */
void frame_begins(void);
void frame_release_due(const struct instruction *i, bool flags_live, bool last);
void emit_frame_end(const struct instruction *i, bool flags_live);
/* A push or pop of which only the move of the stack pointer counts. */
bool makes_frame(const struct instruction *i);
bool drops_frame(const struct instruction *i);

/* --- dirty.c --- */
/* mov fs:[CTX_DIRTY], possible; nothing in the clean version. */
void emit_dirty_set(void);
void emit_zero_word(int offset);
/* Goes on at the target: in its clean version when nothing is undefined now. */
void emit_dirty_link(gaddr target);
bool goes_round(gaddr target);
void emit_cold_dirty(struct cold *c);
/* Whether the instruction has a part in the flow of undefined bits here. */
bool wants_dirty(const struct instruction *i);
void emit_dirty(const struct instruction *i, bool flags_live, uint32_t live_after);
/* The instruction's operands are used: for a branch, a jump target. */
void emit_dirty_use(const struct instruction *i, int rule, uint32_t live_after);
/* To the dirty version of the guest address in RCX, which CTX_GUEST_TARGET holds
   as well; RCX and RDX are spilled. */
void emit_dirty_lookup(void);
void emit_dirty_return(uint32_t extra, bool flags_live);
/* Leaves through a door of C unless nothing is undefined here. */
void emit_leave_dirty(int reason, uint32_t argument);
/* A conditional branch: asks C when a flag is undefined. */
void emit_dirty_branch(const struct instruction *i, uint32_t live_after);
/* What an instruction done in the clean way leaves defined. */
void dirty_overwritten(const struct instruction *i);
/* Elements that do not outlive this point: drops them. */
void dirty_drop(uint64_t elements);
uint64_t dirty_inputs(const struct instruction *i);
/* Only C can follow what it does: asked in the clean version, too. */
bool emit_masked_use(const struct instruction *i, bool flags_live, uint32_t live_after);
bool emit_gather_use(const struct instruction *i, bool flags_live, uint32_t live_after);
bool wants_plan(const struct instruction *i);

/* A load or store as a whole register, of which each byte stands as in memory. */
bool moves_whole(const struct instruction *i);
bool is_plain_store(const struct instruction *i);
/* The instruction on the undefined bits its operand of memory has. */
void emit_on_shadow(const struct instruction *i);
/* mov fs:[undefined bits], reg, of the vector register or the general one. */
void emit_bits_to_context(const struct instruction *load);

#define FEW_WORDS 16 /* tested inline on the way out */
/* Jumps, to be patched, where any word of undefined bits of the set is not 0; RCX is free.
   Returns how many. */
int dirty_word_count(uint64_t set);
int emit_compare_words(uint64_t set, uint8_t **jumps);
int emit_test_words(uint64_t set, uint8_t **jumps);

/* With its upper half. */
static inline uint64_t whole_element(int element) {
    return 1ULL << element | (element >= ELEMENT_VECTOR ? 1ULL << (element + 16) : 0);
}

/* --- copies.c --- */
/* flags: they are live. */
int emit_known_origin(struct cold *c, bool flags);
void emit_known_target(struct cold *c, bool flags);
/* Finds out that a store of undefined bits has nothing to do and returns the jump to patch
   for that (flags must be dead). */
uint8_t *emit_same_store(const struct memory *m, int element, int offset);
#define WORD_MOVE_JUMPS 3
int emit_word_move(uint32_t size, uint8_t **done);
/* Loads that a store of the same register follows closely: to be told where a trace
   begins; of the load, whose check's cold pieces begin at `first`; of each store behind
   its code; and where the code of the trace has ended, for what was put off. */
void copies_forget(void);
void copy_begins(const struct instruction *load, bool flags_live, int first);
bool copy_ends(const struct instruction *store); /* whether others come here */
void emit_copies(void);

/* --- steady.c --- */
/* To be told where a trace begins, with the flags that are live before each instruction,
   and whether its end leads to its beginning; before each instruction is translated; and
   behind the trace. */
void steady_begin(const uint32_t *flags_live, bool leads_back);
void steady_step(int step);
/* Whether what a store was by way of may count as defined behind it: not in a loop that says
   otherwise. */
bool steady_agrees(const struct instruction *store);
void emit_steady(void);
/* Where the end leads back: true when it has been seen to. */
bool emit_steady_end(void);
/* Where the steady version can go on at the step: does so, but falls through where it
   cannot after all. `noted`: in code that note_place is told of. */
void emit_into_steady(int step, bool noted);
/* Whether the instruction loads what such a loop may copy, and has met undefined bits. */
bool steady_copies(const struct instruction *i);
/* Whether it is worth it though nothing is undefined at the moment. */
bool steady_is_dense(void);
/* Whether the branch, taken, leads to step 0. */
bool steady_goes_on(const struct instruction *branch);

/* --- moves.c --- */
/* Of a move from register to register all but the move itself; false: it is none of the plain ones. */
bool emit_register_move(const struct instruction *i, bool flags_live);

/* --- origins.c --- */
struct parts;
/* Before the outputs' undefined bits change: the inputs' origins become theirs. */
void emit_origins_along(const struct instruction *i, uint64_t inputs, uint64_t outputs,
                        bool flags_live);
/* Of parts put beside such of memory: behind its check, whose cold pieces begin at `first`. */
void emit_parts_beside(const struct parts *parts, int first);

/* --- plan.c --- */
uint32_t plan_make(const struct instruction *i, uint64_t possible, uint32_t live_after);

#endif

/* What the engine's rooms share. The engine is freestanding: no libc, no
   thread-local storage, general registers only (compiler extensions: inline
   assembly, __int128, atomics). `gaddr` is a guest address; everything else is
   the engine's own. All waiting is by futex. */
#ifndef TONDO_ENGINE_H
#define TONDO_ENGINE_H

#include "../core/kinds.h"
#include "../core/ledger_format.h"
#include "x86_64/context.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

typedef uint64_t gaddr;

/* --- address space (fixed; see docs/engine.md) --- */
#define GUEST_END 0x200000000000ULL
#define D_OFFSET 0x200000000000ULL
#define A_BASE 0x600000000000ULL      /* addressability: one bit for each byte */
#define A_SIZE 0x040000000000ULL
#define ORIGIN_BASE 0x640000000000ULL /* origins: a word for each 4 bytes, folded */
#define ORIGIN_SIZE 0x100000000000ULL
#define LOW_START 0x10000000ULL
#define LOW_END 0x7ff00000ULL /* modules go here: their addresses fit a displacement */
#define THUNKS 0x7ff80000ULL
#define THUNKS_SIZE 8192
#define BRK_BASE 0x010000000000ULL
#define STACK_TOP 0x1fffff000000ULL
#define MMAP_TOP 0x1f0000000000ULL
#define CACHE_BASE 0x7c0000000000ULL
#define CACHE_SIZE 0x40000000ULL
#define MAP_BASE 0x7c4000000000ULL
#define LEDGER_BASE 0x7c8000000000ULL

#define STOP_SIGNAL 32 /* of the C library's own; the engine stops threads with it */
#define SHADOW_ENTRIES (1u << 18) /* one for each call that has not returned */

struct shadow_entry {
    gaddr return_address, stack_pointer;
    uint32_t host; /* where to go on, as an offset into the code cache */
    uint32_t node; /* interned stack up to here, 0: not yet */
};

struct queued_signal {
    int number;
    char info[128];
};

/* What across.c notes at a call. */
#define ACROSS 16
#define ACROSS_REGISTERS 12
struct across {
    gaddr next, stack_pointer; /* behind the call: its address, and there */
    uint32_t count;
    struct across_register {
        uint64_t value[2], bits[2];
        uint32_t origins[4], element;
    } registers[ACROSS_REGISTERS];
};

/* A name of a stack slot that left the frame it holds in: in the same chain of calls, at the
   same instruction, it becomes the same record again (glue.S looks here). */
struct kept_name {
    gaddr pc;
    uint32_t name, unused_word;
    struct kept_level {
        gaddr return_address, stack_pointer;
        uint32_t code, node; /* the record's, where this is the frame or lies above it */
    } levels[4];
    uint64_t unused[2];
};

struct known_four { /* see CTX_FOURS */
    uint32_t old, code, which, now;
};

struct context {
    struct context *self;
    uint64_t reason, argument, target;
    struct shadow_entry *shadow;
    uint64_t canary, engine_sp, pending, fs_base, gs_base, recover, recover_sp, guest_target, cache_base;
    gaddr mark;
    uint64_t dirty; /* set of elements that may be undefined */
    uint64_t spill[16];
    uint64_t registers[16];
    uint64_t flags;
    gaddr pc;
    uint64_t signal_stack;
    gaddr mark_high, stack_low, stack_high, old_sp, flag_save;
    uint64_t a_base;
    uint64_t scratch, way, origins, twice, least;
    gaddr mark_origin;
    uint64_t odd_at;
    uint64_t recover_saved[6];
    uint64_t unset;
    const struct four *fours;
    /* not known to assembly */
    struct shadow_entry *shadow_base, *shadow_end;
    struct context *next;
    uint32_t number; /* 1: first thread */
    uint32_t tid;
    uint32_t root;   /* stack node of this thread */
    uint32_t alive, parked;
    uint64_t clear_tid; /* guest address */
    uint64_t signal_mask, saved_mask;
    bool restore_mask, rolling, in_syscall;
    bool asked_to_rest; /* by a STOP_SIGNAL that is not the guest's */
    uint32_t asked;     /* for which giving up of the cache */
    bool midway; /* CTX_TARGET is inside an instruction that must not begin again */
    uint64_t roll_mask;
    gaddr handled[8]; /* return slots of signal handlers that run, the outermost first */
    uint32_t handled_count;
    gaddr alternate_stack;
    uint64_t alternate_size;
    uint32_t alternate_disarms; /* SS_AUTODISARM */
    struct queued_signal queue[64];
    uint32_t queued;
    uint64_t robust_list, robust_size;
    void *engine_stack;
    uint64_t fault_address;
    uint32_t fault_signal;
    uint64_t clone_flags;
    const struct filter *filters; /* on its system calls, the newest first */
    bool strict;                  /* SECCOMP_MODE_STRICT */
    uint64_t refused_size;
    uint32_t call_room; /* see struct call */
    uint32_t telling; /* a signal sent for the tracer to see */
    const struct plan *compared; /* what set the flags that hold undefined bits */
    gaddr compared_at[2];        /* its memory operands */
    uint64_t compared_bits[2];   /* which of its operands' bits decided */
    uint32_t x87_origins[8]; /* of physical registers; independent of frames */
    uint32_t x87_conditions_origin;
    uint64_t mmx_bits[8];    /* of those that MMX instructions left (mmx.c) */
    uint8_t mmx_known;
    struct across across[ACROSS];
    uint32_t across_count;
    bool overwrite_told; /* a write over a return address is a finding */
    uint32_t stop_told; /* why the C library is about to stop the program is told already */
};

static inline struct context *current(void) {
    struct context *c;
    __asm__ volatile("mov %%fs:0, %0" : "=r"(c));
    return c;
}

/* --- base.c: small things --- */
long system_call(long number, ...);
void copy_bytes(void *to, const void *from, uint64_t size);
void fill_bytes(void *to, int byte, uint64_t size);
bool same_bytes(const void *a, const void *b, uint64_t size);
bool same_text(const char *a, const char *b);
uint64_t text_length(const char *s);
/* Bits set. */
int count_ones(uint64_t word);
bool has_prefix(const char *s, const char *prefix);
void copy_text(char *to, const char *from, uint64_t size);
/* printf for the engine: %s %d %u %x (64 bits each). */
int format(char *to, uint64_t size, const char *pattern, ...);
/* Cannot go on: tells the host why and ends the guest. */
_Noreturn void fail(const char *pattern, ...);
void debug(const char *pattern, ...);
struct lock {
    uint32_t word;
};
extern bool threaded; /* a second thread was started: locks matter */
void lock_take(struct lock *l);
void lock_drop(struct lock *l);
/* Engine memory near the top of the address space; zeroed; never null. */
void *engine_alloc(uint64_t size);
void engine_free(void *p, uint64_t size);

/* --- linux/memory.c: the guest's mappings --- */
struct mapping {
    gaddr start, end;
    uint32_t protection, flags;
    bool code;     /* something in it was translated */
    bool watched;  /* and its pages are write-protected for that */
    uint64_t file; /* of shared ones: which, 0 elsewhere */
    gaddr origin;  /* where its first byte would be */
};
void memory_start(void);
gaddr memory_find_gap(uint64_t size, uint64_t alignment, bool low);
void memory_note(gaddr start, uint64_t size, int protection, int flags);
void memory_forget(gaddr start, uint64_t size);
void memory_protect(gaddr start, uint64_t size, int protection);
/* Bytes of the program's own mappings and blocks; `data`: of private ones that it may
   write. What RLIMIT_AS and RLIMIT_DATA count. */
uint64_t memory_in_use(bool data);
/* The program's own limit; `data`: that on data. */
void memory_limit(bool data, uint64_t bytes);
bool memory_allows(uint64_t more, bool data);
/* The mapping that holds the address; false when nothing is mapped there. */
bool memory_lookup(gaddr address, struct mapping *out);
/* How many of the bytes from an address on are mapped in one go. */
uint64_t memory_reach(gaddr address, uint64_t size);
/* Code was translated from there; `watch`: that it changes is to be noticed. */
void memory_note_code(gaddr start, uint64_t size, bool watch);
/* A write to translated code that the guest may rewrite: lets it pass and drops
   the translations of that page. False: the address is none of these. */
bool memory_code_written(gaddr address);
/* The same before the kernel writes there for the guest. */
void memory_kernel_writes(gaddr start, uint64_t size);
/* The guest gave the contents of these pages back: they read as defined again. */
void memory_discarded(struct context *c, gaddr start, uint64_t size);
void memory_fork(bool before);
/* What the kernel has mapped outside of the guest's part goes to a place in it, which is
   returned; or a negative error. */
long memory_move_in(gaddr from, uint64_t size);
/* A shared file was mapped: the rings of io_uring are such (uring.c). */
void uring_mapped(int fd, uint64_t offset, gaddr at);
/* io_setup and io_destroy, whose context is the address of memory. */
long uring_context(uint64_t number, const uint64_t *a);
long memory_mmap(gaddr hint, uint64_t size, int protection, int flags, int fd, uint64_t offset);
long memory_munmap(gaddr start, uint64_t size);
long memory_mremap(gaddr old, uint64_t old_size, uint64_t size, int flags, gaddr wanted);
long memory_mprotect(gaddr start, uint64_t size, int protection);
long memory_brk(gaddr wanted);

/* --- linux/load.c, linux/symbols.c --- */
struct image {
    gaddr entry, base, headers;
    uint64_t header_count, header_size;
    bool dynamic, executable_stack;
};
void load_program(int fd, const char *path, struct image *image, char *interpreter,
                  uint64_t interpreter_size, bool is_interpreter);
/* A file was mapped: note it in the ledger and find the functions to replace. */
void symbols_mapped(gaddr start, uint64_t size, int fd, uint64_t offset);
void symbols_unmapped(gaddr start, uint64_t size);
void symbols_program(const char *path, gaddr bias, bool dynamic, gaddr start, gaddr end);
bool symbols_in_library_c(gaddr pc);
bool symbols_in_loader(gaddr pc);
bool symbols_installed(gaddr pc); /* code of a file in the system's folders */
bool symbols_is_system(gaddr pc); /* a library that unwinds or jumps between stacks */
bool symbols_in_module(gaddr pc); /* in a file that was mapped as code */
/* A function's entry, in a file with debug information that is not the system's (entries.c). */
bool symbols_is_entry(gaddr pc);
uint64_t symbols_file_hash(gaddr entry);  /* see ledger_file_hash, of such a file */
uint64_t symbols_answer_key(gaddr entry, uint32_t number); /* see ledger_answer; 0: in no such file */
bool symbols_is_go(gaddr pc); /* in a program of Go's compiler */
/* The load at this place feeds a scan for a byte, by vectors or by words. */
bool looks_like_scan(gaddr pc);
/* A load after which all but its first `kept` bytes are masked or shifted away. */
bool drops_beyond(gaddr pc, uint64_t kept);
/* Whether the instruction stands right behind one that moves the stack pointer, with nothing but
   plain ones in between: compilers move reads of what is given back there. */
bool room_was_given_back(gaddr pc);
/* Whether the code before takes addresses of the red zone from the one given, or lower, on: that of a
   function without a frame, which another one jumped to. */
bool red_zone_was_taken(const struct context *c, gaddr pc, gaddr address);
extern char guest_path[512], guest_command[LEDGER_COMMAND];
extern gaddr guest_auxiliary;

/* --- replaced.c, strings.c, heap.c: functions the engine does itself --- */
struct replaced;
const struct replaced *replaced_at(gaddr pc);
/* A small number for the row, and back. */
#define REPLACED_RESOLVER 0x10000u
#define REPLACED_BEYOND 0x20000u /* the count is above the target's size */
bool replaced_is_resolver(gaddr pc);
uint32_t replaced_index(const struct replaced *r);
const struct replaced *replaced_row(uint32_t index);
const struct replaced *replaced_by_name(const char *name);
const char *replaced_name(const struct replaced *r);
bool replaced_is_heap(const struct replaced *r);
bool replaced_is_operator(const struct replaced *r);
void replaced_add(gaddr pc, const struct replaced *r);
void replaced_add_resolver(gaddr pc, const struct replaced *r);
void replaced_forget(gaddr start, gaddr end);
void replaced_start(void);
/* Runs the function; on return registers hold its result and the pc is its
   return address, or the pc is the code to go on with. */
void replaced_run(struct context *c, const struct replaced *r);
/* After a fault inside one: reports it and raises the signal at its entry. */
void replaced_fault(struct context *c, const struct replaced *r);
/* The undefined bits of the result, and where they are from. */
uint64_t strings_run(struct context *c, int function, const char *name, uint32_t *origin);
/* The same for a short clean call of the commonest functions, with the guest's first
   three arguments; not done: nothing happened. */
struct quick {
    uint64_t value, done;
};
typedef struct quick quick_function(uint64_t a, uint64_t b, uint64_t n, struct context *c);
/* limited: of those that look at a text to know whether it fits; null: there is none */
quick_function *strings_quick(int function, bool limited);
/* By row of the table of replaced functions. */
bool replaced_has_quick(const struct replaced *r);
/* memcpy or memmove */
bool replaced_copies(const struct replaced *r);
/* Whether it may not be run where RDX, a count, is above RCX, the target's size. */
bool replaced_counts(const struct replaced *r);
/* Back to its caller with the result in RAX; c->target is 0 when the code there is not known. */
void replaced_leave(struct context *c);
/* Before a repeated move or store instruction: true when the ranges are short, clean
   and open, so that nothing more is to be looked at. */
bool string_quick(struct context *c, gaddr to, gaddr from, uint64_t size, bool reads);

enum { HEAP_NOTHING, HEAP_LIVE, HEAP_RETIRED, HEAP_FREE };
struct block_view {
    int state;
    gaddr start;
    uint64_t size;
    struct heap_block *block;
};
void heap_start(void);
gaddr heap_allocate(uint64_t size, uint64_t alignment, uint32_t stack, int family, bool zero);
/* The block whose slot holds the address (margins included). */
bool heap_find(gaddr address, struct block_view *view);
/* Whether the address lies in a chunk of the arena that is in use. */
bool heap_near(gaddr address);
/* The nearest block in use that ends at or before (-1) or begins after (1) it. */
bool heap_neighbour(gaddr address, int direction, struct block_view *view);
void heap_release(struct block_view *view, uint32_t stack);
void heap_fork(bool before);
uint32_t heap_forked(void);  /* a new process: returns the last number of its parent's blocks */
bool heap_has_own(void);      /* blocks in use that this process itself allocated */
extern struct heap_directory *heap;

/* --- stacks.c, findings.c --- */
extern struct ledger *ledger;
extern uint32_t process_index;
extern char ledger_path[512];
uint32_t stack_intern(uint32_t parent, gaddr pc);
uint32_t stack_root(uint32_t thread);
#define NO_LEAF (~0ULL)
/* The stack of a thread that is about to return to [rsp], under the leaf pc. */
uint32_t stack_capture(struct context *c, gaddr leaf);
struct access {
    enum finding_kind kind;
    gaddr address;  /* first byte of the whole access */
    uint64_t size;
    gaddr bad;      /* first byte that must not be touched */
    bool write;
    const char *function; /* replaced function or null */
    gaddr other;
    int used_family;
    int signal;
    uint32_t origin; /* record of the frame a stack address was part of, 0: not known */
    const char *what; /* more about it, or null */
};
void finding_report(struct context *c, gaddr pc, const struct access *access);
/* Whether it would be of code in the system's folders, at the instruction or as the caller of the
   C library. */
bool finding_is_installed(struct context *c, gaddr pc);
/* Checks a range; reports at most one finding. True when all is touchable. */
bool check_range(struct context *c, gaddr pc, gaddr address, uint64_t size, bool write,
                 const char *function);
/* Code that the program made, or mapped, for itself while running: only what it does to
   the heap is told. */
bool code_is_generated(gaddr pc);
/* Code with frames and stacks of its own kind, whose run-time system reads what nobody
   set: collectors, interpreters. No C or C++ stands behind it to be mended. */
bool code_is_managed(gaddr pc);
/* Reports an undefined value that is used; `what` says for what. What one call of an installed
   library comes upon is one finding. A number for finding_again; 0: there was no room. */
uint32_t finding_undefined(struct context *c, gaddr pc, uint32_t origin, const char *what,
                           gaddr address, uint64_t size, const char *function);
/* The same once more. */
void finding_again(uint32_t finding);
/* How often anything was found by this process, also what is told as one. */
long findings_times(void);
/* The same for a range that a function or system call `function` reads, when
   any byte of it is undefined. True when all is defined. */
bool check_defined(struct context *c, gaddr pc, gaddr address, uint64_t size, const char *what,
                   const char *function);
static inline uint8_t *shadow_of(gaddr address) {
    return (uint8_t *)(uintptr_t)(address + D_OFFSET);
}
static inline uint8_t *touch_of(gaddr address) { /* A of it and of its neighbours */
    return (uint8_t *)(uintptr_t)(A_BASE + (address >> 3));
}
static inline void *guest(gaddr address) { return (void *)(uintptr_t)address; }

/* --- shadow.c: the maps D, A and of origins, in bulk --- */
void shadow_start(void);
void shadow_fill(gaddr start, uint64_t size, uint8_t byte);
/* Forgets all about the range: touchable, defined (a fresh mapping). */
void shadow_reset(gaddr start, uint64_t size);
/* Makes whole pages undefined for nothing, by mapping the 0xFF file. */
void shadow_fresh(gaddr start, uint64_t size);
/* What was written is defined, wherever it might be written at all. */
void shadow_define(struct context *c, gaddr address, uint64_t size);
/* Moves definedness and origins along with the bytes; ranges may overlap. */
void shadow_move(struct context *c, gaddr to, gaddr from, uint64_t size);
/* The same for short copies. */
void shadow_move_few(struct context *c, gaddr to, gaddr from, uint64_t size);
/* First byte with any undefined bit, or 0. */
gaddr shadow_first_undefined(gaddr address, uint64_t size);
/* A: whole ranges, bit by bit. */
void touch_set(gaddr start, uint64_t size, bool forbidden);
void touch_fresh(gaddr start, uint64_t size, bool forbidden); /* chunks, 1 MiB aligned */
/* First byte that the running thread must not touch, or 0. */
gaddr touch_first_bad(struct context *c, gaddr address, uint64_t size, bool write);
/* The return address slot in the range that is still to be used, or 0. */
gaddr touch_return_slot(struct context *c, gaddr address, uint64_t size, bool write);
/* A translation was left in its middle, which may have had the red zone to undo: the next
   return sees to it. */
void stack_owes(struct context *c);
/* D changed there: if it is in the red zone, the next return undoes it. */
void stack_written(struct context *c, gaddr address);
/* The frame that owns a stack address was released. */
bool touch_is_released(struct context *c, gaddr address);
/* The code of an undefined byte, recorded or derived from where it lies; 0: not known. */
uint32_t origin_at(struct context *c, gaddr address);
void origin_set(struct context *c, gaddr address, uint64_t size, uint32_t origin);
/* The same by byte, at most 64; 0: the byte is defined. D is what it becomes. */
void origin_set_bytes(struct context *c, gaddr address, int size, const uint32_t *origins);
/* The origin for a word of the heap or of a stack, as it is recorded where its bytes are
   from several places, else of its first undefined byte; 0: it is defined. */
uint32_t origin_of_word(struct context *c, gaddr address);
/* The same for up to 4 bytes anywhere; the last stands for those that are missing. */
uint32_t origin_of_few(struct context *c, gaddr address, unsigned size);
/* Forgets what is recorded for a range that is used for something new. */
void origin_clear(gaddr start, uint64_t size);
/* Of what is moved as a whole the origin of each 4 bytes; those that are defined get one as
   well, and all are recorded, so that translated code finds them. Up to 32 bytes that may be
   touched; false: all of them are defined. */
bool origin_parts(struct context *c, gaddr address, uint64_t size, uint32_t *parts);
/* What is recorded for bytes of the heap that are loaded across words, some with that origin,
   without another meaning so that translated code finds it: defined words have it as well, and
   bytes that are from where they stand, in words of several origins, are from the block. */
void origin_settle(struct context *c, gaddr address, uint64_t size, uint32_t origin);
/* Bytes of the running frame that are loaded across words are parts of one variable: where
   each goes by its own place, all go by the first's from now on. */
void origin_join(struct context *c, gaddr address, uint64_t size);
/* Whether all undefined bytes there are recorded to be from where the code, which no frame's end
   changes, says. */
bool origin_is_all(gaddr address, uint64_t size, uint32_t origin);
/* The code that is recorded for a word, 0: none. */
uint32_t origin_recorded(gaddr address);
/* The code, made independent of frames that may end. */
uint32_t origin_keep(struct context *c, uint32_t origin);
/* The same of a single byte that was loaded: its neighbours may be other variables. */
uint32_t origin_keep_byte(struct context *c, uint32_t origin);
/* Of so many that were loaded together. */
uint32_t origin_keep_few(struct context *c, uint32_t origin, uint64_t size);
/* --- origin_codes.c: what the codes stand for --- */
void origin_codes_start(void);
extern const struct four *origin_fours; /* for assembly */
#define ORIGIN_OWN 0xffffffffu /* as a part: of a byte of which nothing is recorded */
/* Whether the code is one for four bytes; that of one of them as it stands there; whether
   that is ORIGIN_OWN. */
bool origin_is_by_byte(uint32_t origin);
uint32_t origin_part(uint32_t origin, uint64_t place);
bool origin_is_own(uint32_t origin, uint64_t place);
/* The code of the block around the address; 0: there is none. */
uint32_t origin_of_block(gaddr address);
/* One origin for four bytes, of which those with 0 are defined; none may be a slot's name. */
uint32_t origin_of_four(const uint32_t *of);
/* Of a word's origin that of one of its four bytes, 0: the byte's own place. */
uint32_t origin_of_byte(uint32_t origin, uint64_t place);
/* The record of the frame a stack address lies in: the innermost whose return address
   stands above; 0: not known. */
uint32_t origin_frame(struct context *c, gaddr address);
/* The record of the frame that a place below the stack pointer was last part of;
   0: not known. */
uint32_t origin_released(struct context *c, gaddr address);
/* The code of memory that is neither on the heap nor on the stack: where it was noticed. */
/* A register, by its DWARF number, that holds nothing of the function's that begins at `entry` and
   that is read at `where`. */
uint32_t origin_unset(struct context *c, gaddr where, gaddr entry, unsigned number);
uint32_t origin_elsewhere(struct context *c);
/* For tests: an origin that stands for a number from 1 on, and back; 0: it is another. */
uint32_t origin_numbered(uint8_t number);
uint8_t origin_number(struct context *c, uint32_t origin);
/* The record of an origin, made when there is none; 0: unknown. */
uint32_t origin_record(struct context *c, uint32_t origin);

/* --- x86_64/dirty.c: undefined bits of registers, while any are --- */
#define DIRTY_ALL (~0ULL)
/* Elements that mean nothing after a call of a function of the psABI. */
#define DIRTY_AFTER_CALL                                                                     \
    (DIRTY_ALL & ~(1ULL << RBX | 1ULL << RSP | 1ULL << RBP | 0xfULL << 12))
/* Words of undefined bits by register number; valid when c->dirty is not 0. */
static inline uint64_t *dirty_words(struct context *c) {
    return (uint64_t *)((char *)c + CTX_UNDEFINED);
}
static inline uint64_t *dirty_vector(struct context *c, int number) {
    return (uint64_t *)((char *)c + CTX_UNDEFINED_VECTOR + 64 * number);
}
static inline uint64_t *dirty_masks(struct context *c) {
    return (uint64_t *)((char *)c + CTX_UNDEFINED_MASKS);
}
static inline int vector_element(int number) {
    return number < 16 ? ELEMENT_VECTOR + number : ELEMENT_MORE;
}
/* Origins of each 4 bytes: of a vector's lower half those of the upper follow. */
static inline uint32_t *dirty_origins(struct context *c, int element) {
    return (uint32_t *)((char *)c + CTX_ORIGIN_OF(element));
}
/* The origin of one byte of the element, and that of the first undefined one. */
uint32_t dirty_byte_origin(struct context *c, int element, int byte);
uint32_t dirty_origin(struct context *c, int element);
/* All of the element has one origin. */
static inline void dirty_set_origin(struct context *c, int element, uint32_t origin) {
    uint64_t *words = (uint64_t *)dirty_origins(c, element), twice = origin | (uint64_t)origin << 32;
    words[0] = words[1] = twice;
    if (element >= ELEMENT_VECTOR && element < ELEMENT_UPPER)
        words[2] = words[3] = twice;
}
/* Notes the undefined bits of these elements at a call that comes back to `next`
   (across.c). */
void across_keep(struct context *c, gaddr next, uint64_t set);
/* Behind a call: puts back what was noted there, if anything was. */
void across_return(struct context *c);
/* Those of c->dirty that really hold an undefined bit. */
uint64_t dirty_now(struct context *c);
/* Makes these elements defined. */
void dirty_clear(struct context *c, uint64_t elements);
/* Of the registers of AVX-512, what means nothing after a return to that place (psABI: all but the
   first two vectors) and is read neither there nor behind the calls that have not returned yet. */
void dirty_returned(struct context *c, gaddr to);
/* Parts of the processor's state by their numbers (SDM volume 1, 13.1) that are
   undefined bits of shared elements: where one lies in an XSAVE area, in bytes, and its
   undefined bits, of which each register's take `size` bytes of the `step` they are
   apart in the context. `compact`: the packed form, of the parts `wanted`. */
struct state_part {
    uint64_t offset;
    uint8_t *bits;
    uint32_t size, step, count;
    int element;
};
enum { STATE_PARTS = 3 };
/* The offset is 0 where the processor has no such part or it is not wanted. */
struct state_part state_part(struct context *c, int number, bool compact, uint64_t wanted);
/* Code of the dirty version for the address, for at least these elements. */
uint64_t dirty_lookup(struct context *c, gaddr pc, uint64_t elements, bool anew);
/* What EXIT_UNDEFINED asks for. */
struct plan;
void evaluate(struct context *c, const struct plan *plan);

/* --- x86_64: translation and the code cache --- */
int recover_enter(struct context *c) __attribute__((returns_twice));
void cache_start(void);
/* Code for the guest address, translated if need be; 0: not executable. */
uint64_t cache_lookup(struct context *c, gaddr pc);
/* Drops everything translated from the range. */
void cache_invalidate(gaddr start, gaddr end);
struct site {
    gaddr pc;
    uint32_t spilled; /* registers whose guest value is in the spill slots */
    bool exact;       /* host address is where the instruction begins */
};
/* The guest instruction a code-cache address belongs to. */
bool cache_site(uint64_t host, struct site *site);
/* Around a fork: no other thread may be at work on the cache. */
void cache_fork(bool begin);
void cache_child(void);
/* A thread gives the cache up and waits for the others to rest. */
bool cache_is_flushing(void);
/* Lets it, where nothing of the cache is kept. */
void cache_rest(struct context *c);
bool cache_contains(uint64_t host);
void dispatch(struct context *c);
/* True: on with CTX_TARGET, signals wait until the instruction is done. */
bool dispatch_pending(struct context *c);
/* Registers as the guest would see them at a fault inside the cache. */
gaddr operand_address(struct context *c, gaddr pc, int which, uint64_t *size, bool *write);
void emulate(struct context *c, gaddr pc);
/* The same operand again, exactly; true when undefined bytes are to be read.
   trusted: code that goes on from here relies on D = 0 for the operand. */
enum checked { CHECKED_FINE, CHECKED_UNDEFINED, CHECKED_TOLD };
enum checked check_instruction(struct context *c, gaddr pc, bool trusted);
/* A repeated move or store about to begin; see STRING_* in cache.h. */
void check_string(struct context *c, uint32_t how);
/* What the faulting instruction tried: address, size, direction. */
void describe_fault(struct context *c, gaddr pc, struct access *access);
/* A division failed: tells of an undefined divisor or dividend. */
void describe_division(struct context *c, gaddr pc);

/* --- linux/signals.c, threads.c, syscalls.c, views.c, limits.c,
   process.c --- */
void signals_start(void);
void signals_deliver(struct context *c); /* pending ones, at a block boundary */
/* Lets the thread step to the next boundary, where they are delivered. */
void signals_roll(struct context *c);
/* Ends the process by the signal, whatever the guest does about it. */
_Noreturn void signals_die(struct context *c, int number);
/* SIGSYS with what seccomp(2) says stands in it. */
void signals_raise_filtered(struct context *c, int error, int number);
void signals_raise(struct context *c, int number, int code, gaddr address);
/* --- linux/tracees.c --- */
extern bool process_traced; /* it asked for that itself */
/* After ptrace(2) succeeded: what it tells of registers becomes the guest's. */
void tracee_registers(uint64_t request, uint64_t pid, gaddr address, gaddr data);
/* Before the engine takes its own space: a soft limit becomes the program's alone. */
void limits_lift(void);
/* At the start of a process; `parent`: who started it, or null. */
void limits_inherit(const struct ledger_process *parent);
bool limits_have(uint64_t resource);
/* prlimit(2) on the process itself. */
long limits_call(uint64_t resource, gaddr new_limit, gaddr old_limit);
/* Hands the soft limits to the kernel for a program that runs without the engine; takes
   them back when it did not start. */
void limits_apply(bool apply);
/* Signals that the program handles, bit number - 1 each. */
uint64_t signals_caught(void);
/* The auxiliary vector as the program got it, with its end; size in bytes. */
const void *start_auxiliary(uint64_t *size);
/* After an open: what the program reads from the descriptor instead, where the file would
   tell of the engine. Returns fd. */
long view_opened(const char *path, long fd);
long signals_action(int number, gaddr action, gaddr old, uint64_t size);
long signals_mask(struct context *c, int how, gaddr set, gaddr old, uint64_t size);
long signals_alternate(struct context *c, gaddr new_stack, gaddr old_stack);
void signals_return(struct context *c);
/* Handlers whose return slots lie between were left by a jump. */
void signals_left(struct context *c, gaddr low, gaddr high);
/* Where the program was when the handler came whose return slot is there. */
gaddr signals_interrupted(gaddr slot);
void signals_real_mask(struct context *c);
bool signals_restarts(struct context *c);
void signals_thread_stack(struct context *c);
void signals_forked(struct context *c);
bool signals_deliverable(struct context *c);
/* `pending` becomes what it should be now; a signal that comes meanwhile is not lost, for it
   sets `pending` itself. */
void signals_settle(struct context *c);
void signals_keep(bool restore);
struct context *context_new(void);
void thread_start(struct context *c);
void threads_stop_others(struct context *c);
extern struct context *threads;
extern struct lock threads_lock;
extern bool memory_is_shared; /* with another process, which cannot be asked to rest */
extern uint32_t stopping;
/* Shares the memory, but is a process of its own (vfork, clone without THREAD). */
bool thread_is_process(const struct context *c);
long thread_clone(struct context *c, uint64_t flags, gaddr stack, gaddr parent_tid,
                  gaddr child_tid, gaddr tls);
void syscall_run(struct context *c);
/* A call's effects on guest memory: before it (inputs are checked) and when it is
   done, with its result (what it wrote is defined). */
/* --- filter.c --- */
/* Whether the guest's own filters let the call through; if not, its result, or
   *moved when a signal took over. Does not return when they kill. */
bool filter_allows(struct context *c, uint64_t number, const uint64_t *a, long *result,
                   bool *moved);
long filter_seccomp(struct context *c, uint64_t operation, uint64_t flags, gaddr argument);
long filter_prctl(struct context *c, uint64_t option, uint64_t mode, gaddr argument);
/* Another program follows: the kernel is to apply them from now on. */
void filter_hand_on(struct context *c);

/* --- descriptors.c --- */
void descriptor_opened(struct context *c, gaddr pc, uint64_t fd);
void descriptors_closed(struct context *c, gaddr pc, uint64_t first, uint64_t last);
/* A call of close failed: the number was not open. */
void descriptor_not_open(struct context *c, gaddr pc, uint64_t fd);
void descriptors_forked(void);
/* At exit: records those that are still open. */
void descriptors_report(void);

/* Before and behind a call. False: it is not to be made, but fails with EFAULT, for it was given an
   address beyond all memory that the program may have. */
bool syscall_effects(struct context *c, uint64_t number, const uint64_t *arguments, bool done,
                     long result);
/* The guest is about to end: lets the host search the heap. */
void process_finish(struct context *c, int status, int signal);
/* Asks the host about the function (see ledger_question), 0: not known. */
uint64_t process_ask(gaddr entry, uint32_t number);
long process_execute(struct context *c, int directory, gaddr path, gaddr arguments,
                     gaddr environment, int flags);
void process_thread_began(struct context *c);
void process_thread_ended(struct context *c);
/* Whether the kernel gives the next program executed the same addresses each time. */
void process_fix_addresses(bool fixed);
void process_start_keeper(void);
void process_start(struct context *c, uint32_t parent, bool forked);

#endif

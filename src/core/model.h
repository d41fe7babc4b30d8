/* The finding model: what a run found, independent of how it was found and how
   it is shown. Strings are owned by the run's pool and die with it. */
#ifndef TONDO_MODEL_H
#define TONDO_MODEL_H

#include "kinds.h"

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

struct frame {
    const char *function; /* null: unknown */
    const char *file;     /* absolute, null: unknown */
    const char *module;   /* absolute path of the ELF file, null: unknown */
    uint64_t address;     /* guest address */
    int line, column;     /* 0: unknown */
    bool inlined;
    bool own; /* code the user can fix: outside the system's folders */
};

struct stack {
    struct frame *frames; /* innermost first */
    int count;
};

enum where { WHERE_UNKNOWN, WHERE_BEFORE, WHERE_INSIDE, WHERE_AFTER };
enum leak_class { LEAK_UNREACHABLE, LEAK_DEPENDENT, LEAK_INTERIOR, LEAK_REACHABLE, LEAK_CLASSES };

enum origin_from { FROM_NOWHERE, FROM_HEAP, FROM_STACK, FROM_OTHER };

/* A local variable or parameter, as its debugging information has it. */
struct variable {
    const char *name; /* null: unknown */
    const char *file; /* where it is declared */
    int line;
    uint64_t size;  /* bytes; 0: not known */
    int64_t offset; /* of the place in question from its first byte */
    int outward;    /* frames, inlined, before that of the function whose it is */
};

/* How often a finding was met in one process. */
struct share {
    uint32_t pid;
    uint64_t count;
};

struct finding {
    char id[17];
    int number; /* as reports count open findings, from 1; 0: not open */
    enum finding_kind kind;
    uint64_t count;
    uint32_t pid, thread;
    bool has_access, write;
    uint64_t address, size; /* guest address, bytes */
    uint64_t other_address;
    const char *message;
    const char *function; /* the replaced function it happened in, or null */
    const char *suppressed_by;
    struct stack stack;
    bool has_block, has_freed;
    uint64_t block_start, block_size;
    int64_t block_offset; /* bytes from the block's first */
    enum where where;
    struct stack allocated, freed; /* double-close: opened, and closed before */
    const char *what; /* what an undefined value was used for, why an access is invalid, or null */
    enum origin_from origin; /* of an undefined value */
    struct variable variable; /* the origin on the stack, or the one an access met */
    struct stack origin_stack; /* the allocation, or the frame of the variable */
    uint64_t origin_size; /* bytes of the block */
    enum leak_class leak;
    uint64_t blocks, bytes, dependent_blocks, dependent_bytes;
    bool has_descriptor;
    int descriptor;   /* the first of `count` that were opened there */
    const char *path; /* what it is open on */
    struct share *shares; /* when it was met in several processes, else null */
    size_t share_count;
};

enum process_end { END_EXIT, END_SIGNAL, END_REPLACED, END_RUNNING, END_LOST };

/* An instrumented process of the run. */
struct process {
    uint32_t pid;
    int parent; /* index of the nearest instrumented ancestor, -1: none */
    const char *program, *command;
    enum process_end end; /* replaced: went on as another program; lost: killed unseen */
    int status, signal;
    bool forked; /* began as a copy of its parent, not as a program */
};

struct tally {
    uint64_t blocks, bytes;
};

/* The live heap at one moment. */
struct sample {
    double at; /* seconds since the start */
    uint64_t bytes, blocks;
};

/* An allocation stack and what it held: at the peak; or at a quarter of the run
   (`from`) and at its end. */
struct holding {
    struct stack stack;
    uint64_t from, bytes;
};

struct run {
    const char *program, *directory, *started; /* started: RFC 3339 */
    const char **arguments;
    int argument_count;
    uint32_t pid;
    double seconds;
    int status, signal; /* signal 0: it exited with status */
    uint64_t allocations, frees, allocated_bytes, peak_bytes;
    struct tally live, leaks[LEAK_CLASSES];
    struct sample *samples;
    size_t sample_count;
    double peak_at; /* seconds; of the snapshot in `peak` */
    uint64_t peak_seen; /* bytes at that moment: near the true peak */
    struct holding *peak, *growing; /* the largest first */
    size_t peak_count, growing_count;
    bool incomplete; /* something did not fit into the ledger */
    bool searched; /* the heap search was done */
    struct process *processes; /* in the order they began; the first is the program */
    size_t process_count;
    struct finding *findings; /* `count` of them, then `kept` about what is pointed to at exit */
    size_t count, kept, capacity;
    struct pool *pool;
};

/* An arena of strings and arrays. */
struct pool *pool_new(void);
void pool_free(struct pool *pool);
void *pool_take(struct pool *pool, size_t size);
/* What the other one owns is the first one's from now on. */
void pool_join(struct pool *pool, struct pool *other);
const char *pool_text(struct pool *pool, const char *text); /* null stays null */
const char *pool_format(struct pool *pool, const char *pattern, ...)
    __attribute__((format(printf, 2, 3)));

struct run *run_new(void);
void run_free(struct run *run);
/* A zeroed finding at the end of the run. The pointer lives until the next. */
struct finding *run_add(struct run *run);
/* Findings that are not suppressed; with occurrences, their counts added up. */
uint64_t run_open(const struct run *run);
uint64_t run_occurrences(const struct run *run);
uint64_t run_suppressed(const struct run *run);
/* Joins findings with the same kind and the same lines, orders them (accesses
   as they came, leaks largest first) and gives them their ids and messages. */
void run_settle(struct run *run);
/* Numbers the open findings; after rules were applied, before filters. */
void run_number(struct run *run);
/* The open finding of that number as reports count them (from 1), or of that id;
   null: none. */
const struct finding *run_finding(const struct run *run, const char *number);
/* Makes what is pointed to at exit count as findings. */
void run_count_reachable(struct run *run);

const char *end_name(enum process_end end);
/* Findings that are not suppressed and were met in the process. */
uint64_t run_open_in(const struct run *run, uint32_t pid);

const char *origin_name(enum origin_from from);
const char *leak_class_name(enum leak_class leak);
/* Whether the program was stopped by its own means where something was written beyond the end of
   its target: by a C library function that knows the target's size, before it writes (`room`, if
   not null, becomes that size in bytes); by one further inside; by the number of a descriptor that a
   set has no room for; or by the guard of a stack frame when its function returned. */
enum stopped { STOPPED_NOT, STOPPED_BEFORE, STOPPED_INSIDE, STOPPED_AT_SET, STOPPED_AT_RETURN };
enum stopped finding_stopped(const struct finding *finding, uint64_t *room);
/* Whether an access began inside its block and went on behind it. */
bool finding_reaches_out(const struct finding *finding);
/* Whether an invalid access failed only because its address is no multiple of what the
   instruction wants. */
bool finding_is_misaligned(const struct finding *finding);
/* The frame a user would look at: the innermost of their own code, or null. */
const struct frame *stack_site(const struct stack *stack);
/* Whether a path lies in one of the system's folders. */
bool path_is_system(const char *path);
/* "12 bytes", "1 block": counts with their unit, English plural. */
const char *quantity(char *to, size_t size, uint64_t n, const char *unit);

#endif

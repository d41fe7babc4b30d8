/* The ledger: one shared memory file that every instrumented process of a run
   appends to and that the host reads, also after the guest was killed.
   Everything is append-only and lock-free: a record is taken by an atomic add
   and made visible by its `ready` word, so a process may die at any point.
   The host treats all of it as untrusted input. */
#ifndef TONDO_LEDGER_FORMAT_H
#define TONDO_LEDGER_FORMAT_H

#include <stdint.h>

#define LEDGER_MAGIC 0x31306f646e6f74ULL /* "tondo01" */
#define LEDGER_NODES (1u << 23)
#define LEDGER_BUCKETS (1u << 20)
#define LEDGER_FINDINGS 16384u
#define LEDGER_MODULES 16384u
#define LEDGER_PROCESSES 16384u
#define LEDGER_NAMES 16384u
#define LEDGER_ORIGINS 65536u
#define LEDGER_SITES (1u << 18)
#define LEDGER_DESCRIPTORS 4096u
#define LEDGER_PATH 232
#define LEDGER_COMMAND 512

/* One frame of an interned call stack; parent 0 is the outside. A root node
   (parent 0) carries process << 32 | thread instead of a program counter. */
struct ledger_node {
    uint32_t parent;
    uint32_t next; /* chain of one hash bucket */
    uint64_t pc;
};

/* A file mapped into a guest, as long as the guest lived. */
struct ledger_module {
    uint32_t ready;
    uint32_t process;
    uint64_t start, end; /* guest addresses */
    uint64_t bias;       /* load address - link address */
    char path[LEDGER_PATH];
};

/* What one allocation stack of one process holds now. Written by that process
   alone, under its heap lock. Site 0 stands for none. */
struct ledger_site {
    uint32_t node, process;
    uint64_t live_blocks, live_bytes;
};

/* The name a replaced function goes by in reports. */
struct ledger_name {
    uint32_t ready;
    uint32_t process;
    uint64_t pc;
    uint64_t real; /* where the code is, if the pc is a stand-in */
    char name[40];
};

/* Where an undefined value came to be. */
enum ledger_origin_kind {
    ORIGIN_UNKNOWN,
    ORIGIN_HEAP,
    ORIGIN_STACK,
    ORIGIN_OTHER,
    /* a local variable in a register; stack: from where it is read, offset: the entry of its
       function, frame: the register's number (DWARF) */
    ORIGIN_REGISTER
};
#define LEDGER_NO_POINTER INT64_MIN /* where the stack pointer stood is not known */

struct ledger_origin {
    uint32_t ready;
    uint32_t kind;   /* enum ledger_origin_kind */
    uint32_t stack;  /* node: the allocation, or the frame that owns the variable */
    uint32_t next;   /* chain of one hash bucket */
    int64_t offset;  /* from the canonical frame address (DWARF); from the block's start */
    int64_t pointer; /* the stack pointer's, from the same */
    int64_t frame;   /* the frame pointer's, where the function has one; 0: not known */
    uint64_t block_size;
    uint32_t behind_call; /* 1: the frame's code is known by a return address */
};

enum ledger_where { LEDGER_NOWHERE, LEDGER_BEFORE, LEDGER_INSIDE, LEDGER_AFTER };

struct ledger_finding {
    uint32_t ready;
    uint32_t kind; /* enum finding_kind */
    uint32_t process, thread;
    uint64_t count;
    uint64_t access_address, access_size; /* bytes */
    uint32_t access_write;
    uint32_t stack; /* node; the innermost frame is the access itself */
    uint32_t block_known;
    uint32_t block_where; /* enum ledger_where */
    uint64_t block_start, block_size;
    int64_t block_offset;
    uint32_t block_allocated, block_freed; /* nodes, 0: none */
    uint32_t block_family, used_family;    /* enum heap_family */
    uint64_t other_address;                /* overlapping copies: the source */
    uint32_t key;                          /* next in the chain of one hash bucket */
    uint32_t signal;
    uint32_t caller; /* node outside the C library, by which calls into it are told apart */
    uint32_t origin; /* record, 0: none */
    char what[64];   /* of an undefined value: what it was used for */
    char function[48];                     /* replaced function that was called, or "" */
};

/* A file descriptor that was open at exit. */
struct ledger_descriptor {
    uint32_t ready;
    uint32_t process, number, stack; /* stack: node of the call that opened it */
    uint32_t closed, again, count;   /* nodes of two calls that closed it, 0: it is open */
    char path[LEDGER_PATH];
};

enum ledger_state {
    LEDGER_UNUSED,
    LEDGER_RUNNING,
    LEDGER_SEARCH,   /* stopped at its exit, waits for the heap search */
    LEDGER_RELEASED, /* the host has what it wants */
    LEDGER_REPLACED, /* the process went on as another program */
};

#define LEDGER_THREADS 512
struct ledger_thread {
    uint64_t stack_pointer;
    uint64_t registers[16];
    uint64_t fs_base;
    uint64_t alternate_stack; /* known to the kernel only */
};

#define LEDGER_DEAD_STACKS 64
struct ledger_process {
    uint32_t ready;
    uint32_t state; /* enum ledger_state, futex */
    uint32_t pid, parent; /* parent: process index + 1 */
    uint32_t image;       /* process index whose modules apply (a fork shares them) */
    uint32_t forked;
    uint32_t first_sequence; /* blocks with a lower number belong to the parent */
    int32_t exit_status, exit_signal;
    uint32_t finished; /* these two hold */
    uint64_t allocations, frees, allocated_bytes, peak_bytes, live_bytes, live_blocks;
    uint64_t heap_directory; /* address of struct heap_directory in the process */
    uint32_t keeper; /* process that keeps the memory after a sudden death, 0: none */
    uint32_t thread_count;
    uint32_t search_wanted;
    uint32_t limited; /* those that the program set itself: 1 space, 2 data */
    uint64_t limits[2][2]; /* of space and data: bytes, soft and hard */
    uint32_t silent; /* of the system, run only to find what it starts: no findings */
    struct ledger_thread threads[LEDGER_THREADS];
    uint32_t dead_stack_count;
    uint64_t dead_stacks[LEDGER_DEAD_STACKS][2]; /* of ended threads: [low, high) is garbage */
    char program[LEDGER_PATH];
    char command[LEDGER_COMMAND]; /* its arguments, blanks between them, cut where there is no room */
};

/* Where reading another process's memory is forbidden the host asks for it: the stopped
   process copies a piece into the ledger itself. */
enum hand_over_state {
    HAND_OVER_NOTHING,
    HAND_OVER_ASKED,
    HAND_OVER_TAKEN, /* the process itself and the one that keeps its memory both see it */
    HAND_OVER_DONE,
    HAND_OVER_FAILED
};
struct ledger_hand_over {
    uint32_t state; /* enum hand_over_state, futex */
    uint32_t process;
    uint64_t address, size; /* at most LEDGER_PIECE bytes */
};
#define LEDGER_PIECE (1u << 18)

/* What a process asks of a function that it translates, one question at a time. */
enum question_state { QUESTION_NONE, QUESTION_TAKEN, QUESTION_ASKED, QUESTION_ANSWERED };
struct ledger_question {
    uint32_t state; /* enum question_state in the lowest bits, a number above; futex */
    uint32_t process;
    uint32_t number; /* 0: what it takes and returns, else its fresh room of that number, from 1 on */
    uint64_t entry;  /* guest address */
    uint64_t file;   /* the file's hash: it may have been replaced */
    uint64_t answer;
};
#define QUESTION_STATES 3u /* bits of the state */
/* Answers given, and those that the next questions would get; by key, open addressing in a few
   slots. */
#define LEDGER_ANSWERS (1u << 16)
#define LEDGER_ANSWER_SLOTS 8
struct ledger_answer {
    uint64_t key; /* 0: free; written last */
    uint64_t answer;
};
/* Of a file's number, size in bytes and time of its last change (stat(2)). */
static inline uint64_t ledger_file_hash(uint64_t number, uint64_t size, uint64_t seconds,
                                        uint64_t nanoseconds) {
    const uint64_t all[] = {number, size, seconds, nanoseconds};
    uint64_t h = 0xcbf29ce484222325ull; /* FNV-1a, by words */
    for (unsigned i = 0; i < sizeof all / sizeof *all; i++) {
        h = (h ^ all[i]) * 0x100000001b3ull;
        h ^= h >> 29;
    }
    return h;
}
static inline uint64_t ledger_answer_key(uint64_t file_hash, uint64_t link_address, uint32_t number) {
    uint64_t key = (file_hash ^ link_address) * 0x9e3779b97f4a7c15ull;
    key = (key ^ key >> 32) + number * 0xc2b2ae3d27d4eb4full;
    key ^= key >> 32;
    return key ? key : 1;
}
/* The answer to 0: general registers that it takes arguments in, by their numbers in instructions;
   from this bit on vectors; then */
#define QUESTION_VECTORS 16
#define QUESTION_RETURNS (1ull << 62) /* it returns something in RAX */
#define QUESTION_KNOWN (1ull << 63)   /* else nothing of this is known */
/* To other numbers, 0 behind the last: bytes of a local variable, whose room was another's; how far
   below the canonical frame address it begins; and how far behind the entry the instruction is from
   which on it holds nothing. Each in so many bits, in this order; */
#define QUESTION_ROOM_BITS 21
#define QUESTION_BY_POINTER (1ull << 63) /* below the frame pointer instead */
#define QUESTION_ROOMS 255 /* at most */

/* The whole file. */
struct ledger {
    uint64_t magic;
    uint32_t host_pid;
    uint32_t event; /* futex, bumped by guests and by the host's child handler */
    uint32_t next_node, next_finding, next_module, next_process, next_name, next_origin;
    uint32_t next_descriptor, next_site;
    uint32_t overflow; /* something did not fit */
    uint32_t failure;  /* engine could not go on, text below */
    char failure_text[500];
    /* settings, written by the host before the start */
    uint64_t retirement_bytes;
    uint32_t follow; /* enum follow */
    uint32_t leak_search;
    uint32_t fixed_addresses; /* the user's own choice: programs keep it (personality(2)) */
    uint32_t test_door; /* tests may read and set D by a system call of their own */
    char engine_path[512];
    char follower_path[512];
    /* all 0xFF, written by the host: shadow of memory that nobody may touch is
       mapped privately from here and costs nothing until it changes */
    _Alignas(4096) unsigned char untouchable[1u << 20];
    struct ledger_hand_over hand_over;
    struct ledger_question question;
    struct ledger_answer answers[LEDGER_ANSWERS];
    _Alignas(4096) unsigned char piece[LEDGER_PIECE];
    uint32_t buckets[LEDGER_BUCKETS];
    uint32_t finding_buckets[4096];
    uint32_t origin_buckets[4096];
    struct ledger_origin origins[LEDGER_ORIGINS];
    struct ledger_node nodes[LEDGER_NODES];
    uint32_t site_of[LEDGER_NODES]; /* by node, 0: none yet */
    struct ledger_site sites[LEDGER_SITES];
    struct ledger_finding findings[LEDGER_FINDINGS];
    struct ledger_module modules[LEDGER_MODULES];
    struct ledger_name names[LEDGER_NAMES];
    struct ledger_descriptor descriptors[LEDGER_DESCRIPTORS];
    struct ledger_process processes[LEDGER_PROCESSES];
};

enum follow { FOLLOW_OWN, FOLLOW_ALL, FOLLOW_NONE };

/* How the engine's heap describes itself to the host, read from the stopped
   guest. The arena is cut into chunks; a chunk belongs to one size class or to
   one large block. */
#define HEAP_BASE 0x0a0000000000ULL
#define HEAP_CHUNK_SHIFT 20
#define HEAP_CHUNKS (1u << 20) /* 1 TiB of arena */

enum heap_family {
    FAMILY_NONE,
    FAMILY_MALLOC,
    FAMILY_NEW,
    FAMILY_NEW_ARRAY,
    FAMILY_ALIGNED_NEW,
    FAMILY_ALIGNED_NEW_ARRAY,
    FAMILY_ANY, /* one function under the names of several families */
};

enum block_state { BLOCK_UNUSED, BLOCK_LIVE, BLOCK_RETIRED, BLOCK_FREE };

struct heap_block {
    uint32_t size; /* bytes; of a large block, see its chunk */
    uint32_t lead; /* from the slot's start to the user's first byte */
    uint32_t allocated, freed; /* stack nodes */
    uint32_t sequence;
    uint8_t state, family;
    uint16_t spare;
};

struct heap_chunk {
    uint64_t blocks;    /* engine address of struct heap_block[count] */
    uint64_t size;      /* large: the user's size in bytes */
    uint32_t slot_size; /* bytes; 0: large */
    uint32_t count;     /* slots handed out so far */
    uint32_t span;      /* chunks this one stands for; 0: continuation */
    uint32_t head;      /* index of the first chunk of a large block */
    uint32_t capacity;
    uint64_t reciprocal; /* 2^40 / slot_size, rounded up: see heap_slot */
};

/* The number of the slot that holds a byte of a chunk, as exact as a division: offsets are
   below 2^20, so that what the rounding adds stays below 2^-20 and under any 1 / slot_size. */
static inline uint32_t heap_slot(const struct heap_chunk *chunk, uint32_t offset) {
    return (uint32_t)(offset * chunk->reciprocal >> 40);
}

struct heap_directory {
    uint64_t base;
    uint32_t chunk_count;
    uint32_t spare;
    struct heap_chunk chunks[];
};

#endif

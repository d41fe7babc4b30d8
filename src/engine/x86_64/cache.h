/* The code cache as the translator and the dispatcher see it. */
#ifndef TONDO_CACHE_H
#define TONDO_CACHE_H

#include "emit.h"

struct cache {
    uint8_t *at, *cold; /* next free byte of code, and of code that is seldom run */
    uint8_t *exits[EXIT_LAST + 1]; /* doors by reason */
    uint8_t *landing;   /* stands for every landing that was given up */
    uint8_t *first;     /* code begins */
    uint64_t dropped;   /* bytes of code that was dropped */
    uint32_t flushing;
    uint32_t paged_count, forward_count, link_count, site_count, block_count, check_count, plan_count, version_count,
        return_count;
    struct lock lock;
    /* The guest has AVX-512 in its code: whole vectors are 64 bytes from now on, and
       those of mask registers 8. */
    bool wide, wide_masks, outdated;
};
extern struct cache cache;

struct cache_link {
    uint32_t target_low;
    uint16_t target_high;
    uint16_t possible; /* number of a set; between dirty versions: what may be undefined on the way */
    uint32_t patch;    /* offset of the 32-bit displacement to set */
};
static inline gaddr link_target(const struct cache_link *l) {
    return (gaddr)l->target_high << 32 | l->target_low;
}
/* A check that may fail: where to go on, and the jump that leads away. */
struct cache_check {
    uint32_t pc_low;
    uint16_t pc_high : 15;
    uint16_t trusted : 1; /* code behind it takes D of the operand for 0 and stores there */
    uint16_t possible;    /* number of a set */
    uint32_t resume;
    uint32_t patch : 31; /* of the jump to the dirty version; a store: 0 */
    uint32_t store : 1;  /* patch: where to go on when it was told: D stays as it is */
    uint8_t owes;        /* what the dirty version takes over (frames.c) */
};
/* Sets of elements are few: what is kept in great numbers names them by number. */
uint16_t set_number(uint64_t elements);
uint64_t set_of(uint16_t number);
/* A dirty version of the code at an address, for these elements or fewer. */
struct cache_version {
    gaddr pc : 48;
    uint64_t owes : 16; /* for those that lead here from where that is owed */
    uint64_t possible;
    uint32_t host;
    uint32_t next : 30; /* of the same hash bucket */
    uint32_t follows : 1; /* made when its first instruction was known to load undefined bits */
    uint32_t dropped : 1;
};
enum { PLACE_EXACT = 1, PLACE_ENTRY = 2 }; /* entry: other code jumps here */
struct cache_place {
    uint32_t host;
    uint32_t pc_low;
    uint16_t spilled;
    uint16_t exact : 2, pc_high : 14;
};
static inline gaddr place_pc(const struct cache_place *p) {
    return (gaddr)p->pc_high << 32 | p->pc_low;
}
static inline void place_set_pc(struct cache_place *p, gaddr pc) {
    p->pc_low = (uint32_t)pc;
    p->pc_high = (uint16_t)(pc >> 32) & 0x3fff;
}
struct cache_block {
    gaddr start, end; /* guest code it was made from */
    uint32_t host, host_end;
    bool valid;
    bool renews; /* a dirty version worth making anew when more is known to be undefined in it */
};
extern struct cache_link *cache_links;
extern struct cache_place *cache_places;
extern struct cache_block *cache_blocks;
extern struct cache_check *cache_checks;
extern struct cache_version *cache_versions;
extern struct plan *cache_plans;

/* How a repeated string instruction is told to check_string. */
#define STRING_WIDTH 15u
#define STRING_READS 16u  /* from RSI */
#define STRING_WRITES 32u /* to RDI */

#define CACHE_PAGED (1u << 24)
#define CACHE_FORWARDS (1u << 20)
#define CACHE_SETS 4096u
#define CACHE_LINKS (1u << 24)
#define CACHE_PLACES (1u << 26)
#define CACHE_BLOCKS (1u << 23)
#define CACHE_CHECKS (1u << 24)
#define CACHE_VERSIONS (1u << 22)
#define CACHE_VERSION_BUCKETS (1u << 16)
#define CACHE_PLANS (1u << 22)

/* What a set of elements adds to an address for the thread's table of dirty
   versions, whose index is the low 16 bits: high elements must reach those. */
static inline uint64_t dirty_key(uint64_t possible) {
    uint64_t key = possible * 0x9e3779b97f4a7c15ULL;
    return key ^ key >> 29 ^ key >> 47;
}

/* Files a new block under the guest pages it was made from. */
void cache_file_block(uint32_t block);
/* Code for the address, 0 when there is none. No lock needed. */
uint64_t cache_find(gaddr pc);
/* Translates one block; the caller holds the lock. 0: not executable. */
uint64_t translate(gaddr pc, bool original);
/* The same for the dirty version, in which these elements may be undefined. */
/* Marks the registers of the function it is about to enter. */
void unset_mark(struct context *c, uint32_t number);
uint64_t translate_version(gaddr pc, uint64_t possible, uint32_t owes);
/* Versions: the one for these elements or more, 0: none yet (the elements may
   have been widened); the caller holds the lock. */
uint64_t dirty_find(gaddr pc, uint64_t *elements, uint32_t owes);
void dirty_enter(gaddr pc, uint64_t elements, uint32_t owes, uint64_t host);
/* Loads that met undefined bytes: dirty versions follow them inline. */
bool dirty_site(gaddr pc);
/* Notes one; false: it was known. */
bool dirty_site_add(gaddr pc);
/* All versions are gone. */
void dirty_begin_anew(void);
void dirty_forget(gaddr pc, uint32_t host);
/* Whether a dirty version began there, and what might be undefined in it. */
bool dirty_was_version(gaddr pc, uint32_t host, uint64_t *possible, uint32_t *owes);

/* Where a branch through this place goes now, and whether the loader has bound it. */
gaddr transfer_slot(gaddr slot, bool *bound);

/* Once: it turned out that the code of this range may return flags, its translations are to
   be dropped. */
bool translate_noticed_flags(gaddr *low, gaddr *high);

/* The guest's vectors, around C that may use them. */
void vectors_save(struct context *c);
void vectors_restore(struct context *c);

/* A return's chain (returns.c): offsets of the jump behind its first piece, of the jump at
   its end and of the code that looks the way up. */
struct cache_return {
    gaddr pc;
    uint32_t first, last, generic;
    uint16_t extra; /* bytes of arguments it drops */
    uint16_t possible; /* number of a set */
    uint16_t count;    /* pieces learned */
};
extern struct cache_return *cache_returns;
#define CACHE_RETURNS (1u << 22)
/* Code that belongs to no trace, for an instruction at pc, with these registers spilled:
   where it begins. The caller holds the lock and has set up `now`. */
uint8_t *translate_begin_piece(gaddr pc, uint32_t spilled);
void translate_end_piece(void);
/* The chain did not know where to return: it does the next time, or has grown too long.
   False: the caller of old is not known, C has to return. */
bool returns_learn(struct context *c, uint32_t number);

#endif

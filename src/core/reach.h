/* Which blocks can the program still reach? A conservative mark over words, in
   time linear in the bytes scanned. No I/O: memory comes through a reader. */
#ifndef TONDO_REACH_H
#define TONDO_REACH_H

#include "model.h"

/* Slots of equal size, at regular places; a large block is a region of one. */
struct reach_region {
    uint64_t base, slot_size; /* bytes */
    uint32_t first, count;    /* blocks first .. first + count - 1 */
};

struct reach_block {
    uint64_t start, size; /* guest address, bytes */
    bool live;
    /* results */
    enum leak_class leak;
    uint32_t owner; /* for dependent blocks: the lost block they hang on */
    uint32_t tried; /* private */
};

struct reach_root {
    uint64_t start, size;
};

struct reach {
    const struct reach_region *regions; /* by address, not overlapping */
    uint32_t region_count;
    struct reach_block *blocks;
    uint32_t block_count;
    /* Copies guest memory; bytes that cannot be read come back as 0. */
    void (*read)(void *self, uint64_t address, void *to, uint64_t size);
    /* How many bytes from the address on, a multiple of 8, hold nothing but 0 for sure: memory that
       was never touched. May be null: that is not known. */
    uint64_t (*untouched)(void *self, uint64_t address, uint64_t size);
    /* Whether the address lies in a module's image (tables of virtual functions do). */
    bool (*is_static)(void *self, uint64_t address);
    /* Whether who made the block hands out pointers to that many bytes behind its first
       one, instead; may be null: nobody does. */
    bool (*hands_out)(void *self, uint32_t block, uint64_t offset);
    void *self;
    /* private */
    uint32_t *queue;
    uint32_t queued;
    uint32_t *chunks;
    uint64_t chunk_base, chunk_count;
    struct reach_root *roots;
    size_t root_count, root_room;
};

/* Prepares the index; blocks start out unmarked. */
void reach_begin(struct reach *r);
/* Everything a root range points to is kept. Addresses and size in bytes. */
void reach_root(struct reach *r, uint64_t address, uint64_t size);
/* The same for words at hand (registers). */
void reach_words(struct reach *r, const uint64_t *words, size_t count);
/* Classes and owners of all live blocks. */
void reach_finish(struct reach *r);

#endif

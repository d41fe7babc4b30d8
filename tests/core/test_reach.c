/* The search on a made-up heap. */
#include "../../src/core/reach.h"
#include "../harness/check.h"

#include <stdlib.h>

#define BASE 0x0a0000100000ULL
#define SLOT 64u

static uint64_t heap[16][SLOT / 8];
static uint64_t roots[4];
#define ROOTS 0x5000u

static void read_memory(void *self, uint64_t address, void *to, uint64_t size) {
    (void)self;
    if (address >= ROOTS && address + size <= ROOTS + sizeof roots)
        memcpy(to, (char *)roots + (address - ROOTS), size);
    else if (address >= BASE && address + size <= BASE + sizeof heap)
        memcpy(to, (char *)heap + (address - BASE), size);
    else
        memset(to, 0, size);
}

static bool is_static(void *self, uint64_t address) {
    (void)self;
    return address >= 0x400000 && address < 0x500000;
}

static uint64_t at(int slot) { return BASE + (uint64_t)slot * SLOT + 16; }
static void point(int from, int word, uint64_t to) { heap[from][2 + word] = to; }

/* A lost list whose first node comes last: each node points to the one before it. */
enum { LONG = 400000 };

static void read_list(void *self, uint64_t address, void *to, uint64_t size) {
    (void)self;
    uint64_t *words = to;
    for (uint64_t k = 0; k < size / 8; k++) {
        uint64_t from = (address + 8 * k - BASE) / SLOT;
        bool link = (address + 8 * k - BASE) % SLOT == 16 && from > 0;
        words[k] = link ? at((int)from - 1) : 0;
    }
}

static void long_list(void) {
    struct reach_region region = {BASE, SLOT, 0, LONG};
    struct reach_block *blocks = calloc(LONG, sizeof *blocks);
    for (int i = 0; i < LONG; i++)
        blocks[i] = (struct reach_block){.start = at(i), .size = 48, .live = true};
    struct reach r = {.regions = &region, .region_count = 1, .blocks = blocks, .block_count = LONG,
                      .read = read_list};
    reach_begin(&r);
    reach_finish(&r); /* quadratic, it would take minutes */
    int dependent = 0;
    for (int i = 0; i < LONG; i++)
        dependent += blocks[i].leak == LEAK_DEPENDENT && blocks[i].owner == LONG - 1;
    CHECK(dependent == LONG - 1);
    CHECK(blocks[LONG - 1].leak == LEAK_UNREACHABLE);
    free(blocks);
}

/* Roots of 64 TiB of which the last two words were ever written, at an odd place the last one. */
#define EMPTY 0x100000000000ULL
#define EMPTY_SIZE (64ULL << 40)
#define TOUCHED (EMPTY + EMPTY_SIZE - 4096)
static int reads;

static void read_sparse(void *self, uint64_t address, void *to, uint64_t size) {
    unsigned char *bytes = to;
    (void)self;
    reads++;
    memset(to, 0, size);
    uint64_t whole = at(2), odd = at(3);
    for (uint64_t k = 0; k < size; k++) {
        uint64_t a = address + k;
        if (a >= TOUCHED && a < TOUCHED + 8)
            bytes[k] = (unsigned char)(whole >> 8 * (a - TOUCHED));
        if (a >= TOUCHED - 3 + 4000 && a < TOUCHED - 3 + 4008)
            bytes[k] = (unsigned char)(odd >> 8 * (a - (TOUCHED - 3 + 4000)));
    }
}

static uint64_t never_touched(void *self, uint64_t address, uint64_t size) {
    (void)self;
    if (address < EMPTY || address >= TOUCHED)
        return 0;
    return TOUCHED - address < size ? TOUCHED - address : size;
}

static void sparse_roots(void) {
    struct reach_region region = {BASE, SLOT, 0, 5};
    struct reach_block blocks[5];
    for (int i = 0; i < 5; i++)
        blocks[i] = (struct reach_block){.start = at(i), .size = 48, .live = true};
    struct reach r = {.regions = &region, .region_count = 1, .blocks = blocks, .block_count = 5,
                      .read = read_sparse, .untouched = never_touched};
    reach_begin(&r);
    reach_root(&r, EMPTY, EMPTY_SIZE);
    reach_finish(&r);
    CHECK(blocks[1].leak == LEAK_UNREACHABLE);
    CHECK(blocks[2].leak == LEAK_REACHABLE);
    CHECK(blocks[3].leak == LEAK_REACHABLE);
    CHECK(reads < 100);
}

static bool hands_out(void *self, uint32_t block, uint64_t offset) {
    (void)self;
    return block == 3 && offset == 1;
}

static void links_and_marks(void) {
    memset(heap, 0, sizeof heap);
    memset(roots, 0, sizeof roots);
    struct reach_region region = {BASE, SLOT, 0, 16};
    struct reach_block blocks[16];
    for (int i = 0; i < 16; i++)
        blocks[i] = (struct reach_block){.start = at(i), .size = 48, .live = true};
    roots[0] = at(0) + 16; /* head of a ring of links at 16: next, previous */
    roots[1] = at(1) + 16;
    point(0, 2, at(1) + 16);
    point(0, 3, ROOTS);
    point(1, 2, ROOTS);
    point(1, 3, at(0) + 16);
    roots[2] = at(2) + 24; /* links at 24 that lead nowhere, and to one that does not know */
    point(2, 3, at(12) + 24);
    roots[3] = at(3) + 1; /* marked */
    point(3, 0, at(4) + 8);
    point(4, 1, (at(5) + 8) | 1); /* a tree: parent and colour, left, right */
    point(5, 1, 1);
    point(5, 2, at(4) + 8);
    point(4, 4, at(6) + 1); /* not one whose maker marks */
    point(4, 5, at(7) + 32);
    point(7, 3, at(7)); /* aligned by hand */
    uint64_t packed = at(8);
    memcpy((char *)&heap[7][2] + 3, &packed, 8);
    packed = at(9) + 8; /* unaligned and to the middle: nothing */
    memcpy((char *)&heap[8][2] + 11, &packed, 8);
    packed = at(10);
    memcpy((char *)&heap[8][2] + 38, &packed, 8);
    point(4, 0, at(11) + 32); /* an array of one element of 16 bytes, aligned to 32 */
    point(11, 3, 1);
    point(4, 2, at(12) + 8); /* alone in a ring whose head is a root */
    point(12, 1, ROOTS + 8);
    point(12, 2, ROOTS + 8);
    struct reach r = {.regions = &region, .region_count = 1, .blocks = blocks, .block_count = 16,
                      .read = read_memory, .is_static = is_static, .hands_out = hands_out};
    reach_begin(&r);
    reach_root(&r, ROOTS, sizeof roots);
    reach_finish(&r);
    CHECK(blocks[0].leak == LEAK_REACHABLE);
    CHECK(blocks[1].leak == LEAK_REACHABLE);
    CHECK(blocks[2].leak == LEAK_INTERIOR);
    CHECK(blocks[3].leak == LEAK_REACHABLE);
    CHECK(blocks[4].leak == LEAK_REACHABLE);
    CHECK(blocks[5].leak == LEAK_INTERIOR); /* a marked pointer to a link */
    CHECK(blocks[6].leak == LEAK_INTERIOR);
    CHECK(blocks[7].leak == LEAK_REACHABLE);
    CHECK(blocks[8].leak == LEAK_REACHABLE);
    CHECK(blocks[9].leak == LEAK_UNREACHABLE);
    CHECK(blocks[10].leak == LEAK_REACHABLE);
    CHECK(blocks[11].leak == LEAK_REACHABLE);
    CHECK(blocks[12].leak == LEAK_INTERIOR); /* the head does not point back */
    memset(heap, 0, sizeof heap);
    memset(roots, 0, sizeof roots);
}

int main(void) {
    long_list();
    sparse_roots();
    links_and_marks();
    struct reach_region region = {BASE, SLOT, 0, 16};
    struct reach_block blocks[16];
    memset(blocks, 0, sizeof blocks);
    for (int i = 0; i < 16; i++)
        blocks[i] = (struct reach_block){.start = at(i), .size = 48, .live = i != 15};
    roots[0] = at(0);      /* 0 -> 1 -> 2 reachable */
    point(0, 0, at(1));
    point(1, 3, at(2));
    point(3, 0, at(4));    /* 3 owns 4 owns 5 */
    point(4, 0, at(5));
    point(6, 0, at(7));    /* a cycle */
    point(7, 0, at(6));
    roots[1] = at(8) + 20; /* interior */
    point(8, 0, at(9));
    roots[2] = at(10) + 8; /* behind a count of 5 elements of 8 bytes */
    point(10, 0, 5);
    roots[3] = at(11) + 16; /* second base part */
    point(11, 0, 0x400100);
    point(11, 2, 0x400200);
    point(12, 0, at(12));  /* points to itself */
    point(13, 0, at(15));  /* to a freed one */
    struct reach r = {.regions = &region, .region_count = 1, .blocks = blocks, .block_count = 16,
                      .read = read_memory, .is_static = is_static};
    reach_begin(&r);
    reach_root(&r, ROOTS, sizeof roots);
    uint64_t word = at(14);
    reach_words(&r, &word, 1);
    reach_finish(&r);
    CHECK(blocks[0].leak == LEAK_REACHABLE);
    CHECK(blocks[1].leak == LEAK_REACHABLE);
    CHECK(blocks[2].leak == LEAK_REACHABLE);
    CHECK(blocks[3].leak == LEAK_UNREACHABLE);
    CHECK(blocks[4].leak == LEAK_DEPENDENT && blocks[4].owner == 3);
    CHECK(blocks[5].leak == LEAK_DEPENDENT && blocks[5].owner == 3);
    CHECK((blocks[6].leak == LEAK_UNREACHABLE) + (blocks[7].leak == LEAK_UNREACHABLE) == 1);
    CHECK(blocks[8].leak == LEAK_INTERIOR);
    CHECK(blocks[9].leak == LEAK_DEPENDENT && blocks[9].owner == 8);
    CHECK(blocks[10].leak == LEAK_REACHABLE);
    CHECK(blocks[11].leak == LEAK_REACHABLE);
    CHECK(blocks[12].leak == LEAK_UNREACHABLE);
    CHECK(blocks[13].leak == LEAK_UNREACHABLE);
    CHECK(blocks[14].leak == LEAK_REACHABLE);
    return check_end();
}

/* The search. A block is kept when a root or a kept block points to its first
   byte; a pointer into its middle keeps it too when it is one that is kept instead
   (keeps_whole). Before anything is called lost, pointers that are not aligned are
   looked for. What remains is lost; of lost blocks, those reached from another lost
   one depend on it. */
#include "reach.h"

#include <stdlib.h>
#include <string.h>

enum { NONE = UINT32_MAX };
/* So many pointers into the middle of a block are looked at more closely: texts have
   millions. */
#define TRIES 4096

#define CHUNK_SHIFT 20

void reach_begin(struct reach *r) {
    r->queue = malloc((r->block_count + 1) * sizeof *r->queue);
    r->queued = 0;
    r->chunk_base = r->region_count ? r->regions[0].base >> CHUNK_SHIFT : 0;
    const struct reach_region *last = &r->regions[r->region_count ? r->region_count - 1 : 0];
    uint64_t end = r->region_count ? last->base + last->slot_size * last->count : 0;
    r->chunk_count = r->region_count ? (end >> CHUNK_SHIFT) - r->chunk_base + 1 : 0;
    r->chunks = malloc((r->chunk_count + 1) * sizeof *r->chunks);
    for (uint64_t i = 0; i <= r->chunk_count; i++)
        r->chunks[i] = NONE;
    for (uint32_t i = 0; i < r->region_count; i++) {
        const struct reach_region *g = &r->regions[i];
        uint64_t a = (g->base >> CHUNK_SHIFT) - r->chunk_base;
        uint64_t b = ((g->base + g->slot_size * g->count - 1) >> CHUNK_SHIFT) - r->chunk_base;
        for (; a <= b && a < r->chunk_count; a++)
            r->chunks[a] = i;
    }
    for (uint32_t i = 0; i < r->block_count; i++) {
        r->blocks[i].leak = LEAK_CLASSES;
        r->blocks[i].owner = NONE;
    }
}

/* The live block the address lies in (its end counts for blocks of size 0). */
static uint32_t block_at(const struct reach *r, uint64_t address) {
    uint64_t chunk = (address >> CHUNK_SHIFT) - r->chunk_base;
    if (chunk >= r->chunk_count || r->chunks[chunk] == NONE)
        return NONE;
    const struct reach_region *g = &r->regions[r->chunks[chunk]];
    if (address < g->base)
        return NONE;
    uint64_t slot = (address - g->base) / g->slot_size;
    if (slot >= g->count)
        return NONE;
    uint32_t i = g->first + (uint32_t)slot;
    const struct reach_block *b = &r->blocks[i];
    if (!b->live || address < b->start || (address >= b->start + b->size && address != b->start))
        return NONE;
    return i;
}

static uint64_t word_at(const struct reach *r, uint64_t address) {
    uint64_t word = 0;
    r->read(r->self, address, &word, sizeof word);
    return word;
}

static bool in_root(const struct reach *r, uint64_t address) {
    for (size_t i = 0; i < r->root_count; i++)
        if (address >= r->roots[i].start && address - r->roots[i].start < r->roots[i].size)
            return true;
    return false;
}

/* Lists and trees whose links lie in the middle of their elements ("intrusive"): two links
   that point to each other. A link is up to three words (next and previous; parent and two
   children), whose lowest two bits may be marks. */
static bool is_link(const struct reach *r, const struct reach_block *b, uint64_t address) {
    enum { WORDS = 3 };
    const uint64_t marks = 3;
    uint64_t link[WORDS] = {0}, other[WORDS];
    uint64_t rest = b->start + b->size - address;
    if (address % 8)
        return false;
    r->read(r->self, address, link, rest < sizeof link ? rest & ~(uint64_t)7 : sizeof link);
    for (int i = 0; i < WORDS; i++) {
        uint64_t to = link[i] & ~marks;
        if (!to || to % 8 || to == address ||
            (block_at(r, to) == NONE && !in_root(r, to)))
            continue;
        r->read(r->self, to, other, sizeof other);
        for (int k = 0; k < WORDS; k++)
            if ((other[k] & ~marks) == address)
                return true;
    }
    return false;
}

/* Pointers into the middle that are kept instead of the first byte: what the maker hands
   out, and by C++ to the first element behind an array's count, and to a base class part,
   which has a table of virtual functions of its own as the whole object has. */
static bool keeps_whole(const struct reach *r, const struct reach_block *b, uint64_t address) {
    uint64_t offset = address - b->start;
    if (r->hands_out && r->hands_out(r->self, (uint32_t)(b - r->blocks), offset))
        return true;
    if (offset % 8 == 0 && word_at(r, address - 8) == b->start)
        return true; /* aligned by hand: the way back stands before it */
    if (offset >= 8 && !(offset & (offset - 1))) { /* an element's alignment, at least 8 */
        uint64_t n = word_at(r, address - 8);
        uint64_t rest = b->size - offset;
        if (n && n <= rest && rest % n == 0)
            return true;
    }
    if (offset % 8 == 0 && b->size - offset >= 8 && r->is_static) {
        uint64_t whole = word_at(r, b->start), part = word_at(r, address);
        if (whole && part && r->is_static(r->self, whole) && r->is_static(r->self, part))
            return true;
    }
    return is_link(r, b, address);
}

static void follow_word(struct reach *r, uint64_t word) {
    uint32_t i = block_at(r, word);
    if (i == NONE)
        return;
    struct reach_block *b = &r->blocks[i];
    if (b->leak == LEAK_REACHABLE)
        return;
    if (word != b->start && (b->tried >= TRIES || !keeps_whole(r, b, word))) {
        b->tried++;
        b->leak = LEAK_INTERIOR; /* until a better pointer is found */
        return;
    }
    b->leak = LEAK_REACHABLE;
    r->queue[r->queued++] = i;
}

#define PIECE 65536

/* Of large ranges most may never have been touched. */
static uint64_t untouched(struct reach *r, uint64_t address, uint64_t size) {
    uint64_t n = r->untouched && size > PIECE ? r->untouched(r->self, address, size) : 0;
    return n < size ? n : size;
}

static void scan(struct reach *r, uint64_t address, uint64_t size,
                 void (*each)(struct reach *r, uint64_t word)) {
    static uint64_t words[PIECE / 8];
    uint64_t skip = (8 - address % 8) % 8;
    if (size < skip)
        return;
    address += skip;
    size = (size - skip) & ~(uint64_t)7;
    while (size) {
        uint64_t none = untouched(r, address, size);
        address += none;
        size -= none;
        uint64_t n = size < PIECE ? size : PIECE;
        r->read(r->self, address, words, n);
        for (uint64_t k = 0; k < n / 8; k++)
            if ((words[k] >> CHUNK_SHIFT) - r->chunk_base < r->chunk_count)
                each(r, words[k]);
        address += n;
        size -= n;
    }
}

static void drain(struct reach *r) {
    while (r->queued) {
        const struct reach_block *b = &r->blocks[r->queue[--r->queued]];
        scan(r, b->start, b->size, follow_word);
    }
}

void reach_root(struct reach *r, uint64_t address, uint64_t size) {
    if (r->root_count == r->root_room) {
        r->root_room = r->root_room ? 2 * r->root_room : 64;
        r->roots = realloc(r->roots, r->root_room * sizeof *r->roots);
    }
    r->roots[r->root_count++] = (struct reach_root){address, size};
    scan(r, address, size, follow_word);
    drain(r);
}

void reach_words(struct reach *r, const uint64_t *words, size_t count) {
    for (size_t i = 0; i < count; i++)
        follow_word(r, words[i]);
    drain(r);
}

/* Pointers to first bytes that are not aligned (packed structures). The sixth byte of a
   block's address is the same for all of the first TiB: only words that have it are
   looked at more closely. */
static void scan_odd(struct reach *r, uint64_t address, uint64_t size) {
    enum { SIXTH = 5 };
    static uint64_t words[PIECE / 8];
    const uint64_t low = 0x0101010101010101ull, high = low << 7;
    uint64_t wanted = (r->chunk_base << CHUNK_SHIFT >> 8 * SIXTH & 0xff) * low;
    uint64_t skip = (8 - address % 8) % 8;
    if (size < skip + 16)
        return;
    address += skip;
    size = (size - skip) & ~(uint64_t)7;
    while (size >= 16) {
        uint64_t none = untouched(r, address, size);
        if (none > 8) { /* one may begin in its last word */
            address += none - 8;
            size -= none - 8;
        }
        uint64_t n = size < PIECE ? size : PIECE;
        const unsigned char *bytes = (const unsigned char *)words;
        r->read(r->self, address, words, n);
        for (uint64_t k = 0; k < n / 8; k++) {
            uint64_t differs = words[k] ^ wanted;
            if (!((differs - low) & ~differs & high))
                continue;
            for (uint64_t at = 8 * k; at < 8 * k + 8; at++) {
                uint64_t word;
                if (at % 8 == SIXTH || at < SIXTH || at + 8 - SIXTH > n)
                    continue;
                memcpy(&word, bytes + at - SIXTH, sizeof word);
                uint32_t i = block_at(r, word);
                if (i != NONE && word == r->blocks[i].start && r->blocks[i].leak != LEAK_REACHABLE) {
                    r->blocks[i].leak = LEAK_REACHABLE;
                    r->queue[r->queued++] = i;
                }
            }
        }
        n = n < size ? n - 8 : n; /* one may lie across two pieces */
        address += n;
        size -= n;
    }
}

static void look_for_odd(struct reach *r) {
    bool lost = false;
    for (uint32_t i = 0; i < r->block_count && !lost; i++)
        lost = r->blocks[i].live && r->blocks[i].leak != LEAK_REACHABLE;
    if (!lost)
        return;
    for (uint32_t i = 0; i < r->block_count; i++)
        r->blocks[i].owner = r->blocks[i].leak == LEAK_REACHABLE ? NONE : i; /* not yet gone through */
    for (size_t i = 0; i < r->root_count; i++)
        scan_odd(r, r->roots[i].start, r->roots[i].size);
    for (uint32_t i = 0; i < r->block_count; i++)
        if (r->blocks[i].live && r->blocks[i].owner == NONE)
            scan_odd(r, r->blocks[i].start, r->blocks[i].size);
    while (r->queued) {
        const struct reach_block *b = &r->blocks[r->queue[--r->queued]];
        scan(r, b->start, b->size, follow_word);
        scan_odd(r, b->start, b->size);
    }
    for (uint32_t i = 0; i < r->block_count; i++)
        r->blocks[i].owner = NONE;
}

static uint32_t current_owner;

/* Any pointer out of a lost block makes its target depend on the owner. */
static void adopt_word(struct reach *r, uint64_t word) {
    uint32_t i = block_at(r, word);
    if (i == NONE || i == current_owner)
        return;
    struct reach_block *b = &r->blocks[i];
    if (b->leak == LEAK_REACHABLE || b->leak == LEAK_INTERIOR)
        return;
    if (b->leak == LEAK_DEPENDENT)
        return;
    if (b->leak == LEAK_UNREACHABLE) { /* was taken for an owner: it has one itself */
        b->leak = LEAK_DEPENDENT;
        b->owner = current_owner;
        return;
    }
    b->leak = LEAK_DEPENDENT;
    b->owner = current_owner;
    r->queue[r->queued++] = i;
}

static void adopt_from(struct reach *r, uint32_t owner) {
    current_owner = owner;
    r->queue[r->queued++] = owner;
    while (r->queued) {
        const struct reach_block *b = &r->blocks[r->queue[--r->queued]];
        scan(r, b->start, b->size, adopt_word);
    }
}

/* All on the way get it as well: in a long list each block was taken for the owner of
   those before it. */
static uint32_t final_owner(struct reach *r, uint32_t i) {
    uint32_t owner = i, steps = 0;
    while (r->blocks[owner].owner != NONE && steps++ < r->block_count)
        owner = r->blocks[owner].owner;
    while (i != owner) {
        uint32_t next = r->blocks[i].owner;
        r->blocks[i].owner = owner;
        i = next;
    }
    return owner;
}

void reach_finish(struct reach *r) {
    look_for_odd(r);
    for (uint32_t i = 0; i < r->block_count; i++) {
        struct reach_block *b = &r->blocks[i];
        if (b->live && b->leak == LEAK_INTERIOR)
            adopt_from(r, i);
    }
    for (uint32_t i = 0; i < r->block_count; i++) {
        struct reach_block *b = &r->blocks[i];
        if (!b->live || b->leak != LEAK_CLASSES)
            continue;
        b->leak = LEAK_UNREACHABLE;
        adopt_from(r, i);
    }
    for (uint32_t i = 0; i < r->block_count; i++)
        if (r->blocks[i].live && r->blocks[i].leak == LEAK_DEPENDENT)
            r->blocks[i].owner = final_owner(r, i);
    free(r->queue);
    free(r->chunks);
    free(r->roots);
    r->roots = NULL;
    r->queue = NULL;
    r->chunks = NULL;
}

/* The guest's heap. Slots of a size class stand in 1 MiB chunks, each with a
   16-byte margin before the user's bytes (so there is one on both sides of
   every block) and room behind them; descriptors are kept in the engine, where no
   overflow reaches.
   Freed blocks wait in the retirement queue before their slot is used again.
   A is 0 exactly for the bytes of live blocks; D is 0xFF for all others and for
   what was not written yet. */
#include "engine.h"

#include <asm/unistd.h>
#include <linux/mman.h>

#define MARGIN 16u
#define CHUNK (1ull << HEAP_CHUNK_SHIFT)
#define LARGEST_SLOT (192u << 10)
#define CLASSES 128
#define QUEUE (1u << 20)
#define SPANS 8192
#define MAPPED_CHUNKS 16384u /* each takes a mapping of the kernel's */
#define SPARE_SPANS 32
#define SPARE_MOST 32 /* chunks in them */
#define EAGER_LIMIT (16ull << 20) /* larger retired blocks become inaccessible instead */

struct heap_directory *heap;

static struct lock heap_lock;
static uint32_t class_size[CLASSES];
static uint32_t class_count;
static uint8_t class_of_16[520]; /* slot sizes up to 8 KiB in steps of 16 */
static uint32_t class_chunk[CLASSES]; /* chunk being carved, 0: none */
static uint32_t class_partial[CLASSES]; /* list of chunks with free slots, 0: none */
static uint32_t *chunk_class;
/* Free slots of a chunk: a list through the descriptors' `sequence`, as index + 1. What else
   they say of the block that was there last is kept for those who still use it. */
static struct chunk_free {
    uint32_t head, count, next, previous;
} *chunk_free;
static gaddr *retired; /* ring of user addresses, */
static struct heap_block **retired_block; /* and of their descriptors */
static uint32_t retired_head, retired_tail;
static uint64_t retired_bytes;
static uint32_t sequence;
static uint32_t first_own, own_live; /* since the fork that made this process */
/* Spans without a block that are kept for the next: D and A are as in fresh ones, what the
   memory holds is not. */
static struct span {
    uint32_t first, count;
} spare[SPARE_SPANS];
static uint32_t spare_count, spare_chunks;
static uint8_t *chunk_used; /* it was one of them */
static struct span spans[SPANS]; /* given back to the kernel */
static uint32_t span_count;

void heap_start(void) {
    heap = engine_alloc(sizeof *heap + sizeof(struct heap_chunk) * HEAP_CHUNKS);
    heap->base = HEAP_BASE;
    heap->chunk_count = 1; /* chunk 0 stays unused: 0 means none */
    chunk_class = engine_alloc(sizeof(uint32_t) * HEAP_CHUNKS);
    chunk_free = engine_alloc(sizeof *chunk_free * HEAP_CHUNKS);
    chunk_used = engine_alloc(HEAP_CHUNKS);
    retired = engine_alloc(sizeof *retired * QUEUE);
    retired_block = engine_alloc(sizeof *retired_block * QUEUE);
    uint32_t size = 32;
    while (size <= LARGEST_SLOT) {
        if (class_count == CLASSES)
            fail("the heap has more size classes than room for them");
        class_size[class_count++] = size;
        uint32_t step = size < 512 ? 16 : (size >> 3) & ~15u;
        size += step;
    }
    uint32_t k = 0;
    for (uint32_t i = 0; i < 520; i++) {
        while (class_size[k] < i * 16)
            k++;
        class_of_16[i] = (uint8_t)k;
    }
}

static int class_for(uint64_t slot) {
    if (slot <= 8192)
        return class_of_16[(slot + 15) / 16];
    int k = class_of_16[512];
    while (class_size[k] < slot)
        k++;
    return k;
}

static bool map_chunks(uint32_t first, uint32_t count) {
    long p = system_call(__NR_mmap, HEAP_BASE + (uint64_t)first * CHUNK, (uint64_t)count * CHUNK,
                         PROT_READ | PROT_WRITE,
                         MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED |
                             (count == 1 ? MAP_NORESERVE : 0),
                         -1, 0);
    return !(p < 0 && p > -4096);
}

/* Consecutive chunks, from freed spans or from fresh arena; 0: none. */
static uint32_t take_chunks(uint32_t count) {
    uint32_t best = SPANS;
    for (uint32_t i = 0; i < span_count; i++)
        if (spans[i].count >= count && (best == SPANS || spans[i].count < spans[best].count))
            best = i;
    uint32_t first;
    if (best < SPANS) {
        first = spans[best].first;
        if (!map_chunks(first, count))
            return 0;
        spans[best].first += count;
        spans[best].count -= count;
        if (!spans[best].count)
            spans[best] = spans[--span_count];
        return first;
    }
    if (heap->chunk_count + count > HEAP_CHUNKS)
        return 0;
    first = heap->chunk_count;
    if (!map_chunks(first, count))
        return 0;
    heap->chunk_count += count;
    return first;
}

static void forget_spare(uint32_t i) {
    spare_chunks -= spare[i].count;
    spare_count--;
    for (; i < spare_count; i++)
        spare[i] = spare[i + 1];
}

/* The same of spare ones; 0: none is large enough. */
static uint32_t take_spare(uint32_t count) {
    uint32_t best = SPARE_SPANS;
    for (uint32_t i = 0; i < spare_count; i++)
        if (spare[i].count >= count && (best == SPARE_SPANS || spare[i].count < spare[best].count))
            best = i;
    if (best == SPARE_SPANS)
        return 0;
    uint32_t first = spare[best].first;
    spare_chunks -= count;
    spare[best].first += count;
    spare[best].count -= count;
    for (uint32_t i = first + count; i < spare[best].first + spare[best].count; i++) {
        heap->chunks[i].head = spare[best].first; /* of nothing, any more */
        heap->chunks[i].count = 0;
        heap->chunks[i].slot_size = 0;
    }
    if (!spare[best].count)
        forget_spare(best);
    return first;
}

static gaddr chunk_address(uint32_t chunk) { return HEAP_BASE + ((uint64_t)chunk << HEAP_CHUNK_SHIFT); }

static struct heap_block *blocks_of(struct heap_chunk *chunk) {
    return (struct heap_block *)(uintptr_t)chunk->blocks;
}

/* What was known of the blocks of a chunk is forgotten; whoever looks without the lock is to
   find none first. */
static void forget_blocks(struct heap_chunk *chunk) {
    struct heap_block *blocks = blocks_of(chunk);
    __atomic_store_n(&chunk->count, 0, __ATOMIC_RELEASE);
    chunk->blocks = 0;
    if (blocks)
        engine_free(blocks, chunk->capacity * sizeof *blocks);
}

static void partial_add(uint32_t k, uint32_t index) {
    struct chunk_free *f = &chunk_free[index];
    f->previous = 0;
    f->next = class_partial[k];
    if (f->next)
        chunk_free[f->next].previous = index;
    class_partial[k] = index;
}

static void partial_remove(uint32_t k, uint32_t index) {
    struct chunk_free *f = &chunk_free[index];
    if (f->previous)
        chunk_free[f->previous].next = f->next;
    else
        class_partial[k] = f->next;
    if (f->next)
        chunk_free[f->next].previous = f->previous;
}

/* A slot of the class: a freed one or a new one; 0 when out of memory. */
static gaddr take_slot(int k, struct heap_block **block, bool *fresh) {
    uint32_t slot_size = class_size[k];
    gaddr slot;
    uint32_t partial = class_partial[k];
    if (partial) {
        struct chunk_free *f = &chunk_free[partial];
        uint32_t n = f->head - 1;
        *block = &blocks_of(&heap->chunks[partial])[n];
        f->head = (*block)->sequence;
        if (--f->count == 0)
            partial_remove((uint32_t)k, partial);
        *fresh = false;
        return chunk_address(partial) + (uint64_t)n * slot_size;
    }
    uint32_t index = class_chunk[k];
    if (!index || heap->chunks[index].count == heap->chunks[index].capacity) {
        index = take_spare(1);
        bool used = index;
        if (!used)
            index = take_chunks(1);
        if (!index)
            return 0;
        struct heap_chunk *chunk = &heap->chunks[index];
        forget_blocks(chunk);
        uint32_t capacity = (uint32_t)((CHUNK - MARGIN) / slot_size);
        chunk->blocks = (uint64_t)(uintptr_t)engine_alloc(capacity * sizeof(struct heap_block));
        chunk->slot_size = slot_size;
        chunk->reciprocal = ((1ull << 40) + slot_size - 1) / slot_size;
        chunk->capacity = capacity;
        chunk->span = 1;
        chunk->head = index;
        __atomic_store_n(&chunk->count, 0, __ATOMIC_RELEASE);
        chunk_class[index] = (uint32_t)k;
        chunk_used[index] = used;
        if (!used) {
            shadow_fresh(chunk_address(index), CHUNK);
            touch_fresh(chunk_address(index), CHUNK, true);
        }
        chunk_free[index] = (struct chunk_free){0, 0, 0, 0};
        class_chunk[k] = index;
    }
    struct heap_chunk *chunk = &heap->chunks[index];
    uint32_t n = chunk->count;
    slot = chunk_address(index) + (uint64_t)n * slot_size;
    *block = &blocks_of(chunk)[n];
    chunk->count = n + 1;
    *fresh = !chunk_used[index];
    return slot;
}

/* The counters of an allocation stack; null for another process's: a child frees
   blocks that its parent allocated. */
static struct ledger_site *site_of(uint32_t node) {
    uint32_t *known = &ledger->site_of[node];
    if (!*known) {
        uint32_t n = __atomic_add_fetch(&ledger->next_site, 1, __ATOMIC_RELAXED);
        if (n >= LEDGER_SITES) {
            ledger->next_site = LEDGER_SITES;
            return NULL;
        }
        ledger->sites[n].node = node;
        ledger->sites[n].process = process_index;
        *known = n;
    }
    struct ledger_site *site = &ledger->sites[*known];
    return site->process == process_index ? site : NULL;
}

static void count_in(uint64_t size, uint32_t stack) {
    struct ledger_site *site = site_of(stack);
    if (site) {
        site->live_blocks++;
        site->live_bytes += size;
    }
    struct ledger_process *p = &ledger->processes[process_index];
    p->allocations++;
    p->allocated_bytes += size;
    p->live_blocks++;
    p->live_bytes += size;
    if (p->live_bytes > p->peak_bytes)
        p->peak_bytes = p->live_bytes;
}

static gaddr allocate_large(uint64_t size, uint64_t alignment, struct heap_block **block,
                            bool zero) {
    uint64_t lead = alignment > MARGIN ? alignment : MARGIN;
    if (alignment <= 4096 && lead < 64)
        lead = MARGIN;
    uint64_t total = lead + size + MARGIN;
    uint64_t count = (total + CHUNK - 1) >> HEAP_CHUNK_SHIFT;
    uint64_t slack = 0;
    if (alignment > CHUNK) {
        slack = alignment >> HEAP_CHUNK_SHIFT;
        count += slack;
    }
    if (count >= HEAP_CHUNKS)
        return 0;
    uint32_t first = lead <= 4096 ? take_spare((uint32_t)count) : 0;
    bool used = first;
    if (!used)
        first = take_chunks((uint32_t)count);
    if (!first)
        return 0;
    struct heap_chunk *chunk = &heap->chunks[first];
    if (used && chunk->slot_size)
        forget_blocks(chunk);
    if (!chunk->blocks)
        chunk->blocks = (uint64_t)(uintptr_t)engine_alloc(sizeof(struct heap_block));
    gaddr base = chunk_address(first);
    gaddr user = (base + lead + alignment - 1) & ~(alignment - 1);
    chunk->slot_size = 0;
    chunk->capacity = 1;
    chunk->count = 1;
    chunk->size = size;
    chunk->span = (uint32_t)count;
    for (uint32_t i = 0; i < count; i++)
        heap->chunks[first + i].head = first;
    for (uint32_t i = 1; i < count; i++) {
        heap->chunks[first + i].span = 0;
        heap->chunks[first + i].slot_size = 0;
    }
    if (used) {
        touch_set(user, size, false);
        if (zero) {
            shadow_fill(user, size, 0);
            fill_bytes(guest(user), 0, size);
        }
        *block = blocks_of(chunk);
        (*block)->lead = (uint32_t)(user - base);
        return user;
    }
    /* margins: up to a page before, and all that is left of the last chunk */
    gaddr low = user - base > 4096 ? user - 4096 : base;
    gaddr high = base + count * CHUNK;
    touch_fresh(base, count * CHUNK, false);
    touch_set(low, user - low, true);
    touch_set(user + size, high - (user + size) < 2 * CHUNK ? high - (user + size) : 2 * CHUNK,
              true);
    if (zero || count > MAPPED_CHUNKS) { /* D is 0 after give_back and at first */
        shadow_fill(low, user - low, 0xff);
        gaddr tail = (user + size + 4095) & ~4095ull;
        shadow_fill(user + size, tail - (user + size), 0xff);
        if (tail < high && high - tail <= CHUNK)
            shadow_fresh(tail, high - tail);
    } else {
        shadow_fresh(base, count * CHUNK);
    }
    *block = blocks_of(chunk);
    (*block)->lead = (uint32_t)(user - base);
    return user;
}

/* Behind a block, besides the margin of the next one: larger blocks are mostly arrays,
   and a field of an element too far must not lie in a neighbour. While few blocks are on
   the heap there is room to find what goes wrong by several elements. */
static uint64_t room_behind(uint64_t size) {
    enum { ENOUGH = 512, GENEROUS = 128, FEW = 8192 };
    uint64_t room = size / 8 < ENOUGH ? size / 8 : ENOUGH;
    return room < GENEROUS && ledger->processes[process_index].live_blocks < FEW ? GENEROUS : room;
}

gaddr heap_allocate(uint64_t size, uint64_t alignment, uint32_t stack, int family, bool zero) {
    struct heap_block *block;
    gaddr user;
    if (alignment < 16)
        alignment = 16;
    uint64_t need = MARGIN + size + room_behind(size) + (alignment > 16 ? alignment : 0);
    if (!memory_allows(size, true))
        return 0;
    lock_take(&heap_lock);
    if (size < LARGEST_SLOT && ((need + 15) & ~15ull) <= class_size[class_count - 1]) {
        bool fresh;
        gaddr slot = take_slot(class_for((need + 15) & ~15ull), &block, &fresh);
        if (!slot) {
            lock_drop(&heap_lock);
            return 0;
        }
        user = (slot + MARGIN + alignment - 1) & ~(alignment - 1);
        block->lead = (uint32_t)(user - slot);
        block->size = (uint32_t)size;
        touch_set(user, size, false);
        if (zero) {
            shadow_fill(user, size, 0);
            if (!fresh)
                fill_bytes(guest(user), 0, size);
        }
    } else {
        user = allocate_large(size, alignment, &block, zero);
        if (!user) {
            lock_drop(&heap_lock);
            return 0;
        }
        block->size = (uint32_t)size;
    }
    block->allocated = stack;
    block->freed = 0;
    block->family = (uint8_t)family;
    block->sequence = ++sequence;
    own_live++;
    __atomic_store_n(&block->state, BLOCK_LIVE, __ATOMIC_RELEASE);
    count_in(size, stack);
    lock_drop(&heap_lock);
    return user;
}

bool heap_find(gaddr address, struct block_view *view) {
    if (address < HEAP_BASE)
        return false;
    uint64_t index = (address - HEAP_BASE) >> HEAP_CHUNK_SHIFT;
    if (index == 0 || index >= heap->chunk_count)
        return false;
    struct heap_chunk *chunk = &heap->chunks[index];
    if (chunk->slot_size == 0) {
        index = chunk->head;
        chunk = &heap->chunks[index];
        if (!chunk->blocks || chunk->count == 0 || chunk->slot_size)
            return false; /* what was a large block's rest is nobody's now */
        view->block = blocks_of(chunk);
        view->size = chunk->size;
        view->start = chunk_address((uint32_t)index) + view->block->lead;
    } else {
        uint32_t n = heap_slot(chunk, (uint32_t)(address - chunk_address((uint32_t)index)));
        if (n >= chunk->count)
            return false;
        view->block = &blocks_of(chunk)[n];
        view->size = view->block->size;
        view->start = chunk_address((uint32_t)index) + (uint64_t)n * chunk->slot_size +
                      view->block->lead;
    }
    view->state = view->block->state;
    return true;
}

bool heap_near(gaddr address) {
    uint64_t index = (address - HEAP_BASE) >> HEAP_CHUNK_SHIFT;
    return address >= HEAP_BASE && index > 0 && index < heap->chunk_count;
}

bool heap_neighbour(gaddr address, int direction, struct block_view *view) {
    if (!heap_near(address))
        return false;
    uint32_t index = (uint32_t)((address - HEAP_BASE) >> HEAP_CHUNK_SHIFT);
    struct heap_chunk *chunk = &heap->chunks[index];
    if (!chunk->slot_size) {
        if (!heap_find(address, view) || view->state == BLOCK_FREE)
            return false;
        return direction < 0 ? address >= view->start + view->size : address < view->start;
    }
    int64_t n = (int64_t)((address - chunk_address(index)) / chunk->slot_size);
    if (n >= chunk->count)
        n = direction < 0 ? (int64_t)chunk->count - 1 : (int64_t)chunk->count;
    for (int steps = 0; steps < 4096 && n >= 0 && n < chunk->count; steps++, n += direction) {
        gaddr slot = chunk_address(index) + (uint64_t)n * chunk->slot_size;
        if (!heap_find(slot, view) ||
            (view->state != BLOCK_LIVE && view->state != BLOCK_RETIRED))
            continue;
        if (direction < 0 ? view->start + view->size <= address : view->start > address)
            return true;
    }
    return false;
}

/* Chunks that nothing uses any more: the memory goes back to the kernel. */
static void give_back(uint32_t index, uint32_t count) {
    uint64_t bytes = (uint64_t)count * CHUNK;
    system_call(__NR_mmap, chunk_address(index), bytes, PROT_NONE,
                MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED | MAP_NORESERVE, -1, 0);
    shadow_reset(chunk_address(index), bytes);
    touch_fresh(chunk_address(index), bytes, false);
    for (uint32_t i = 0; i < span_count; i++) { /* join with a neighbour where there is one */
        if (spans[i].first + spans[i].count == index) {
            spans[i].count += count;
            return;
        }
        if (index + count == spans[i].first) {
            spans[i].first = index;
            spans[i].count += count;
            return;
        }
    }
    if (span_count < SPANS) {
        spans[span_count].first = index;
        spans[span_count++].count = count;
    }
}

/* Nothing is on the chunks any more: they are kept for the next, before older ones. */
static void keep_spare(uint32_t first, uint32_t count) {
    if (count > SPARE_MOST) {
        give_back(first, count);
        return;
    }
    while (spare_chunks + count > SPARE_MOST || spare_count == SPARE_SPANS) {
        struct heap_chunk *oldest = &heap->chunks[spare[0].first];
        if (oldest->slot_size)
            forget_blocks(oldest);
        give_back(spare[0].first, spare[0].count);
        forget_spare(0);
    }
    spare[spare_count++] = (struct span){first, count};
    spare_chunks += count;
}

static void recycle_slot(uint32_t index, struct heap_block *block) {
    struct heap_chunk *chunk = &heap->chunks[index];
    struct chunk_free *f = &chunk_free[index];
    uint32_t k = chunk_class[index];
    block->state = BLOCK_FREE;
    block->sequence = f->head;
    f->head = (uint32_t)(block - blocks_of(chunk)) + 1;
    if (f->count++ == 0)
        partial_add(k, index);
    if (f->count < chunk->count || class_chunk[k] == index)
        return;
    partial_remove(k, index);
    chunk->span = 0;
    keep_spare(index, 1);
}

/* Gives a retired slot back for use. It is likely to be the next one handed out, and has
   lain untouched for long: what that will write to is called for in advance. */
static void recycle(gaddr user, struct heap_block *block) {
    if (block->state != BLOCK_RETIRED)
        return;
    uint32_t index = (uint32_t)((user - HEAP_BASE) >> HEAP_CHUNK_SHIFT);
    struct heap_chunk *chunk = &heap->chunks[index];
    if (chunk->slot_size) {
        __builtin_prefetch(touch_of(user), 1);
        __builtin_prefetch(shadow_of(user), 1);
        __builtin_prefetch(guest(user), 1);
        recycle_slot(index, block);
        return;
    }
    index = chunk->head;
    chunk = &heap->chunks[index];
    block->state = BLOCK_FREE;
    /* what `allocate_large` takes from there has margins of a page at most */
    if (block->lead > 4096 || chunk->size > EAGER_LIMIT)
        give_back(index, chunk->span);
    else
        keep_spare(index, chunk->span);
}

static uint64_t cost_of(gaddr user) {
    struct heap_chunk *chunk = &heap->chunks[(user - HEAP_BASE) >> HEAP_CHUNK_SHIFT];
    if (chunk->slot_size) /* the block, its shadow, its descriptor; half as much again for gaps */
        return (2ull * chunk->slot_size + sizeof(struct heap_block) + sizeof(gaddr)) * 3 / 2;
    chunk = &heap->chunks[chunk->head];
    return chunk->size <= EAGER_LIMIT ? 2 * chunk->size : 8192;
}

void heap_release(struct block_view *view, uint32_t stack) {
    lock_take(&heap_lock);
    struct ledger_process *p = &ledger->processes[process_index];
    p->frees++;
    p->live_blocks--;
    p->live_bytes -= view->size;
    own_live -= view->block->sequence > first_own;
    struct ledger_site *site = site_of(view->block->allocated);
    if (site) {
        site->live_blocks--;
        site->live_bytes -= view->size;
    }
    view->block->freed = stack;
    view->block->state = BLOCK_RETIRED;
    if (view->size <= EAGER_LIMIT) {
        touch_set(view->start, view->size, true);
        shadow_fill(view->start, view->size, 0xff);
        origin_clear(view->start, view->size);
    } else {
        gaddr page = (view->start + 4095) & ~4095ull;
        uint64_t size = (view->start + view->size - page) & ~4095ull;
        system_call(__NR_mmap, page, size, PROT_NONE,
                    MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED | MAP_NORESERVE, -1, 0);
    }
    retired[retired_tail] = view->start;
    retired_block[retired_tail] = view->block;
    retired_tail = (retired_tail + 1) & (QUEUE - 1);
    retired_bytes += cost_of(view->start);
    while (retired_bytes > ledger->retirement_bytes ||
           ((retired_tail + 1) & (QUEUE - 1)) == retired_head) {
        if (retired_head == retired_tail)
            break;
        enum { AHEAD = 4 };
        gaddr oldest = retired[retired_head];
        struct heap_block *block = retired_block[retired_head];
        retired_head = (retired_head + 1) & (QUEUE - 1);
        __builtin_prefetch(retired_block[(retired_head + AHEAD) & (QUEUE - 1)], 1);
        retired_bytes -= cost_of(oldest);
        recycle(oldest, block);
    }
    lock_drop(&heap_lock);
}

/* Around a fork: no other thread may be in the middle of a change. */
void heap_fork(bool before) {
    if (before)
        lock_take(&heap_lock);
    else
        lock_drop(&heap_lock);
}

uint32_t heap_forked(void) {
    own_live = 0;
    first_own = sequence;
    return first_own;
}

bool heap_has_own(void) { return own_live != 0; }

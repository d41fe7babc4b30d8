/* Call stacks without unwinding: the shadow call stack is read from its top
   down to the first frame that was interned before, and the frames above it
   are interned on the way back. The interning table lives in the ledger. */
#include "engine.h"

static uint32_t bucket_of(uint32_t parent, gaddr pc) {
    uint64_t h = (pc ^ ((uint64_t)parent << 29)) * 0x9e3779b97f4a7c15ULL;
    return (uint32_t)(h >> 44) & (LEDGER_BUCKETS - 1);
}

static uint32_t find(uint32_t node, uint32_t parent, gaddr pc) {
    while (node) {
        struct ledger_node *n = &ledger->nodes[node];
        if (n->pc == pc && n->parent == parent)
            return node;
        node = n->next;
    }
    return 0;
}

/* Recursion over a tree makes as many stacks as the tree has paths. A frame that
   stands three times among the last sixteen goes back to the nearest of them:
   deeper levels of one recursion share their node. */
static uint32_t recursion(uint32_t parent, gaddr pc) {
    uint32_t nearest = 0;
    int seen = 0;
    for (int depth = 0; depth < 16 && parent; depth++) {
        const struct ledger_node *n = &ledger->nodes[parent];
        if (n->pc == pc) {
            if (!nearest)
                nearest = parent;
            if (++seen == 3)
                return nearest;
        }
        parent = n->parent;
    }
    return 0;
}

static uint32_t look_up(uint32_t parent, gaddr pc) {
    uint32_t *bucket = &ledger->buckets[bucket_of(parent, pc)];
    uint32_t head = __atomic_load_n(bucket, __ATOMIC_ACQUIRE);
    uint32_t node = find(head, parent, pc);
    if (node)
        return node;
    node = recursion(parent, pc);
    if (node)
        return node;
    node = __atomic_add_fetch(&ledger->next_node, 1, __ATOMIC_RELAXED);
    if (node >= LEDGER_NODES) {
        ledger->next_node = LEDGER_NODES;
        ledger->overflow = 1;
        return parent;
    }
    ledger->nodes[node].parent = parent;
    ledger->nodes[node].pc = pc;
    do
        ledger->nodes[node].next = head;
    while (!__atomic_compare_exchange_n(bucket, &head, node, false, __ATOMIC_RELEASE,
                                        __ATOMIC_ACQUIRE));
    return node;
}

/* The table is large and its chains lie everywhere; the children of a node looked up
   lately stand close together, next to those of the nodes made before and after it:
   mostly its caller and callees. A cache line for each node; a word: 40 bits of the
   hash, the child. */
#define RECENT (1u << 16)
#define CHILDREN 8
_Static_assert(LEDGER_NODES <= 1u << 24, "a node has 24 bits in `recent`");
static uint64_t recent[RECENT] __attribute__((aligned(64)));

uint32_t stack_intern(uint32_t parent, gaddr pc) {
    uint64_t hash = (pc ^ (uint64_t)parent << 40 ^ parent) * 0x9e3779b97f4a7c15ULL;
    hash ^= hash >> 29;
    uint64_t *line = &recent[parent * CHILDREN & (RECENT - 1)];
    uint32_t place = hash & (CHILDREN - 1), free = place;
    for (uint32_t k = 0; k < CHILDREN; k++) {
        uint64_t word = __atomic_load_n(&line[place ^ k], __ATOMIC_RELAXED);
        if (word && word >> 24 == hash >> 24)
            return (uint32_t)word & 0xffffff;
        if (!word) {
            free = place ^ k;
            break;
        }
    }
    uint32_t node = look_up(parent, pc);
    __atomic_store_n(&line[free], hash >> 24 << 24 | node, __ATOMIC_RELAXED);
    return node;
}

uint32_t stack_root(uint32_t thread) {
    return stack_intern(0, (uint64_t)process_index << 32 | thread);
}

/* A guest word that may not be there: only mapped stacks are read, and those that are
   blocks of the heap. */
static bool still_returns_to(struct context *c, const struct shadow_entry *e) {
    gaddr sp = e->stack_pointer;
    bool own = sp >= c->stack_low && sp < c->stack_high;
    struct mapping m;
    struct block_view view;
    if (!own && !memory_lookup(sp, &m) &&
        !(heap_find(sp, &view) && view.state == HEAP_LIVE && sp >= view.start &&
          sp + 8 <= view.start + view.size))
        return false;
    return *(uint64_t *)guest(sp) == e->return_address;
}

/* Marks entries on their way to a node, between the two passes. */
#define NODE_WANTED 0xffffffffu

uint32_t stack_capture(struct context *c, gaddr leaf) {
    /* Entries that the stack pointer has passed (longjmp, exceptions) stand
       between live ones until a return meets them: they are skipped here. A stack may
       be as deep as memory allows, so nothing is kept of it but in the entries. */
    struct shadow_entry *e = c->shadow, *top = e;
    gaddr reached = c->registers[RSP];
    uint32_t node = c->root;
    bool switched = !(reached >= c->stack_low && reached < c->stack_high);
    while (e > c->shadow_base) {
        e--;
        bool below = e->stack_pointer < reached;
        if (below && !switched)
            continue;
        if (e->node && e->node != NODE_WANTED) {
            node = e->node;
            e++;
            break;
        }
        if (!still_returns_to(c, e))
            continue;
        reached = e->stack_pointer;
        e->node = NODE_WANTED;
    }
    for (; e < top; e++)
        if (e->node == NODE_WANTED)
            e->node = node = stack_intern(node, e->return_address);
    return leaf == NO_LEAF ? node : stack_intern(node, leaf);
}

/* Structures stored where an index leads that is masked, shifted, cut to 32 bits or extended: each
   place has to get the bits of what was stored there last. */
#include <stdio.h>
#include <stdlib.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct berth {
    char quay;
    long pilot;
    int number;
    int spare;
};

#define SLOTS 64
struct plan {
    struct berth slots[SLOTS];
    unsigned head;
    int back;
    unsigned long wide;
    unsigned char step;
};

static APART void masked(struct plan *p, const struct berth *b) { p->slots[p->head++ % SLOTS] = *b; }
static APART void shifted(struct plan *p, const struct berth *b) { p->slots[p->head++ >> 4 & 63] = *b; }
static APART void signed_back(struct plan *p, const struct berth *b) { (p->slots + 32)[p->back--] = *b; }
static APART void wrapped(struct plan *p, const struct berth *b) { p->slots[(p->head += 0x10000005) >> 26] = *b; }
static APART void both(struct plan *p, const struct berth *b) { p->slots[(p->head++ & 7) * 8 + (p->back & 7)] = *b; }
static APART void of_bytes(struct plan *p, const struct berth *b) { p->slots[p->step++ & 63] = *b; }
static APART void wide(struct plan *p, const struct berth *b) { p->slots[p->wide++ & 63] = *b; }
static APART void lower(struct plan *p, const struct berth *b) { p->slots[(unsigned)(p->wide += 0x100000003) & 63] = *b; }

static APART int slot_of(int way, const struct plan *p) {
    switch (way) {
    case 0: return (int)(p->head % SLOTS);
    case 1: return (int)(p->head >> 4 & 63);
    case 2: return 32 + p->back;
    case 3: return (int)((p->head + 0x10000005) >> 26);
    case 4: return (int)((p->head & 7) * 8 + (unsigned)(p->back & 7));
    case 5: return p->step & 63;
    case 6: return (int)(p->wide & 63);
    default: return (int)((unsigned)(p->wide + 0x100000003) & 63);
    }
}

static void (*const ways[])(struct plan *, const struct berth *) = {
    masked, shifted, signed_back, wrapped, both, of_bytes, wide, lower};

static struct berth *make(void) {
    struct berth *b = malloc(4 * sizeof *b);
    hide(b);
    for (int i = 0; i < 4; i++) {
        b[i].quay = 'a';
        b[i].pilot = i;
        b[i].number = i;
    }
    b[3].spare = 7;
    return b;
}

int main(void) {
    for (int way = 0; way < 8; way++) {
        struct plan *p = calloc(1, sizeof *p);
        struct berth *b = make();
        char unset[SLOTS] = {0};
        unsigned turn = 1;
        hide(p);
        for (int i = 0; i < 3000; i++) {
            if (way == 2 && p->back < -32)
                p->back = 31;
            if (way == 4)
                p->back = i >> 3;
            turn = turn * 1103515245 + 12345;
            int which = i % 100 < 60 ? 1 : turn >> 30; /* mostly the same kind */
            unset[slot_of(way, p)] = which != 3;
            ways[way](p, &b[which]);
        }
        int open = 0;
        for (int k = 0; k < SLOTS; k++) {
            open += unset[k];
            if (!unset[k] && p->slots[k].spare)
                sink = 1;
            if (p->slots[k].number + p->slots[k].pilot > 100)
                sink = 2;
        }
        printf("%d\n", open);
        for (int k = 0; k < SLOTS; k++)
            if (unset[k] && p->slots[k].spare) // expect: uninitialized-value from=heap origin=52 count=405
                sink = 3;
        free(b);
        free(p);
    }
    return 0;
}

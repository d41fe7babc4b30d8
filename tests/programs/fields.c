/* Bit fields that share their words with others that nobody has set: asked for, changed in place,
   copied; just those that were never set are told, each of them, and the place is one that may be
   touched. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")

struct mooring {
    unsigned bow : 3, stern : 3, spring : 5, breast : 9;
    unsigned char fast : 1, slack : 2, tide : 4;
    int load : 7;
    long berth : 34, ship : 20;
    short quay;
};

static volatile int sink, four = 4;
static APART void seen(void) { sink++; }

static APART struct mooring *made(size_t size) {
    struct mooring *m = malloc(size);
    hide(m);
    return m;
}

static APART void ask_stern(struct mooring *m) {
    if (m->stern == 4)
        seen();
}

static APART void ask_ship(struct mooring *m) {
    if (m->ship == four)
        seen();
}

static APART void ask_load(struct mooring *m) {
    if (m->load < 0)
        seen();
}

static APART void ask_spring(struct mooring *m) {
    if (m->spring > 7) // expect: uninitialized-value from=heap
        seen();
}

static APART void ask_fast(struct mooring *m) {
    if (m->fast) // expect: uninitialized-value from=heap
        seen();
}

static APART void ask_slack(struct mooring *m) { // in the byte of one that was told
    if (m->slack) // expect: uninitialized-value from=heap
        seen();
}

static APART void ask_berth(struct mooring *m) {
    if (m->berth == four) // expect: uninitialized-value from=heap
        seen();
}

static APART void change(struct mooring *m) {
    m->stern++;
    m->stern |= 2;
    m->ship = m->ship * 2 + 1;
    m->load ^= four;
    m->load = -m->load;
}

static APART void alike(const struct mooring *a, const struct mooring *b) {
    if (a->stern == b->stern && a->ship == b->ship)
        seen();
}

static APART void local(void) {
    struct mooring m, *p = &m;
    hide(p);
    p->stern = four;
    p->slack = 1;
    p->slack ^= four;
    p->tide = p->slack << 1;
    hide(p);
    if (p->slack == 3 || p->tide == 2)
        seen();
    hide(p);
    if (p->bow == 1) // expect: uninitialized-value from=stack variable=m
        seen();
}

/* Of two bytes one is in the block; of four as well, but words may be read so. */
static APART void beyond(const char *p) {
    if ((*(const volatile unsigned short *)(p + 4) & 7) == 1) // expect: out-of-bounds-read size=5 offset=5
        seen();
    if ((*(const volatile unsigned *)(p + 4) & 7) == 1)
        seen();
}

static APART void stale(const struct mooring *m) {
    if (m->stern == 1) // expect: use-after-free by=read
        seen();
}

static APART void stale_change(struct mooring *m) {
    m->stern = 1; // expect: use-after-free
}

struct berth {
    unsigned char side, number;
    unsigned short depth;
};

static APART struct berth *unset(void) {
    struct berth *b = malloc(sizeof *b);
    hide(b);
    return b;
}

/* All in one register: each is told. */
static APART void by_value(struct berth b) {
    if (b.side == 1) // expect: uninitialized-value from=heap
        seen();
    if (b.number == 2) // expect: uninitialized-value from=heap
        seen();
    if (b.depth == 3) // expect: uninitialized-value from=heap
        seen();
}

struct pilot {
    _Bool aboard : 1;
    unsigned long since : 63;
    unsigned short boat : 5;
};

static APART void put(unsigned *word, unsigned others) {
    for (int k = 0; k < 2; k++) {
        word[k] = (word[k] & ~0xf0u) | others;
        hide(word);
    }
}

static APART void add(unsigned *word, unsigned others) { *word |= others; }

/* What is set by a mask that only the running program knows is defined, and so it is alone. */
static APART void masked(unsigned char mask, unsigned others) {
    unsigned char *flags = malloc(1);
    unsigned *word = malloc(2 * sizeof *word);
    hide(flags);
    hide(word);
    *flags |= mask;
    put(word, others);
    put(word, others);
    add(word, others << 8);
    hide(flags);
    if (*flags & 4)
        seen();
    if (*word & 0x1000)
        seen();
    if (*word & 0x100000)
        seen();
    if ((*word & 0xf0) == 0x20)
        seen();
    if (*flags & 8) // expect: uninitialized-value from=heap
        seen();
    if (*word & 0x4000) // expect: uninitialized-value from=heap
        seen();
    free(flags);
    free(word);
}

/* Unoptimized code copies the rest of a structure when it sets a field. */
static APART void board(struct pilot *all, int count) {
    for (struct pilot *p = all; p < all + count; p++)
        p->since = four;
    hide(all);
    for (struct pilot *p = all; p < all + count; p++)
        p->aboard = four > 0;
    hide(all);
    for (struct pilot *p = all; p < all + count; p++)
        if (p->aboard && p->since == 4)
            seen();
}

int main(void) {
    enum { COUNT = 50 };
    struct pilot *pilots = malloc(COUNT * sizeof *pilots);
    masked((unsigned char)four, (unsigned)four * 0x408);
    board(pilots, COUNT);
    struct berth *berth = unset();
    by_value(*berth);
    free(berth);
    free(pilots);
    struct mooring *all = made(COUNT * sizeof *all), *one = made(sizeof *one);
    for (int k = 0; k < COUNT; k++) {
        struct mooring *m = &all[k];
        m->stern = k;
        m->load = k;
        m->ship = k * 3;
    }
    for (int round = 0; round < 3; round++)
        for (int k = 0; k < COUNT; k++) {
            struct mooring *m = &all[k];
            ask_stern(m);
            ask_ship(m);
            ask_load(m);
            change(m);
            alike(m, &all[0]);
            *one = *m;
            ask_stern(one);
        }
    ask_spring(one);
    ask_fast(one);
    ask_slack(one);
    ask_berth(one);
    local();
    char *few = (char *)made(5);
    memset(few, 1, 5);
    beyond(few);
    free(few);
    free(one);
    stale(one);
    stale_change(one);
    free(all);
    return 0;
}

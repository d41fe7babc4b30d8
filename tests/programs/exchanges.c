/* Structures that are copied to where others stood: to fresh slots of a frame, to new memory, to
   elements of which other members are not set. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct berth {
    double draught;
    int key;
    char quay; /* padding behind it */
    int number;
    unsigned pilot;
};

static APART void exchange(struct berth *a, struct berth *b) {
    struct berth kept = *a;
    *a = *b;
    *b = kept;
}

static APART void assign(struct berth *to, const struct berth *from) {
    *to = *from; // expect: out-of-bounds-write
}

static APART void assign_again(struct berth *to, const struct berth *from) {
    *to = *from; // expect: use-after-free
    sink = 0;
}

static APART struct berth deeper(struct berth x, int level) {
    struct berth own = x;
    hide(&own);
    if (level > 0)
        own = deeper(own, level - 1);
    own.key++;
    return own;
}

static APART void by_way_of(struct berth *x, const struct berth *y) {
    struct berth room[4];
    for (int i = 0; i < 5; i++) {
        room[i & 3] = y[i];
        hide(room);
        x[i] = room[i & 3];
    }
}

static APART void *sounding(void) { void *p = malloc(24); hide(p); return p; }

#define BERTHS 40
static APART struct berth *plan(void) {
    struct berth *x = malloc(BERTHS * sizeof *x);
    hide(x);
    for (int i = 0; i < BERTHS; i++) {
        x[i].key = i;
        x[i].quay = 'a';
        if (i % 3)
            x[i].number = i;
        if (i % 2)
            x[i].draught = i;
        if (i % 5 == 0)
            memset(&x[i], 1, sizeof x[i]);
        x[i].pilot = i;
    }
    return x;
}

int main(void) {
    struct berth *x = plan();
    double *depth = sounding();
    x[3].draught = *depth;
    for (int round = 0; round < 9; round++)
        for (int i = 0; i < BERTHS / 2; i++)
            exchange(&x[i], &x[BERTHS - 1 - i]);
    exchange(&x[7], &x[7]);
    for (int i = 0; i < BERTHS; i++)
        if (x[i].pilot != BERTHS - 1u - (unsigned)i || (x[i].pilot % 5 && x[i].quay != 'a'))
            sink = 1;
    if (x[36].draught > 0) // expect: uninitialized-value from=heap origin=51
        sink = 2;
    if (x[37].draught > 0) // expect: uninitialized-value from=heap origin=55
        sink = 3;
    if (x[33].number > 0) // expect: uninitialized-value from=heap origin=55
        sink = 4;
    if (x[38].draught > 0 || x[39].draught > 0 || x[29].number > 0 || x[34].number > 0)
        sink = 5;
    for (int round = 0; round < 30; round++) {
        x[round] = deeper(x[round + 1], round % 4);
        if (x[round].pilot != 38u - (unsigned)round)
            sink = 6;
    }
    if (x[2].draught > 0) // expect: uninitialized-value from=heap origin=55
        sink = 7;
    for (int round = 0; round < 100; round++) {
        struct berth *y = malloc(sizeof *y);
        assign(y, &x[round % BERTHS]);
        assign_again(y, &x[round % 7]);
        assign(y, &x[round % BERTHS]);
        if (y->pilot != x[round % BERTHS].pilot)
            sink = 8;
        free(y);
    }
    struct berth *y = calloc(5, sizeof *y);
    for (int round = 0; round < 2; round++) {
        hide(y);
        for (int i = 0; i < 5; i++) {
            x[i].key = x[i].number = i;
            x[i].quay = 'q';
            x[i].draught = 1;
            y[i].quay = x[9].quay;
            y[i] = x[i];
        }
        if (round == 1)
            y[4].number = *(int *)depth;
        by_way_of(x, y);
    }
    if (x[3].number > 4)
        sink = 9;
    if (x[4].number > 0) // expect: uninitialized-value from=heap origin=51
        sink = 10;
    free(y);
    struct berth *few = malloc(sizeof *few - 4);
    assign(few, &x[1]);
    hide(few);
    free(few);
    struct berth *gone = malloc(sizeof *gone);
    hide(gone);
    free(gone);
    assign_again(gone, &x[1]);
    free(depth);
    free(x);
    return 0;
}

/* Functions that the compiler puts into main, and blocks beside each other: their variables share one
   place in its frame from -O1 on. What one leaves there, set or told of, is nothing to the next; and
   what optimizers move over the border between two belongs to the one that it is of. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define INTO static inline __attribute__((always_inline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink, zero, one = 1, four = 4;

struct berth {
    int number;
    char name[20];
    double depth;
    int x, y;
};

static APART void named(struct berth *b, int number) {
    b->number = number;
    strcpy(b->name, "the northern pier");
}
static APART void fill(void *p, int value, size_t size) { memset(p, value, size); }
static APART void goes_by(void) { sink = 0; }
static APART struct berth made(void) { return (struct berth){.number = 3}; }

INTO void asks_depth(void) {
    struct berth first;
    named(&first, 1);
    if (first.depth > 4) // expect: uninitialized-value from=stack variable=first
        sink = 1;
}
INTO void asks_again(void) {
    struct berth second;
    named(&second, 2);
    if (second.depth > 4) // expect: uninitialized-value from=stack variable=second
        sink = 2;
}
INTO void sets_all(void) {
    char text[64];
    fill(text, 'x', sizeof text);
    if (text[40] == 'y')
        sink = 3;
}
INTO void asks_behind_set(void) {
    int counts[16];
    fill(counts, 1, 15 * sizeof *counts);
    if (counts[15] == 7) // expect: uninitialized-value from=stack variable=counts
        sink = 4;
}
INTO void copies_unset(struct berth *to) {
    struct berth third;
    named(&third, 3);
    *to = third;
}
INTO void copies_another(struct berth *to) {
    struct berth fourth;
    named(&fourth, 4);
    *to = fourth;
}

/* Both begin by the same stores, which compilers put before the branch. */
INTO void begins_alike(void) {
    if (zero) {
        long left[6] = {100, 101, 102, 103, 104, 105};
        hide(left);
        if (left[2] == 3)
            sink = 5;
    } else {
        long right[6] = {100, 101, 102, 103, 104, 105};
        hide(right);
        if (right[2] == 3)
            sink = 6;
    }
}
INTO void begins_empty(void) {
    if (one) {
        struct berth left = {0};
        hide(&left);
        if (left.y == 3)
            sink = 7;
    } else {
        struct berth right = {0};
        hide(&right);
        if (right.x == 3)
            sink = 8;
    }
}

/* What was read from the first is asked for when the second has begun. */
INTO void reads_on(void) {
    long kept;
    {
        long values[8];
        for (int k = 0; k < 8; k++)
            values[k] = k * 3 + four;
        kept = values[four] + values[one];
    }
    {
        long others[8];
        for (int k = 0; k < 8; k++)
            others[k] = k + four;
        kept += others[four];
    }
    if (kept == 7)
        sink = 9;
}

/* The second stores what stands there already. */
INTO void stores_the_same(void) {
    {
        int a[8] = {1, 2, 3, 4, 5, 6, 7, 8};
        sink = a[four];
    }
    {
        int b[8] = {1, 2, 3, 4, 5, 6, 7, 8};
        if (b[four] == 3)
            sink = 10;
    }
}

/* A scope that is a loop, round by round. */
INTO void goes_round(void) {
    char line[40];
    int n = 0;
    do
        line[n] = (char)(n + four);
    while (++n < 40);
    hide(line);
    for (int k = 0; k < 40; k++)
        if (line[k] == 99)
            sink = 11;
    for (int k = 0; k < four; k++) {
        char room[40];
        if (k == 1)
            continue;
        fill(room, k, sizeof room);
        if (room[k] == 77)
            sink = 12;
    }
}
INTO void comes_back(void) {
    struct berth got = made();
    hide(&got);
    if (got.y == 8 || got.depth == 2)
        sink = 13;
}

int main(void) {
    struct berth *kept = malloc(2 * sizeof *kept);
    asks_depth();
    sets_all();
    begins_alike();
    goes_by(); /* else it might be the same stores */
    asks_again();
    begins_empty();
    sets_all();
    asks_behind_set();
    reads_on();
    comes_back();
    copies_unset(&kept[0]);
    goes_round();
    goes_by();
    copies_another(&kept[1]);
    stores_the_same();
    hide(kept);
    if (kept[0].depth > 3) // expect: uninitialized-value from=stack variable=third
        sink = 14;
    if (kept[1].depth > 3) // expect: uninitialized-value from=stack variable=fourth
        sink = 15;
    free(kept);
    return 0;
}

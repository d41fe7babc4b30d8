/* Undefined values: where they are used and where they came from. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
/* The compiler must believe that the memory may have been written. */
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")

static volatile int sink;
static APART void seen(void) { sink++; }

struct berth {
    char dock;
    int length;
};

APART static int branch_on_heap(const int *p) {
    if (p[3]) // expect: uninitialized-value from=heap origin=117
        seen();
    return 2;
}

APART static void set_depth(int set, int *depth) {
    if (set)
        *depth = 3;
}

APART static int branch_on_local(int set) {
    int depth;
    set_depth(set, &depth);
    hide(&depth);
    if (depth == 3) // expect: uninitialized-value from=stack variable=depth declared=31
        seen();
    return 0;
}

APART static int give_back(void) {
    int pair[2];
    hide(pair);
    return pair[1];
}

APART static void pass_through(int *to, const int *from) { *to = *from + 1; }

APART static int through_memory(void) {
    int first, second, third;
    hide(&first);
    pass_through(&second, &first);
    pass_through(&third, &second);
    if (third > 10) // expect: uninitialized-value variable=first
        seen();
    return 0;
}

APART static int as_address(const char *text) {
    long index;
    hide(&index);
    return text[index & 3]; // expect: uninitialized-value variable=index
}

APART static int grown(void) {
    char *p = malloc(16);
    memset(p, 1, 16);
    p = realloc(p, 64);
    hide(p);
    if (p[15] == 1)
        seen();
    if (p[40]) // expect: uninitialized-value from=heap origin=66
        seen();
    free(p);
    return 0;
}

APART static int one_bit(void) {
    struct {
        unsigned low : 3, middle : 1, high : 4;
    } flags;
    memset(&flags, 0, sizeof flags);
    unsigned char *raw = (unsigned char *)&flags, open;
    hide(&open);
    raw[0] = (unsigned char)((open & 8) | 5); /* the middle bit alone is undefined */
    hide(raw);
    if (flags.low == 5)
        seen();
    if (flags.high == 0)
        seen();
    if (flags.middle) // expect: uninitialized-value variable=open
        seen();
    return 0;
}

APART static int switch_on(void) {
    unsigned kind;
    hide(&kind);
    switch (kind) { // expect: uninitialized-value variable=kind
    case 0: return sink + 3;
    case 1: return sink * 5;
    case 2: return sink - 7;
    case 3: return sink / 3;
    case 4: return sink ^ 11;
    default: return 13;
    }
}

/* A frame of one slot, which some compilers make with a push. */
APART static int one_slot(void) {
    int tide;
    if (sscanf("none", "%d", &tide) > 0)
        return 1;
    if (tide > 3) // expect: uninitialized-value from=stack variable=tide
        seen();
    return 0;
}

APART static int *make(void) { int *p = malloc(40); hide(p); return p; }

APART static double average(const double *values, int count) {
    double sum = 0;
    for (int i = 0; i < count; i++)
        sum += values[i];
    return sum / count;
}

/* Copied again and again, also to places of another alignment: the origin stays. */
APART static void moved_often(void) {
    struct berth *a = malloc(40 * sizeof *a), *b = malloc(40 * sizeof *b), local[40];
    char *c = malloc(40 * sizeof *a + 3);
    for (int i = 0; i < 40; i++) {
        a[i].dock = (char)i;
        if (i != 17)
            a[i].length = i;
    }
    for (int round = 0; round < 3; round++) {
        memcpy(b, a, 40 * sizeof *a);
        hide(b);
        memcpy(c + 3, b, 40 * sizeof *a);
    }
    memcpy(local, c + 3, sizeof local);
    hide(local);
    if (local[17].length) // expect: uninitialized-value from=heap
        seen();
    struct berth tide[30];
    for (int i = 0; i < 30; i++)
        if (i != 20)
            tide[i].dock = 1, tide[i].length = 0;
    for (int round = 0; round < 3; round++) {
        hide(tide);
        memcpy(b, tide, sizeof tide);
    }
    hide(b);
    if (b[20].length) // expect: uninitialized-value from=stack variable=tide
        seen();
    memmove(b + 1, b, 29 * sizeof *b);
    hide(b);
    if (b[21].dock) // expect: uninitialized-value from=stack variable=tide
        seen();
    free(a), free(b), free(c);
}

int main(void) {
    moved_often();
    int *p = make();
    sink += branch_on_heap(p);
    sink += branch_on_local(sink < 0);
    if (give_back() == 7) // expect: uninitialized-value from=stack variable=pair
        seen();
    through_memory();
    sink += as_address("abcd");
    sink += grown();
    sink += one_bit();
    sink += one_slot();
    sink += switch_on();
    double *values = malloc(4 * sizeof *values);
    values[0] = values[1] = values[2] = 1;
    hide(values);
    if (average(values, 4) > 3) // expect: uninitialized-value from=heap origin=175
        seen();
    struct berth a, b;
    memset(&b, 0, sizeof b);
    a.dock = 1, a.length = 2;
    b.dock = 1, b.length = 2;
    hide(&a);
    if (memcmp(&a, &b, sizeof a) == 0) // expect: uninitialized-value variable=a
        seen();
    char name[16];
    hide(name);
    if (strlen(name) > 3) // expect: uninitialized-value variable=name
        seen();
    int meets(const void *);
    int *ship = malloc(8);
    ship[0] = 1;
    hide(ship);
    if (meets(ship)) // expect: uninitialized-value from=heap
        seen();
    free(ship);
    free(p);
    free(values);
    return 0;
}

#include "meets.h"

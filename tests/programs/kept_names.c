/* Values on their way out of the frames they are from: each is told with the calls that led
   to its own frame, also when the same function fills and stores one after the other, in
   frames at the same place. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
#define here() __asm__ volatile("")
static volatile int sink;

struct berth {
    char quay; /* padding behind it */
    long draught;
    int number; /* and behind this */
};

static struct berth *plan;
static int planned;

static APART void enter(int number, int deep) {
    struct berth b, *p = &b;
    hide(p);
    p->quay = 'a';
    if (number > 100)
        p->draught = 7;
    p->number = number;
    plan[planned++] = *p;
    here();
    sink = deep;
}

static APART void by_pilot(int number) { enter(number, 1); here(); }
static APART void from_sea(int number) { by_pilot(number); sink = 1; }
static APART void from_river(int number) { by_pilot(number); sink = 2; }

static void stored(void) {
    plan = malloc(40 * sizeof *plan);
    for (int k = 0; k < 5; k++)
        from_sea(k);
    for (int k = 0; k < 5; k++)
        from_river(k);
    for (int k = 0; k < 5; k++)
        from_sea(k);
    hide(plan);
    if (plan[2].draught > 3) // expect: uninitialized-value from=stack variable=b through=from_sea
        sink++;
    if (plan[4].draught > 3) // expect: uninitialized-value from=stack variable=b through=from_sea
        sink++;
    if (plan[7].draught > 3) // expect: uninitialized-value from=stack variable=b through=from_river
        sink++;
    if (plan[9].draught > 3) // expect: uninitialized-value from=stack variable=b through=from_river
        sink++;
    if (plan[13].draught > 3) // expect: uninitialized-value from=stack variable=b through=from_sea
        sink++;
    free(plan);
}

/* In registers: two words of different origin in one. */
struct pair {
    int first, second;
};

static APART struct pair made(int which) {
    int one, two;
    struct pair p;
    int *q = &one, *r = &two;
    hide(q);
    hide(r);
    if (which == 77)
        one = two = 1;
    memcpy(&p.first, q, sizeof one);
    memcpy(&p.second, r, sizeof two);
    return p;
}

static APART struct pair made_at_sea(int which) { struct pair p = made(which); sink = 1; return p; }
static APART struct pair made_ashore(int which) { struct pair p = made(which); sink = 2; return p; }

static void returned(void) {
    struct pair *pairs = malloc(8 * sizeof *pairs);
    for (int k = 0; k < 4; k++)
        pairs[k] = made_at_sea(k);
    for (int k = 4; k < 8; k++)
        pairs[k] = made_ashore(k);
    hide(pairs);
    if (pairs[1].first > 3) // expect: uninitialized-value from=stack variable=one through=made_at_sea
        sink++;
    if (pairs[3].second > 3) // expect: uninitialized-value from=stack variable=two through=made_at_sea
        sink++;
    if (pairs[5].first > 3) // expect: uninitialized-value from=stack variable=one through=made_ashore
        sink++;
    if (pairs[7].second > 3) // expect: uninitialized-value from=stack variable=two through=made_ashore
        sink++;
    free(pairs);
}

/* Both halves of a word are computed with, and shifted out of it. */
static void computed(void) {
    unsigned *left = malloc(40);
    unsigned *right = malloc(48);
    unsigned long both;
    hide(left);
    hide(right);
    memcpy(&both, left, 4);
    memcpy((char *)&both + 4, right, 4);
    hide(both);
    unsigned long upper = both >> 32, sum = upper + 3;
    unsigned lower = (unsigned)both | 16;
    if (sum > 1000) // expect: uninitialized-value from=heap origin=101
        sink++;
    if (lower & 32) // expect: uninitialized-value from=heap origin=100
        sink++;
    free(left);
    free(right);
}

int main(void) {
    stored();
    returned();
    computed();
    return 0;
}

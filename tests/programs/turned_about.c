/* Arrays turned about in place, whose members are from several places: the value that is loaded
   first is stored where the next one is only loaded from. */
#include <stdlib.h>

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

#define BERTHS 13
static APART void turn_about(struct berth *x) {
    for (int i = 0; i < BERTHS / 2; i++) {
        struct berth kept = x[i];
        x[i] = x[BERTHS - 1 - i];
        x[BERTHS - 1 - i] = kept;
    }
}

static APART void *sounding(void) { void *p = malloc(24); hide(p); return p; }
static APART void *survey(void) { void *p = malloc(40); hide(p); return p; }

static APART struct berth *plan(void) {
    struct berth *x = malloc(BERTHS * sizeof *x);
    hide(x);
    for (int i = 0; i < BERTHS; i++) {
        x[i].key = i;
        x[i].quay = 'a';
        x[i].pilot = i;
    }
    return x;
}

int main(void) {
    struct berth *x = plan();
    double *first = sounding(), *second = survey();
    x[2].draught = *first;
    x[9].draught = *second;
    x[5].number = 1;
    x[7].draught = 2;
    for (int round = 0; round < 7; round++)
        turn_about(x);
    if (x[10].draught > 0) // expect: uninitialized-value from=heap origin=26
        sink = 1;
    if (x[3].draught > 0) // expect: uninitialized-value from=heap origin=27
        sink = 2;
    if (x[4].draught > 0) // expect: uninitialized-value from=heap origin=30
        sink = 3;
    if (x[5].draught > 0)
        sink = 4;
    free(first);
    free(second);
    free(x);
    return 0;
}

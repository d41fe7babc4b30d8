/* Arrays put in another order again and again, element by element: most have the same members
   unset, from one place; some differ in what is unset, some in where it is from. */
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

#define BERTHS 40
static APART void turn_about(struct berth *x) {
    for (int i = 0, j = BERTHS - 1; i < j; i++, j--) {
        struct berth kept = x[i];
        x[i] = x[j];
        x[j] = kept;
    }
}

static APART void rotate(struct berth *x) {
    struct berth first = x[0];
    for (int i = 0; i + 1 < BERTHS; i++)
        x[i] = x[i + 1];
    x[BERTHS - 1] = first;
}

static APART void sort(struct berth *x) {
    for (int i = 1; i < BERTHS; i++) {
        struct berth kept = x[i];
        int j = i;
        for (; j > 0 && x[j - 1].number > kept.number; j--)
            x[j] = x[j - 1];
        x[j] = kept;
    }
}

static APART void split(const struct berth *x, struct berth *odd, struct berth *even) {
    int odds = 0, evens = 0;
    for (int i = 0; i < BERTHS; i++)
        if (x[i].number & 1)
            odd[odds++] = x[i];
        else
            even[evens++] = x[i];
}

static APART struct berth *survey(void) { void *p = malloc(3 * sizeof(struct berth)); hide(p); return p; }

static APART struct berth *plan(int factor) {
    struct berth *x = malloc(BERTHS * sizeof *x);
    hide(x);
    for (int i = 0; i < BERTHS; i++) {
        x[i].quay = 'a';
        x[i].pilot = i;
        x[i].number = i * factor % BERTHS;
    }
    return x;
}

/* Berths 7 and 8 are from elsewhere, 9 is complete, 10 lacks its pilot. */
static APART struct berth *varied(int factor) {
    struct berth *x = plan(factor), *other = survey();
    for (int i = 0; i < 2; i++) {
        other[i].quay = 'b';
        other[i].pilot = i;
        other[i].number = x[7 + i].number;
        x[7 + i] = other[i];
    }
    x[9].spare = 1;
    x[10].pilot = other[2].pilot;
    free(other);
    return x;
}

int main(void) {
    struct berth *x = varied(1);
    for (int round = 0; round < 301; round++)
        turn_about(x);
    if (x[32].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[31].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[30].spare)
        sink = 1;
    if (x[29].spare) // expect: uninitialized-value from=heap origin=54
        sink = 1;
    if (x[29].pilot) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[28].pilot)
        sink = 1;
    free(x);

    x = varied(1);
    for (int round = 0; round < 10 * BERTHS + 5; round++)
        rotate(x);
    if (x[2].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[3].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[4].spare)
        sink = 1;
    if (x[5].pilot) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[6].spare) // expect: uninitialized-value from=heap origin=54
        sink = 1;
    free(x);

    struct berth *kept = varied(13); /* numbers 11, 24, 37, 10 */
    x = plan(1);
    struct berth *odd = plan(1), *even = plan(1);
    for (int round = 0; round < 40; round++) {
        for (int i = 0; i < BERTHS; i++)
            x[i] = kept[i];
        sort(x);
        split(x, odd, even);
    }
    if (x[11].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[24].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[37].spare)
        sink = 1;
    if (x[10].pilot) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (x[11].pilot)
        sink = 1;
    if (odd[5].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (odd[6].spare) // expect: uninitialized-value from=heap origin=54
        sink = 1;
    if (odd[18].spare)
        sink = 1;
    if (even[5].pilot) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    if (even[12].spare) // expect: uninitialized-value from=heap origin=51
        sink = 1;
    free(kept);
    free(odd);
    free(even);
    free(x);
    return 0;
}

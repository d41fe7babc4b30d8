/* Loops that store a structure which the compiler keeps in registers, members of it never set,
   again and again: each element says where its members are from, also where the structure
   changes between the rounds, where a pass over it sets single members, and where a loop goes
   beyond the block's end or into one that was freed. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
enum { COUNT = 300, ROUNDS = 60 };

struct berth {
    int number, reserved;
    long metres;
    char kind;
};

static volatile int sink;
static void seen(void) { sink++; }

APART static void fill(struct berth *to, const struct berth *one, int n) {
    struct berth b = *one; /* in registers */
    for (int i = 0; i < n; i++) {
        to[i] = b;
        __asm__ volatile("");
    }
}

APART static void fill_by_turns(struct berth *to, const struct berth *one, const struct berth *two,
                                int n) {
    struct berth a = *one, b = *two;
    for (int i = 0; i < n; i++) {
        if (i & 1)
            to[i] = a;
        else
            to[i] = b;
        __asm__ volatile("");
    }
}

APART static void words(long *to, const long *one, int n) {
    long w = *one;
    for (int i = 0; i < n; i++) {
        to[i] = w; // expect: use-after-free size=2400 by=write count=3
        __asm__ volatile("");
    }
}

APART static void ints(int *to, const int *one, int from, int n) {
    int w = *one;
    for (int i = from; i < n; i++) {
        to[i] = w; // expect: out-of-bounds-write size=1200 offset=1200 access=4 count=1
        __asm__ volatile("");
    }
}

APART static struct berth *berths(int n) { return malloc(sizeof(struct berth) * (size_t)n); }

int main(void) {
    struct berth *all = berths(COUNT);
    struct berth *first = malloc(sizeof *first);
    struct berth *second = malloc(sizeof *second);
    hide(first);
    hide(second);
    first->number = second->number = 1;
    first->metres = second->metres = 7;
    first->kind = second->kind = 'a';
    for (int r = 0; r < ROUNDS; r++) {
        fill(all, first, COUNT);
        hide(all);
        if (all[r].metres != 7 || all[r].number != 1 || all[r].kind != 'a')
            abort();
    }
    if (all[COUNT - 1].reserved > 0) // expect: uninitialized-value origin=61 count=1
        seen();
    for (int r = 0; r < ROUNDS; r++)
        fill(all, r & 1 ? second : first, COUNT);
    *(char *)&first->reserved = 3;
    for (int r = 0; r < ROUNDS; r++)
        fill(all, first, COUNT);
    if ((all[9].reserved & 255) != 3)
        abort();
    for (int r = 0; r < ROUNDS; r++)
        fill(all, r & 1 ? second : first, COUNT);
    second->reserved = 4; /* behind the copies */
    if (all[5].reserved > 0) // expect: uninitialized-value origin=62 count=1
        seen();
    for (int r = 0; r < ROUNDS; r++)
        fill(all, second, COUNT);
    if (all[6].reserved != 4)
        abort();
    struct berth *third = malloc(sizeof *third);
    memset(third, 0, sizeof *third);
    hide(third);
    third->reserved = first->reserved;
    for (int r = 0; r < ROUNDS; r++)
        fill_by_turns(all, first, third, COUNT);
    if (all[7].number != 1 || all[8].number || all[7].kind != 'a' || all[8].kind)
        abort();
    if (all[7].reserved > 0) // expect: uninitialized-value origin=61 count=1
        seen();
    if (all[8].reserved > 0) // expect: uninitialized-value origin=61 count=1
        seen();
    third->reserved = 2;
    for (int r = 0; r < ROUNDS; r++) {
        fill_by_turns(all, first, third, COUNT);
        if (all[10].reserved != 2)
            abort();
    }

    long *row = malloc(sizeof *row * COUNT), *none = malloc(sizeof *none);
    hide(none);
    for (int r = 0; r < ROUNDS; r++)
        words(row, none, COUNT);
    if (row[3] > 0) // expect: uninitialized-value origin=111 count=1
        seen();
    *none = 3;
    for (int r = 0; r < ROUNDS; r++)
        words(row, none, COUNT);
    if (row[3] != 3)
        abort();
    none = realloc(none, 2 * sizeof *none);
    for (int r = 0; r < ROUNDS; r++)
        words(row, none + 1, COUNT);
    free(row);
    words(row, none + 1, 3);
    free(none);

    int *numbers = malloc(sizeof *numbers * COUNT), *nothing = malloc(sizeof *nothing);
    hide(nothing);
    for (int r = 0; r < ROUNDS; r++)
        ints(numbers, nothing, 0, COUNT);
    if (numbers[COUNT - 1] > 0) // expect: uninitialized-value origin=129 count=1
        seen();
    for (int r = 0; r < ROUNDS; r++) /* every other one is set in between */
        for (int k = 0; k < COUNT; k++)
            if (k & 1)
                numbers[k] = r;
            else
                ints(numbers + k, nothing, 0, 1);
    if (numbers[3] != ROUNDS - 1)
        abort();
    for (int r = 0; r < ROUNDS; r++)
        ints(numbers, nothing, 0, COUNT + (r == ROUNDS - 1));
    free(numbers);
    free(nothing);
    free(all), free(first), free(second), free(third);
    return 0;
}

/* Leaf functions that keep a structure with undefined members below the stack pointer: what they
   leave there is undefined for the next one, and not from where the structure was. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct berth {
    int number; /* four bytes of padding behind it */
    long length;
    char kind;
};

static APART void exchange(struct berth *a, struct berth *b) {
    struct berth t = *a;
    *a = *b;
    *b = t;
}

static APART void exchange_longer(struct berth *a, struct berth *b) {
    struct berth t = *a;
    if (t.length > 0)
        *a = *b;
    *b = t;
}

static APART void first(void) {
    long room[3];
    hide(room);
    if (room[0] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

static APART void second(void) {
    long room[3];
    hide(room);
    if (room[1] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

static APART void third(void) {
    long room[3];
    hide(room);
    if ((int)room[2] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

static APART void all(int at) {
    long room[4];
    hide(room);
    if (room[at] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

int main(void) {
    enum { COUNT = 20 };
    struct berth *berths = malloc(COUNT * sizeof *berths);
    for (int i = 0; i < COUNT; i++) {
        berths[i].number = i;
        if (i != 7)
            berths[i].length = 10 * i + 1;
        berths[i].kind = 'a';
    }
    hide(berths);
    for (int round = 0; round < 5; round++)
        for (int i = 0; i < 5; i++)
            exchange(&berths[i], &berths[COUNT - 1 - i]);
    first();
    for (int round = 0; round < 4; round++)
        exchange(&berths[7], &berths[8]);
    exchange(&berths[7], &berths[8]);
    second();
    exchange(&berths[7], &berths[8]);
    third();
    for (int i = 0; i < 5; i++)
        exchange_longer(&berths[i], &berths[COUNT - 1 - i]);
    all(3);
    int wrong = berths[0].number != 19 && berths[0].number != 0;
    if (berths[7].length == 71 || berths[8].length == 5) // expect: uninitialized-value from=heap origin=59
        sink = 2;
    if (berths[2].length == 3)
        sink = 3;
    free(berths);
    return wrong;
}

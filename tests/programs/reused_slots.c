/* Slots of the stack that were given back in the middle of a function, or by one that a mistake
   was told of: what the next function finds there is its own unset variable, and nothing else. */
#include <alloca.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct berth { /* four bytes of padding, and seven at the end */
    int number;
    long length;
    char kind;
};

static APART long taken(struct berth b) { return b.number + b.length; }

static APART void first(void) {
    long room[3];
    hide(room);
    if (room[0] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
    if (room[1] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 2;
    if (room[2] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 3;
}

static APART void second(void) {
    long one;
    hide(&one);
    if (one == 7) // expect: uninitialized-value from=stack variable=one
        sink = 1;
}

static APART void third(void) {
    long other;
    hide(&other);
    if (other == 8) // expect: uninitialized-value from=stack variable=other
        sink = 1;
}

static APART void fourth(void) {
    int few[6];
    hide(few);
    for (int i = 0; i < 6; i++)
        if (few[i] == 7) // expect: uninitialized-value from=stack variable=few
            sink = 1;
}

static APART void look(const void *p) { hide(p); }

#define WIDE(name, number)                                                                    \
    static APART void name(void) {                                                            \
        long wide[12];                                                                        \
        hide(wide);                                                                           \
        for (int i = 0; i < 12; i++)                                                          \
            if (wide[i] == number)

WIDE(behind_room, 2) // expect: uninitialized-value from=stack variable=wide
                sink = 1;
}
WIDE(behind_rounds, 3) // expect: uninitialized-value from=stack variable=wide
                sink = 1;
}
WIDE(behind_alloca, 4) // expect: uninitialized-value from=stack variable=wide
                sink = 1;
}
WIDE(behind_call, 5) // expect: uninitialized-value from=stack variable=wide
                sink = 1;
}

static APART void rooms(const struct berth *p, int n) {
    {
        struct berth all[n];
        for (int i = 0; i < n; i++)
            all[i] = *p;
        look(all);
    }
    behind_room();
    for (int i = 1; i < 3; i++) {
        struct berth all[n + i];
        memcpy(all, p, sizeof *p * (size_t)(n + i));
        look(all);
    }
    behind_rounds();
}

static APART void by_alloca(const struct berth *p, int n) {
    struct berth *all = alloca(sizeof *p * (size_t)n);
    memcpy(all, p, sizeof *p * (size_t)n);
    look(all);
}

/* The last call may be a jump, the frame is given back before it. */
static APART void in_its_place(const struct berth *p) {
    struct berth all[8];
    memcpy(all, p, sizeof all);
    look(all);
    behind_call();
}

int main(void) {
    struct berth *p = malloc(sizeof *p * 20);
    hide(p);
    p->number = 1;
    p->length = 3;
    sink = (int)taken(*p);
    first();
    second();
    sink = (int)taken(*p);
    third();
    sink = (int)taken(*p);
    fourth();
    rooms(p, 4);
    by_alloca(p, 9);
    behind_alloca();
    in_its_place(p);
    free(p);
    return 0;
}

/* Calls that optimisers turn into jumps: no return address is left of the function that
   made them, and yet its line is the one to be told. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")

static volatile int sink;

struct ship {
    char *name;
    void (*leave)(struct ship *);
};

APART static void drop(char *name) {
    sink++;
    free(name); // expect: double-free size=20 allocated=30 freed=19
}

APART static void scrap(struct ship *ship) {
    sink++;
    drop(ship->name);
}

APART static char *name_of(size_t length) {
    sink++;
    hide(length);
    return malloc(length); // expect: leak bytes=30
}

APART static void copy(char *to, const char *from) {
    sink++;
    strcpy(to, from); // expect: out-of-bounds-write size=20 allocated=30
}

APART static void either(int which, char *to) {
    sink++;
    if (which)
        memset(to, 1, 21); // expect: out-of-bounds-write
    else
        copy(to, "a name that is too long for it");
}

/* Through a pointer nobody knows who was called: the line of the call stands. */
APART static void through_pointer(struct ship *ship) {
    ship->leave(ship);
    sink++;
}

APART static void leave(struct ship *ship) {
    sink++;
    ship->name[20] = 0; // expect: out-of-bounds-write
}

APART static void pass_on(struct ship *ship) {
    sink++;
    ship->leave(ship);
}

int main(void) {
    struct ship ship = {name_of(20), leave};
    either(1, ship.name);
    either(0, ship.name);
    through_pointer(&ship);
    pass_on(&ship);
    scrap(&ship);
    scrap(&ship);
    char *lost = name_of(30);
    hide(lost);
    lost = NULL;
    hide(lost);
    return 0;
}

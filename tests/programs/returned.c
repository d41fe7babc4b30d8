/* Values of local variables that were never set, returned by functions whose frames are named by
   the stack pointer, and copies of them that only the debugger knows. */
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

static APART int with_a_call(void) {
    struct {
        int a, b;
    } pair;
    hide(&pair);
    seen();
    return pair.b;
}

static APART int by_a_copy(void) {
    int room[9];
    hide(room);
    int copy = room[3];
    return copy;
}

static APART long larger(int n) {
    long first[20], second[7];
    first[2] = n;
    hide(first);
    hide(second);
    seen();
    return n > 1 ? second[5] : first[2];
}

int main(void) {
    if (with_a_call() == 7) // expect: uninitialized-value from=stack variable=pair
        seen();
    if (by_a_copy() == 7) // expect: uninitialized-value from=stack variable=room
        seen();
    if (larger(1) == 7)
        seen();
    if (larger(2) == 7) // expect: uninitialized-value from=stack variable=second
        seen();
    return 0;
}

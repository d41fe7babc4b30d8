/* Variables of functions that are inlined, and of those they are inlined into: each is told as
   its own function's. */
#include <string.h>

#define APART __attribute__((noinline, noclone))
#define INLINED static inline __attribute__((always_inline))
static volatile int sink;
static APART void seen(void) { sink++; }
static APART void touch(void *p) { __asm__ volatile("" : : "r"(p) : "memory"); }

INLINED void hand_over(int *to, const int *from) { *(volatile int *)to = *(const volatile int *)from; }

INLINED void from_inside(int *to) {
    int inner[3];
    touch(inner);
    hand_over(to, inner + 1);
}

APART static void outside(int *to) {
    int outer[3];
    touch(outer);
    hand_over(to, outer + 1);
    from_inside(to + 1);
}

int main(void) {
    int of[2];
    outside(of);
    if (of[0] > 3) // expect: uninitialized-value variable=outer of=outside
        seen();
    if (of[1] > 3) // expect: uninitialized-value variable=inner of=from_inside
        seen();
    return 0;
}

/* Undefined bytes that go along in pieces across the words of memory, again and again: each is
   told to be from its own place, and so are its neighbours. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;
APART static void seen(void) { sink++; }
APART static unsigned char one(const unsigned char *p) { return *p; }

/* 4 or 2 bytes at any address, as a compiler moves them */
APART static void four(unsigned char *to, const unsigned char *from) { memcpy(to, from, 4); }
APART static void two(unsigned char *to, const unsigned char *from) { memcpy(to, from, 2); }

/* The hole of 7 bytes goes from a local structure in pieces; what lies behind it in the same
   word is another variable. */
struct call {
    char berth, hole[7];
};
APART static void from_local(unsigned char *to) {
    struct {
        struct call call;
        unsigned char other;
    } local;
    unsigned char *from = (unsigned char *)&local;
    hide(from);
    local.call.berth = 3;
    four(to, from + 1);
    four(to + 3, from + 4);
    two(to + 7, from + 7);
}

int main(void) {
    unsigned char *a[5];
    /* made here, one a line */
    a[0] = malloc(21);
    a[1] = malloc(22);
    a[2] = malloc(23);
    a[3] = malloc(24);
    a[4] = malloc(25);
    for (int k = 0; k < 5; k++)
        hide(a[k]);
    for (int round = 0; round < 3000; round++) {
        unsigned char *to = a[3] + 4 * (round % 3);
        four(to + 1, a[round % 3]);
        four(to + 5, a[(round + 1) % 3] + 3);
        two(to + 2, a[(round + 2) % 3] + 7);
        to[6] = 1;
        two(to + 6, a[round % 3] + 1);
        if (round % 3 == 2) {
            a[3][0] = 1;
            four(a[4] + 3, a[3] + 1);
            four(a[4] + 7, a[3] + 6);
            a[4][6] = 1;
        }
    }
    /* round 2997 puts at 0, 2998 at 4, 2999 at 8 */
    if (one(a[3] + 1) > 3) // expect: uninitialized-value from=heap origin=37
        seen();
    if (one(a[3] + 2) > 3) // expect: uninitialized-value from=heap origin=39
        seen();
    if (one(a[3] + 4) > 3) // expect: uninitialized-value from=heap origin=37
        seen();
    if (one(a[3] + 5) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    if (one(a[3] + 7) > 3) // expect: uninitialized-value from=heap origin=37
        seen();
    if (one(a[3] + 8) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    if (one(a[3] + 9) > 3) // expect: uninitialized-value from=heap origin=39
        seen();
    if (one(a[3] + 10) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    if (one(a[3] + 13) > 3) // expect: uninitialized-value from=heap origin=37
        seen();
    if (one(a[3] + 14) > 3) // expect: uninitialized-value from=heap origin=39
        seen();
    if (one(a[3] + 16) > 3) // expect: uninitialized-value from=heap origin=37
        seen();
    if (one(a[3] + 20) > 3) // expect: uninitialized-value from=heap origin=40
        seen();
    if (one(a[4] + 2) > 3) // expect: uninitialized-value from=heap origin=41
        seen();
    if (one(a[4] + 4) > 3) // expect: uninitialized-value from=heap origin=39
        seen();
    if (one(a[4] + 11) > 3) // expect: uninitialized-value from=heap origin=41
        seen();
    unsigned char *made[100];
    for (int round = 0; round < 100; round++) { /* in blocks nobody wrote to */
        made[round] = malloc(26);
        hide(made[round]);
        four(made[round] + 6, a[1]);
    }
    if (one(made[99] + 7) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    if (one(made[97] + 9) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    for (int round = 0; round < 99; round++) {
        four(made[round] + 13, a[2]);
        four(made[round] + 9, made[round] + 14);
    }
    if (one(made[99] + 6) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    if (one(made[98] + 8) > 3) // expect: uninitialized-value from=heap origin=38
        seen();
    if (one(made[98] + 11) > 3) // expect: uninitialized-value from=heap origin=39
        seen();
    if (one(made[98] + 12) > 3) // expect: uninitialized-value from=heap origin=91
        seen();
    if (one(made[97] + 16) > 3) // expect: uninitialized-value from=heap origin=39
        seen();
    if (one(made[97] + 17) > 3) // expect: uninitialized-value from=heap origin=91
        seen();
    for (int round = 0; round < 100; round++)
        free(made[round]);
    for (int round = 0; round < 100; round++)
        from_local(a[0]);
    for (int k = 0; k < 9; k++)
        if (one(a[0] + k) > 3) // expect: uninitialized-value from=stack variable=local
            seen();
    for (int k = 0; k < 5; k++)
        free(a[k]);
    return 0;
}

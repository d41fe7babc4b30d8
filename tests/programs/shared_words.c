/* Bytes from different places side by side in one word: each is told to be from its own. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;
APART static void seen(void) { sink++; }

struct berth {
    unsigned char open, reefer, tanker, barge;
};
struct pair {
    short length;
    unsigned char quay, crane;
};
APART static unsigned char one(const unsigned char *p) { return *p; }
APART static void put(unsigned char *to, const unsigned char *from) { *to = one(from); }

/* In a register, whose parts are taken out by shifts. */
APART static void passed(struct berth b) {
    if (b.open > 3) // expect: uninitialized-value from=heap origin=47
        seen();
    if (b.reefer > 3) // expect: uninitialized-value from=heap origin=48
        seen();
    if (b.tanker > 3) // expect: uninitialized-value from=heap origin=49
        seen();
    if (b.barge > 3) // expect: uninitialized-value from=heap origin=47
        seen();
}

APART static void locals(unsigned char *to) {
    unsigned char heard, said;
    unsigned char *h = &heard, *s = &said;
    hide(h);
    hide(s);
    put(to, h);
    put(to + 1, s);
    put(to + 2, h);
}

int main(void) {
    struct berth b, copy;
    unsigned char *a[6];

    /* made here, one a line */
    a[0] = malloc(11);
    a[1] = malloc(12);
    a[2] = malloc(13);
    a[3] = malloc(40);
    a[4] = malloc(40);
    a[5] = calloc(1, 40);
    for (int k = 0; k < 6; k++)
        hide(a[k]);
    put(&b.open, a[0]);
    put(&b.reefer, a[1]);
    put(&b.tanker, a[2]);
    put(&b.barge, a[0]);
    copy = b;
    passed(b);
    if (one(&copy.open) > 3) // expect: uninitialized-value from=heap origin=47
        seen();
    if (one(&copy.reefer) > 3) // expect: uninitialized-value from=heap origin=48
        seen();
    if (one(&copy.tanker) > 3) // expect: uninitialized-value from=heap origin=49
        seen();
    put(a[3] + 5, a[1]);
    put(a[3] + 6, a[2]);
    put(a[3] + 9, a[0]);
    memcpy(a[4] + 1, a[3] + 2, 20); /* to other places in their words */
    if (one(a[3] + 4) > 3) // expect: uninitialized-value from=heap origin=50
        seen();
    if (one(a[3] + 5) > 3) // expect: uninitialized-value from=heap origin=48
        seen();
    if (one(a[3] + 7) > 3) // expect: uninitialized-value from=heap origin=50
        seen();
    if (one(a[4] + 4) > 3) // expect: uninitialized-value from=heap origin=48
        seen();
    if (one(a[4] + 5) > 3) // expect: uninitialized-value from=heap origin=49
        seen();
    if (one(a[4] + 6) > 3) // expect: uninitialized-value from=heap origin=50
        seen();
    if (one(a[4] + 8) > 3) // expect: uninitialized-value from=heap origin=47
        seen();
    if (one(a[4]) > 3) // expect: uninitialized-value from=heap origin=51
        seen();
    struct pair p, *q = (struct pair *)a[5];
    memcpy(&p.length, a[0] + 2, 2);
    p.quay = a[1][3];
    p.crane = a[2][3];
    q[1] = p;
    p = q[1];
    if (q[1].length > 3) // expect: uninitialized-value from=heap origin=47
        seen();
    if (one(&p.quay) > 3) // expect: uninitialized-value from=heap origin=48
        seen();
    if (one(&p.crane) > 3) // expect: uninitialized-value from=heap origin=49
        seen();
    unsigned char names[8];
    locals(names + 1);
    if (one(names + 1) > 3) // expect: uninitialized-value from=stack variable=heard
        seen();
    if (one(names + 2) > 3) // expect: uninitialized-value from=stack variable=said
        seen();
    if (one(names + 3) > 3) // expect: uninitialized-value from=stack variable=heard
        seen();
    if (one(names) > 3) // expect: uninitialized-value from=stack variable=names
        seen();
    for (int k = 0; k < 6; k++)
        free(a[k]);
    return 0;
}

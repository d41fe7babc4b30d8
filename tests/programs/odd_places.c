/* Members at odd places, copied from blocks of several origins by the same code: words of which
   only some bytes have one. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct __attribute__((packed)) mark {
    char lamp;
    int depth;
    short bearing;
    long buoy;
    char colour;
};

static APART void copy_depth(struct mark *to, const struct mark *from) { to->depth = from->depth; }
static APART void copy_bearing(struct mark *to, const struct mark *from) { to->bearing = from->bearing; }
static APART void copy_buoy(struct mark *to, const struct mark *from) { to->buoy = from->buoy; }
static APART void copy_lamp(struct mark *to, const struct mark *from) { to->lamp = from->lamp; }
static APART void copy_colour(struct mark *to, const struct mark *from) { to->colour = from->colour; }

#define MARKS 16
static APART struct mark *inner(void) { struct mark *p = malloc((MARKS + 1) * sizeof *p); hide(p); return p; }
static APART struct mark *outer(void) { struct mark *p = malloc((MARKS + 2) * sizeof *p); hide(p); return p; }
static APART struct mark *river(void) { struct mark *p = malloc(MARKS * sizeof *p); hide(p); return p; }

static APART void copy_all(struct mark *to, struct mark *a, struct mark *b, struct mark *c) {
    for (int i = 0; i < MARKS; i++) {
        copy_lamp(&to[i], &c[i]);
        copy_depth(&to[i], &a[i]);
        copy_bearing(&to[i], &b[i]);
        copy_buoy(&to[i], &c[i]);
        copy_colour(&to[i], &b[i]);
    }
}

int main(void) {
    struct mark *a = inner(), *b = outer(), *c = river(), to[MARKS], back[MARKS];
    for (int i = 0; i < MARKS; i++) {
        if (i % 4 == 1)
            a[i].depth = i;
        if (i % 4 == 2)
            b[i].bearing = (short)i;
        if (i % 4 == 3)
            c[i].buoy = i;
        if (i % 3 == 0)
            c[i].lamp = 'a';
    }
    for (int round = 0; round < 200; round++) {
        copy_all(to, a, b, c);
        copy_all(back, to, to, to);
        copy_all(to, b, c, a);
        copy_all(to, back, back, back);
        hide(to);
        hide(back);
    }
    if (to[4].depth > 0) // expect: uninitialized-value from=heap origin=25
        sink = 1;
    if (to[4].bearing > 0) // expect: uninitialized-value from=heap origin=26
        sink = 2;
    if (to[4].buoy > 0) // expect: uninitialized-value from=heap origin=27
        sink = 3;
    if (to[4].colour > 0) // expect: uninitialized-value from=heap origin=26
        sink = 4;
    if (to[7].lamp > 0) // expect: uninitialized-value from=heap origin=27
        sink = 5;
    if (to[5].depth > 0 && to[6].bearing > 0 && to[7].buoy > 0 && to[6].lamp > 0)
        sink = 6;
    if (to[9].bearing > 0) // expect: uninitialized-value from=heap origin=26
        sink = 7;
    if (to[10].buoy > 0) // expect: uninitialized-value from=heap origin=27
        sink = 8;
    if (to[11].depth > 0) // expect: uninitialized-value from=heap origin=25
        sink = 9;
    free(a);
    free(b);
    free(c);
    return 0;
}

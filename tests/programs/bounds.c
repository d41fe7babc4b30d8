/* Reads and writes just outside heap blocks, of every common width. */
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

volatile int sink;
volatile uint64_t wide_sink;

int main(void) {
    volatile int *many = malloc(100);
    for (int i = 0; i < 100; i++)
        many[i] = i; // expect: out-of-bounds-write size=100 offset=100 where=after count=75 access=4 allocated=10
    char *c = malloc(5);
    c[0] = 1;
    sink = c[5]; // expect: out-of-bounds-read size=5 offset=5 where=after access=1
    sink = c[-1]; // expect: out-of-bounds-read size=5 offset=-1 where=before
    c[6] = 0; // expect: out-of-bounds-write size=5 offset=6
    uint64_t *w = malloc(12);
    w[0] = 7;
    wide_sink = w[1]; // expect: out-of-bounds-read size=12 offset=12 where=after access=8
    short *s = calloc(3, 2);
    s[3] = 1; // expect: out-of-bounds-write size=6 offset=6 access=2
    double *d = malloc(8 * sizeof *d);
    d[8] = 1.5; // expect: out-of-bounds-write size=64 offset=64 access=8
    char *big = malloc(3000000);
    big[3000000] = 1; // expect: out-of-bounds-write size=3000000 offset=3000000
    sink = big[-3]; // expect: out-of-bounds-read size=3000000 offset=-3
    volatile int *far = malloc(40);
    far[5000] = 1; // expect: out-of-bounds-write size=40 offset=20000 where=after
    sink = far[-3]; // expect: out-of-bounds-read size=40 offset=-12
    volatile char *room = malloc(400000);
    room[450000] = 1; // expect: out-of-bounds-write size=400000 offset=450000
    struct ship {
        int number;
        char name[28];
        double length;
    } *fleets[40]; /* one element too far, with neighbours in use on both sides */
    for (int i = 0; i < 40; i++)
        fleets[i] = calloc(10, sizeof(struct ship));
    fleets[20][10].length = 84; // expect: out-of-bounds-write size=400 offset=432 access=8
    for (int i = 0; i < 40; i++)
        free(fleets[i]);
    volatile int *rows[40]; /* and by many elements of a small block */
    for (int i = 0; i < 40; i++)
        rows[i] = calloc(10, sizeof(int));
    rows[20][30] = 1; // expect: out-of-bounds-write size=40 offset=120 where=after
    sink = rows[20][-20]; // expect: out-of-bounds-read
    for (int i = 0; i < 40; i++)
        free((void *)rows[i]);
    char *empty = malloc(0);
    sink = empty[0]; // expect: out-of-bounds-read size=0 offset=0 where=after
    free(empty);
    free((void *)far);
    free((void *)room);
    free(big);
    free(d);
    free(s);
    free(w);
    free(c);
    free((void *)many);
    return 0;
}

/* Frames below the stack pointer are undefined again whatever was there before: leaf
   functions with data in the red zone, entered clean and left with undefined values. */
#include <stdlib.h>
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

struct berth {
    int m[6];
};

static APART int get(const struct berth *b, int i) { return b->m[i]; }

static APART void leave(struct berth *to) {
    struct berth local;
    hide(&local);
    local.m[0] = 9;
    hide(&local);
    *to = local;
}

static APART void after_a_leaf(void) {
    struct berth a, b;
    hide(&a);
    hide(&b);
    a.m[0] = get(&a, 2); /* its parameters lie where `local` will be */
    leave(&b);
    hide(&b);
    if (b.m[1] > 5) // expect: uninitialized-value
        seen();
    if (b.m[2] > 5) // expect: uninitialized-value
        seen();
    if (b.m[3] > 5) // expect: uninitialized-value
        seen();
    if (b.m[4] > 5) // expect: uninitialized-value
        seen();
    if (b.m[5] > 5) // expect: uninitialized-value
        seen();
}

/* A frame and below it the red zone. */
static APART long wide(long n) {
    long room[8];
    __asm__ volatile("sub $0x30, %%rsp\n\t"
                     "movq %1, -0x6c(%%rsp)\n\t"
                     "movq %1, -0x78(%%rsp)\n\t"
                     "add $0x30, %%rsp"
                     : "=m"(room)
                     : "r"(n)
                     : "memory", "cc");
    return n;
}

static APART long bottom(void) { /* what the red zone of `wide` was */
    long room[32];
    hide(room);
    for (int i = 0; i < 32; i++)
        if (room[i] > 5) // expect: uninitialized-value
            return 1;
    return 0;
}

/* One value is told once; what stands where it came from now is another. */
static APART void swapped(void) {
    short m[4];
    hide(m);
    short q = m[0];
    seen();
    m[0] = m[2];
    m[2] = q;
    hide(m);
    if (m[0] > 5) // expect: uninitialized-value
        seen();
    if (m[2] > 5) // expect: uninitialized-value
        seen();
    if (m[1] > 5) // expect: uninitialized-value
        seen();
    if (m[3] > 5) // expect: uninitialized-value
        seen();
}

/* A leaf whose red zone is written through pointers, and that copies padding half-way: all of
   it is given up at the return. */
struct holes {
    char a;
    long b;
    char c;
};
static APART long leaf(struct holes *to, const struct holes *from, long n) {
    long room[10];
    for (volatile long *p = room; p < room + 10; p++)
        *p = n;
    *to = *from;
    room[2] += n;
    *to = *from;
    return room[2] + room[0];
}

static APART void taken(void) { /* its room is where that of `leaf` was, and not set */
    long room[10];
    volatile long *p = room;
    for (int k = 0; k < 9; k++)
        if (p[k] > 5) // expect: uninitialized-value
            seen();
}

/* The same with a slot of 4 bytes as the lowest: its caller's slots stay as they are. */
static APART _Complex double halves(int n) {
    _Complex double pair;
    __real pair = n + 1;
    __imag pair = n - 1;
    return pair;
}
static APART void sum(double *to) { *to = __real halves(5); }

static APART void half_way(void) {
    struct holes *a = malloc(sizeof *a), *b = malloc(sizeof *b);
    a->a = a->b = a->c = 1;
    hide(a);
    hide(b);
    for (int k = 0; k < 50; k++)
        leaf(b, a, k);
    taken();
    double total;
    sum(&total);
    if (total > 1000)
        seen();
    free(a);
    free(b);
}

int main(void) {
    half_way();
    after_a_leaf();
    wide(1);
    if (bottom())
        seen();
    swapped();
    return 0;
}

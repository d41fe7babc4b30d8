/* Frames that are aligned to more than the stack is: their variables stand at no fixed distance
   from the frame's address. */
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

struct wide {
    _Alignas(64) long m[8];
};
static APART void fill(struct wide *w, long n) {
    for (int i = 0; i < 8; i++)
        w->m[i] = n;
}
static APART int all(struct wide w, const struct wide *other) {
    if (other->m[3] > 3) // expect: uninitialized-value from=stack variable=second
        seen();
    return w.m[0] > 3;
}

/* The structure goes by value, on the stack: the stack pointer moves in the body. */
static APART int passes(long n) {
    struct wide first, second, third;
    fill(&first, n);
    fill(&third, n);
    hide(&second);
    if (second.m[1] > 3) // expect: uninitialized-value from=stack variable=second
        seen();
    return all(first, &second) + all(third, &first);
}

static APART int stands(long n) {
    struct wide first, second;
    fill(&first, n);
    hide(&second);
    if (second.m[1] > 3) // expect: uninitialized-value from=stack variable=second
        seen();
    return (int)first.m[0];
}

static APART int below(int n) {
    volatile char room[16 * n + 1];
    room[0] = 1;
    return passes(room[0]) + stands(room[0]);
}

int main(void) {
    for (int n = 1; n < 5; n++)
        sink += below(n);
    return 0;
}

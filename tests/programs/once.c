/* Structures passed about in code that runs once: what is known of its loads is little, and each
   place has to be right the first time. */
#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }
static APART void nothing(void) { __asm__ volatile(""); }

struct berth {
    long m[4];
};

static APART struct berth measured(struct berth b) {
    b.m[2] = 7;
    return b;
}

static APART long chosen(long a, long b, long c) { return sink ? c : a + b; }

int main(void) {
    struct berth a;
    hide(&a);
    struct berth b;
    hide(&b);
    a.m[3] = chosen(1, 2, a.m[1]);
    a = measured(b);
    hide(&a);
    hide(&b);
    {
        struct berth x[3];
        x[0] = a;
        x[1] = a;
        x[2] = x[0];
        hide(x);
        a = x[1];
    }
    {
        long kept = a.m[3];
        nothing();
        a.m[3] = a.m[1];
        a.m[1] = kept;
    }
    hide(&a);
    if (a.m[0] >= 6) // expect: uninitialized-value from=stack variable=b
        seen();
    if (a.m[1] >= 6) // expect: uninitialized-value from=stack variable=b
        seen();
    if (a.m[2] >= 6)
        seen();
    if (a.m[3] >= 6) // expect: uninitialized-value from=stack variable=b
        seen();
    return 0;
}

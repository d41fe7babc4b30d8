/* A frame that is given back is undefined to its last word, whatever its size, and what
   lies above it stays as it was. */
#include <alloca.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

static APART void grown(unsigned n) {
    char *room = alloca(n);
    memset(room, 1, n);
    hide(room);
}

#define FIXED(N)                                                                                   \
    static APART void fixed_##N(unsigned n) {                                                      \
        char room[N];                                                                              \
        memset(room, 1, n);                                                                        \
        hide(room);                                                                                \
    }
FIXED(24) FIXED(104) FIXED(128) FIXED(136) FIXED(248) FIXED(1000) FIXED(1024) FIXED(1032)
FIXED(1152) FIXED(1160) FIXED(2040) FIXED(4000) FIXED(9000) FIXED(70000)

static const struct {
    unsigned size;
    void (*run)(unsigned);
} fixed[] = {
#define ROW(N) {N, fixed_##N}
    ROW(24),   ROW(104),  ROW(128),  ROW(136),  ROW(248),  ROW(1000), ROW(1024),
    ROW(1032), ROW(1152), ROW(1160), ROW(2040), ROW(4000), ROW(9000), ROW(70000),
};

static APART void look(unsigned n) {
    char *room = alloca(n);
    hide(room);
    for (unsigned i = 0; i < n; i += 8)
        if (room[i] > 5) // expect: uninitialized-value count=39406
            seen();
}

static APART void use(void (*run)(unsigned), unsigned n) {
    char mine[64];
    memset(mine, 7, sizeof mine);
    hide(mine);
    run(n);
    hide(mine);
    for (int i = 0; i < 64; i++)
        if (mine[i] != 7)
            sink = -1;
    look(n);
}

static APART void use_all(void) {
    enum { GROWN = 174, LARGER = GROWN + 25, ALL = LARGER + sizeof fixed / sizeof *fixed };
    for (unsigned i = 0; i < ALL; i++) {
        void (*volatile run)(unsigned) = i < LARGER ? grown : fixed[i - LARGER].run;
        volatile unsigned n = i < GROWN    ? 8 * (i + 1)
                              : i < LARGER ? 4000 + 8 * (i - GROWN)
                                           : fixed[i - LARGER].size;
        use(run, n); /* from one place, so that it is one finding */
    }
}

int main(void) {
    use_all();
    return sink < 0;
}

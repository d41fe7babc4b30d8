/* Unset variables of signal handlers, which no call leads to, and of what they call. */
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

static APART int within(void) {
    short at[5];
    hide(at);
    if (at[3] == 4) // expect: uninitialized-value from=stack variable=at
        seen();
    return sink;
}

static void many(int number) {
    long mine[6];
    hide(mine);
    for (int i = 0; i < 6; i++)
        if (mine[i] == 7) // expect: uninitialized-value from=stack variable=mine
            seen();
    sink += within() + number;
}

static void single(int number) {
    int one;
    (void)number;
    hide(&one);
    if (one == 3) // expect: uninitialized-value from=stack variable=one
        seen();
}

static sigjmp_buf back;

static void leaving(int number) { siglongjmp(back, number); }

static APART int deeper(int n) {
    int few[4];
    hide(few);
    if (n > 0)
        return deeper(n - 1) + sink;
    if (few[1] == 6) // expect: uninitialized-value from=stack variable=few
        seen();
    return sink;
}

/* More of them than are kept in mind at a time. */
static APART void left_by_jumps(void) {
    volatile int times = 0;
    while (times++ < 12)
        if (!sigsetjmp(back, 1))
            raise(SIGALRM);
    sink += deeper(40);
}

static APART void raised(void) {
    int before = 4, unset[2];
    hide(unset);
    raise(SIGUSR1);
    raise(SIGUSR2);
    if (before == 3)
        seen();
    if (unset[1] == 3) // expect: uninitialized-value from=stack variable=unset
        seen();
}

int main(void) {
    signal(SIGUSR1, many);
    signal(SIGUSR2, single);
    signal(SIGALRM, leaving);
    left_by_jumps();
    raised();
    return 0;
}

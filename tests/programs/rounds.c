/* Loops that copy structures with undefined padding for so long that they run in a version
   of their own: signals and threads come in between, blocks end, members change, and what
   goes on then has to be told as ever. */
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/time.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
enum { COUNT = 200, ROUNDS = 400 };

struct berth {
    char quay;
    long metres;
    short draught;
    int reserved;
};

static struct berth *from;
static volatile sig_atomic_t ticks;
static volatile int sink;
static void seen(void) { sink++; }

APART static void copy(struct berth *to, const struct berth *b, int n) {
    for (int i = 0; i < n; i++)
        to[i] = b[i];
}

APART static void turn(struct berth *b, int n) {
    for (int i = 0; i < n / 2; i++) {
        struct berth t = b[i];
        b[i] = b[n - 1 - i];
        b[n - 1 - i] = t;
    }
}

static void tick(int number) {
    struct berth here[20];
    (void)number;
    copy(here, from, 20);
    hide(here);
    if (here[7].metres != 7)
        abort();
    ticks++;
}

static void *other(void *p) {
    struct berth *a = malloc(COUNT * sizeof *a), *b = malloc(COUNT * sizeof *b);
    copy(a, from, COUNT);
    for (int r = 0; r < ROUNDS; r++) {
        copy(b, a, COUNT);
        turn(b, COUNT);
        copy(a, b, COUNT);
    }
    hide(a);
    if (a[3].reserved > 0) // expect: uninitialized-value
        seen();
    if (a[COUNT - 1].metres + a[0].metres != COUNT - 1)
        abort();
    free(a), free(b);
    return p;
}

int main(void) {
    struct sigaction action = {.sa_handler = tick};
    struct itimerval often = {{0, 500}, {0, 500}}, never = {{0, 0}, {0, 0}};
    pthread_t thread;
    struct berth *to = malloc(COUNT * sizeof *to);
    from = malloc(COUNT * sizeof *from);
    for (int i = 0; i < COUNT; i++) {
        from[i].quay = 1, from[i].metres = i, from[i].draught = 2;
        if (i != 3 && i != COUNT - 4)
            from[i].reserved = 0;
    }
    sigaction(SIGALRM, &action, NULL);
    setitimer(ITIMER_REAL, &often, NULL);
    pthread_create(&thread, NULL, other, NULL);
    for (int r = 0; r < ROUNDS || ticks < 20; r++) {
        copy(to, from, COUNT);
        turn(to, COUNT);
        turn(to, COUNT);
    }
    setitimer(ITIMER_REAL, &never, NULL);
    pthread_join(thread, NULL);
    hide(to);
    if (to[3].reserved > 0) // expect: uninitialized-value
        seen();
    if (to[4].reserved > 0)
        seen();
    to[5].reserved = from[3].reserved; /* by a move of 4 bytes, and from there with the rest */
    copy(from, to, COUNT);
    hide(from);
    if (from[5].reserved > 0) // expect: uninitialized-value
        seen();
    if (from[6].reserved > 0)
        seen();
    struct berth *few = malloc((COUNT - 1) * sizeof *few);
    copy(few, to, COUNT - 1);
    copy(few, to, COUNT - 1);
    copy(to, few, COUNT - 1);
    if (to[3].quay != 1 || to[COUNT - 2].draught != 2)
        abort();
    free(few), free(to), free(from);
    printf("%d\n", ticks >= 20);
    return 0;
}

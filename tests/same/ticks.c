/* Threads that move structures with undefined padding about while signals come in: each may
   stop one in the middle of what follows the padding. */
#include <pthread.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/time.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
enum { THREADS = 4, BERTHS = 100, ROUNDS = 60000 };

struct berth {
    char quay;
    long draught;
    int number;
    short free;
};

static __thread struct berth *plan;
static volatile long ticks;

static APART void enter(int number) {
    struct berth b, *p = &b;
    hide(p);
    p->quay = (char)number;
    p->draught = number;
    p->number = number;
    plan[number % BERTHS] = *p;
}

static APART struct berth made(int number) {
    struct berth b, *p = &b;
    hide(p);
    p->quay = (char)number;
    p->draught = number;
    p->number = number;
    return *p;
}

static void *work(void *unused) {
    long sum = 0;
    plan = malloc(BERTHS * sizeof *plan);
    for (int k = 0; k < BERTHS; k++)
        enter(k);
    for (int k = 0; k < ROUNDS; k++) {
        enter(k);
        plan[(k + 7) % BERTHS] = made(k);
        struct berth b = plan[k % BERTHS];
        plan[k % BERTHS] = plan[(k + 1) % BERTHS];
        plan[(k + 1) % BERTHS] = b;
        memcpy(&plan[(k + 5) % BERTHS].free, &plan[k % BERTHS].free, 2);
        sum += b.number;
        memcpy(plan + 50, plan, 20 * sizeof *plan);
    }
    free(plan);
    return (void *)sum;
    (void)unused;
}

static void on_tick(int number) {
    struct berth b, *p = &b;
    hide(p);
    p->number = number;
    struct berth copy = *p, *q = &copy;
    hide(q);
    ticks++;
}

int main(void) {
    struct itimerval often = {{0, 300}, {0, 300}}, never = {{0, 0}, {0, 0}};
    pthread_t threads[THREADS];
    long sum = 0;
    signal(SIGALRM, on_tick);
    setitimer(ITIMER_REAL, &often, 0);
    for (int k = 0; k < THREADS; k++)
        pthread_create(&threads[k], 0, work, 0);
    for (int k = 0; k < THREADS; k++) {
        void *part;
        pthread_join(threads[k], &part);
        sum += (long)part;
    }
    setitimer(ITIMER_REAL, &never, 0);
    printf("%ld %d\n", sum, ticks > 0);
    return 0;
}

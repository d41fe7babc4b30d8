/* Threads of every kind: many at once, in storms, cancelled, with stacks and
   thread-local data of their own, robust and priority-inheriting locks. */
#define _GNU_SOURCE
#include <errno.h>
#include <limits.h>
#include <linux/futex.h>
#include <pthread.h>
#include <sched.h>
#include <semaphore.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

static pthread_mutex_t lock = PTHREAD_MUTEX_INITIALIZER;
static pthread_cond_t all_here = PTHREAD_COND_INITIALIZER;
static int here, cleaned;
static _Thread_local int mine = 7;
static _Thread_local char big[5000];
static atomic_int total;

static void *waits(void *number) {
    mine += (int)(long)number;
    memset(big, (int)(long)number, sizeof big);
    pthread_mutex_lock(&lock);
    if (++here == 300)
        pthread_cond_broadcast(&all_here);
    while (here < 300)
        pthread_cond_wait(&all_here, &lock);
    pthread_mutex_unlock(&lock);
    return (void *)(long)(mine + big[4999]);
}

static void at_once(void) {
    static pthread_t threads[300];
    pthread_attr_t attributes;
    pthread_attr_init(&attributes);
    pthread_attr_setstacksize(&attributes, 65536);
    long sum = 0;
    for (long i = 0; i < 300; i++)
        if (pthread_create(&threads[i], &attributes, waits, (void *)(i % 100)))
            printf("no thread %ld\n", i);
    for (int i = 0; i < 300; i++) {
        void *result;
        pthread_join(threads[i], &result);
        sum += (long)result;
    }
    printf("300 at once: %ld\n", sum);
}

static void *adds(void *p) {
    char *block = malloc(100);
    memset(block, 1, 100);
    atomic_fetch_add(&total, block[99]);
    free(block);
    return p;
}

static void storm(void) {
    pthread_attr_t detached;
    pthread_attr_init(&detached);
    pthread_attr_setdetachstate(&detached, PTHREAD_CREATE_DETACHED);
    for (int i = 0; i < 1500; i++) {
        pthread_t t;
        while (pthread_create(&t, i % 2 ? &detached : NULL, adds, NULL))
            usleep(500);
        if (i % 2 == 0)
            pthread_join(t, NULL);
    }
    while (atomic_load(&total) < 1500)
        usleep(1000);
    printf("storm: %d\n", total);
}

static void clean(void *p) { cleaned += (int)(long)p; }
static void *cancelled(void *p) {
    pthread_cleanup_push(clean, (void *)1);
    pthread_cleanup_push(clean, (void *)10);
    for (;;)
        sleep(100);
    pthread_cleanup_pop(0);
    pthread_cleanup_pop(0);
    return p;
}
static void *spins(void *p) {
    pthread_setcanceltype(PTHREAD_CANCEL_ASYNCHRONOUS, NULL);
    for (volatile int i = 0;; i++)
        ;
    return p;
}

static void cancellation(void) {
    for (int i = 0; i < 20; i++) {
        pthread_t t;
        void *result;
        pthread_create(&t, NULL, i % 2 ? cancelled : spins, NULL);
        usleep(1000);
        pthread_cancel(t);
        pthread_join(t, &result);
        if (result != PTHREAD_CANCELED)
            puts("not cancelled");
    }
    printf("cancelled: cleaned %d\n", cleaned);
}

static pthread_mutex_t robust;
static void *dies(void *p) {
    pthread_mutex_lock(&robust);
    return p;
}

static void locks(void) {
    pthread_mutexattr_t a;
    pthread_t t;
    pthread_mutexattr_init(&a);
    pthread_mutexattr_setrobust(&a, PTHREAD_MUTEX_ROBUST);
    pthread_mutex_init(&robust, &a);
    pthread_create(&t, NULL, dies, NULL);
    pthread_join(t, NULL);
    int r = pthread_mutex_lock(&robust);
    printf("robust: %s\n", r == EOWNERDEAD ? "owner died" : "?");
    pthread_mutex_consistent(&robust);
    pthread_mutex_unlock(&robust);
    pthread_mutexattr_init(&a);
    pthread_mutexattr_setprotocol(&a, PTHREAD_PRIO_INHERIT);
    pthread_mutex_t pi;
    pthread_mutex_init(&pi, &a);
    for (int i = 0; i < 1000; i++) {
        pthread_mutex_lock(&pi);
        pthread_mutex_unlock(&pi);
    }
    pthread_barrier_t barrier;
    pthread_barrier_init(&barrier, NULL, 1);
    pthread_barrier_wait(&barrier);
    sem_t s;
    sem_init(&s, 0, 1);
    sem_wait(&s);
    sem_post(&s);
    printf("locks done\n");
}

static int raw(void *p) {
    *(int *)p = 5;
    return 0;
}

static void *own_stack(void *p) {
    char deep[20000];
    memset(deep, 3, sizeof deep);
    *(int *)p = deep[19999];
    return NULL;
}

static void stacks(void) {
    static char stack[65536] __attribute__((aligned(4096)));
    int value = 0;
    int tid = clone(raw, stack + sizeof stack,
                    CLONE_VM | CLONE_FS | CLONE_FILES | CLONE_SIGHAND | SIGCHLD, &value);
    waitpid(tid, NULL, 0);
    printf("raw clone: %d\n", value);
    pthread_attr_t a;
    pthread_t t;
    pthread_attr_init(&a);
    void *area = mmap(NULL, 1 << 20, 3, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    pthread_attr_setstack(&a, area, 1 << 20);
    pthread_create(&t, &a, own_stack, &value);
    pthread_join(t, NULL);
    munmap(area, 1 << 20);
    printf("stack given: %d\n", value);
}

static pthread_key_t key;
static void key_ends(void *p) { atomic_fetch_add(&total, (int)(long)p); }
static void *with_key(void *p) {
    pthread_setspecific(key, (void *)100);
    return p;
}

static void *ends_all(void *p) {
    usleep(20000);
    printf("exit from a thread\n");
    fflush(stdout);
    _exit(9);
    return p;
}

int main(void) {
    setvbuf(stdout, NULL, _IOLBF, 0);
    at_once();
    storm();
    cancellation();
    locks();
    stacks();
    pthread_key_create(&key, key_ends);
    pthread_t t[4];
    for (int i = 0; i < 4; i++)
        pthread_create(&t[i], NULL, with_key, NULL);
    for (int i = 0; i < 4; i++)
        pthread_join(t[i], NULL);
    printf("keys: %d\n", total);
    pthread_create(&t[0], NULL, ends_all, NULL);
    for (;;)
        pause();
}

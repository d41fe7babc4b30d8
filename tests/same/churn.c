/* Code rewritten again and again while other threads never leave theirs: what was
   translated must be given up in time. */
#define _GNU_SOURCE
#include <pthread.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <unistd.h>

static volatile int stop, turns;
static volatile sig_atomic_t ticks;

static void tick(int number) {
    (void)number;
    ticks++;
}

__attribute__((noinline)) static unsigned step(unsigned x) { return x * 1664525 + 1013904223; }

static void *spin(void *argument) {
    unsigned x = (unsigned)(uintptr_t)argument;
    while (!stop) {
        unsigned y = step(x), z = y;
        for (int i = 0; i < 1000; i++)
            z = step(z);
        x = z;
    }
    return 0;
}

enum { FUNCTIONS = 512, SIZE = 512 };

int main(void) {
    pthread_t threads[3];
    struct sigaction a = {.sa_handler = tick, .sa_flags = SA_RESTART};
    sigaction(SIGALRM, &a, 0);
    for (int i = 0; i < 3; i++)
        pthread_create(&threads[i], 0, spin, (void *)(uintptr_t)i);
    uint8_t *code = mmap(0, FUNCTIONS * SIZE, PROT_READ | PROT_WRITE | PROT_EXEC,
                         MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    uint64_t sum = 0;
    for (int round = 0; round < 400; round++) {
        alarm(round % 100 == 0);
        mprotect(code, FUNCTIONS * SIZE, PROT_READ | PROT_WRITE);
        for (int f = 0; f < FUNCTIONS; f++) {
            uint8_t *at = code + f * SIZE;
            *at++ = 0x31, *at++ = 0xc0; /* xor eax, eax */
            for (int k = 0; k < 20; k++) {
                int32_t n = round * 31 + f + k;
                *at++ = 0x05; /* add eax, n */
                memcpy(at, &n, 4);
                at += 4;
                *at++ = 0x74, *at++ = 0; /* je to the next: a branch */
            }
            *at++ = 0xc3;
        }
        mprotect(code, FUNCTIONS * SIZE, PROT_READ | PROT_EXEC);
        for (int f = 0; f < FUNCTIONS; f++)
            sum += ((unsigned (*)(void))(code + f * SIZE))();
    }
    stop = 1;
    for (int i = 0; i < 3; i++)
        pthread_join(threads[i], 0);
    struct rusage usage;
    getrusage(RUSAGE_SELF, &usage);
    printf("%llu %s\n", (unsigned long long)sum, usage.ru_maxrss < 250000 ? "small" : "large");
    return 0;
}

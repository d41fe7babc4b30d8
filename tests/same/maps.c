/* Threads that map, remap and unmap at once: nobody's pages go to another. */
#define _GNU_SOURCE
#include <pthread.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>

static int wrong;

static void check(uint64_t *p, size_t words, uint64_t value) {
    for (size_t i = 0; i < words; i += 64)
        if (p[i] != value)
            __atomic_add_fetch(&wrong, 1, __ATOMIC_RELAXED);
}

static void fill(uint64_t *p, size_t words, uint64_t value) {
    for (size_t i = 0; i < words; i += 64)
        p[i] = value;
}

static void *work(void *argument) {
    uint64_t value = (uint64_t)(uintptr_t)argument << 32;
    int flags = MAP_PRIVATE | MAP_ANONYMOUS;
    for (int round = 0; round < 150; round++) {
        value++;
        char *area = mmap(0, 1 << 18, PROT_NONE, flags | MAP_NORESERVE, -1, 0);
        char *kept = mmap(area + 65536, 65536, PROT_READ | PROT_WRITE, flags | MAP_FIXED, -1, 0);
        fill((uint64_t *)kept, 8192, value);
        char *other = mmap(kept, 65536, PROT_READ | PROT_WRITE, flags, -1, 0); /* a hint */
        fill((uint64_t *)other, 8192, ~value);
        kept = mmap(kept, 65536, PROT_READ | PROT_WRITE, flags | MAP_FIXED, -1, 0);
        check((uint64_t *)kept, 8192, 0);
        fill((uint64_t *)kept, 8192, value);
        other = mremap(other, 65536, 196608, MREMAP_MAYMOVE);
        check((uint64_t *)other, 8192, ~value);
        fill((uint64_t *)other, 24576, ~value);
        check((uint64_t *)kept, 8192, value);
        munmap(area, 1 << 18);
        check((uint64_t *)other, 24576, ~value);
        munmap(other, 196608);
    }
    return 0;
}

/* What grows in place keeps all of it: the next mapping goes elsewhere. */
static void grow(void) {
    int flags = MAP_PRIVATE | MAP_ANONYMOUS;
    for (int k = 0; k < 64; k++) {
        char *p = mmap(0, 4096, PROT_READ | PROT_WRITE, flags, -1, 0);
        p = mremap(p, 4096, 65536, MREMAP_MAYMOVE);
        fill((uint64_t *)p, 8192, (uint64_t)k);
        char *q = mmap(0, 65536, PROT_READ | PROT_WRITE, flags, -1, 0);
        fill((uint64_t *)q, 8192, ~0ull);
        check((uint64_t *)p, 8192, (uint64_t)k);
        munmap(p, 65536); /* a larger hole stays each time */
    }
}

/* Moved away, with an empty mapping left behind. */
static void leave(void) {
    int flags = MAP_PRIVATE | MAP_ANONYMOUS;
    uint64_t *p = mmap(0, 65536, PROT_READ | PROT_WRITE, flags, -1, 0);
    fill(p, 8192, 5);
    uint64_t *q = mremap(p, 65536, 65536, MREMAP_MAYMOVE | MREMAP_DONTUNMAP, 0);
    check(q, 8192, 5);
    check(p, 8192, 0);
    wrong += p == q || munmap(p, 65536) != 0;
    check(q, 8192, 5);
    uint64_t *hint = mmap(0, 1 << 20, PROT_READ | PROT_WRITE, flags, -1, 0);
    munmap(hint, 1 << 20);
    wrong += mremap(q, 65536, 65536, MREMAP_MAYMOVE | MREMAP_DONTUNMAP, hint) != hint;
    check(hint, 8192, 5);
}

int main(void) {
    grow();
    leave();
    for (int turn = 0; turn < 3; turn++) {
        pthread_t threads[6];
        for (int i = 0; i < 6; i++)
            pthread_create(&threads[i], 0, work, (void *)(uintptr_t)(i + 1));
        for (int i = 0; i < 6; i++)
            pthread_join(threads[i], 0);
    }
    printf("%d\n", wrong);
    return 0;
}

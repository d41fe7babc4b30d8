/* Blocks whose memory has left the retirement queue, but which nothing else has taken yet. */
#include <stdlib.h>
#include <string.h>

#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;

/* What came out of a block is told to be from there, also when another has its place. */
static void origins(void) {
    unsigned char *first = malloc(48);
    unsigned char *copy = malloc(48);
    hide(first);
    memcpy(copy, first, 48);
    unsigned char one = first[40];
    free(first);
    for (int k = 0; k < 600000; k++) {
        char *p = malloc(48);
        hide(p);
        free(p);
    }
    if (copy[5] > 3) // expect: uninitialized-value from=heap origin=10
        sink++;
    if (one > 3) // expect: uninitialized-value from=heap origin=10
        sink++;
    free(copy);
}

static void churn(size_t size, int times) {
    while (times--) {
        char *p = malloc(size);
        hide(p);
        p[0] = 1;
        free(p);
    }
}

int main(void) {
    churn(100000, 1000); /* has all the room it wants from here on */
    char *small = malloc(100), *other = malloc(5000), *large = malloc(1 << 20);
    memset(small, 1, 100);
    memset(other, 1, 5000);
    memset(large, 1, 1 << 20);
    free(small);
    free(other);
    free(large);
    hide(small);
    hide(other);
    hide(large);
    churn(100000, 3000);
    if (small[7] == 1) // expect: use-after-free size=100 offset=7
        sink++;
    other[4999] = 2; // expect: use-after-free size=5000 offset=4999
    if (large[1000] == 1) // expect: use-after-free size=1048576 offset=1000
        sink++;
    free(small); // expect: double-free size=100
    small = realloc(other, 6000); // expect: use-after-free size=5000
    free(small == other ? NULL : small);
    origins();
    return 0;
}

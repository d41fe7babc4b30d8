/* Blocks whose memory has left the retirement queue, but which nothing else has taken yet. */
#include <stdlib.h>
#include <string.h>

#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;

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
    return 0;
}

/* The upper half of a wide vector is stored alone, as compilers for AVX do with vectors that may
   not be aligned. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
static volatile int sink;

/* Two halves to two places, as one. */
static APART void split(char *low, char *high, const char *from) {
    __asm__ volatile("vmovups (%2), %%ymm3\n\tvmovups %%xmm3, (%0)\n\tvextractf128 $1, %%ymm3, (%1)\n\t"
                     "vzeroupper"
                     : : "r"(low), "r"(high), "r"(from) : "xmm3", "memory");
}

static APART void moved(char *to, const char *from) {
    __asm__ volatile("vmovups (%1), %%ymm1\n\tvextractf128 $1, %%ymm1, %%xmm2\n\tvmovups %%xmm2, (%0)\n\t"
                     "vzeroupper"
                     : : "r"(to), "r"(from) : "xmm1", "xmm2", "memory");
}

int main(void) {
    if (!__builtin_cpu_supports("avx"))
        return 77;
    char low[16], high[16], other[16];
    char *from = malloc(32);
    memset(from, 1, 32);
    for (int k = 0; k < 3; k++) {
        split(low, high, from);
        moved(other, from);
        if (low[3] != 1 || high[9] != 1 || other[15] != 1)
            return 1;
    }
    char *half = malloc(32);
    memset(half, 1, 16);
    half[16 + 9] = 1;
    split(low, high, half);
    if (low[3] > 5 || high[9] > 5)
        sink = 1;
    if (high[3] > 5) // expect: uninitialized-value from=heap origin=34
        sink = 2;
    moved(other, half);
    if (other[9] > 5)
        sink = 3;
    if (other[14] > 5) // expect: uninitialized-value from=heap origin=34
        sink = 4;
    free(from);
    free(half);
    return 0;
}

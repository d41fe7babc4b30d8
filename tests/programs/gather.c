/* Gathers and masked moves of AVX2: what a mask keeps from being touched is not touched,
   and of the rest each element is told on its own. */
#include <immintrin.h>
#include <stdlib.h>

#define APART __attribute__((noinline, noclone, target("avx2")))

APART static int gathered(const int *from, __m256i places, __m256i mask) {
    __m256i all = _mm256_mask_i32gather_epi32(_mm256_set1_epi32(-5), from, places, mask, 4);
    int out[8], sum = 0;
    _mm256_storeu_si256((__m256i *)out, all);
    for (int i = 0; i < 8; i++)
        sum = sum * 7 + out[i];
    return sum;
}

APART static int beyond(const int *from, __m256i places) {
    __m256i all = _mm256_i32gather_epi32(from, places, 4); // expect: out-of-bounds-read offset=80 access=4
    return _mm256_extract_epi32(all, 0);
}

APART static long wide(const long *from, __m128i places) {
    long out[4];
    _mm256_storeu_si256((__m256i *)out, _mm256_i32gather_epi64((const long long *)from, places, 8));
    return out[0] + out[1] * 3 + out[2] * 5 + out[3] * 7;
}

APART static int add_some(int *to, const int *from, __m256i mask) {
    __m256i v = _mm256_maskload_epi32(from, mask);
    _mm256_maskstore_epi32(to, mask, _mm256_add_epi32(v, v));
    return to[0];
}

APART static int add_beyond(int *to, __m256i mask) {
    _mm256_maskstore_epi32(to, mask, mask); // expect: out-of-bounds-write offset=80 access=4
    return to[0];
}

static volatile int sink;

APART static void all(void) {
    __m256i every = _mm256_set1_epi32(-1), first = _mm256_setr_epi32(-1, -1, -1, -1, 0, 0, 0, 0);
    int *berths = malloc(20 * sizeof *berths);
    long *tides = malloc(10 * sizeof *tides);
    for (int i = 0; i < 20; i++)
        if (i != 11)
            berths[i] = i * i;
    for (int i = 0; i < 10; i++)
        tides[i] = i;
    if (gathered(berths, _mm256_setr_epi32(0, 3, 5, 7, 9, 19, 2, 1), every) == 1)
        sink++;
    if (gathered(berths, _mm256_setr_epi32(0, 3, 5, 7, 20, -1, 11, 999999), first) == 1)
        sink++;
    if (wide(tides, _mm_setr_epi32(1, 2, 9, 4)) != 80)
        exit(1);
    sink += beyond(berths, _mm256_setr_epi32(0, 3, 5, 7, 9, 20, 2, 1));
    if (gathered(berths, _mm256_setr_epi32(0, 3, 5, 7, 9, 11, 2, 1), every) == 1) // expect: uninitialized-value from=heap
        sink++;
    if (add_some(berths + 16, berths, first) != 0 || berths[18] != 8)
        exit(2);
    sink += add_beyond(berths + 16, _mm256_setr_epi32(-1, -1, -1, -1, -1, 0, 0, 0));
    free(berths), free(tides);
}

int main(void) {
    if (__builtin_cpu_supports("avx2"))
        all();
    return 0;
}

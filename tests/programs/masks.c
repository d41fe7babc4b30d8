/* AVX-512: what a mask keeps from being touched is not touched, and what it takes out of
   a result does not count. Elsewhere nothing is expected, and nothing found. */
#include <immintrin.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/time.h>

#define APART __attribute__((noinline, noclone))
#define WIDE __attribute__((target("avx512f,avx512bw,avx512vl,avx512dq")))

enum { SHIPS = 21 };

/* The rest of a vector lies behind the block. */
WIDE APART static int sum_all(const int *lengths, int count) {
    __m512i sum = _mm512_setzero_si512();
    for (int i = 0; i < count; i += 16) {
        __mmask16 some = count - i >= 16 ? 0xffff : (__mmask16)((1u << (count - i)) - 1);
        sum = _mm512_add_epi32(sum, _mm512_maskz_loadu_epi32(some, lengths + i));
    }
    return _mm512_reduce_add_epi32(sum);
}

WIDE APART static void double_all(int *to, const int *from, int count) {
    for (int i = 0; i < count; i += 16) {
        __mmask16 some = count - i >= 16 ? 0xffff : (__mmask16)((1u << (count - i)) - 1);
        __m512i v = _mm512_maskz_loadu_epi32(some, from + i);
        _mm512_mask_storeu_epi32(to + i, some, _mm512_add_epi32(v, v));
    }
}

/* Only the lanes that were set decide. */
WIDE APART static int count_long(const int *lengths, const unsigned char *set, int count) {
    int found = 0;
    for (int i = 0; i + 16 <= count; i += 16) {
        __m128i is_set = _mm_loadu_si128((const __m128i *)(set + i));
        __mmask16 valid = _mm_test_epi8_mask(is_set, is_set);
        __m512i v = _mm512_loadu_si512(lengths + i);
        found += __builtin_popcount(_mm512_mask_cmpgt_epi32_mask(valid, v, _mm512_set1_epi32(100)));
    }
    return found;
}

WIDE APART static size_t length_of(const char *text) {
    for (size_t i = 0;; i += 64) { /* aligned, as C libraries do */
        __mmask64 ends = _mm512_cmpeq_epi8_mask(_mm512_load_si512(text + i), _mm512_setzero_si512());
        if (ends)
            return i + (size_t)__builtin_ctzll(ends);
    }
}

WIDE APART static int compressed(const int *lengths, int count, int *to) {
    int kept = 0;
    for (int i = 0; i + 16 <= count; i += 16) {
        __m512i v = _mm512_loadu_si512(lengths + i);
        __mmask16 keep = _mm512_cmpgt_epi32_mask(v, _mm512_set1_epi32(100));
        _mm512_mask_compressstoreu_epi32(to + kept, keep, v);
        kept += __builtin_popcount(keep);
    }
    return kept;
}

WIDE APART static int scattered(int *to, const int *from) {
    __m512i places = _mm512_mullo_epi32(_mm512_set_epi32(15, 14, 13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1, 0),
                                        _mm512_set1_epi32(2));
    _mm512_mask_i32scatter_epi32(to, 0x00ff, places, _mm512_loadu_si512(from), 4);
    return to[0] + to[14];
}

WIDE APART static int beyond(const int *lengths) {
    return _mm512_reduce_add_epi32(_mm512_maskz_loadu_epi32(0x3f, lengths + 16)); // expect: out-of-bounds-read offset=84 access=4
}

static volatile int longer;
WIDE APART static int undecided(const int *lengths) {
    __m512i v = _mm512_loadu_si512(lengths);
    if (_mm512_cmpgt_epi32_mask(v, _mm512_set1_epi32(100)) & 0x10) // expect: uninitialized-value
        longer++;
    return longer;
}

static volatile sig_atomic_t ticks;
WIDE static void on_tick(int number) {
    (void)number;
    __m512i v = _mm512_set1_epi32(ticks);
    __asm__ volatile("vmovdqa64 %0, %%zmm17\n\tkxnorq %%k3, %%k3, %%k3\n\tvmovdqa64 %0, %%zmm2"
                     : : "v"(v) : "xmm17", "k3", "xmm2");
    ticks++;
}

static int *measured(void) {
    return malloc(32 * sizeof(int));
}

/* Padding in registers that the handler uses as well. */
WIDE APART static long interrupted(void) {
    struct { char dock; long length; } from[8], to[8];
    long sum = 0;
    struct itimerval each = {{0, 1000}, {0, 1000}}, never = {{0, 0}, {0, 0}};
    signal(SIGALRM, on_tick);
    setitimer(ITIMER_REAL, &each, NULL);
    for (int round = 0; round < 200000 || ticks < 3; round++) {
        for (int i = 0; i < 8; i++)
            from[i].dock = 1, from[i].length = i;
        __asm__ volatile("vmovdqu64 (%0), %%zmm17\n\tvmovdqu64 64(%0), %%zmm2\n\tkmovq 8(%0), %%k3\n\t"
                         "vmovdqu64 %%zmm17, (%1)\n\tvmovdqu64 %%zmm2, 64(%1)\n\tkmovq %%k3, 8(%1)"
                         : : "r"(from), "r"(to) : "xmm17", "xmm2", "k3", "memory");
        for (int i = 0; i < 8; i++)
            sum += to[i].length == i && to[i].dock;
    }
    setitimer(ITIMER_REAL, &never, NULL);
    return sum % 8;
}

/* Compared in a register that only EVEX has. */
WIDE APART static int is_less(const double *length) {
    int less = 0;
    __asm__ volatile("vmovsd (%1), %%xmm18\n\tvcomisd %%xmm0, %%xmm18\n\tjae 1f\n\tmovl $1, %0\n1:" // expect: uninitialized-value from=heap
                     : "+r"(less) : "r"(length) : "xmm18", "cc");
    return less;
}

/* What kind of number each is, straight from memory. */
WIDE APART static int numbers(const double *lengths) {
    unsigned kinds;
    __asm__ volatile("vfpclasspdz $0x99, (%1), %%k1\n\tkmovb %%k1, %0" : "=r"(kinds) : "r"(lengths) : "k1");
    if (kinds == 0xe7) // expect: uninitialized-value from=heap
        longer++;
    return longer;
}

int main(void) {
    if (!__builtin_cpu_supports("avx512bw") || !__builtin_cpu_supports("avx512vl") ||
        !__builtin_cpu_supports("avx512dq"))
        return 77;
    int *lengths = malloc(SHIPS * sizeof *lengths), *twice = malloc(SHIPS * sizeof *twice);
    for (int i = 0; i < SHIPS; i++)
        lengths[i] = i * 10;
    double_all(twice, lengths, SHIPS);
    if (sum_all(lengths, SHIPS) != 2100 || sum_all(twice, SHIPS) != 4200)
        return 1;
    int *some = measured(), *kept = malloc(11 * sizeof *kept);
    unsigned char set[32];
    for (int i = 0; i < 32; i++) {
        set[i] = i % 3 == 0;
        if (set[i])
            some[i] = 100 + i;
    }
    if (count_long(some, set, 32) != 10)
        return 2;
    char *text = aligned_alloc(64, 128);
    strcpy(text, "a berth for every ship");
    if (length_of(text) != 22)
        return 3;
    int mixed[32];
    for (int i = 0; i < 32; i++)
        mixed[i] = i % 3 ? 0 : 100 + i;
    if (compressed(mixed, 32, kept) != 10 || kept[9] != 130)
        return 4;
    int *spread = malloc(15 * sizeof *spread);
    if (scattered(spread, lengths) != 70)
        return 5;
    if (interrupted() != 0)
        return 6;
    int bad = beyond(lengths) + undecided(some);
    double *depths = malloc(8 * sizeof *depths);
    bad += is_less(depths) + numbers(depths);
    free(depths);
    free(lengths), free(twice), free(some), free(kept), free(text), free(spread);
    return bad == 12345;
}

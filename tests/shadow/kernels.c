/* Differential test of what compilers make of ordinary loops: some bits of the input are set in
   many ways, then marked undefined; what varied in the output must be undefined, unless something
   was told on the way. To be built at several levels; run under tondo with its test door open.
   kernels [ROUNDS [SEED]] */
#define _GNU_SOURCE
#include "ways.h"

#include <stdio.h>

typedef unsigned __int128 wide;
static inline uint64_t add_carry(uint64_t a, uint64_t b, uint64_t *carry) {
    uint64_t sum, with;
    bool first = __builtin_add_overflow(a, b, &sum), second = __builtin_add_overflow(sum, *carry, &with);
    *carry = first | second;
    return with;
}

struct fields {
    unsigned kind : 5, place : 9, rest : 18;
};
struct record {
    char dock;
    short depth;
    int length;
    long mass;
};

/* name, bytes of input and output, the types of their elements a and o, how many rounds, a round */
#define KERNELS(X)                                                                               \
    X(sum_bytes, 256, 4, uint8_t, uint32_t, 256, o[0] = (i ? o[0] : 0) + a[i])                   \
    X(sum_words, 256, 4, uint32_t, uint32_t, 64, o[0] = (i ? o[0] : 0) + a[i])                   \
    X(xor_words, 256, 8, uint64_t, uint64_t, 32, o[0] = (i ? o[0] : 0) ^ a[i])                   \
    X(most, 256, 4, int32_t, int32_t, 64, o[0] = !i || a[i] > o[0] ? a[i] : o[0])                \
    X(least, 256, 1, uint8_t, uint8_t, 256, o[0] = !i || a[i] < o[0] ? a[i] : o[0])              \
    X(dot, 256, 4, int16_t, int32_t, 64, o[0] = (i ? o[0] : 0) + a[i] * a[i + 64])               \
    X(scale, 256, 256, int32_t, int32_t, 64, o[i] = a[i] * 7 + i)                                \
    X(reverse_bytes, 256, 256, uint8_t, uint8_t, 256, o[i] = a[255 - i])                         \
    X(reverse_words, 256, 256, uint32_t, uint32_t, 64, o[i] = a[63 - i])                         \
    X(widen, 128, 512, uint8_t, uint32_t, 128, o[i] = a[i] * 3u)                                 \
    X(widen_signed, 128, 256, int8_t, int16_t, 128, o[i] = a[i] - 5)                             \
    X(narrow, 256, 64, uint32_t, uint8_t, 64, o[i] = a[i] >> 5)                                  \
    X(saturate, 256, 128, uint32_t, uint16_t, 64, o[i] = a[i] > 65535 ? 65535 : a[i])            \
    X(ones, 256, 4, uint64_t, int32_t, 32, o[0] = (i ? o[0] : 0) + __builtin_popcountll(a[i]))   \
    X(leading, 256, 64, uint32_t, uint8_t, 64, o[i] = a[i] ? __builtin_clz(a[i]) : 32)           \
    X(trailing, 256, 64, uint32_t, uint8_t, 64, o[i] = __builtin_ctz(a[i] | 0x80000000u))        \
    X(swap_bytes, 256, 256, uint32_t, uint32_t, 64, o[i] = __builtin_bswap32(a[i]))              \
    X(rotate, 256, 256, uint32_t, uint32_t, 64, o[i] = a[i] << 13 | a[i] >> 19)                  \
    X(rotate_each, 256, 128, uint32_t, uint32_t, 32, o[i] = a[i] << (i & 31) | a[i] >> (-i & 31)) \
    X(shift_each, 256, 128, uint32_t, uint32_t, 32, o[i] = a[i] >> (a[i + 32] & 31))             \
    X(running_sum, 256, 256, uint32_t, uint32_t, 64, o[i] = a[i] + (i ? o[i - 1] : 0))           \
    X(zigzag, 256, 256, int32_t, uint32_t, 64, o[i] = (uint32_t)a[i] << 1 ^ (uint32_t)(a[i] >> 31)) \
    X(average, 200, 100, uint8_t, uint8_t, 100, o[i] = (a[i] + a[i + 100] + 1) >> 1)             \
    X(sum_saturated, 200, 100, uint8_t, uint8_t, 100, o[i] = a[i] + a[i + 100] > 255 ? 255 : a[i] + a[i + 100]) \
    X(transpose, 256, 256, uint32_t, uint32_t, 64, o[i] = a[i % 8 * 8 + i / 8])                  \
    X(gather_bits, 64, 8, uint8_t, uint64_t, 64, o[0] = (i ? o[0] : 0) | (uint64_t)(a[i] & 1) << i) \
    X(spread_bits, 8, 64, uint64_t, uint8_t, 64, o[i] = a[0] >> i & 1)                           \
    X(product, 256, 256, uint64_t, uint64_t, 32, o[i] = a[i] * 0x9e3779b97f4a7c15u)              \
    X(upper_product, 256, 256, uint64_t, uint64_t, 32, o[i] = (wide)a[i] * 0x9e3779b97f4a7c15u >> 64) \
    X(tenth, 256, 256, uint32_t, uint32_t, 64, o[i] = a[i] / 10)                                 \
    X(rest_of_seven, 256, 256, int32_t, int32_t, 64, o[i] = a[i] % 7)                            \
    X(quotient, 256, 128, uint32_t, uint32_t, 32, o[i] = a[i] / (a[i + 32] | 1))                 \
    X(hash, 200, 4, uint8_t, uint32_t, 200, o[0] = ((i ? o[0] : 2166136261u) ^ a[i]) * 16777619u) \
    X(mix, 256, 256, uint64_t, uint64_t, 32, o[i] = (a[i] ^ a[i] >> 33) * 0xff51afd7ed558ccdu; o[i] ^= o[i] >> 29) \
    X(to_float, 256, 256, int32_t, float, 64, o[i] = (float)a[i] * 0.5f)                         \
    X(to_double, 128, 256, int32_t, double, 32, o[i] = a[i] + 0.25)                              \
    X(sum_doubles, 256, 8, int32_t, double, 64, o[0] = (i ? o[0] : 0) + a[i])                    \
    X(bit_fields, 256, 256, struct fields, struct fields, 64, o[i] = a[i]; o[i].place += 3; o[i].rest ^= o[i].kind) \
    X(members, 240, 240, struct record, struct record, 10, o[i].dock = (char)a[i].depth; o[i].depth = (short)(a[i].dock + a[i].length); o[i].length = a[9 - i].length; o[i].mass = a[i].mass - a[i].dock) \
    X(long_sum, 160, 88, uint64_t, uint64_t, 10, if (!i) o[10] = 0; o[i] = add_carry(a[i], a[i + 10], &o[10])) \
    X(ladder, 64, 8, uint8_t, uint64_t, 8, o[0] = (i ? o[0] : 0) << 8 | a[i * 3])                \
    X(gray, 256, 256, uint32_t, uint32_t, 64, o[i] = a[i] ^ a[i] >> 1)                           \
    X(parity, 256, 64, uint32_t, uint8_t, 64, o[i] = __builtin_parity(a[i]))                     \
    X(smooth, 200, 190, uint8_t, uint8_t, 190, o[i] = (a[i] + 2 * a[i + 1] + a[i + 2]) >> 2)     \
    X(interleave, 200, 200, uint8_t, uint8_t, 100, o[2 * i] = a[i]; o[2 * i + 1] = a[i + 100])   \
    X(separate, 200, 200, uint8_t, uint8_t, 100, o[i] = a[2 * i]; o[i + 100] = a[2 * i + 1])

#define KERNEL(name, used, made, from, to, rounds, round)                                       \
    static __attribute__((noinline)) void do_##name(const void *restrict x, void *restrict y) { \
        const from *a = x;                                                                      \
        to *o = y;                                                                              \
        for (int i = 0; i < rounds; i++) {                                                      \
            round;                                                                              \
        }                                                                                       \
    }
KERNELS(KERNEL)

static const struct kernel {
    const char *name;
    void (*run)(const void *restrict, void *restrict);
    size_t used, made; /* bytes */
} kernels[] = {
#define ROW(name, used, made, ...) {#name, do_##name, used, made},
    KERNELS(ROW)
};

static size_t run(const void *which) {
    const struct kernel *f = which;
    f->run(in, out);
    return f->made;
}

int main(int argc, char **argv) {
    int rounds = argc > 1 ? atoi(argv[1]) : 6, bad = 0, told_times = 0;
    size_t count = sizeof kernels / sizeof kernels[0];
    srand(argc > 2 ? (unsigned)atoi(argv[2]) : 1);
    for (size_t n = 0; n < count; n++)
        for (int k = 0; k < rounds; k++) {
            bool told;
            int missed = missed_ways(run, &kernels[n], kernels[n].used, &told);
            told_times += told;
            bad += missed != 0;
            if (missed)
                printf("%s: %d bytes vary and are said to be defined\n", kernels[n].name, missed);
        }
    printf("%zu loops, %d rounds each, %d told, %d failed\n", count, rounds, told_times, bad);
    return bad != 0;
}

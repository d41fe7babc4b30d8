/* Words whose halves are from different places go through instructions that turn their bytes
   about, choose among them or put them together: each byte still says where it is from. */
#include <immintrin.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, target("avx2,bmi2,movbe")))
static volatile int sink;
static APART void seen(void) { sink++; }
static int zero[4];

/* Of 8 bytes by a general register: what the instruction makes of %0. */
#define ONE(name, code)                                                                        \
    static APART void name(int *to, const int *from) {                                         \
        long v, w = 0;                                                                         \
        memcpy(&v, from, 8);                                                                   \
        __asm__ volatile(code : "+r"(v), "+r"(w) : "r"(to), "r"(from) : "memory", "rax", "cc"); \
        memcpy(to, &v, 8);                                                                     \
    }
/* Of 16 bytes in %xmm1, from which %xmm0 is made; %xmm2 is zero. */
#define VECTOR(name, code)                                                                     \
    static APART void name(int *to, const int *from) {                                         \
        __asm__ volatile("movdqu (%1), %%xmm1; pxor %%xmm2, %%xmm2; pxor %%xmm0, %%xmm0;" code \
                         "; movdqu %%xmm0, (%0)"                                               \
                         : : "r"(to), "r"(from), "r"(zero) : "memory", "rax", "xmm0", "xmm1", "xmm2", "xmm3"); \
    }

/* Halves stay. */
ONE(exchanged, "xchg %0, (%2); xchg %0, (%2)")
ONE(stored_by_exchange, "xchg %1, (%2); mov %0, %1; xchg %1, (%2); mov (%2), %0")
ONE(compared, "mov (%2), %%rax; lock cmpxchg %0, (%2); mov (%2), %0")
ONE(added, "movq $0, (%2); lock xadd %0, (%2); mov (%2), %0")
ONE(deposited, "mov $-1, %1; pdep %1, %0, %0")
ONE(drawn_out, "mov $-1, %1; pext %1, %0, %0")
ONE(funnelled, "shld $32, %0, %1; shl $32, %1; shl $32, %0; shrd $32, %1, %0; shr $32, %0;"
               "mov 4(%3), %k1; shl $32, %1; mov (%3), %k0; or %1, %0")
ONE(twice_around, "rorx $24, %0, %0; rorx $40, %0, %0")
ONE(summed, "add $5, %0; sub $3, %0; not %0")
ONE(single_bits, "bts $3, %0; btr $34, %0; btc $5, %0")
ONE(in_memory, "movq $0, (%2); or %0, (%2); addq $1, (%2); mov (%2), %0")
VECTOR(lowest_alone, "movdqu %%xmm1, %%xmm0; mulss %%xmm2, %%xmm0; sqrtss %%xmm0, %%xmm0")
VECTOR(blended, "pblendw $15, %%xmm1, %%xmm0")
VECTOR(blended_from_memory, "pblendw $15, (%1), %%xmm0")
VECTOR(masked, "vpcmpeqd %%xmm2, %%xmm2, %%xmm2; vpmaskmovd (%1), %%xmm2, %%xmm0")
VECTOR(inserted, "pinsrw $0, (%1), %%xmm0; pinsrw $1, 2(%1), %%xmm0; mov 4(%1), %%eax;"
                 "pinsrw $2, %%eax, %%xmm0; pinsrw $3, 6(%1), %%xmm0")
VECTOR(gone_along, "movdqu %%xmm1, %%xmm0; pslldq $5, %%xmm0; psrldq $5, %%xmm0")
VECTOR(split, "movdqu %%xmm1, %%xmm0; punpcklbw %%xmm2, %%xmm0; packuswb %%xmm0, %%xmm0")
VECTOR(of_two, "movd (%1), %%xmm0; movd 4(%1), %%xmm3; punpcklwd %%xmm3, %%xmm0;"
               "pshuflw $0xd8, %%xmm0, %%xmm0")
VECTOR(high_moved, "movlhps %%xmm1, %%xmm0; movhps %%xmm0, (%0); movq (%0), %%xmm0")

/* Halves change places. */
ONE(around, "rorx $32, %0, %0")
ONE(around_in_place, "rol $32, %0")
ONE(from_the_back, "mov %0, (%2); movbe (%2), %0; mov %k0, %k1; bswap %k1; shr $32, %0;"
                   "bswap %k0; shl $32, %0; or %1, %0")
ONE(to_the_back, "movbe %0, (%2); mov (%2), %k1; mov 4(%2), %k0; bswap %k0; bswap %k1;"
                 "shl $32, %0; or %1, %0")
VECTOR(aligned, "movdqu %%xmm1, %%xmm0; palignr $4, %%xmm1, %%xmm0")
VECTOR(shuffled, "movdqu %%xmm1, %%xmm0; pshuflw $0x4e, %%xmm1, %%xmm0")
VECTOR(shifted, "movq %%xmm1, %%xmm0; movq %%xmm1, %%xmm3; psrlq $32, %%xmm0; psllq $32, %%xmm3;"
                "por %%xmm3, %%xmm0")
static APART void by_bytes(int *to, const int *from) {
    __m128i order = _mm_setr_epi8(4, 5, 6, 7, 0, 1, 2, 3, 8, 9, 10, 11, 12, 13, 14, 15);
    __m128i v = _mm_loadu_si128((const __m128i *)from);
    _mm_storeu_si128((__m128i *)to, _mm_shuffle_epi8(v, order));
}

int main(void) {
    void (*const straight[])(int *, const int *) = {
        exchanged, stored_by_exchange, compared, added, deposited, drawn_out, funnelled,
        twice_around, summed, single_bits, in_memory, lowest_alone, blended,
        blended_from_memory, masked, inserted, gone_along, split, of_two, high_moved};
    void (*const turned[])(int *, const int *) = {
        around, around_in_place, from_the_back, to_the_back, aligned, shuffled, shifted, by_bytes};
    int *volatile ships = malloc(64);
    int *volatile quays = malloc(32);
    for (unsigned way = 0; way < sizeof straight / sizeof *straight; way++) {
        int from[4] = {ships[1], quays[1], ships[2], quays[2]}, to[4] = {0};
        straight[way](to, from);
        if (to[0] > 5) // expect: uninitialized-value from=heap origin=78 count=20
            seen();
        if (to[1] > 5) // expect: uninitialized-value from=heap origin=79 count=20
            seen();
    }
    for (unsigned way = 0; way < sizeof turned / sizeof *turned; way++) {
        int from[4] = {ships[1], quays[1], ships[2], quays[2]}, to[4] = {0};
        turned[way](to, from);
        if (to[0] > 5) // expect: uninitialized-value from=heap origin=79 count=8
            seen();
        if (to[1] > 5) // expect: uninitialized-value from=heap origin=78 count=8
            seen();
    }
    free(ships);
    free(quays);
    printf("%d\n", sink < 0);
    return 0;
}

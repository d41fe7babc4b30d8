/* Values that go from general registers to vectors and back, whole and by halves, keep what is
   undefined of them and where it is from; what a move makes zero is defined. */
#include <immintrin.h>
#include <stdio.h>
#include <stdlib.h>

#define APART __attribute__((noinline))
static volatile int sink;
static APART void seen(void) { sink++; }

struct pair { long a, b; };
static APART struct pair through(const struct pair *p) {
    __m128i v = _mm_loadu_si128((const __m128i *)p);
    struct pair r = {_mm_cvtsi128_si64(v), _mm_cvtsi128_si64(_mm_unpackhi_epi64(v, v))};
    return r;
}

static APART void back(struct pair *to, long low) {
    __m128i v = _mm_cvtsi64_si128(low), w = _mm_move_epi64(_mm_loadu_si128((const __m128i *)to));
    _mm_storeu_si128((__m128i *)to, v);
    _mm_storeu_si128((__m128i *)(to + 1), w);
}

static APART void half(int *to, int low) { _mm_storeu_si128((__m128i *)to, _mm_cvtsi32_si128(low)); }

int main(void) {
    long *volatile place = malloc(8);
    long *volatile ship = malloc(16);
    for (int round = 0; round < 20; round++) {
        struct pair p = {*place, *ship}, two[2];
        struct pair r = through(&p);
        if (r.a > 3) // expect: uninitialized-value from=heap origin=27 count=20
            seen();
        if (r.b > 3) // expect: uninitialized-value from=heap origin=28 count=20
            seen();
        two[0] = p;
        back(two, *ship);
        if (two[0].a > 3) // expect: uninitialized-value from=heap origin=28 count=20
            seen();
        if (two[1].a > 3) // expect: uninitialized-value from=heap origin=27 count=20
            seen();
        if (two[0].b || two[1].b)
            seen();
        int words[4];
        half(words, (int)*ship);
        if (words[0] > 3) // expect: uninitialized-value from=heap origin=28 count=20
            seen();
        if (words[1] || words[2] || words[3])
            seen();
        long n = *place;
        n = n << 32 | 7;
        __m128i v = _mm_cvtsi64_si128(n);
        if (_mm_cvtsi128_si32(v) != 7)
            seen();
        if (_mm_cvtsi128_si64(v) > 9) // expect: uninitialized-value from=heap origin=27 count=20
            seen();
    }
    free(place);
    free(ship);
    printf("%d\n", sink < 0);
    return 0;
}

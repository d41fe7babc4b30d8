/* Lanes packed to half their size: what cannot saturate keeps its undefined bits where they are,
   what must saturate is defined, and what may do either varies from the highest bit on that does. */
#include <emmintrin.h>
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

/* Eight lanes: the bits of `set`, and those of `open`, which were never set. */
static APART __m128i lanes(short set, short open) {
    short *a = malloc(16);
    hide(a);
    __m128i x = _mm_loadu_si128((const __m128i *)a);
    x = _mm_and_si128(x, _mm_set1_epi16(open));
    x = _mm_or_si128(x, _mm_set1_epi16(set));
    free(a);
    return x;
}

static APART int to_unsigned(short set, short open) {
    return _mm_cvtsi128_si32(_mm_packus_epi16(lanes(set, open), _mm_setzero_si128()));
}

static APART int to_signed(short set, short open) {
    return _mm_cvtsi128_si32(_mm_packs_epi16(lanes(set, open), _mm_setzero_si128()));
}

static APART int words_to_signed(short set, short open) {
    __m128i x = _mm_srai_epi32(_mm_slli_epi32(lanes(set, open), 16), 16);
    return _mm_cvtsi128_si32(_mm_packs_epi32(x, _mm_setzero_si128()));
}

int main(void) {
    int x = to_unsigned(5, 0xf0);
    if ((x & 15) == 5)
        seen();
    if (x & 16) // expect: uninitialized-value from=heap
        seen();
    x = to_unsigned(0x100, 0xf0);
    if ((x & 0xff) == 0xff) /* whatever is open */
        seen();
    x = to_unsigned((short)0x8000, 0x7ff);
    if (!(x & 0xff)) /* below 0 */
        seen();
    x = to_unsigned(0x80, 0x100);
    if (x & 0x80) /* 0x80 or 0xff */
        seen();
    if (x & 0x40) // expect: uninitialized-value from=heap
        seen();
    x = to_signed(5, 0x70);
    if ((x & 0x8f) == 5)
        seen();
    x = to_signed(5, 0x80);
    if (!(x & 0x80)) /* 5 or 0x7f */
        seen();
    if (x & 0x10) // expect: uninitialized-value from=heap
        seen();
    x = to_signed(0, (short)0x8000);
    if (x & 0x80) // expect: uninitialized-value from=heap
        seen();
    x = words_to_signed(3, 0x7ff0);
    if ((x & 15) == 3)
        seen();
    if (x & 32) // expect: uninitialized-value from=heap
        seen();
    return sink > 100;
}

/* Vectors made of two: an undefined part names where it is from, whichever of the two
   brought it, and whatever was undefined at the same place before. */
#include <emmintrin.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

APART static void joined(int *to, const int *a, const int *b) {
    __m128i x = _mm_loadu_si128((const __m128i *)a), y = _mm_loadu_si128((const __m128i *)b);
    hide(to);
    _mm_storeu_si128((__m128i *)to, _mm_unpacklo_epi32(x, y));
}

APART static void chosen(float *to, const float *a, const float *b) {
    __m128 x = _mm_loadu_ps(a), y = _mm_loadu_ps(b);
    hide(to);
    _mm_storeu_ps(to, _mm_shuffle_ps(x, y, 0x44));
}

struct pair {
    int left, right;
};
APART static struct pair pair_of(const int *a, const int *b) {
    struct pair p = {*a, *b};
    return p;
}

/* Both members are undefined, each from elsewhere, and travel in one register. */
APART static void pairs(const int *first, const int *second) {
    struct pair p = pair_of(first, second), q, r[3];
    hide(&p);
    q = p;
    hide(&q);
    r[1] = q;
    hide(r);
    r[2] = r[1];
    hide(r);
    if (r[2].right) // expect: uninitialized-value from=heap origin=52
        seen();
    if (r[2].left) // expect: uninitialized-value from=heap origin=51
        seen();
}

int main(void) {
    int to[4];
    float point[4];
    int *first = malloc(16);
    int *second = malloc(16);
    int *set = calloc(4, sizeof *set);
    hide(first);
    joined(to, first, set);
    hide(to);
    if (to[2]) // expect: uninitialized-value from=heap origin=51
        seen();
    joined(to, set, second);
    hide(to);
    if (to[1]) // expect: uninitialized-value from=heap origin=52
        seen();
    if (to[2])
        seen();
    pairs(first, second);
    joined(to, second, first);
    hide(to);
    if (to[3]) // expect: uninitialized-value from=heap origin=51
        seen();
    joined(to, first, set);
    hide(to);
    if (to[0]) // expect: uninitialized-value from=heap origin=51
        seen();
    chosen(point, (float *)first, (float *)set);
    chosen(point, (float *)set, (float *)second);
    hide(point);
    if (point[1] > 0)
        seen();
    if (point[2] > 0) // expect: uninitialized-value from=heap origin=52
        seen();
    free(first), free(second), free(set);
    return 0;
}

/* Memory copied by loops of one's own, by bytes, halves, words and pairs of words, again and
   again: each byte still says where it is from, also where those of one word are from several
   places, and what was set stays silent. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct berth { char quay; long depth; int ships; };
typedef unsigned short __attribute__((may_alias)) half;
typedef unsigned __attribute__((may_alias)) word;
typedef unsigned long __attribute__((may_alias)) pair;
enum { BERTHS = 30 };

#define APART __attribute__((noinline))
#define COPY(name, unit)                                                                       \
    static APART void name(void *to, const void *from, size_t size) {                          \
        unit *t = to;                                                                          \
        const unit *f = from;                                                                  \
        for (size_t k = 0; k < size / sizeof(unit); k++) {                                     \
            __asm__ volatile("" : "+r"(k));                                                    \
            t[k] = f[k];                                                                       \
        }                                                                                      \
    }
#define WALK(name, unit)                                                                       \
    static APART void name(void *to, const void *from, size_t size) {                          \
        unit *t = to;                                                                          \
        const unit *f = from;                                                                  \
        for (size /= sizeof(unit); size--;) {                                                  \
            __asm__ volatile("" : "+r"(size));                                                 \
            *t++ = *f++;                                                                       \
        }                                                                                      \
    }
COPY(by_bytes, unsigned char)
COPY(by_halves, half)
COPY(by_words, word)
COPY(by_pairs, pair)
WALK(bytes_on, unsigned char)
WALK(halves_on, half)
WALK(words_on, word)
WALK(pairs_on, pair)

static APART void seen(void) { __asm__ volatile("" ::: "memory"); }

static APART struct berth *fresh(void) {
    struct berth *b = malloc(BERTHS * sizeof *b);
    for (int i = 0; i < BERTHS; i++) {
        b[i].quay = 'a';
        b[i].ships = i;
    }
    return b;
}

/* Bytes of two blocks in turn. */
static APART void mix(unsigned char *to, const unsigned char *odd, const unsigned char *even, size_t n) {
    for (size_t k = 0; k < n; k++) {
        __asm__ volatile("" : "+r"(k));
        to[k] = k & 1 ? odd[k] : even[k];
    }
}

int main(void) {
    void (*const copies[])(void *, const void *, size_t) = {by_bytes, by_halves, by_words, by_pairs,
                                                            bytes_on, halves_on, words_on, pairs_on};
    enum { COPIES = sizeof copies / sizeof *copies };
    struct berth *from = fresh();
    long deep = 0;
    for (int c = 0; c < COPIES; c++) {
        struct berth *to = calloc(BERTHS, sizeof *to);
        for (int round = 0; round < 50; round++) {
            copies[c](to, from, BERTHS * sizeof *to);
            if (round % 16 == 15)
                memset(to + round % 5, 0, (BERTHS - 9) * sizeof *to);
        }
        for (int i = 0; i < BERTHS; i++)
            deep += to[i].ships + (to[i].quay == 'a');
        if (to[3 + c].depth > 5) // expect: uninitialized-value from=heap origin=45 count=8
            seen();
        free(to);
    }
    int *volatile unset = malloc(8);
    for (int c = 0; c < COPIES; c++) { /* to memory of which as much is undefined, from elsewhere */
        struct slip { int ship, mark; } *slips = malloc(BERTHS * sizeof *slips);
        for (int i = 0; i < BERTHS; i++)
            slips[i] = (struct slip){i, *unset};
        for (int round = 0; round < 10; round++) {
            struct slip *fresh_ones = malloc(BERTHS * sizeof *fresh_ones);
            for (int i = 0; i < BERTHS; i++)
                fresh_ones[i].ship = 1;
            copies[c](fresh_ones, slips, BERTHS * sizeof *slips);
            if (fresh_ones[7 + round].mark > 5) // expect: uninitialized-value from=heap origin=80 count=80
                seen();
            free(fresh_ones);
        }
        free(slips);
    }
    free(unset);
    unsigned char *odd = malloc(400);
    unsigned char *even = malloc(400), *mixed = malloc(400);
    for (int k = 0; k < 400; k += 8)
        odd[k + 1] = even[k + 4] = 7;
    for (int round = 0; round < 50; round++)
        mix(mixed, odd, even, 400);
    for (int k = 0; k < 400; k += 8)
        deep += mixed[k + 1] + mixed[k + 4];
    if (mixed[43] > 5) // expect: uninitialized-value from=heap origin=97
        seen();
    if (mixed[42] > 5) // expect: uninitialized-value from=heap origin=98
        seen();
    if (mixed[40] > 5) // expect: uninitialized-value from=heap origin=98
        seen();
    printf("%ld\n", deep);
    free(from);
    free(odd);
    free(even);
    free(mixed);
    return 0;
}

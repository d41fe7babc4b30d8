/* Undefined bytes moved about again and again, by every width of plain move and by the
   string instruction, until the ways that are quick for what was moved before are taken:
   what is moved stays undefined, is silent, and its ends are still the blocks'. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

struct berth {
    char quay;
    int length; /* never set */
    short depth;
    double fee;
};

enum { BERTHS = 64, ROUNDS = 50 };
volatile int seen;

__attribute__((noinline)) static void string_move(void *to, const void *from, long words) {
    while (words--)
        __asm__ volatile("movsq" : "+D"(to), "+S"(from) : : "memory"); // expect: out-of-bounds-read where=after count=1
}

__attribute__((noinline)) static void short_move(void *to, const void *from, long words) {
    while (words--)
        __asm__ volatile("movsl" : "+D"(to), "+S"(from) : : "memory"); // expect: out-of-bounds-write where=after count=1
}

#define MOVE(name, size, load, store, scratch, line)                                         \
    __attribute__((noinline)) static void name(void *to, const void *from, long bytes) {      \
        for (; bytes > 0; bytes -= size, to = (char *)to + size, from = (char *)from + size) {\
            __asm__ volatile(load " (%1)," scratch "\n\t" store " " scratch ",(%0)"           \
                             : : "r"(to), "r"(from) : "memory", "rax", "xmm3");               \
        }                                                                                     \
    }
MOVE(by_words, 8, "movq", "movq", "%%rax", )
MOVE(by_halves, 4, "movl", "movl", "%%eax", )
MOVE(by_vectors, 16, "movdqu", "movups", "%%xmm3", ) // expect: out-of-bounds-write where=after

/* Two words, both loaded before they are stored, in either order. */
__attribute__((noinline)) static void by_pairs(long *to, const long *from, long turned) {
    if (turned)
        __asm__ volatile("movq 8(%1),%%rcx\n\tmovq (%1),%%rax\n\t"
                         "movq %%rcx,8(%0)\n\tmovq %%rax,(%0)"
                         : : "r"(to), "r"(from) : "memory", "rax", "rcx");
    else
        __asm__ volatile("movq (%1),%%rax\n\tmovq 8(%1),%%rcx\n\t" // expect: out-of-bounds-read where=after count=1
                         "movq %%rax,(%0)\n\tmovq %%rcx,8(%0)"
                         : : "r"(to), "r"(from) : "memory", "rax", "rcx");
}

static int by_fee(const void *a, const void *b) {
    const struct berth *x = a, *y = b;
    return x->fee < y->fee ? -1 : x->fee > y->fee;
}

static void fill(struct berth *p) {
    for (int i = 0; i < BERTHS; i++) {
        p[i].quay = 'a';
        p[i].depth = 3;
        p[i].fee = (i * 37) % BERTHS;
    }
}

int main(void) {
    size_t size = BERTHS * sizeof(struct berth);
    struct berth *a = malloc(size), *b = malloc(size), *c = malloc(size); // origins
    fill(a);
    for (int round = 0; round < ROUNDS; round++) {
        string_move(b, a, size / 8);
        short_move(c, b, size / 4);
        by_words(b, c, size);
        by_halves(c, b, size);
        by_vectors(b, c, size);
        qsort(b, BERTHS, sizeof *b, by_fee);
        string_move(a, b, size / 8);
    }
    if (a[5].quay != 'a' || a[7].depth != 3 || b[3].fee != 3)
        seen++;
    if (a[9].length > 3) // expect: uninitialized-value
        seen++;
    if (b[9].length > 3) // expect: uninitialized-value
        seen++;
    /* the halves of a word: one set, one not; then the other way about */
    int *w = malloc(16), *v = malloc(16);
    for (int round = 0; round < ROUNDS; round++) {
        w[0] = round;
        string_move(v, w, 2);
        w[2] = round;
        by_vectors(v, w, 16);
    }
    if (v[0] + v[2] != 2 * (ROUNDS - 1))
        seen++;
    if (v[1] > 3) // expect: uninitialized-value
        seen++;
    v[1] = 1;
    string_move(w, v, 1);
    if (w[1] != 1)
        seen++;
    /* a block that ends within what is moved, after the part in front of it was */
    char *p = malloc(24), *q = malloc(24);
    for (int round = 0; round < ROUNDS; round++)
        string_move(q, p, 3), by_vectors(q, p, 16), by_vectors(q + 8, p + 8, 16);
    by_vectors(q + 16, c, 16);
    seen += q[24]; // expect: out-of-bounds-read where=after
    string_move(c, p, 4);
    short_move(q, c, 7);
    if (*(int *)(q + 20) > 3) // expect: uninitialized-value
        seen++;
    /* pairs of an undefined and a defined word; then both are undefined, then it is the other
       one, then the second does not belong to the block */
    long *pair = malloc(16), *copy = malloc(16), *last = malloc(8);
    pair[1] = 5;
    for (int round = 0; round < ROUNDS; round++)
        by_pairs(copy, pair, round & 1);
    if (copy[1] != 5)
        seen++;
    long *both = malloc(16);
    by_pairs(copy, both, 0);
    if (copy[1] > 3) // expect: uninitialized-value
        seen++;
    pair[0] = 7;
    for (int round = 0; round < ROUNDS; round++)
        by_pairs(copy, pair, round & 1);
    if (copy[0] != 7 || copy[1] != 5)
        seen++;
    for (int round = 0; round < ROUNDS; round++)
        by_pairs(copy, both, 1);
    if (copy[0] > 3) // expect: uninitialized-value
        seen++;
    by_pairs(copy, last, 0);
    free(pair), free(copy), free(last), free(both);
    free(p), free(q), free(w), free(v), free(a), free(b), free(c);
    printf("%d\n", seen);
    return 0;
}

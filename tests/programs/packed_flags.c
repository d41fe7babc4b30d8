/* Flags that share a byte with undefined ones, counters that nobody set, and the same in
   memory that must not be touched. */
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

struct berth {
    unsigned char flags;
    unsigned wide;
    long count;
};

static APART struct berth *make(void) {
    struct berth *b = malloc(sizeof *b);
    hide(b);
    b->flags &= 0xfc; /* two bits are known, six are not */
    hide(b);
    b->flags |= 1;
    hide(b);
    b->wide &= 0xff00ff;
    hide(b);
    b->wide |= 0xf0000000;
    hide(b);
    b->count += 3;
    hide(b);
    return b;
}

static APART int known(const struct berth *b) { /* again and again: in clean code, too */
    int n = 0;
    for (int i = 0; i < 50; i++) {
        hide(b);
        if (b->flags & 1)
            n++;
        hide(b);
        if (b->flags & 2)
            n += 100;
        hide(b);
        if ((b->wide & 0xf0000000) == 0xf0000000)
            n++;
        hide(b);
        if ((b->wide << 8 >> 16) & 0xff00 & 0x00ff)
            n += 100;
        hide(b);
        if (b->wide >> 28 & 8)
            n++;
    }
    return n;
}

static APART void unknown(const struct berth *b) {
    hide(b);
    if (b->flags & 1) /* what follows is asked for anew */
        seen();
    hide(b);
    if (b->flags & 4) // expect: uninitialized-value
        seen();
    hide(b);
}

static APART void counted(const struct berth *b) {
    if (b->count > 5) // expect: uninitialized-value
        seen();
}

static APART void widely(const struct berth *b) {
    if (b->wide & 0x10) // expect: uninitialized-value
        seen();
}

/* A test of bits in bytes of which some lie behind the block. */
static APART void behind(char *p) {
    __asm__ volatile("testl $0x01010101, (%0)" : : "r"(p) : "cc"); // expect: out-of-bounds-read
}
static APART void behind_too(char *p) {
    __asm__ volatile("testl $1, (%0)" : : "r"(p) : "cc"); // expect: out-of-bounds-read
}
static APART void added(long *p) {
    __asm__ volatile("addq $5, (%0)" : : "r"(p) : "memory", "cc"); // expect: out-of-bounds-read
}
static APART void freed(long *p) {
    *p += 7; // expect: use-after-free
}
static APART void masked(long *p) {
    *p |= 7; // expect: use-after-free
}

int main(void) {
    struct berth *b = make(), *c = make(), *d = make();
    if (known(b) != 150)
        return 1;
    unknown(b);
    counted(c);
    widely(d);
    char *p = calloc(1, 8);
    behind(p + 6);
    behind_too(p + 6);
    long *l = calloc(1, 24), *m = calloc(1, 24);
    added(l + 3);
    free(l), free(m), free(p);
    freed(l + 1);
    masked(m + 1);
    free(b), free(c), free(d);
    return 0;
}

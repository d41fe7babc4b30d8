/* memcpy and memmove of every short size: what they copy, define and find. */
#include <signal.h>
#include <setjmp.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static void *(*volatile copy)(void *, const void *, size_t) = memcpy;
static void *(*volatile move)(void *, const void *, size_t) = memmove;
static volatile int sink;
static APART void seen(void) { sink++; }
enum { MOST = 80 };

static unsigned char *numbered(size_t n) {
    unsigned char *p = malloc(n);
    for (size_t i = 0; i < n; i++)
        p[i] = (unsigned char)(i * 7 + 1);
    hide(p);
    return p;
}

static void check(const unsigned char *p, const unsigned char *q, size_t n) {
    for (size_t i = 0; i < n; i++)
        if (p[i] != q[i])
            exit(3);
}

APART static void fits(size_t n, size_t shift) {
    unsigned char *from = numbered(n + shift), *to = malloc(n + shift), local[MOST + 16];
    if (copy(to + shift, from + shift, n) != to + shift)
        exit(4);
    check(to + shift, from + shift, n);
    move(local + shift, to + shift, n);
    check(local + shift, from + shift, n);
    move(from, from + shift, n); /* overlapping */
    check(from, to + shift, n - (n > shift ? shift : n));
    move(to + shift, local + shift, n);
    free(to);
    free(from);
}

/* What lies around a copy stays as it was. */
APART static void leaves_the_rest(size_t n) {
    unsigned char *from = numbered(n), *to = malloc(n + 16);
    copy(to + 8, from, n);
    hide(to);
    if (to[7]) // expect: uninitialized-value from=heap count=80
        seen();
    if (to[n + 8]) // expect: uninitialized-value from=heap count=80
        seen();
    free(to);
    free(from);
}

APART static void goes_along(size_t n) {
    unsigned char *from = numbered(n + 8), *to = numbered(n);
    unsigned char *open = malloc(1);
    copy(from + n / 2, open, 1);
    copy(to, from, n);
    hide(to);
    for (size_t i = 0; i < n; i++)
        if (i != n / 2 && to[i] == 255)
            exit(5);
    if (to[n / 2]) // expect: uninitialized-value from=heap count=80
        seen();
    free(open);
    free(to);
    free(from);
}

APART static void too_far(size_t n) {
    unsigned char *from = numbered(n), *to = malloc(n - 1), *short_one = numbered(n - 1);
    copy(to, from, n); // expect: out-of-bounds-write count=79
    copy(from, short_one, n); // expect: out-of-bounds-read count=79
    free(to);
    free(from);
    free(short_one);
}

APART static void overlaps(size_t n) {
    unsigned char *p = numbered(2 * n);
    copy(p + n - 1, p, n); // expect: overlapping-copy count=78
    copy(p, p + n - 1, n); // expect: overlapping-copy count=78
    copy(p, p + n, n);
    copy(p + n, p, n);
    free(p);
}

APART static void is_gone(size_t n) {
    unsigned char *from = numbered(n), *to = numbered(n);
    free(to);
    copy(to, from, n); // expect: use-after-free count=80
    copy(from, to, n); // expect: use-after-free count=80
    free(from);
}

static sigjmp_buf back;
static void on_fault(int number) { (void)number; siglongjmp(back, 1); }

APART static void nowhere(size_t n) {
    unsigned char *p = numbered(n);
    if (!sigsetjmp(back, 1))
        copy((void *)16, p, n); // expect: null-dereference
    if (!sigsetjmp(back, 1))
        copy(p, (void *)0x123456789000, n); // expect: invalid-access
    free(p);
}

int main(void) {
    signal(SIGSEGV, on_fault);
    for (size_t n = 1; n <= MOST; n++) {
        for (size_t shift = 0; shift < 9; shift++)
            fits(n, shift);
        leaves_the_rest(n);
        goes_along(n);
        is_gone(n);
        if (n > 1)
            too_far(n);
        if (n > 2)
            overlaps(n);
        nowhere(n);
    }
    return 0;
}

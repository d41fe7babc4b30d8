/* Values that were never set, kept in registers while a library function is called for the first
   time (it is looked up and chosen then), and while an allocation fails. */
#include <errno.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static char text[64] = "quay", other[64] = "berth";

static APART void length(const int *a) {
    int v = *a;
    size_t n = strlen(text);
    if (v > (int)n) // expect: uninitialized-value from=heap
        sink = 1;
}

static APART void moved(const int *a) {
    int v = a[0], w = a[1];
    memmove(text + 1, text, 20 + (size_t)sink);
    hide(text);
    if (v > 3) // expect: uninitialized-value from=heap
        sink = 0;
    if (w > 3) // expect: uninitialized-value from=heap
        sink = 0;
}

static APART void compared(const int *a) {
    int v = *a;
    int order = strcmp(text, other);
    if (v > order) // expect: uninitialized-value from=heap
        sink = 0;
}

static APART void found(const int *a, int letter) {
    int v = *a, set = letter;
    char *at = strchr(text, letter);
    hide(at);
    if (set > 'z')
        sink = 1;
    if (v > 3) // expect: uninitialized-value from=heap
        sink = 0;
}

static APART void filled(const int *a) {
    int v = *a;
    memset(other, 'b', 20 + (size_t)sink);
    hide(other);
    if (v > 3) // expect: uninitialized-value from=heap
        sink = 0;
}

static APART void refused(const int *a, size_t size) {
    int v = a[0], w = a[1], x = a[2];
    void *p = malloc(size); // expect: invalid-size
    if (!p)
        sink = errno;
    hide(p);
    if (v > 3) // expect: uninitialized-value from=heap
        sink = 0;
    p = calloc(size, 4); // expect: invalid-size
    if (!p)
        sink = errno;
    hide(p);
    if (w > 3) // expect: uninitialized-value from=heap
        sink = 0;
    p = realloc(p, size); // expect: invalid-size
    if (!p)
        sink = errno;
    hide(p);
    if (x > 3) // expect: uninitialized-value from=heap
        sink = 0;
}

int main(void) {
    int *a = malloc(16 * sizeof *a);
    hide(a);
    length(a);
    moved(a + 1);
    compared(a + 3);
    found(a + 4, 'u');
    filled(a + 5);
    refused(a + 6, (size_t)1 << 46);
    free(a);
    return 0;
}

/* Texts of which the first byte was never set: it decides how far each function goes. And texts
   whose bytes behind the final zero were not: nobody reads them. */
#define _GNU_SOURCE
#include <stdlib.h>
#include <string.h>
#include <wchar.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile long sink;
static char room[300];
static wchar_t wide_room[30];

static APART char *unset(size_t size) {
    char *text = malloc(size);
    hide(text);
    text[size - 1] = 0;
    return text;
}

static APART void undefined(size_t size) {
    char *a = unset(size), *b = unset(size), *c = unset(size), *d = unset(size), *e = unset(size),
         *f = unset(size), *g = unset(size), *h = unset(size), *to = room;
    strcpy(to, a); // expect: uninitialized-value from=heap
    hide(to);
    sink = stpcpy(to, b) - to; // expect: uninitialized-value from=heap
    hide(to);
    to[0] = 0;
    strcat(to, c); // expect: uninitialized-value from=heap
    hide(to);
    sink = (long)strlen(d); // expect: uninitialized-value from=heap
    strncpy(to, e, 5); // expect: uninitialized-value from=heap
    hide(to);
    to[0] = 0;
    strncat(to, f, 5); // expect: uninitialized-value from=heap
    hide(to);
    sink = strcmp(g, "quay") < 0; // expect: uninitialized-value from=heap
    char *copy = strdup(h); // expect: uninitialized-value from=heap
    hide(copy);
    free(copy);
    free(a), free(b), free(c), free(d), free(e), free(f), free(g), free(h);
    wchar_t *w = malloc(size * sizeof *w), *into = wide_room;
    hide(w);
    w[size - 1] = 0;
    wcscpy(into, w); // expect: uninitialized-value from=heap
    hide(into);
    free(w);
}

static APART void short_ones(void) {
    char *a = malloc(200), *to = room;
    hide(a);
    for (int length = 0; length < 100; length += 7) {
        memset(a, 'q', (size_t)length);
        a[length] = 0;
        strcpy(to, a);
        hide(to);
        sink = stpcpy(to, a) - to;
        strncpy(to, a, 150);
        strcat(to, a);
        hide(to);
        if (strlen(to) != 2 * (size_t)length || strcmp(a, to) > 0)
            sink = 1;
        char *copy = strdup(a);
        hide(copy);
        if (copy[length])
            sink = 2;
        free(copy);
    }
    free(a);
}

int main(void) {
    undefined(9);
    short_ones();
    return 0;
}

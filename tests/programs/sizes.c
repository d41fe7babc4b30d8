/* Sizes nobody can mean; the guest sees the allocator refuse. */
#include <errno.h>
#include <stdint.h>
#include <stdlib.h>

int main(void) {
    volatile int have = 7;
    errno = 0;
    void *p = malloc((size_t)(3 - have)); // expect: invalid-size
    if (p || errno != ENOMEM)
        return 1;
    p = calloc(SIZE_MAX / 2, 8); // expect: invalid-size
    if (p)
        return 2;
    char *q = malloc(5);
    p = realloc(q, (size_t)-1); // expect: invalid-size
    if (p)
        return 3;
    free(q);
    return 0;
}

/* Blocks of every size up to well past the largest size class, and alignments. */
#include <stdint.h>
#include <stdlib.h>
#include <string.h>

int main(void) {
    static char *kept[64];
    for (size_t n = 0; n < 300000; n += n < 4096 ? 1 : 97) {
        char *p = malloc(n);
        if (!p || (uintptr_t)p % 16)
            return 1;
        if (n)
            p[0] = p[n - 1] = 1;
        free(kept[n % 64]);
        kept[n % 64] = p;
    }
    for (size_t a = 16; a <= 1u << 22; a *= 2) {
        void *p;
        if (posix_memalign(&p, a, 100) || (uintptr_t)p % a)
            return 2;
        memset(p, 1, 100);
        free(p);
        p = aligned_alloc(a, a * 3);
        if (!p || (uintptr_t)p % a)
            return 3;
        memset(p, 2, a * 3);
        free(p);
    }
    for (int i = 0; i < 64; i++)
        free(kept[i]);
    char *grown = 0;
    for (size_t n = 1; n < 40000000; n = n * 3 / 2 + 1) {
        grown = realloc(grown, n);
        grown[n - 1] = (char)n;
    }
    free(grown);
    return 0;
}

/* Aligned vectors that hold the last bytes of a block and some beyond: check sums of the
   system's libraries read them so on purpose and mask the rest out. In the program's own code
   that is a mistake. */
#include <dlfcn.h>
#include <emmintrin.h>
#include <stdint.h>
#include <stdlib.h>

#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")

static volatile int sink;

int main(void) {
    void *library = dlopen("liblzma.so.5", RTLD_NOW);
    uint64_t (*sum)(const uint8_t *, size_t, uint64_t) =
        library ? (uint64_t (*)(const uint8_t *, size_t, uint64_t))dlsym(library, "lzma_crc64") : NULL;
    for (size_t size = 1; sum && size < 70; size += 3) {
        uint8_t *p = malloc(size);
        for (size_t i = 0; i < size; i++)
            p[i] = (uint8_t)(i * 7);
        if (sum(p, size, 0) & 1)
            sink++;
        free(p);
    }
    if (sum) {
        uint8_t *p = malloc(37);
        for (size_t i = 0; i < 37; i++)
            if (i != 30)
                p[i] = (uint8_t)i;
        if (sum(p, 37, 0) == 5) // expect: uninitialized-value
            sink++;
        free(p);
    }
    char *p = malloc(10);
    for (int i = 0; i < 10; i++)
        p[i] = (char)i;
    hide(p);
    __asm__ volatile("" : : "x"(_mm_load_si128((const __m128i *)p))); // expect: out-of-bounds-read
    free(p);
}

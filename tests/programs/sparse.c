/* Of much memory that was asked for little is ever touched: what is there still keeps blocks, and
   what is lost is told, without going through all of it. */
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

enum { BERTHS = 40, DROPPED = 5 };

int main(void) {
    const size_t gib = (size_t)1 << 30;
    static void **volatile harbour, **volatile quay;
    harbour = mmap(NULL, 200 * gib, PROT_READ | PROT_WRITE,
                   MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    quay = calloc(8, gib);
    if (harbour == MAP_FAILED || !quay)
        return 0; /* there is not that much */
    for (size_t i = 0; i < BERTHS; i++) {
        harbour[i * 600000007 % (25 * gib)] = malloc(100 + i); // expect: leak class=unreachable blocks=5
        quay[i * 200000033 % gib] = malloc(300 + i);
    }
    void *odd = malloc(5000);
    memcpy((char *)harbour + 150 * gib + 4093, &odd, sizeof odd); /* across two pages */
    odd = NULL;
    for (size_t i = 0; i < DROPPED; i++)
        harbour[i * 600000007 % (25 * gib)] = NULL;
    return 0;
}

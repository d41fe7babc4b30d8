/* Words moved by string instructions, pushes and pops of memory: where their halves are from
   different places, each still says so. */
#include <stdio.h>
#include <stdlib.h>

#define APART __attribute__((noinline))
static volatile int sink;
static APART void seen(void) { sink++; }

static APART void by_movs(void *to, const void *from) {
    __asm__ volatile("movsq" : "+S"(from), "+D"(to) : : "memory");
}

static APART void by_lods(void *to, const void *from) {
    long value;
    __asm__ volatile("lodsq" : "=a"(value), "+S"(from) : : "memory");
    *(long *)to = value;
}

static APART void by_stos(void *to, const void *from) {
    __asm__ volatile("stosq" : "+D"(to) : "a"(*(const long *)from) : "memory");
}

static APART void by_push(void *to, const void *from) {
    __asm__ volatile("sub $128, %%rsp; push (%0); pop (%1); add $128, %%rsp"
                     : : "r"(from), "r"(to) : "memory");
}

static APART void check(const int *words) {
    if (words[0] > 5) // expect: uninitialized-value from=heap origin=39 count=20
        seen();
    if (words[1] > 5) // expect: uninitialized-value from=heap origin=38 count=20
        seen();
}

int main(void) {
    void (*const ways[])(void *, const void *) = {by_movs, by_lods, by_stos, by_push};
    int *volatile ships = malloc(64);
    int *volatile quays = malloc(32);
    for (int round = 0; round < 5; round++) {
        int from[2], to[2];
        from[0] = quays[2];
        from[1] = ships[3];
        for (int way = 0; way < 4; way++) {
            ways[way](to, from);
            check(to);
        }
    }
    free(ships);
    free(quays);
    printf("%d\n", sink < 0);
    return 0;
}

/* Leaf functions that keep a structure with undefined members below the stack pointer: what they
   leave there is undefined for the next one, and not from where the structure was. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;

struct berth {
    int number; /* four bytes of padding behind it */
    long length;
    char kind;
};

static APART void exchange(struct berth *a, struct berth *b) {
    struct berth t = *a;
    *a = *b;
    *b = t;
}

static APART void exchange_longer(struct berth *a, struct berth *b) {
    struct berth t = *a;
    if (t.length > 0)
        *a = *b;
    *b = t;
}

static APART void first(void) {
    long room[3];
    hide(room);
    if (room[0] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

static APART void second(void) {
    long room[3];
    hide(room);
    if (room[1] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

static APART void third(void) {
    long room[3];
    hide(room);
    if ((int)room[2] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

static APART void all(int at) {
    long room[4];
    hide(room);
    if (room[at] == 7) // expect: uninitialized-value from=stack variable=room
        sink = 1;
}

/* A copy is made on the stack, room and all, and given back; another one is put below the stack
   pointer only behind that, by a pointer, and is looked at. */
static APART long kept_below(const struct berth *from) {
    long number;
    __asm__ volatile("lea -512(%%rsp), %%rsp\n\t"
                     "movdqu (%1), %%xmm0\n\tsub $32, %%rsp\n\tmovups %%xmm0, (%%rsp)\n\t"
                     "mov 16(%1), %%rdx\n\tmov %%rdx, 16(%%rsp)\n\tadd $32, %%rsp\n\t"
                     "lea -24(%%rsp), %%rcx\n\tmov (%1), %%rax\n\tmov %%rax, (%%rcx)\n\t"
                     "mov (%%rcx), %0\n\tlea 512(%%rsp), %%rsp"
                     : "=r"(number)
                     : "r"(from)
                     : "rax", "rcx", "rdx", "xmm0", "memory");
    return number;
}

/* Its number stays where it was put, the rest is left behind. */
static APART long left_below(const struct berth *from, int at) {
    long rest;
    __asm__ volatile("lea -512(%%rsp), %%rsp\n\t"
                     "movdqu (%1), %%xmm0\n\tsub $32, %%rsp\n\tmovups %%xmm0, (%%rsp)\n\t"
                     "mov 16(%1), %%rax\n\tadd $16, %%rsp\n\tmov %%rax, 8(%%rsp)\n\t"
                     "lea (%%rsp,%2), %%rcx\n\tmov (%%rcx), %0\n\tlea 528(%%rsp), %%rsp"
                     : "=r"(rest)
                     : "r"(from), "r"((long)at)
                     : "rax", "rcx", "xmm0", "memory");
    return rest;
}

int main(void) {
    enum { COUNT = 20 };
    struct berth *berths = malloc(COUNT * sizeof *berths);
    for (int i = 0; i < COUNT; i++) {
        berths[i].number = i;
        if (i != 7)
            berths[i].length = 10 * i + 1;
        berths[i].kind = 'a';
    }
    hide(berths);
    for (int round = 0; round < 5; round++)
        for (int i = 0; i < 5; i++)
            exchange(&berths[i], &berths[COUNT - 1 - i]);
    first();
    for (int round = 0; round < 4; round++)
        exchange(&berths[7], &berths[8]);
    exchange(&berths[7], &berths[8]);
    second();
    exchange(&berths[7], &berths[8]);
    third();
    for (int i = 0; i < 5; i++)
        exchange_longer(&berths[i], &berths[COUNT - 1 - i]);
    all(3);
    int wrong = berths[0].number != 19 && berths[0].number != 0;
    if (berths[7].length == 71 || berths[8].length == 5) // expect: uninitialized-value from=heap origin=87
        sink = 2;
    if (berths[2].length == 3)
        sink = 3;
    for (int i = 9; i < COUNT; i++)
        if ((int)kept_below(&berths[i]) != berths[i].number || (char)left_below(&berths[i], 8) != 'a')
            sink = 4;
    if (kept_below(&berths[9]) >> 32 == 3) // expect: uninitialized-value from=heap origin=87
        sink = 5;
    if (left_below(&berths[9], 8) >> 32 == 3) // expect: uninitialized-value from=heap origin=87
        sink = 6;
    if (left_below(&berths[9], -16) == 3) // expect: uninitialized-value
        sink = 7;
    if (left_below(&berths[9], -8) == 3) // expect: uninitialized-value
        sink = 8;
    free(berths);
    return wrong;
}

/* Repeated string instructions carry undefined bits as they carry bytes: what is stored again and
   again, and what a copy onto itself reads again. */
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

static APART void fill(void *to, unsigned long count, unsigned char value) {
    __asm__ volatile("rep stosb" : "+D"(to), "+c"(count) : "a"(value) : "memory");
}
static APART void fill_words(void *to, unsigned long count, unsigned long value) {
    __asm__ volatile("rep stosq" : "+D"(to), "+c"(count) : "a"(value) : "memory");
}
static APART void copy(void *to, const void *from, unsigned long count) {
    __asm__ volatile("rep movsb" : "+D"(to), "+S"(from), "+c"(count) : : "memory");
}

static APART void stored(unsigned char *room) {
    unsigned char never;
    hide(&never);
    fill(room, 40, never);
    if (room[33] == 7) // expect: uninitialized-value from=stack variable=never
        seen();
    fill(room, 40, 3);
    if (room[33] == 7)
        seen();
}

static APART void stored_in_part(unsigned char *room) {
    unsigned pair[2];
    pair[0] = 5;
    hide(pair);
    fill_words(room, 4, *(unsigned long *)pair);
    if (((unsigned *)room)[4] == 7)
        seen();
    if (((unsigned *)room)[5] == 7) // expect: uninitialized-value from=stack variable=pair
        seen();
}

static APART void unpacked(unsigned char *room) { /* as LZ77 does: a copy of what it copies */
    unsigned char *run = malloc(3);
    hide(run);
    run[0] = run[1] = 'a';
    hide(run);
    for (int i = 0; i < 3; i++)
        room[i] = run[i];
    copy(room + 3, room, 30);
    if (room[30] == 'b' || room[31] == 'b')
        seen();
    if (room[32] == 'b') // expect: uninitialized-value from=heap
        seen();
    free(run);
}

int main(void) {
    unsigned char *room = calloc(1, 64);
    stored(room);
    stored_in_part(room);
    unpacked(room);
    free(room);
    return 0;
}

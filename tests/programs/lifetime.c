/* Blocks used or released after their time. */
#define _GNU_SOURCE
#include <malloc.h>
#include <stdlib.h>
#include <string.h>

#include <setjmp.h>

volatile int sink;
static jmp_buf back;

__attribute__((noinline)) static void leap(int n) {
    volatile char room[16];
    room[0] = (char)n;
    longjmp(back, 1);
}

/* Many frames are left without a return; stacks stay right all the same. */
__attribute__((noinline)) static char *after_leaps(void) {
    for (volatile int i = 0; i < 400000; i++)
        if (!setjmp(back))
            leap(i);
    char *volatile p = malloc(6);
    return p;
}

static void release(void *p) {
    free(p);
}

int main(void) {
    char *p = malloc(40);
    p[3] = 1;
    release(p);
    sink = p[3]; // expect: use-after-free size=40 offset=3 where=inside allocated=32 freed=28
    p[4] = 2; // expect: use-after-free size=40 offset=4 access=1
    free(p); // expect: double-free size=40
    char *late = after_leaps();
    sink = late[6]; // expect: out-of-bounds-read size=6 offset=6 allocated=23
    free(late);
    char *q = malloc(16);
    free(q + 1); // expect: invalid-free size=16 offset=1
    free(q);
    int local = 5;
    free(&local); // expect: invalid-free
    char *r = malloc(24);
    char *moved = realloc(r, 48);
    sink = r[0]; // expect: use-after-free size=24
    free(moved);
    moved = realloc(moved, 10); // expect: use-after-free size=48
    char *old = malloc(8);
    free(old);
    for (int i = 0; i < 1000; i++) /* held back from reuse all the while */
        free(malloc(8));
    sink = *old; // expect: use-after-free size=8 offset=0
    char *large = malloc(50 << 20);
    large[0] = 1;
    free(large);
    char *text = strdup("harbour");
    free(text);
    sink = (int)strlen(text); // expect: use-after-free size=8 offset=0
    return 0;
}

/* Stack frames: fresh ones, released ones, and return addresses. */
#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <ucontext.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")

static volatile int sink;
static APART void seen(void) { sink++; }

APART static int *dangling(void) {
    int local[8];
    for (int i = 0; i < 8; i++)
        local[i] = i;
    int *p = local;
    __asm__ volatile("" : "+r"(p) : : "memory");
    return p;
}

APART static void fill(volatile char *p, int n) {
    for (int i = 0; i < n; i++)
        p[i] = 1;
}

APART static void leave_traces(void) {
    char big[400];
    fill(big, sizeof big);
    hide(big);
}

APART static void fresh(void) { /* where the traces are */
    char mine[300];
    hide(mine);
    if (mine[100] == 1) // expect: uninitialized-value variable=mine
        seen();
}

/* Writes over its caller's return address, and puts it back. */
APART static void smash(void **frame, void *kept) {
    frame[0] = (void *)8; // expect: return-address-overwrite
    hide(frame);
    frame[0] = kept;
    hide(frame);
}

APART static void victim(void) {
    void **slot = (void **)__builtin_frame_address(0) + 1;
    __asm__ volatile("" : "+r"(slot));
    smash(slot, __builtin_return_address(0));
    seen();
}

static jmp_buf back;
APART static void deep(int n) {
    char room[64];
    fill(room, sizeof room);
    if (!n)
        longjmp(back, 1);
    deep(n - 1);
    hide(room);
}

/* What a longjmp skips was released. */
static int *skipped;
APART static void deeper(int n) {
    int room[40];
    for (int i = 0; i < 40; i++)
        room[i] = n;
    hide(room);
    skipped = &room[7];
    if (!n)
        longjmp(back, 1);
    deeper(n - 1);
    sink += room[n];
}
APART static void reuses(void) {
    int room[60];
    hide(room);
    if (room[20] == 3) // expect: uninitialized-value variable=room
        seen();
}

/* A coroutine's stack in a caller's frame: no release. */
static ucontext_t above, below;
static void inside(void) {
    for (;;)
        swapcontext(&below, &above);
}
APART static void in_frame(void) {
    char room[40000];
    int kept[50];
    for (int i = 0; i < 50; i++)
        kept[i] = i;
    hide(kept);
    getcontext(&below);
    below.uc_stack.ss_sp = room;
    below.uc_stack.ss_size = sizeof room;
    makecontext(&below, inside, 0);
    for (int i = 0; i < 10; i++)
        swapcontext(&above, &below);
    for (int i = 0; i < 50; i++)
        if (kept[i] != i)
            seen();
}

/* On a stack from the heap the callers are known as well. */
static void on_heap(void) {
    char *volatile p = malloc(99);
    p[99] = 1; // expect: out-of-bounds-write size=99 offset=99 allocated=111
    free(p);
    swapcontext(&below, &above);
}
static void start_on_heap(void) {
    char *stack = malloc(65536);
    getcontext(&below);
    below.uc_stack.ss_sp = stack;
    below.uc_stack.ss_size = 65536;
    makecontext(&below, on_heap, 0);
    swapcontext(&above, &below);
    free(stack);
}

static ucontext_t here, there;
static char stack[65536];
static void other(void) {
    for (int i = 0; i < 100; i++) {
        char room[200];
        memset(room, i, sizeof room);
        hide(room);
        swapcontext(&there, &here);
        if (room[5] == 1)
            seen();
    }
}

APART static int wide(int n) {
    char *p = __builtin_alloca((size_t)n);
    memset(p, 1, (size_t)n);
    hide(p);
    return p[n - 1];
}

int main(void) {
    int *p = dangling();
    sink += p[2]; // expect: use-after-return access=4 variable=local
    p[3] = 5;     // expect: use-after-return access=4
    leave_traces();
    fresh();
    victim();
    if (setjmp(back) == 0)
        deep(30);
    for (int turn = 0; turn < 2; turn++) {
        if (setjmp(back) == 0)
            deeper(5);
        if (turn)
            sink += *skipped; // expect: use-after-return access=4
        else
            reuses();
    }
    in_frame();
    start_on_heap();
    getcontext(&there);
    there.uc_stack.ss_sp = stack;
    there.uc_stack.ss_size = sizeof stack;
    there.uc_link = &here;
    makecontext(&there, other, 0);
    for (int i = 0; i < 50; i++)
        swapcontext(&here, &there);
    for (int i = 1; i < 200000; i *= 3)
        sink += wide(i);
    return 0;
}

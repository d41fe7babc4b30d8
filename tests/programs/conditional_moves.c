/* A move that depends on flags: what was there stays with where it is from, or what comes brings
   its own. */
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
static volatile int sink;
static APART void seen(void) { sink++; }
static APART void decide(const long *w) {
    if (*w) // expect: uninitialized-value from=heap origin=48
        seen();
}

/* The flag is 64 where it is taken. */
static APART long registers(long there, long coming, int flag) {
    __asm__ volatile("testl $64, %2\n\tcmovne %1, %0" : "+r"(there) : "r"(coming), "r"(flag) : "cc");
    return there;
}
static APART long memory(long there, const long *coming, int flag) {
    __asm__ volatile("testl $64, %2\n\tcmovne %1, %0" : "+r"(there) : "m"(*coming), "r"(flag) : "cc");
    return there;
}
static APART int narrow(int there, int coming, int flag) {
    __asm__ volatile("testl $64, %2\n\tcmovne %1, %0" : "+r"(there) : "r"(coming), "r"(flag) : "cc");
    return there;
}

static APART void first(const long *u, const long *o) {
    long w[7] = {registers(*u, 3, 0),    registers(*u, *o, 0), registers(*o, *u, 64),
                 registers(3, *u, 64),   memory(*o, u, 64),    memory(*u, o, 0),
                 narrow((int)*u, 3, 0)};
    for (int k = 0; k < 7; k++) {
        __asm__ volatile("" : : "r"(w) : "memory");
        if (w[k]) // expect: uninitialized-value from=heap origin=47 count=7
            seen();
    }
}
static APART void second(const long *u, const long *o) {
    long w = registers(*u, *o, 64);
    decide(&w);
    w = memory(*o, u, 0);
    decide(&w);
}

int main(void) {
    long *u, *o;
    for (int k = 0; k < 2; k++) {
        u = malloc(8);
        o = malloc(16);
        __asm__ volatile("" : "+r"(u), "+r"(o) : : "memory");
        if (k == 0)
            first(u, o);
        else
            second(u, o);
        free(u);
        free(o);
    }
    return 0;
}

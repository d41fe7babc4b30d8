/* Arrays whose length the run decides: where a function has one, it is told by its name. */
#include <alloca.h>

#define APART __attribute__((noinline, noclone))
static volatile int sink;
static APART void seen(void) { sink++; }
static APART void touch(void *p) { __asm__ volatile("" : : "r"(p) : "memory"); }

static APART void one(int n) {
    int berths[n], fixed[3];
    touch(fixed);
    touch(berths);
    if (berths[1] > 3) // expect: uninitialized-value from=stack variable=berths declared=10
        seen();
    if (berths[n - 1] > 3) // expect: uninitialized-value from=stack variable=berths
        seen();
    if (fixed[1] > 3) // expect: uninitialized-value from=stack variable=fixed
        seen();
}

/* Which of two it is cannot be told. */
static APART void two(int n) {
    int berths[n], cranes[n];
    touch(berths);
    touch(cranes);
    if (berths[1] > 3) // expect: uninitialized-value from=stack unlike=cranes
        seen();
    if (cranes[1] > 3) // expect: uninitialized-value from=stack unlike=berths
        seen();
}

static APART void three(int n) {
    int *p = alloca((unsigned long)n * sizeof *p), n2 = n;
    touch(p);
    touch(&n2);
    if (p[1] > 3) // expect: uninitialized-value from=stack unlike=n2
        seen();
}

int main(int argc, char **argv) {
    (void)argv;
    one(argc + 4);
    two(argc + 4);
    three(argc + 4);
    return 0;
}

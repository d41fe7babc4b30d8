/* Variables that share a word, and words that are each from another place: what is copied of one
   says nothing of its neighbour. */
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }

struct sign {
    char letters[6];
};

static APART void signs(struct sign *to) {
    struct sign first, second, third;
    hide(&first);
    hide(&second);
    hide(&third);
    {
        struct sign all[3];
        all[0] = first;
        all[1] = second;
        all[2] = all[0];
        hide(all);
        first = all[1];
    }
    hide(&first);
    hide(&second);
    *to = second;
    hide(to);
    if (second.letters[5] >= 6) // expect: uninitialized-value from=stack variable=second
        seen();
    hide(&third);
    if (third.letters[0] >= 6) // expect: uninitialized-value from=stack variable=third
        seen();
    if (third.letters[1] >= 6) // expect: uninitialized-value from=stack variable=third
        seen();
    if (third.letters[2] >= 6) // expect: uninitialized-value from=stack variable=third
        seen();
}

static APART int get(const int *p, int i) { return p[i]; }

static const int turned[8] = {7, 6, 5, 4, 3, 2, 1, 0};

/* The fifth of `load` is from `other`. */
static APART void turn(void) {
    int load[9], there[8], other[9];
    hide(load);
    hide(there);
    hide(other);
    load[5] = get(other, 7);
    if (__builtin_cpu_supports("avx2"))
        __asm__ volatile("vmovdqu %1, %%ymm0\n\tvpermd %2, %%ymm0, %%ymm0\n\tvmovdqu %%ymm0, %0\n\tvzeroupper"
                         : "=m"(*(char(*)[32])there)
                         : "m"(turned), "m"(*(char(*)[32])(load + 1))
                         : "xmm0");
    else
        for (int i = 0; i < 8; i++)
            there[i] = load[8 - i];
    hide(there);
    if (there[0] > 100) // expect: uninitialized-value from=stack variable=load
        seen();
    if (there[3] > 100) // expect: uninitialized-value from=stack variable=other
        seen();
    if (there[7] > 100) // expect: uninitialized-value from=stack variable=load
        seen();
}

int main(void) {
    struct sign *sign = malloc(sizeof *sign);
    signs(sign);
    turn();
    free(sign);
    return 0;
}

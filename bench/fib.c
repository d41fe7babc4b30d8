/* Naive deep recursion: calls and returns, and nothing else. */
#include <stdio.h>

static int fib(int n) { return n < 2 ? n : fib(n - 1) + fib(n - 2); }

int main(void) {
    printf("%d\n", fib(38));
    return 0;
}

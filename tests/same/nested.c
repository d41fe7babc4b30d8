/* Functions inside functions: their addresses are those of code on the stack, which is
   written anew in each round. */
#define _GNU_SOURCE
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>

static int apply(int (*f)(int), int x) { return f(x); }

static void *sort(void *argument) {
    int bias = *(int *)argument, compared = 0, values[50];
    int compare(const void *a, const void *b) {
        compared++;
        return *(const int *)a - *(const int *)b + bias - 1;
    }
    for (int i = 0; i < 50; i++)
        values[i] = i * 37 % 50;
    qsort(values, 50, sizeof *values, compare);
    printf("%d %d %d\n", values[0], values[49], compared > 50);
    return NULL;
}

int main(int argc, char **argv) {
    int sum = 0;
    (void)argv;
    sort(&argc);
    for (int k = 0; k < 3000; k++) {
        int add(int x) { return x + k; }
        sum += apply(add, 1);
    }
    printf("%d\n", sum);
    pthread_t thread;
    pthread_create(&thread, NULL, sort, &argc);
    pthread_join(thread, NULL);
    return 0;
}

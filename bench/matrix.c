/* Naive matrix product: loads from heap blocks in the inner loop. */
#include <stdio.h>
#include <stdlib.h>

int main(void) {
    int n = 400;
    double *a = malloc(sizeof(double) * n * n), *b = malloc(sizeof(double) * n * n);
    double *c = calloc((size_t)n * n, sizeof(double));
    for (int i = 0; i < n * n; i++) {
        a[i] = i;
        b[i] = i * 2;
    }
    for (int r = 0; r < 4; r++)
        for (int i = 0; i < n; i++)
            for (int j = 0; j < n; j++) {
                double s = 0;
                for (int k = 0; k < n; k++)
                    s += a[i * n + k] * b[k * n + j];
                c[i * n + j] += s;
            }
    printf("%f\n", c[17]);
    return 0;
}

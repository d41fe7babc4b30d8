/* setuid goes to every thread by a signal and waits for all of them, while threads begin and
   end: no signal may be lost between a call that changes the mask and the next. */
#include <pthread.h>
#include <unistd.h>

enum { ROUNDS = 2500, THREADS = 4 };

static void *change(void *failed) {
    if (setuid(getuid()))
        *(volatile int *)failed = 1;
    return NULL;
}

int main(void) {
    int failed = 0;
    for (int round = 0; round < ROUNDS; round++) {
        pthread_t threads[THREADS];
        for (int k = 0; k < THREADS; k++)
            if (pthread_create(&threads[k], NULL, change, &failed))
                return 2;
        for (int k = 0; k < THREADS; k++)
            pthread_join(threads[k], NULL);
    }
    return failed;
}

/* A thread cancelled in a handler on an alternate stack: the unwinder reads the return addresses
   of one stack while it runs on another, and every cleanup has its turn. */
#include <pthread.h>
#include <signal.h>
#include <stdlib.h>
#include <unistd.h>

#define APART __attribute__((noinline))
static int handled[2], cleanups;

static void clean(void *digit) { cleanups = cleanups * 10 + (int)(long)digit; }

static APART void wait_within(void) {
    pthread_cleanup_push(clean, (void *)1L);
    write(handled[1], "x", 1);
    for (;;)
        pause();
    pthread_cleanup_pop(0);
}

static void handle(int number) {
    pthread_cleanup_push(clean, (void *)2L);
    wait_within();
    pthread_cleanup_pop(0);
    (void)number;
}

static APART void wait_for_signals(void) {
    pthread_cleanup_push(clean, (void *)3L);
    write(handled[1], "x", 1);
    for (;;)
        pause();
    pthread_cleanup_pop(0);
}

static void *work(void *stack) {
    stack_t s = {.ss_sp = stack, .ss_size = 65536};
    sigaltstack(&s, NULL);
    wait_for_signals();
    return NULL;
}

int main(void) {
    pthread_t thread;
    char told;
    struct sigaction a = {.sa_handler = handle, .sa_flags = SA_ONSTACK};
    void *stack = malloc(65536);
    if (pipe(handled) || sigaction(SIGHUP, &a, NULL) || pthread_create(&thread, NULL, work, stack))
        return 1;
    if (read(handled[0], &told, 1) != 1)
        return 2;
    pthread_kill(thread, SIGHUP);
    if (read(handled[0], &told, 1) != 1)
        return 3;
    pthread_cancel(thread);
    pthread_join(thread, NULL);
    free(stack);
    close(handled[0]);
    close(handled[1]);
    return cleanups == 123 ? 0 : 4;
}

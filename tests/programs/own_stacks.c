/* Functions on stacks that the program made for itself: their unset variables are told by name,
   and not as the block that the stack is in. */
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <ucontext.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
enum { SIZE = 65536 };
static volatile int sink;
static APART void seen(void) { sink++; }

static APART int room(void) {
    long wide[9];
    hide(wide);
    for (int i = 0; i < 9; i++)
        if (wide[i] == 7) // expect: uninitialized-value from=stack variable=wide
            seen();
    return sink;
}

static APART int narrow(void) {
    int few[5];
    hide(few);
    for (int i = 0; i < 5; i++)
        if (few[i] == 8) // expect: uninitialized-value from=stack variable=few
            seen();
    return sink;
}

static APART int handled(void) {
    short at[6];
    hide(at);
    for (int i = 0; i < 6; i++)
        if (at[i] == 9) // expect: uninitialized-value from=stack variable=at
            seen();
    return sink;
}

/* A block that is no stack. */
static APART int plain(void) {
    int *p = malloc(40);
    hide(p);
    if (p[3] == 4) // expect: uninitialized-value from=heap
        seen();
    free(p);
    return sink;
}

static ucontext_t here, there;

static void work(void) {
    sink += room();
    sink += plain();
    sink += narrow();
    swapcontext(&there, &here);
}

static void on_signal(int number) { sink += handled() + number; }

static void run_on(void *stack) {
    getcontext(&there);
    there.uc_stack.ss_sp = stack;
    there.uc_stack.ss_size = SIZE;
    there.uc_link = &here;
    makecontext(&there, work, 0);
    swapcontext(&here, &there);
}

int main(void) {
    char *heap = malloc(SIZE), *other = malloc(SIZE);
    char *mapped = mmap(NULL, SIZE, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    run_on(heap);
    stack_t alternate = {.ss_sp = other, .ss_size = SIZE};
    sigaltstack(&alternate, NULL);
    struct sigaction how;
    memset(&how, 0, sizeof how);
    how.sa_handler = on_signal;
    how.sa_flags = SA_ONSTACK;
    sigaction(SIGUSR1, &how, NULL);
    raise(SIGUSR1);
    run_on(mapped);
    alternate.ss_flags = SS_DISABLE;
    sigaltstack(&alternate, NULL);
    munmap(mapped, SIZE);
    free(heap);
    free(other);
    return 0;
}

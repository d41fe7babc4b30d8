/* Correct code that fools a naive checker: nothing may be found. */
#define _GNU_SOURCE
#include <pthread.h>
#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <ucontext.h>
#include <unistd.h>
#include <wchar.h>

static volatile int ticks, sink;
static void on_tick(int n) { ticks++; }

static void *worker(void *argument) {
    long sum = 0;
    for (int i = 0; i < 2000; i++) {
        char *p = malloc((size_t)(i % 100) + 1);
        memset(p, i, (size_t)(i % 100) + 1);
        sum += p[i % 100];
        free(p);
    }
    return (void *)sum;
}

static void *brief(void *argument) { return argument; }

static ucontext_t home, away;
static void coroutine(void) {
    for (int i = 0; i < 3; i++)
        swapcontext(&away, &home);
}

static int compare_int(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }

static jmp_buf out;
static void deep(int n) {
    volatile char room[200];
    room[0] = (char)n;
    if (n == 0)
        longjmp(out, 1);
    deep(n - 1);
}

static volatile long depth_sum;
__attribute__((noinline)) static void descend(long n) {
    if (n)
        descend(n - 1);
    depth_sum += n;
}
static void *descend_far(void *argument) { /* deeper than any record of calls */
    descend(900000);
    free(malloc(10));
    return 0;
}

/* A text goes into a hash by words: what lies behind it is masked away. */
__attribute__((noinline)) static unsigned by_words(const unsigned *text, unsigned length) {
    unsigned hash = 0;
    for (; length >= 4; length -= 4)
        hash = hash * 31 + *text++;
    if (length == 3) {
        unsigned word;
        __asm__ volatile("mov (%1), %0\n and $0xffffff, %0" : "=r"(word) : "r"(text) : "memory", "cc");
        hash += word;
    }
    return hash;
}

int main(void) {
    pthread_attr_t attributes;
    pthread_t diver;
    pthread_attr_init(&attributes);
    pthread_attr_setstacksize(&attributes, 256 << 20);
    pthread_create(&diver, &attributes, descend_far, 0);
    pthread_join(diver, 0);
    for (size_t n = 1; n < 300; n++) { /* texts that end at the block's end */
        char *s = malloc(n);
        memset(s, 'a', n - 1);
        s[n - 1] = 0;
        char *copy = strdup(s);
        if (strlen(s) != n - 1 || strcmp(s, copy) || strchr(s, 'b') || memchr(s, 'b', n) ||
            strrchr(s, 0) != s + n - 1 || strnlen(s, n) != n - 1 || strcasecmp(s, copy) ||
            strspn(s, "a") != n - 1 || strstr(s, "ab"))
            return 1;
        if (n % 4 != 3 || !by_words((unsigned *)s, (unsigned)n))
            by_words((unsigned *)copy, (unsigned)n / 4 * 4);
        free(copy);
        free(s);
    }
    wchar_t *w = malloc(4 * sizeof *w);
    wcscpy(w, L"bay");
    if (wcslen(w) != 3)
        return 2;
    free(w);
    pthread_t threads[8];
    for (int i = 0; i < 8; i++)
        pthread_create(&threads[i], 0, worker, 0);
    for (int i = 0; i < 8; i++)
        pthread_join(threads[i], 0);
    for (int round = 0; round < 20; round++) { /* a storm of short lives */
        pthread_t many[60];
        for (int i = 0; i < 60; i++)
            if (pthread_create(&many[i], 0, brief, 0))
                return 8;
        for (int i = 0; i < 60; i++)
            pthread_join(many[i], 0);
    }
    signal(SIGALRM, on_tick);
    ualarm(1000, 1000);
    while (ticks < 50)
        sink++;
    ualarm(0, 0);
    char *stack = malloc(65536);
    getcontext(&away);
    away.uc_stack.ss_sp = stack;
    away.uc_stack.ss_size = 65536;
    away.uc_link = &home;
    makecontext(&away, coroutine, 0);
    for (int i = 0; i < 4; i++)
        swapcontext(&home, &away);
    free(stack);
    for (int i = 0; i < 20; i++)
        if (!setjmp(out))
            deep(50);
    int numbers[500];
    for (int i = 0; i < 500; i++)
        numbers[i] = (i * 7919) % 500;
    qsort(numbers, 500, sizeof numbers[0], compare_int);
    int fds[2];
    if (pipe(fds))
        return 3;
    pid_t child = fork();
    if (child == 0) {
        if (write(fds[1], "tide", 4) != 4)
            _exit(1);
        _exit(0);
    }
    char buffer[8];
    if (read(fds[0], buffer, sizeof buffer) != 4)
        return 4;
    int status;
    waitpid(child, &status, 0);
    close(fds[0]);
    close(fds[1]);
    unsigned char *code = mmap(0, 4096, 7, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    memcpy(code, "\xb8\x2a\0\0\0\xc3", 6); /* mov eax, 42; ret */
    if (((int (*)(void))code)() != 42)
        return 5;
    memcpy(code, "\xb8\x2b\0\0\0\xc3", 6); /* rewritten in place: mov eax, 43 */
    if (((int (*)(void))code)() != 43)
        return 9;
    for (int i = 0; i < 200; i++) {
        *(volatile int *)(code + 1) = i;
        if (((int (*)(void))code)() != i)
            return 10;
    }
    FILE *pipe_in = popen("echo quiet", "r");
    char *line = 0;
    size_t room = 0;
    if (getline(&line, &room, pipe_in) != 6)
        return 6;
    free(line);
    pclose(pipe_in);
    return numbers[499] == 499 && status == 0 ? 0 : 7;
}

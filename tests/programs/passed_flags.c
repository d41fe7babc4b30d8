/* Flags that pass through calls: of a routine that touches none and has many entries, and of one
   that a signal's handler makes the thread call, which puts them back. */
#define _GNU_SOURCE
#include <signal.h>
#include <stdint.h>
#include <stdlib.h>
#include <sys/time.h>
#include <time.h>
#include <ucontext.h>

#define APART __attribute__((noinline))
volatile long visits;

/* 96 steps of 4 bytes, as compilers zero memory: entered so that as many are left as are needed. */
void steps(void);
__asm__(".text\n.globl steps\n.type steps, @function\nsteps:\n"
        ".rept 96\nlea 1(%rdi),%rdi\n.endr\n"
        "ret\n.size steps, . - steps");

long go(long from, void *entry);
__asm__(".text\n.type go, @function\ngo: sub $8, %rsp\ncall *%rsi\nadd $8, %rsp\nmov %rdi, %rax\nret\n"
        ".size go, . - go");

/* 1 where a is not above b, -1 where it is; 99: not all steps were taken. */
#define CALL_STEPS(left) "call steps + 4 * (96 - " #left ")\n"
long compared(long a, long b);
__asm__(".text\n.type compared, @function\ncompared:\n"
        "sub $24, %rsp\n"
        "mov %rdi, %rdx\n"
        "xor %edi, %edi\n"
        "xor %ecx, %ecx\n"
        "cmp %rsi, %rdx\n"
        "mov %rdx, 8(%rsp)\n" CALL_STEPS(20) "mov 8(%rsp), %rdx\n"
        "ja 1f\n"
        "inc %rcx\n"
        "1: cmp %rsi, %rdx\n" CALL_STEPS(90)
        "jbe 2f\n"
        "dec %rcx\n"
        "2: mov $99, %eax\n"
        "cmp $110, %rdi\n"
        "cmove %rcx, %rax\n"
        "add $24, %rsp\n"
        "ret\n.size compared, . - compared");

void visit(void);
__asm__(".text\n.globl visit\n.type visit, @function\nvisit:\n"
        "pushfq\npush %rax\npush %r12\n"
        "mov visits@GOTPCREL(%rip), %rax\nincq (%rax)\nxor %r12d, %r12d\n"
        "pop %r12\npop %rax\npopfq\nret $128\n.size visit, . - visit");

static void stop(int number, siginfo_t *info, void *context) {
    (void)number;
    (void)info;
    greg_t *r = ((ucontext_t *)context)->uc_mcontext.gregs;
    r[REG_RSP] -= 128 + 8; /* over the red zone */
    *(uint64_t *)(uintptr_t)r[REG_RSP] = (uint64_t)r[REG_RIP];
    r[REG_RIP] = (greg_t)(uintptr_t)visit;
}

static APART long interrupted(long a, long b) {
    long wrong = 0;
    for (int round = 0; round < 200; round++)
        __asm__ volatile("cmp %2, %1\nnop\nmov %1, %%rax\nnop\nja 1f\ninc %0\n"
                         "1: cmp %1, %2\nlea 4(%%rax), %%rax\nnop\njae 2f\njmp 3f\n2: inc %0\n3:"
                         : "+r"(wrong) : "r"(a), "r"(b) : "cc", "rax");
    return wrong;
}

int main(void) {
    long wrong = 0;
    for (int left = 1; left <= 96; left++)
        wrong += go(7, (char *)(uintptr_t)steps + 4 * (96 - left)) != 7 + left;
    for (long k = 0; k < 300; k++)
        wrong += compared(k, 100) != (k > 100 ? -1 : 1);
    struct sigaction s = {.sa_sigaction = stop, .sa_flags = SA_SIGINFO | SA_RESTART};
    struct itimerval every = {{0, 500}, {0, 500}};
    sigaction(SIGALRM, &s, NULL);
    setitimer(ITIMER_REAL, &every, NULL);
    for (time_t end = time(NULL) + 5; visits < 400 && time(NULL) < end;)
        wrong += interrupted(5, 3);
    every = (struct itimerval){{0, 0}, {0, 0}};
    setitimer(ITIMER_REAL, &every, NULL);
    return wrong ? 3 : visits ? 0 : 4;
}

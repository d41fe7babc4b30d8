/* Code made while running, with conventions of its own: flags as results, faults that
   the program's handler mends, memory mapped twice, stacks on the heap. */
#define _GNU_SOURCE
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

static uint8_t *code, *data;

static void mend(int number, siginfo_t *info, void *context) {
    (void)number;
    (void)context;
    mprotect((void *)((uintptr_t)info->si_addr & ~4095ul), 4096, PROT_READ | PROT_WRITE);
}

/* Written through one mapping, executed through another. */
static void twice(void) {
    int file = memfd_create("code", 0);
    ftruncate(file, 8192);
    uint8_t *run = mmap(0, 8192, PROT_READ | PROT_EXEC, MAP_SHARED, file, 0);
    uint8_t *write_here = mmap(0, 4096, PROT_READ | PROT_WRITE, MAP_SHARED, file, 4096);
    int sum = 0;
    for (int i = 0; i < 100; i++) {
        uint8_t number[] = {0xb8, (uint8_t)i, 0, 0, 0, 0xc3};
        memcpy(write_here + 8, number, sizeof number);
        for (int k = 0; k < 3; k++)
            sum += ((int (*)(void))(run + 4104))();
    }
    munmap(write_here, 4096);
    write_here = mmap(0, 8192, PROT_READ | PROT_WRITE, MAP_SHARED, file, 0);
    write_here[4105] = 3;
    printf("%d %d\n", sum, ((int (*)(void))(run + 4104))());
    close(file);
}

/* A collector looks through a stack that generated code has on the heap. */
static int found;
static void collect(const long *sp) {
    for (int i = 0; i < 4; i++)
        if (sp[i] > 4096)
            found++;
}

static void own_stack(void) {
    static const uint8_t bytes[] = {
        0x55, 0x41, 0x55, 0x48, 0x89, 0xe5, 0x48, 0x89, 0xfc, /* push rbp, r13; mov rbp, rsp; mov rsp, rdi */
        0xe8, 7, 0, 0, 0,                                     /* call what follows the ret */
        0x48, 0x89, 0xec, 0x41, 0x5d, 0x5d, 0xc3,             /* mov rsp, rbp; pop r13, rbp; ret */
        0x49, 0x89, 0xe5, 0x48, 0x89, 0xec, 0x48, 0x83, 0xec, 8, /* mov r13, rsp; mov rsp, rbp; sub rsp, 8 */
        0x4c, 0x89, 0xef, 0xff, 0xd6,                         /* mov rdi, r13; call rsi */
        0x4c, 0x89, 0xec, 0xc3};                              /* mov rsp, r13; ret */
    memcpy(code + 256, bytes, sizeof bytes);
    long *stack = malloc(8192);
    memset(stack + 1000, 0, 192); /* what is below gets a return address */
    for (int i = 0; i < 10; i++)
        ((void (*)(long *, void *))(code + 256))(stack + 1000, (void *)collect);
    printf("%d\n", found);
    free(stack);
}

int main(void) {
    code = mmap(0, 8192, PROT_READ | PROT_WRITE | PROT_EXEC, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    data = mmap(0, 4096, PROT_READ, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    /* tells by the carry whether edi is odd: bt edi, 0; cmc; cmc; ret */
    static const uint8_t odd[] = {0x0f, 0xba, 0xe7, 0, 0xf5, 0xf5, 0xc3};
    /* call odd; setc al; movzx eax, al; jo (never); ret -- and by a register */
    static const uint8_t direct[] = {0xe8, 0xeb, 0xff, 0xff, 0xff, 0x0f, 0x92, 0xc0, 0x0f, 0xb6, 0xc0, 0xc3};
    static const uint8_t by_register[] = {0x48, 0x89, 0xf0, 0xff, 0xd0, 0xb8, 2, 0, 0, 0,
                                          0x83, 0xd0, 0, 0xc3}; /* mov rax, rsi; call rax; mov eax, 2; adc eax, 0 */
    memcpy(code, odd, sizeof odd);
    memcpy(code + 16, direct, sizeof direct);
    memcpy(code + 48, by_register, sizeof by_register);
    int (*first)(int) = (int (*)(int))(code + 16);
    int (*second)(int, void *) = (int (*)(int, void *))(code + 48);
    int sum = 0;
    for (int i = 0; i < 1000; i++)
        sum += first(i) + 10 * second(i, code);
    printf("%d\n", sum);

    /* mov [rdi], esi; ret: the page is not to be written at first */
    static const uint8_t store[] = {0x89, 0x37, 0xc3};
    memcpy(code + 128, store, sizeof store);
    struct sigaction a = {.sa_sigaction = mend, .sa_flags = SA_SIGINFO};
    sigaction(SIGSEGV, &a, 0);
    ((void (*)(void *, int))(code + 128))(data + 8, 77);
    printf("%d\n", data[8]);

    /* code that comes by a system call, over code that has run */
    static const uint8_t nine[] = {0xb8, 9, 0, 0, 0, 0xc3}, four[] = {0xb8, 4, 0, 0, 0, 0xc3};
    int ends[2];
    pipe(ends);
    memcpy(code + 4096, nine, sizeof nine);
    int (*number)(void) = (int (*)(void))(code + 4096);
    printf("%d\n", number());
    write(ends[1], four, sizeof four);
    printf("%zd\n", read(ends[0], code + 4096, sizeof four));
    printf("%d\n", number());
    twice();
    own_stack();
    return 0;
}

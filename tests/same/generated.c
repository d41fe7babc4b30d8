/* Code made while running, with conventions of its own: flags as results, faults that
   the program's handler mends. */
#define _GNU_SOURCE
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

static uint8_t *code, *data;

static void mend(int number, siginfo_t *info, void *context) {
    (void)number;
    (void)context;
    mprotect((void *)((uintptr_t)info->si_addr & ~4095ul), 4096, PROT_READ | PROT_WRITE);
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
    return 0;
}

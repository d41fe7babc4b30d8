/* Arrays of varying length whose room is given back right before their last reads, as compilers
   order them at times. */
#include <stdlib.h>

#define APART __attribute__((noinline, noclone))
static volatile int sink;

struct two {
    long set, open;
};
long *kept;

/* Room for so many bytes, of which the first eight are set to 7; both words are read when it is
   given back. */
struct two given_back(long bytes);
__asm__(".text\n.globl given_back\n.type given_back, @function\ngiven_back:\n"
        "  push %rbp\n  mov %rsp, %rbp\n  push %rbx\n  push %rbx\n"
        "  mov %rsp, %rcx\n  sub %rdi, %rsp\n  mov %rsp, %rbx\n"
        "  movq $7, (%rbx)\n"
        "  mov %rcx, %rsp\n"
        "  mov (%rbx), %rax\n  mov 8(%rbx), %rdx\n"
        "  mov kept@GOTPCREL(%rip), %rcx\n  mov %rbx, (%rcx)\n"
        "  lea -8(%rbp), %rsp\n  pop %rbx\n  pop %rbp\n  ret\n"
        ".size given_back, . - given_back\n");

static APART void near(int round) {
    struct two x = given_back(64);
    if (x.set != 7)
        abort();
    if (round == 29 && x.open > 3) // expect: uninitialized-value from=stack
        sink = 1;
}

static APART void far(void) {
    struct two x = given_back(512);
    if (x.set != 7)
        abort();
}

static APART void later(void) {
    sink = (int)*kept; // expect: use-after-return
}

int main(void) {
    for (int round = 0; round < 30; round++)
        far(), near(round);
    given_back(512);
    later();
    return 0;
}

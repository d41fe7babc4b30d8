/* A function without a frame fills its part of the red zone by address before it names it; another
   function jumps to it, behind a call that has left its frame there. */
__asm__(".text\n"
        "other: sub $56, %rsp\nmovl $1, 8(%rsp)\nadd $56, %rsp\nret\n"
        "leaf: lea -0x2c(%rsp), %rdi\nmov $7, %ecx\nxor %eax, %eax\nrep stosl\n"
        "mov -0x20(%rsp), %eax\nret\n"
        "far_leaf: lea -0x78(%rsp), %rdx\nmovl $3, (%rdx)\nmovl $4, 4(%rdx)\nmov (%rdx), %eax\nret\n"
        ".globl jumps, jumps_far\n"
        "jumps: sub $8, %rsp\ncall other\nadd $8, %rsp\njmp leaf\n"
        "jumps_far: sub $8, %rsp\ncall other\nadd $8, %rsp\njmp far_leaf\n");
int jumps(void), jumps_far(void);

static volatile int sink;
static int *kept;
static __attribute__((noinline)) void leaves(void) {
    int room[4] = {1, 2, 3, 4};
    int *p = room;
    __asm__ volatile("" : "+r"(p) : : "memory");
    kept = p;
}

int main(void) {
    for (int k = 0; k < 3; k++) {
        sink = jumps();
        sink = jumps_far();
    }
    leaves();
    sink = kept[2]; // expect: use-after-return
    return 0;
}

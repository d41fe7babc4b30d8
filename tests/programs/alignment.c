/* The alignment-check flag is the guest's own affair: nothing of ours may trip. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>

__attribute__((noinline)) static int work(int n) { return n * 3 + 1; }

int main(void) {
    int sum = 0;
    for (int i = 0; i < 3; i++) {
        __asm__ volatile("pushfq; orq $0x40000, (%%rsp); popfq" ::: "cc", "memory");
        sum += work(i);
        sum += i & 1 ? work(sum) : work(-sum);
        uint64_t flags;
        __asm__ volatile("pushfq; popq %0" : "=r"(flags));
        __asm__ volatile("pushfq; andq $~0x40000, (%%rsp); popfq" ::: "cc", "memory");
        if (!(flags & 0x40000))
            return 1;
    }
    printf("%d\n", sum);
    return 0;
}

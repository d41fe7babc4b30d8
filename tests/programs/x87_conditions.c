/* The x87 unit's condition bits by way of its status word. */
#include <stdlib.h>

#define APART __attribute__((noinline))
static volatile int sink;
APART static void seen(void) { sink++; }

#define STATUS(operation, x)                                                                       \
    ({                                                                                             \
        unsigned short status;                                                                     \
        __asm__("fldt %1\n" operation "\nfnstsw %0\nfstp %%st(0)" : "=a"(status) : "m"(x));        \
        status;                                                                                    \
    })
#define COMPARED(compare, to, x)                                                                   \
    ({                                                                                             \
        unsigned short status;                                                                     \
        __asm__("fldz\nfldt %1\n" compare "\nfnstsw %0" : to(status) : "m"(x));                    \
        status;                                                                                    \
    })
#define BELOW(x)                                                                                   \
    ({                                                                                             \
        unsigned char below;                                                                       \
        __asm__("fldz\nfldt %1\nfcompp\nfnstsw %%ax\nsahf\nsetb %0"                                \
                : "=r"(below) : "m"(x) : "ax", "cc");                                              \
        below;                                                                                     \
    })

int main(void) {
    long double *depth = malloc(sizeof *depth), known = 1.5;
    if (STATUS("fxam", *depth) & 0x200) // expect: uninitialized-value from=heap
        seen();
    if (STATUS("ftst", *depth) & 0x100) // expect: uninitialized-value from=heap
        seen();
    if (COMPARED("fucompp", "=a", *depth) & 0x4000) // expect: uninitialized-value from=heap
        seen();
    if (COMPARED("fcompp", "=m", *depth) & 0x4000) // expect: uninitialized-value from=heap
        seen();
    if (BELOW(*depth)) // expect: uninitialized-value from=heap
        seen();
    if ((COMPARED("fucompp", "=a", *depth) & 0x3800) == 0x3800) /* the top of its stack */
        seen();
    if (COMPARED("fucompp", "=a", known) & 0x4000)
        seen();
    if (STATUS("fxam", known) & 0x200)
        seen();
    if (BELOW(known))
        seen();
    free(depth);
    return 0;
}

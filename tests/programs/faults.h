/* Expressions that end in a fault, from which the program goes on. */
#include <setjmp.h>
#include <signal.h>

static sigjmp_buf back;

static void on_fault(int number) {
    (void)number;
    siglongjmp(back, 1);
}

#define TRY(expression)                                                                       \
    do                                                                                        \
        if (!sigsetjmp(back, 1))                                                              \
            expression;                                                                       \
    while (0)

/* Functions of the C library at addresses where nothing is: which of their two ends it was. */
#include <setjmp.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <wchar.h>

static sigjmp_buf back;
static volatile int sink;
static void *volatile nowhere = (void *)0x123456789000;
static char here[64] = "berth";

static void on_fault(int number) {
    (void)number;
    siglongjmp(back, 1);
}

#define TRY(expression)                                                                       \
    do                                                                                        \
        if (!sigsetjmp(back, 1))                                                              \
            expression;                                                                       \
    while (0)

int main(void) {
    void *volatile null = NULL;
    signal(SIGSEGV, on_fault);
    TRY(memset(null, 1, 8));              // expect: null-dereference by=write
    TRY(memset(nowhere, 1, 8));           // expect: invalid-access by=write
    TRY(memcpy(nowhere, here, 40));       // expect: invalid-access by=write
    TRY(memcpy(here, nowhere, 40));       // expect: invalid-access by=read
    TRY(memmove(here, nowhere, 40));      // expect: invalid-access by=read
    TRY(memmove(nowhere, here, 40));      // expect: invalid-access by=write
    TRY(strcpy(nowhere, here));           // expect: invalid-access by=write
    TRY(strcpy(here, nowhere));           // expect: invalid-access by=read
    TRY(strncpy(null, here, 8));          // expect: null-dereference by=write
    TRY(strcat(null, here));              // expect: null-dereference by=read
    TRY(sink = (int)strlen(null));        // expect: null-dereference by=read
    TRY(sink = strcmp(here, nowhere));    // expect: invalid-access by=read
    TRY(bcopy(here, nowhere, 8));         // expect: invalid-access by=write
    TRY(bcopy(nowhere, here, 8));         // expect: invalid-access by=read
    TRY(wcscpy(nowhere, L"pilot"));       // expect: invalid-access by=write
    TRY(sink = (int)wcslen(null));        // expect: null-dereference by=read
    return 0;
}

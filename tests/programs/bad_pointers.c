/* Functions of the C library and system calls at addresses where nothing is: which of their two
   ends it was. Some addresses are where no program's memory is, but Tondo's own. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>
#include <wchar.h>

#include "faults.h"

static volatile int sink;
static void *volatile nowhere = (void *)0x123456789000;
static void *volatile beyond[] = {(void *)0x200000000000, (void *)0x3fffffffff80,
                                  (void *)0x600000000000, (void *)0x7c0000000000,
                                  (void *)0x7c0050000000, (void *)0x7ffff7000000};
static char here[64] = "berth";
static const char fixed[64] = "quay";

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
    for (unsigned k = 0; k < sizeof beyond / sizeof *beyond; k++) {
        void *volatile far = beyond[k];
        unsigned long n = 8;
        void *to = far;
        TRY(memset(far, 1, 80));                  // expect: invalid-access by=write count=6
        TRY(memcpy(far, here, 40));               // expect: invalid-access by=write count=6
        TRY(memcpy(here, far, 40));               // expect: invalid-access by=read count=6
        TRY(memmove(far, (char *)far + 1, 40));   // expect: invalid-access by=read count=6
        TRY(wmemset(far, 1, 8));                  // expect: invalid-access by=write count=6
        TRY(sink = (int)strlen(far));             // expect: invalid-access by=read count=6
        TRY(sink = memcmp(far, here, 9));         // expect: invalid-access by=read count=6
        TRY(*(int *)far = 1);                     // expect: invalid-access by=write count=6
        TRY(__asm__ volatile("rep stosb" : "+D"(to), "+c"(n) : "a"(0) : "memory")); // expect: invalid-access by=write count=6
    }
    int ends[2], fails = 0;
    struct iovec pieces[2] = {{here, 4}, {nowhere, 4}};
    struct stat about;
    if (pipe(ends))
        return 1;
    fails += write(ends[1], nowhere, 8) < 0;      // expect: invalid-access by=read count=1
    fails += write(ends[1], beyond[3], 8) < 0;    // expect: invalid-access by=read count=1
    fails += writev(ends[1], pieces + 1, 1) < 0;  // expect: invalid-access by=read count=1
    fails += write(ends[1], null, 8) < 0;         // expect: null-dereference by=read count=1
    fails += write(ends[1], here, 8) == 8;
    fails += read(ends[0], nowhere, 8) < 0;       // expect: invalid-access by=write count=1
    fails += read(ends[0], beyond[0], 8) < 0;     // expect: invalid-access by=write count=1
    fails += read(ends[0], beyond[4], 8) < 0;     // expect: invalid-access by=write count=1
    fails += read(ends[0], (char *)fixed, 8) < 0; // expect: invalid-access by=write count=1
    fails += access(nowhere, R_OK) < 0;           // expect: invalid-access by=read count=1
    fails += stat(beyond[5], &about) < 0;         // expect: invalid-access by=read count=1
    fails += nanosleep(nowhere, NULL) < 0;        // expect: invalid-access by=read count=1
    fails += write(ends[1], here, 0) == 0 && write(ends[1], nowhere, 0) == 0; // nothing is read
    close(ends[0]);
    close(ends[1]);
    return fails == 13 ? 0 : 1;
}

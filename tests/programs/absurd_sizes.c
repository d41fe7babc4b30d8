/* Sizes that come of a mistake: ten TiB, or what a negative number is as an unsigned one. Each is
   told as what it does to the block it begins in, and natively and here it ends in a fault, soon. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#include "faults.h"

static volatile size_t huge = (size_t)10 << 40, minus = (size_t)-5;
static char *volatile block, *volatile page, *volatile nowhere = (char *)0x9ff80100000;

static char *fresh(void) {
    static char *last;
    free(last);
    last = malloc(100);
    return memset(last, 'a', 100);
}

int main(void) {
    enum { ROOM = 1 << 16 };
    int fails = 0, f = open("/dev/null", O_RDWR);
    page = mmap(NULL, ROOM, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    mprotect(page + ROOM / 2, ROOM / 2, PROT_READ);
    signal(SIGSEGV, on_fault);
    block = fresh();
    TRY(memcpy(block, page, huge));  // expect: out-of-bounds-write size=100 offset=100; invalid-access
    TRY(memcpy(block, page, minus)); // expect: out-of-bounds-write size=100 offset=100; invalid-access
    TRY(memset(page, 0, huge));      // expect: invalid-access by=write count=1
    TRY(memset(page, 0, minus));     // expect: invalid-access by=write count=1
    TRY(memset(nowhere, 0, huge));   // expect: invalid-access by=write count=1
    TRY(memcpy(page, nowhere, huge)); // expect: invalid-access by=read count=1
    TRY(memmove(page + 8, page, huge)); // expect: invalid-access by=write count=1
    TRY(strncpy(page, "quay", huge)); // expect: invalid-access by=write count=1
    fails += write(f, block, huge) < 0; // expect: out-of-bounds-read size=100 offset=100
    fails += write(f, nowhere, huge) < 0;
    fails += read(f, page, huge) < 0;
    close(f);
    munmap(page, ROOM);
    return fails;
}

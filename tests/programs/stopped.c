/* Programs that their own means of protection stop: calls that know how large their target is,
   and the guard behind the local variables of a function. Each in a process of its own. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/select.h>
#include <sys/wait.h>
#include <unistd.h>
#include <wchar.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int number = 1234567890;
static volatile long fifty = 50;
static const char *volatile text = "the pilot comes at noon";
static const wchar_t *volatile wide = L"noon";

struct berth {
    char name[8];
    int depth;
};

static APART void fill(char *p, int n) {
    for (int i = 0; i < n; i++)
        p[i] = 'x'; // expect: return-address-overwrite from=stack variable=name of=far_too_long
}

static APART void guarded(int n) {
    char name[16];
    fill(name, n); /* the guard lies behind */
    hide(name);
} // expect: out-of-bounds-write

static APART void far_too_long(int n) {
    char name[24];
    fill(name, n); /* the return address as well: that is told */
    hide(name);
}

static APART void exact(void) { /* nothing here goes too far */
    char name[24], other[24];
    strcpy(name, text);
    memcpy(other, name, (size_t)fifty - 26);
    memset(other, 0, (size_t)fifty - 26);
    strncpy(other, text, (size_t)fifty - 26);
    snprintf(name, sizeof name, "%s%d", text, number);
    other[4] = 0;
    strcat(other, "s are in town today");
    hide(name);
    hide(other);
}

static APART void mistake(int which) {
    char name[8];
    struct berth *b = malloc(sizeof *b);
    fd_set set;
    wchar_t sign[4];
    hide(b);
    hide(name);
    strcpy(name, "berth");
    switch (which) {
    case 0:
        strcpy(name, text); // expect: out-of-bounds-write from=stack variable=name
        break;
    case 1:
        strcat(name, text); // expect: out-of-bounds-write from=stack variable=name
        break;
    case 2:
        memcpy(name, text, (size_t)fifty); // expect: out-of-bounds-write from=stack variable=name
        break;
    case 3:
        memset(name, 0, (size_t)fifty); // expect: out-of-bounds-write from=stack variable=name
        break;
    case 4:
        sprintf(name, "%d", number); // expect: out-of-bounds-write
        break;
    case 5:
        strcpy(b->name, text); // expect: out-of-bounds-write
        break;
    case 6:
        FD_ZERO(&set);
        FD_SET(2000 + (int)fifty, &set); // expect: out-of-bounds-write
        hide(&set);
        break;
    case 7:
        if (read(0, name, (size_t)fifty) < 0) // expect: out-of-bounds-write
            hide(name);
        break;
    case 8:
        wcscpy(sign, wide); // expect: out-of-bounds-write from=stack variable=sign
        break;
    case 9:
        strncat(name, text, (size_t)fifty); // expect: out-of-bounds-write from=stack variable=name
        break;
    case 10:
        guarded((int)fifty - 25);
        break;
    case 11:
        far_too_long((int)fifty);
        break;
    }
    hide(name);
    hide(sign);
    free(b);
}

int main(void) {
    struct rlimit none = {0, 0};
    setrlimit(RLIMIT_CORE, &none);
    exact();
    for (int i = 0; i <= 11; i++) {
        pid_t child = fork();
        if (child == 0) {
            mistake(i);
            _exit(3); /* it should not come here */
        }
        int status;
        if (waitpid(child, &status, 0) != child || !WIFSIGNALED(status))
            printf("%d was not stopped\n", i); /* as it is without the engine */
    }
    return 0;
}

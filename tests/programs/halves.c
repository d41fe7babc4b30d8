/* Structures of two ints that travel in one register: what is called with the first looks at
   nothing above it. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/sem.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>
#include <wchar.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;
static char text[64] = "quay a";
static wchar_t wide[16] = L"quay a";

struct pair {
    int first, second;
};

static APART int shut(struct pair p) { return close(p.first); }
static APART long some(struct pair p, char *to) { return read(p.first, to, 1); }
static APART int again(struct pair p) { return dup(p.first); }
static APART unsigned mask(struct pair p) { return umask((mode_t)p.first); }
static APART int down(struct pair p) { return shutdown(p.first, 2); }
static APART int flags(int fd, struct pair p) { return fcntl(fd, F_SETFD, p.first); }
static APART char *in(const char *s, struct pair p) { return strchr(s, p.first); }
static APART char *last(const char *s, struct pair p) { return strrchr(s, p.first); }
static APART void *within(const char *s, struct pair p, size_t n) { return memchr(s, p.first, n); }
static APART void *until(char *to, const char *s, struct pair p, size_t n) {
    return memccpy(to, s, p.first, n);
}
static APART wchar_t *in_wide(const wchar_t *s, struct pair p) { return wcschr(s, p.first); }
static APART void *within_wide(const wchar_t *s, struct pair p, size_t n) {
    return wmemchr(s, p.first, n);
}
static APART void *fill(char *to, struct pair p, size_t n) { return memset(to, p.first, n); }
static APART void *fill_wide(wchar_t *to, struct pair p, size_t n) {
    return wmemset(to, p.first, n);
}
static APART int wrong(struct pair p) {
    return close(p.second); // expect: uninitialized-value from=heap
}
static APART char *wrong_letter(const char *s, struct pair p) {
    return strchr(s, p.second); // expect: uninitialized-value from=heap
}

union semun {
    int value;
    void *set;
};

static APART void signals(void) {
    union semun u; /* only an int of it is set, and counts */
    u.value = 2;
    int set = semget(IPC_PRIVATE, 1, 0600);
    semctl(set, 0, SETVAL, u);
    if (semctl(set, 0, GETVAL) != 2)
        sink = 1;
    semctl(set, 0, IPC_RMID);
}

int main(void) {
    struct pair *p = malloc(sizeof *p);
    char one;
    hide(p);
    p->first = open("/dev/null", O_RDONLY);
    sink = (int)some(*p, &one);
    down(*p);
    int copy = again(*p);
    flags(copy, *p);
    close(copy);
    shut(*p);
    mask(*p);
    p->first = 'a';
    if (!in(text, *p) || !last(text, *p) || !within(text, *p, 7) || !in_wide(wide, *p) ||
        !within_wide(wide, *p, 7) || !until(text + 20, text, *p, 7))
        sink = 2;
    fill(text, *p, 9);
    fill_wide(wide, *p, 9);
    if (text[8] != 'a' || wide[8] != 'a')
        sink = 3;
    signals();
    wrong(*p);
    if (wrong_letter(text, *p))
        sink = 4;
    wchar_t tides[8];
    wmemset(tides, p->second, 6);
    hide(p);
    if (tides[5] > 3) // expect: uninitialized-value from=heap
        sink = 5;
    free(p);
    return 0;
}

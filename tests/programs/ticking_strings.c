/* Long repeated instructions while a timer ticks: each tick waits for the end of the instruction,
   which neither begins again nor is gone through element by element. */
// exit: 0
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/time.h>

enum { SIZE = 1 << 20, ROUNDS = 25, AT = 700000 };
static unsigned char from[SIZE], to[SIZE];
static volatile int ticks;

static void tick(int number) {
    char local[100];
    (void)number;
    memset(local, ticks, sizeof local);
    __asm__ volatile("" : : "r"(local) : "memory");
    ticks++;
}

static int round_of(unsigned long r) {
    unsigned long count = 50000 + r, a = 0x1122334455667788;
    const unsigned char *s = from + r, *t = to;
    unsigned char *d = to;
    __asm__ volatile("rep lodsb" : "+a"(a), "+S"(s), "+c"(count) : : "memory");
    if ((a & 255) != from[2 * r + 50000 - 1] || a >> 8 != 0x11223344556677 || count ||
        s != from + 2 * r + 50000)
        return 1;
    s = from, count = 1000000;
    __asm__ volatile("rep movsb" : "+D"(d), "+S"(s), "+c"(count) : : "memory");
    if (memcmp(to, from, 1000000) || d != to + 1000000 || count)
        return 2;
    to[AT] ^= 1;
    s = from, count = 1000000;
    __asm__ volatile("repe cmpsb" : "+D"(t), "+S"(s), "+c"(count) : : "memory", "cc");
    if (t != to + AT + 1 || s != from + AT + 1 || count != 1000000 - AT - 1)
        return 3;
    d = to, count = 100000, a = r;
    __asm__ volatile("rep stosq" : "+D"(d), "+c"(count), "+a"(a) : : "memory");
    if (to[800000 - 8] != (unsigned char)r || a != r || count)
        return 4;
    memset(to, 0, SIZE);
    to[AT] = 1;
    t = to, count = SIZE, a = 1;
    __asm__ volatile("repne scasb" : "+D"(t), "+c"(count), "+a"(a) : : "memory", "cc");
    return t == to + AT + 1 && a == 1 ? 0 : 5;
}

int main(void) {
    struct itimerval often = {{0, 200}, {0, 200}}, never = {{0, 0}, {0, 0}};
    for (int k = 0; k < SIZE; k++)
        from[k] = (unsigned char)(k * 7 + (k >> 8));
    signal(SIGALRM, tick);
    setitimer(ITIMER_REAL, &often, NULL);
    int failed = 0;
    for (unsigned long r = 0; r < ROUNDS && !failed; r++)
        failed = round_of(r);
    setitimer(ITIMER_REAL, &never, NULL);
    return failed ? failed : ticks < 10;
}

/* Local variables that nobody set and that optimized code keeps in registers: RAX from the
   function's entry, or one that the function keeps for its caller. What looks like them and is
   set, or decides nothing, stays silent. */
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define APART __attribute__((noinline, noclone))

#define ELSEWHERE __attribute__((weak)) /* as if it were in another file */

static volatile int sink, zero;
ELSEWHERE int berth_of(int ship) { return ship + zero; }
ELSEWHERE int moored(int ship) { return zero + (ship & 0); }
ELSEWHERE const char *name_of(int ship) { return ship ? "Auk" : "Tern"; }
ELSEWHERE void seen(void) { sink++; }
ELSEWHERE void look(long x) {
    if (x > 7)
        seen();
}

/* The load of all ships: begins with whatever is there. */
ELSEWHERE int loads(int ships) {
    int total;
    for (int i = 0; i < ships; i++)
        total += berth_of(i);
    return total;
}

ELSEWHERE int doubled(int ships) {
    int last;
    do {
        if (moored(ships))
            last = ships;
    } while (--ships > 0);
    return last * 2;
}

/* Found only if one is moored. */
ELSEWHERE const char *last_moored(int ships) {
    const char *name;
    for (int i = 0; i < ships; i++)
        if (moored(i))
            name = name_of(i);
    return name;
}

/* Beside what the function takes. */
ELSEWHERE int vowels(const char *name) {
    int count;
    while (*name) {
        if (*name == 'a' || *name == 'e')
            count++;
        name++;
    }
    return count;
}

ELSEWHERE double mean(const double *tides, int hours) {
    double all;
    for (int i = 0; i < hours; i++)
        all += tides[i];
    return all / hours;
}

/* --- silent --- */

/* `have` says whether `best` was set. */
static APART int best_of(int ships, int least) {
    int best, have = 0;
    for (int i = 0; i < ships; i++) {
        int berth = berth_of(i);
        if (berth >= least && (!have || berth > best)) {
            best = berth;
            have = 1;
        }
    }
    return have ? best : -1;
}

static APART int first_change(const int *tide, int hours) {
    int before, changes = 0;
    for (int i = 0; i < hours; i++) {
        if (i && tide[i] != before)
            changes++;
        before = tide[i];
        seen();
    }
    return changes;
}

/* Carried along, never asked for. */
static APART long carried(int hours) {
    long spare;
    for (int i = 0; i < hours; i++) {
        if (moored(i))
            spare = i;
        seen();
    }
    look(hours);
    return spare;
}

/* AL counts the vectors that hold arguments. */
static APART double sum(int count, ...) {
    va_list all;
    double total = 0;
    va_start(all, count);
    for (int i = 0; i < count; i++)
        total += va_arg(all, double);
    va_end(all);
    return total;
}

/* Written by hand, with an argument in EAX and one in EBX. */
int by_hand(int a);
__asm__(".text\n"
        ".type by_hand_inner, @function\n"
        "by_hand_inner:\n"
        "    cmpl $5, %eax\n"
        "    jle 1f\n"
        "    addl %ebx, %eax\n"
        "1:  ret\n"
        ".size by_hand_inner, . - by_hand_inner\n"
        ".globl by_hand\n"
        ".type by_hand, @function\n"
        "by_hand:\n"
        "    push %rbx\n"
        "    movl $3, %ebx\n"
        "    movl %edi, %eax\n"
        "    call by_hand_inner\n"
        "    pop %rbx\n"
        "    ret\n"
        ".size by_hand, . - by_hand\n");

struct ship {
    int draught, quay;
};

/* Leaves early by a function that does not return. */
static APART int checked(const struct ship *s, int hour) {
    if (!s) {
        fprintf(stderr, "no ship at %d\n", hour);
        exit(3);
    }
    int left = s->draught;
    for (int i = 0; i < hour; i++)
        left -= berth_of(i) > 1;
    return left + s->quay;
}

/* A count of its own for each case; all cases are there. */
static APART int by_kind(int kind, int n) {
    int r;
    switch (kind & 3) {
    case 0: r = berth_of(n); break;
    case 1: r = berth_of(n) * 2; break;
    case 2: r = n; break;
    case 3: r = -n; break;
    }
    seen();
    return r + 1;
}

/* As many on the stack as to need registers pushed for arguments. */
static APART int many(int a, int b, int c, int d, int e, int f, int g, int h) {
    return a + b * c - d + e * f - g + h + zero;
}

/* Takes what the function before leaves alone, and more than it uses. */
ELSEWHERE double weighed(int a, double x, const char *b, float y, long c, int d, unsigned char e,
                         short f, double z) {
    (void)a, (void)b;
    return c > 3 ? z * e + x : d + f + y;
}

ELSEWHERE struct ship moved(int a, struct ship s, int by) {
    (void)a;
    s.quay += by;
    return s;
}

struct log {
    char text[40];
    int length;
};

/* Its result goes where a hidden argument says. */
ELSEWHERE struct log noted(int hour, const char *what) {
    struct log l;
    l.length = snprintf(l.text, sizeof l.text, "%d %s", hour, what);
    return l;
}

__attribute__((ms_abi)) ELSEWHERE long by_other_convention(int a, long b) { return a > 2 ? b : -b; }

__extension__ typedef __int128 wide;
ELSEWHERE long upper(wide a, int b) { return (long)(a >> 64) + b; }

/* Each way sets what it returns, or does not come back. */
ELSEWHERE int berth_or_exit(int kind) {
    if (kind == 1)
        return 4;
    if (kind == 2)
        return berth_of(9);
    exit(9);
}

static APART int passes(int n) {
    int all = berth_of(n), other = berth_of(all);
    int r = many(n, all, other, 1, 2, 3, all, other);
    seen();
    return r > all ? other : all;
}

int main(void) {
    static const int tide[] = {3, 3, 4, 2};
    static const double tides[] = {1.5, 2, 4};
    struct ship auk = {4, 2};
    if (loads(3) > 7) // expect: uninitialized-value from=stack variable=total
        seen();
    if (loads(2) > 7) // expect: uninitialized-value from=stack variable=total
        seen();
    if (doubled(3) > 7) // expect: uninitialized-value from=stack variable=last
        seen();
    if (vowels("Tern") > 7) // expect: uninitialized-value from=stack variable=count
        seen();
    if (mean(tides, 3) > 7) // expect: uninitialized-value from=stack variable=all
        seen();
    if (last_moored(3)) // expect: uninitialized-value from=stack variable=name
        seen();
    look(best_of(5, 2) & 1);
    look(best_of(5, 20) & 1);
    look(first_change(tide, 4));
    carried(4);
    look((long)sum(3, 1.0, 2.0, 0.5));
    look(by_hand(6) - 9);
    look(checked(&auk, 3));
    for (int k = 0; k < 4; k++)
        look(by_kind(k, 2));
    look(passes(1) & 3);
    look((long)weighed(1, 2.0, "x", 0.5f, berth_of(4), 3, 4, 5, 1.0) - 1);
    look((long)weighed(1, 2.0, "x", 0.5f, 1, 3, 4, 5, 1.0) - 2);
    look(moved(1, auk, 3).quay);
    look(noted(3, "Auk").length - 1);
    look(by_other_convention(3, 5));
    look(upper((wide)5 << 64, 1));
    look(berth_or_exit(1) + berth_or_exit(2) - 9);
    return 0;
}

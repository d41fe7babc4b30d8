/* Differential test of what functions of the C library tell of undefined values, run under
   tondo with its test door open. Each call runs many times with the undefined bits of its
   input set in all ways (or in many), then once more with these bits marked undefined. Where
   result or output varied, that must have been told, or the bits that did be undefined. Where
   they never varied although all ways were tried, nothing may be told. What lies around texts
   is undefined, too: nobody reads it.
   texts CALLS [SEED [NAME]] */
#define _GNU_SOURCE
#include <ctype.h>
#include <stdbool.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <strings.h>
#include <sys/syscall.h>
#include <unistd.h>
#include <wchar.h>

#define DOOR 0x746f6e646fL
enum { DOOR_GET = 1, DOOR_SET = 2, DOOR_COUNT = 6 };
enum { TEXT = 24, AROUND = 64, ALL = 2 * TEXT * 4 + 16 };

/* What a call gets: two texts, which may be wide, a character and a number; what it leaves. */
struct input {
    union {
        char text[2][TEXT * 4];
        wchar_t wide[2][TEXT];
    };
    long character, number;
};
struct state {
    char before[AROUND];
    struct input in;
    char after[AROUND];
    long result;
};
static struct state state;
_Static_assert(sizeof(struct input) == ALL, "no gaps");

#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
#define A state.in.text[0]
#define B state.in.text[1]
#define W state.in.wide[0]
#define V state.in.wide[1]
#define CH ((int)state.in.character)
#define N ((size_t)state.in.number)
#define AT(p) ((p) ? (long)((char *)(p) - state.in.text[0]) : -1L)
static long sign(long n) { return n < 0 ? -1 : n > 0; }

static long split(bool again) {
    char *rest = A, *save = NULL;
    long n = 0;
    if (again) {
        while (n < 9 && strsep(&rest, B))
            n++;
    } else {
        for (char *p = strtok_r(A, B, &save); p && n < 9; p = strtok_r(NULL, B, &save))
            n++;
    }
    return n;
}
static long doubled(char *copy) {
    long n = (long)strlen(copy);
    free(copy);
    return n;
}

enum {
    WIDE = 1, COPIES = 2,
    LOOSE = 4, /* may tell what varies on the way only */
    INTO = 16, /* the first text is overwritten, as far as the second goes */
    SIGN = 8, /* elements that decide, and those behind them, may lead to the same result */
};
static const struct function {
    const char *name;
    int flags;
} functions[] = {
#define FUNCTIONS(X)                                                                             \
    X(memcmp, SIGN, sign(memcmp(A, B, N)))                                                           \
    X(bcmp, 0, bcmp(A, B, N) != 0)                                                                \
    X(memchr, 0, AT(memchr(A, CH, N)))                                                            \
    X(memrchr, 0, AT(memrchr(A, CH, N)))                                                          \
    X(memmem, LOOSE, AT(memmem(A, TEXT, B, N % 4)))                                               \
    X(memcpy, COPIES, AT(memcpy(A, B, N)))                                                        \
    X(memmove, COPIES, AT(memmove(A + 3, A, N)))                                                  \
    X(mempcpy, COPIES, AT(mempcpy(A, B, N)))                                                      \
    X(memset, COPIES, AT(memset(A, CH, N)))                                                       \
    X(bzero, COPIES, (bzero(A, N), 0L))                                                           \
    X(swab, COPIES, (swab(A, B, (ssize_t)N), 0L))                                                 \
    X(memccpy, INTO, AT(memccpy(A, B, CH, N)))                                                       \
    X(memfrob, COPIES, AT(memfrob(A, N)))                                                         \
    X(strlen, 0, (long)strlen(A))                                                                 \
    X(strnlen, 0, (long)strnlen(A, N))                                                            \
    X(strcpy, INTO, AT(strcpy(A, B)))                                                                \
    X(stpcpy, INTO, AT(stpcpy(A, B)))                                                                \
    X(strncpy, INTO, AT(strncpy(A, B, N)))                                                           \
    X(stpncpy, INTO, AT(stpncpy(A, B, N)))                                                           \
    X(strcat, LOOSE, AT(strcat(A, B)))                                                                \
    X(strncat, LOOSE, AT(strncat(A, B, N)))                                                           \
    X(strcmp, SIGN, sign(strcmp(A, B)))                                                              \
    X(strncmp, SIGN, sign(strncmp(A, B, N)))                                                         \
    X(strcasecmp, SIGN, sign(strcasecmp(A, B)))                                                      \
    X(strncasecmp, SIGN, sign(strncasecmp(A, B, N)))                                                 \
    X(strcoll, LOOSE, sign(strcoll(A, B)))                                                        \
    X(strverscmp, LOOSE, sign(strverscmp(A, B)))                                                  \
    X(strchr, SIGN, AT(strchr(A, CH)))                                                               \
    X(strchrnul, SIGN, AT(strchrnul(A, CH)))                                                         \
    X(strrchr, SIGN, AT(strrchr(A, CH)))                                                             \
    X(strspn, LOOSE, (long)strspn(A, B))                                                          \
    X(strcspn, LOOSE, (long)strcspn(A, B))                                                        \
    X(strpbrk, LOOSE, AT(strpbrk(A, B)))                                                          \
    X(strstr, LOOSE, AT(strstr(A, B)))                                                            \
    X(strcasestr, LOOSE, AT(strcasestr(A, B)))                                                    \
    X(strsep, LOOSE, split(true))                                                                 \
    X(strtok_r, LOOSE, split(false))                                                              \
    X(strdup, 0, doubled(strdup(A)))                                                              \
    X(strndup, 0, doubled(strndup(A, N)))                                                         \
    X(strtol, LOOSE, strtol(A, NULL, 16))                                                         \
    X(atoi, LOOSE, atoi(A))                                                                       \
    X(snprintf, LOOSE, snprintf(B, TEXT, "%.6s", A))                                              \
    X(isalpha, LOOSE, isalpha((unsigned char)CH) != 0)                                                \
    X(abs, LOOSE, labs(state.in.character))                                                           \
    X(wcslen, WIDE, (long)wcslen(W))                                                              \
    X(wcsnlen, WIDE, (long)wcsnlen(W, N))                                                         \
    X(wcscpy, WIDE | INTO, AT(wcscpy(W, V)))                                                             \
    X(wcpcpy, WIDE | INTO, AT(wcpcpy(W, V)))                                                             \
    X(wcsncpy, WIDE | INTO, AT(wcsncpy(W, V, N)))                                                        \
    X(wcscat, WIDE | LOOSE, AT(wcscat(W, V)))                                                             \
    X(wcsncat, WIDE | LOOSE, AT(wcsncat(W, V, N)))                                                        \
    X(wcscmp, WIDE | SIGN, wcscmp(W, V))                                                                 \
    X(wcsncmp, WIDE | SIGN, wcsncmp(W, V, N))                                                            \
    X(wmemcmp, WIDE | SIGN, wmemcmp(W, V, N))                                                            \
    X(wmemchr, WIDE, AT(wmemchr(W, CH, N)))                                                       \
    X(wmemcpy, WIDE | COPIES, AT(wmemcpy(W, V, N)))                                               \
    X(wmemmove, WIDE | COPIES, AT(wmemmove(W + 2, W, N)))                                         \
    X(wmemset, WIDE | COPIES, AT(wmemset(W, CH, N)))                                              \
    X(wcschr, WIDE | SIGN, AT(wcschr(W, CH)))                                                            \
    X(wcsrchr, WIDE | SIGN, AT(wcsrchr(W, CH)))                                                          \
    X(wcsspn, WIDE | LOOSE, (long)wcsspn(W, V))                                                   \
    X(wcscspn, WIDE | LOOSE, (long)wcscspn(W, V))                                                 \
    X(wcsstr, WIDE | LOOSE, AT(wcsstr(W, V)))                                                     \
    X(wcscasecmp, WIDE | LOOSE, sign(wcscasecmp(W, V)))
#define ROW(name, flags, call) {#name, flags},
    FUNCTIONS(ROW)
};
enum {
#define NUMBER(name, flags, call) CALL_##name,
    FUNCTIONS(NUMBER) CALLS
};
__attribute__((noinline)) static void run(int which) {
    long r = 0;
    switch (which) {
#define CASE(name, flags, call) case CALL_##name: r = (call); break;
        FUNCTIONS(CASE)
    }
    state.result = r;
}

static uint64_t random_state;
static unsigned below(unsigned n) {
    random_state = random_state * 6364136223846793005u + 1442695040888963407u;
    return (unsigned)(random_state >> 33) % n;
}

static void choose(struct input *in, bool wide) {
    static const char few[] = "aabAb1 ";
    memset(in, 0, sizeof *in);
    for (int t = 0; t < 2; t++) {
        unsigned size = below(t ? 5 : 11), gap = t && !below(3) ? 0 : size;
        for (unsigned k = 0; k < TEXT / 2; k++) {
            char c = k < size ? few[below(sizeof few - 1)] : k == gap ? 0 : below(3) ? 0 : 'a';
            if (k >= TEXT / 2 - 1)
                c = 0;
            if (wide)
                in->wide[t][k] = c;
            else
                in->text[t][k] = c;
        }
    }
    if (!below(3))
        memcpy(in->text[1], in->text[0], sizeof in->text[0]);
    in->character = below(4) ? few[below(sizeof few - 1)] : 0;
    in->number = below(TEXT / 2);
}

/* Undefined bits, as a mask of the input; how many. */
static int choose_undefined(uint8_t *mask, bool wide, const struct function *f) {
    memset(mask, 0, ALL);
    unsigned used = TEXT / 2 * (wide ? 4 : 1);
    int bits = 0;
    unsigned pieces = 1 + below(2);
    bool whole = below(4) != 0;
    for (unsigned i = 0; i < pieces; i++) {
        unsigned at = below(2) * TEXT * 4 + below(used);
        if (!below(6))
            at = 2 * TEXT * 4; /* the character */
        mask[at] |= whole ? 0xff : 1u << below(8);
    }
    if (f->flags & INTO)
        memset(mask, 0, TEXT * 4);
    for (int k = 0; k < ALL; k++)
        bits += __builtin_popcount(mask[k]);
    return bits;
}

static void begin(const struct input *in) {
    memcpy(&state.in, in, sizeof *in);
    state.result = 0;
}

static void deal(struct input *to, const struct input *in, const uint8_t *mask, unsigned way,
                 bool all) {
    uint8_t *p = (uint8_t *)to;
    memcpy(to, in, sizeof *in);
    for (int k = 0; k < ALL; k++)
        for (int bit = 0; bit < 8; bit++)
            if (mask[k] >> bit & 1) {
                unsigned on = all ? way & 1 : below(2);
                way >>= 1;
                p[k] = (uint8_t)((p[k] & ~(1u << bit)) | on << bit);
            }
    if (!all && below(2)) /* what the texts are made of comes up often enough */
        for (int k = 0; k < ALL; k++)
            if (mask[k] == 0xff)
                p[k] = (uint8_t) "aAb\0 1"[below(6)];
}

static int failed;
static long missed, excess, sure, told_times;

static void show(const struct function *f, const struct input *in, const uint8_t *mask,
                 const char *what) {
    if (failed++ > 20)
        return;
    printf("%s: %s: character %ld number %ld\n", f->name, what, in->character, in->number);
    for (int t = 0; t < 2; t++) {
        for (int k = 0; k < TEXT * ((f->flags & WIDE) ? 2 : 1) / ((f->flags & WIDE) ? 1 : 2); k++) {
            int c = (uint8_t)in->text[t][k], m = mask[t * TEXT * 4 + k];
            printf(m ? " %02x/%02x" : " %02x", c, m);
        }
        printf("\n");
    }
}

static void test(int which) {
    static struct state first, way_state;
    static uint8_t mask[ALL], varied[sizeof(struct input) + 8], shadow[sizeof(struct state)];
    const struct function *f = &functions[which];
    bool wide = f->flags & WIDE;
    struct input in, now;
    choose(&in, wide);
    int bits = choose_undefined(mask, wide, f);
    bool all = bits <= 9;
    unsigned ways = all ? 1u << bits : 400;
    memset(varied, 0, sizeof varied);
    for (unsigned w = 0; w < ways; w++) {
        deal(&now, &in, mask, w, all);
        begin(&now);
        run(which);
        memcpy(&way_state, &state, sizeof state);
        if (w == 0)
            memcpy(&first, &state, sizeof state);
        const uint8_t *x = (const uint8_t *)&first.in, *y = (const uint8_t *)&way_state.in;
        for (unsigned k = 0; k < ALL; k++)
            varied[k] |= x[k] ^ y[k];
        for (int k = 0; k < 8; k++)
            varied[ALL + k] |= (uint8_t)((first.result ^ way_state.result) >> 8 * k);
    }
    begin(&in);
    memset(shadow, 0xff, sizeof shadow);
    memcpy(shadow + AROUND, mask, ALL);
    memset(shadow + AROUND + ALL + AROUND, 0, 8);
    syscall(DOOR, DOOR_SET, &state, sizeof state, shadow);
    long before = syscall(DOOR, DOOR_COUNT, 0, 0, 0);
    run(which);
    bool told = syscall(DOOR, DOOR_COUNT, 0, 0, 0) != before;
    syscall(DOOR, DOOR_GET, &state, sizeof state, shadow);
    static const uint8_t none[sizeof(struct state)];
    syscall(DOOR, DOOR_SET, &state, sizeof state, none);
    told_times += told;
    bool any = false, lost = false, over = false;
    for (unsigned k = 0; k < ALL + 8; k++) {
        uint8_t d = shadow[k < ALL ? AROUND + k : k + 2 * AROUND];
        /* what an input byte keeps is no output */
        any |= k >= ALL || !mask[k] ? varied[k] != 0 : false;
        lost |= (varied[k] & ~d) != 0;
        over |= all && (d & ~varied[k]) != 0;
    }
    sure += all;
    if (lost && !told) {
        missed++;
        show(f, &in, mask, "varies, but is defined and not told");
    }
    bool loose = f->flags & LOOSE || mask[2 * TEXT * 4];
    if (told && all && !any && !loose && !(f->flags & SIGN)) {
        excess++;
        show(f, &in, mask, "told, but never varies");
    }
    if (told && (f->flags & COPIES))
        show(f, &in, mask, "copying is told");
    if (over && !told && !loose && !(f->flags & SIGN))
        show(f, &in, mask, "undefined, but never varies");
}

int main(int argc, char **argv) {
    long calls = argc > 1 ? atol(argv[1]) : 1000;
    random_state = argc > 2 ? strtoul(argv[2], NULL, 0) : 1;
    for (long i = 0; i < calls; i++) {
        int which = (int)below(CALLS);
        if (argc > 3 && strcmp(argv[3], functions[which].name))
            continue;
        test(which);
    }
    printf("%ld calls, %ld told, %ld missed, %ld told without need, %d failed\n", calls, told_times,
           missed, excess, failed);
    return failed != 0;
}

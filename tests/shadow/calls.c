/* Differential test of what system calls are said to read and write.
   calls learn: natively, how far the kernel reads what each call is given: memory that ends
   before that makes the call fail. One line for each parameter, on standard output.
   calls check FILE: under tondo with its test door open. A byte of an output must be defined
   after the call if, and only if, the kernel wrote it: it does not keep what it was filled
   with before. A byte of an input that alone is undefined must be told if, and only if, the
   kernel reads it, but for those that it copies and ignores (ignores()).
   Cases that this kernel or this user may not do are passed over. */
#include "calls.h"

#include <errno.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>

#define DOOR 0x746f6e646fL
enum { DOOR_GET = 1, DOOR_SET = 2, DOOR_COUNT = 6 };
extern const struct call_case __start_call_cases[], __stop_call_cases[]; /* by the linker */
#define call_cases __start_call_cases
#define call_cases_end __stop_call_cases

enum { PAGE = 4096, ROOM = 4 * PAGE, REGIONS = 8 };

struct region {
    uint8_t *base; /* ROOM bytes, then memory that nobody can touch */
    size_t given, room; /* bytes of input, then those of output as well */
    uint8_t ignored[ROOM];
};
static struct region regions[REGIONS];

/* How the next call is to be prepared. */
static struct {
    uint8_t fill;
    int cut;       /* the region that ends early, -1: none */
    size_t cut_at; /* bytes */
    int undefined; /* the region with an undefined byte, -1: none */
    size_t byte;
    bool shadow; /* outputs are undefined */
} plan = {0, -1, 0, -1, 0, false};

static long door(int what, const void *p, size_t size, void *to) {
    return syscall(DOOR, what, p, size, to);
}

uint8_t *at(int region) {
    struct region *r = &regions[region];
    return plan.cut == region ? r->base + ROOM - plan.cut_at : r->base;
}

uint8_t *both(int region, const void *data, size_t size, size_t room) {
    struct region *r = &regions[region];
    r->given = size;
    r->room = room > size ? room : size;
    uint8_t *p = at(region);
    for (size_t i = 0; i < r->room && p + i < r->base + ROOM; i++)
        p[i] = i < size ? ((const uint8_t *)data)[i] : plan.fill;
    return p;
}

uint8_t *in(int region, const void *data, size_t size) { return both(region, data, size, size); }
uint8_t *text(int region, const char *text) { return in(region, text, strlen(text) + 1); }
uint8_t *out(int region, size_t room) { return both(region, NULL, 0, room); }
uint8_t *list(int region, int count, ...) {
    uint64_t words[16];
    va_list more;
    va_start(more, count);
    for (int i = 0; i < count; i++)
        words[i] = va_arg(more, uint64_t);
    va_end(more);
    return in(region, words, 8 * (size_t)count);
}

void ignores(int region, size_t from, size_t to) {
    memset(regions[region].ignored + from, 1, to - from);
}

void ready(void) {
    static uint8_t shadow[ROOM];
    for (int i = 0; i < REGIONS && plan.shadow; i++) {
        struct region *r = &regions[i];
        if (!r->room)
            continue;
        memset(shadow, 0, r->given);
        memset(shadow + r->given, 0xff, r->room - r->given);
        if (plan.undefined == i)
            shadow[plan.byte] = 0xff;
        door(DOOR_SET, r->base, r->room, shadow);
    }
}

long closed(long fd) {
    if (fd < 0)
        return fd;
    close((int)fd);
    return 0;
}

static long do_case(const struct call_case *c) {
    for (int i = 0; i < REGIONS; i++) {
        regions[i].given = regions[i].room = 0;
        memset(regions[i].ignored, 0, sizeof regions[i].ignored);
    }
    errno = 0;
    long result = c->call();
    return result == -1 && errno ? -errno : result;
}

static bool is_possible(long result) {
    return result >= 0 || (result != -ENOSYS && result != -EPERM && result != -EOPNOTSUPP &&
                           result != -EACCES && result != -ENOPROTOOPT && result != -ENODEV &&
                           result != -EAFNOSUPPORT && result != -ENOTTY &&
                           result != -EBADF);
}

/* --- natively --- */

static void learn(const struct call_case *c) {
    long result = do_case(c);
    if (!is_possible(result))
        return;
    for (int i = 0; i < REGIONS; i++) {
        size_t given = regions[i].given, extent = 0;
        if (!given || regions[i].room > given)
            continue; /* what is cut off could not be written either */
        plan.cut = i;
        for (plan.cut_at = 0; plan.cut_at < given; plan.cut_at++)
            if (do_case(c) != result)
                extent = plan.cut_at + 1;
        plan.cut = -1;
        printf("%s %d %zu %ld\n", c->name, i, extent, result);
    }
    do_case(c);
}

/* --- under tondo --- */

static int failed, seen_calls, seen_bytes;

static void wrong(const struct call_case *c, int region, const uint8_t *kinds, size_t size,
                  uint8_t kind, const char *what) {
    bool any = false;
    for (size_t k = 0, end; k < size; k = end) {
        for (end = k + 1; end < size && kinds[end] == kinds[k]; end++)
            ;
        if (kinds[k] != kind)
            continue;
        printf(any ? ", %zu..%zu" : "%3$s: parameter %4$d: bytes %1$zu..%2$zu", k, end - 1, c->name,
               region);
        any = true;
    }
    if (any)
        printf(" %s\n", what);
    failed += any;
}

static void check_outputs(const struct call_case *c) {
    static uint8_t images[3][REGIONS][ROOM], shadow[REGIONS][ROOM], kinds[ROOM];
    static const uint8_t fills[3] = {0, 0xff, 0x5a};
    long result = 0;
    for (int n = 0; n < 3; n++) {
        plan.fill = fills[n];
        plan.shadow = n == 2;
        result = do_case(c);
        for (int i = 0; i < REGIONS; i++) {
            if (n == 2 && regions[i].room)
                door(DOOR_GET, regions[i].base, regions[i].room, shadow[i]);
            memcpy(images[n][i], regions[i].base, regions[i].room);
        }
    }
    plan.shadow = false;
    if (!is_possible(result)) {
        printf("%s: passed over: %s\n", c->name, strerror((int)-result));
        return;
    }
    seen_calls++;
    enum { RIGHT, NOT_CALLED_DEFINED, CALLED_DEFINED };
    for (int i = 0; i < REGIONS; i++) {
        for (size_t k = 0; k < regions[i].room; k++) {
            bool written = images[0][i][k] != fills[0] || images[1][i][k] != fills[1] ||
                           images[2][i][k] != fills[2];
            bool defined = shadow[i][k] == 0;
            kinds[k] = k < regions[i].given || regions[i].ignored[k] || written == defined ? RIGHT
                       : written ? NOT_CALLED_DEFINED : CALLED_DEFINED;
            seen_bytes++;
        }
        wrong(c, i, kinds, regions[i].room, NOT_CALLED_DEFINED, "were written, but are undefined");
        wrong(c, i, kinds, regions[i].room, CALLED_DEFINED, "were not written, but are defined");
    }
}

static void check_input(const struct call_case *c, int region, size_t extent) {
    static uint8_t kinds[ROOM];
    enum { RIGHT, NOT_TOLD, TOLD };
    size_t size = regions[region].given;
    for (size_t k = 0; k < size; k++) {
        plan.shadow = true;
        plan.undefined = region;
        plan.byte = k;
        long before = door(DOOR_COUNT, NULL, 0, NULL);
        do_case(c);
        bool told = door(DOOR_COUNT, NULL, 0, NULL) != before;
        plan.undefined = -1;
        plan.shadow = false;
        seen_bytes++;
        bool read = k < extent && !regions[region].ignored[k];
        kinds[k] = read == told ? RIGHT : read ? NOT_TOLD : TOLD;
    }
    wrong(c, region, kinds, size, NOT_TOLD, "are read, but not told");
    wrong(c, region, kinds, size, TOLD, "are told, but not read");
}

static void check(FILE *learned) {
    for (const struct call_case *c = call_cases; c < call_cases_end; c++)
        check_outputs(c);
    char name[64];
    int region;
    size_t extent;
    long result;
    while (fscanf(learned, "%63s %d %zu %ld", name, &region, &extent, &result) == 4)
        for (const struct call_case *c = call_cases; c < call_cases_end; c++)
            if (!strcmp(c->name, name)) {
                long now = do_case(c);
                if (now != result) {
                    printf("%s: result %ld, natively %ld\n", name, now, result);
                    failed++;
                } else {
                    check_input(c, region, extent);
                }
            }
    printf("%d cases, %d bytes, %d failed\n", seen_calls, seen_bytes, failed);
}

int main(int argc, char **argv) {
    for (int i = 0; i < REGIONS; i++) {
        regions[i].base = mmap(NULL, ROOM + PAGE, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS,
                               -1, 0);
        mprotect(regions[i].base + ROOM, PAGE, PROT_NONE);
    }
    FILE *learned = argc == 3 && !strcmp(argv[1], "check") ? fopen(argv[2], "r") : NULL;
    alarm(100);
    calls_begin(); /* in a folder of its own */
    const char *only = getenv("CALLS_ONLY");
    if (argc == 2 && !strcmp(argv[1], "learn")) {
        for (const struct call_case *c = call_cases; c < call_cases_end; c++) {
            if (only && strcmp(only, c->name))
                continue;
            learn(c);
            fflush(stdout);
        }
        calls_end();
        return 0;
    }
    if (!learned) {
        fprintf(stderr, "usage: calls learn | calls check FILE\n");
        return 2;
    }
    check(learned);
    calls_end();
    return failed != 0;
}

/* The clock is looked at every few thousand steps only. */
#define _GNU_SOURCE
#include "progress.h"

#include <inttypes.h>
#include <stdbool.h>
#include <stdio.h>
#include <time.h>
#include <unistd.h>

static struct {
    const char *what;
    struct timespec begun, shown;
    uint32_t steps;
    bool visible;
} now;

static double between(const struct timespec *a, const struct timespec *b) {
    return (double)(b->tv_sec - a->tv_sec) + (double)(b->tv_nsec - a->tv_nsec) / 1e9;
}

void progress_begin(const char *what) {
    now.what = isatty(STDERR_FILENO) ? what : NULL;
    now.visible = false;
    now.steps = 0;
    clock_gettime(CLOCK_MONOTONIC, &now.begun);
    now.shown = now.begun;
}

void progress_step(uint64_t done, uint64_t total) {
    struct timespec t;
    if (!now.what || (now.steps++ & 63))
        return;
    clock_gettime(CLOCK_MONOTONIC, &t);
    if (between(&now.begun, &t) < 1 || between(&now.shown, &t) < 0.2)
        return;
    now.shown = t;
    now.visible = true;
    if (total)
        fprintf(stderr, "\r\033[Ktondo: %s, %.0f %%", now.what, 100.0 * (double)done / (double)total);
    else
        fprintf(stderr, "\r\033[Ktondo: %s", now.what);
    fflush(stderr);
}

void progress_end(void) {
    if (now.what && now.visible)
        fputs("\r\033[K", stderr);
    now.what = NULL;
}

/* Planning which ship lies where. */
#define _GNU_SOURCE
#include "berths.h"

#include <setjmp.h>
#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static int fits(const struct ship *ship, const struct berth *berth) {
    return ship->length <= berth->length && ship->draught <= berth->depth;
}

/* out-of-bounds-read: the loop runs one hour too far */
static int hours_taken(const struct berth *berth, int ships) {
    int sum = 0;
#ifdef MENDED
    for (int i = 0; i < ships; i++)
#else
    for (int i = 0; i <= ships; i++)
#endif
        sum += berth->calendar[i];
    return sum;
}

static void assign(struct harbour *harbour) {
    for (int s = 0; s < harbour->ship_count; s++) {
        struct ship *ship = &harbour->ships[s];
        struct berth *best = NULL;
        for (int b = 0; b < harbour->berth_count; b++) {
            struct berth *berth = &harbour->berths[b];
            if (fits(ship, berth) && (!best || hours_taken(berth, harbour->ship_count) <
                                                   hours_taken(best, harbour->ship_count)))
                best = berth;
        }
        if (!best) {
            printf("%-14s waits in the roads\n", ship->name);
            continue;
        }
        best->calendar[s] = ship->hours;
        best->queue[s] = ship;
        printf("%-14s %s\n", ship->name, best->name);
    }
}

/* use-after-free and double-free: the log is closed too early, and twice */
static void write_log(const struct harbour *harbour) {
    char *log = malloc(64);
    snprintf(log, 64, "%d ships planned", harbour->ship_count);
#ifdef MENDED
    puts(log);
    free(log);
#else
    free(log);
    printf("%c...\n", log[0]);
    free(log);
#endif
}

/* overlapping-copy: entries move down by one in their own array */
static void drop_first(struct ship **list, int count) {
#ifdef MENDED
    memmove(list, list + 1, (size_t)(count - 1) * sizeof *list);
#else
    memcpy(list, list + 1, (size_t)(count - 1) * sizeof *list);
#endif
}

/* invalid-free: the pointer has moved on since malloc */
static void skip_blanks(void) {
    char *text = malloc(32), *start = text;
    strcpy(text, "   tide tables");
    while (*text == ' ')
        text++;
    printf("using %s\n", text);
#ifdef MENDED
    free(start);
#else
    free(text);
    (void)start;
#endif
}

/* invalid-size: a difference that came out negative */
static void reserve(int wanted, int have) {
#ifdef MENDED
    size_t size = wanted > have ? (size_t)(wanted - have) : 0;
#else
    size_t size = (size_t)(wanted - have);
#endif
    char *room = malloc(size);
    free(room);
}

#ifndef MENDED
static sigjmp_buf watchdog;
static void on_fault(int number) {
    (void)number;
    siglongjmp(watchdog, 1);
}
#endif

/* null-dereference and invalid-access: records that were never loaded. A
   watchdog skips what faults, so that the rest of the plan is still made. */
static void inspect(const struct ship *record) {
#ifdef MENDED
    if (record)
        printf("inspected %s\n", record->name);
#else
    signal(SIGSEGV, on_fault);
    if (sigsetjmp(watchdog, 1) == 0)
        printf("inspected a ship of %d m\n", record->length);
    else
        puts("skipped a damaged record");
    signal(SIGSEGV, SIG_DFL);
#endif
}

int plan(struct harbour *harbour) {
    assign(harbour);
    tides_check(harbour);
    write_log(harbour);
    drop_first(harbour->berths[2].queue, harbour->ship_count);
    skip_blanks();
    reserve(2, harbour->ship_count);
    inspect(NULL);
#ifndef MENDED
    inspect((const struct ship *)0x123456789000);
#endif
    return 0;
}

/* How the cases of the differential test of system calls are written (calls.c): each declares
   its parameters' memory, region by region, then does the call by GO(). */
#ifndef TESTS_SHADOW_CALLS_H
#define TESTS_SHADOW_CALLS_H

#include <stdarg.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <sys/syscall.h>
#include <unistd.h>

struct call_case {
    const char *name;
    long (*call)(void);
};
#define CASE(name)                                                                           \
    static long case_##name(void);                                                           \
    static const struct call_case row_##name                                                 \
        __attribute__((used, section("call_cases"))) = {#name, case_##name};                 \
    static long case_##name(void)

/* What the cases need: files, sockets, queues. */
void calls_begin(void);
void calls_end(void);

/* The region's address. */
uint8_t *at(int region);
/* An input of these bytes; one with room behind that is filled and undefined. */
uint8_t *in(int region, const void *data, size_t size);
uint8_t *both(int region, const void *data, size_t size, size_t room);
uint8_t *out(int region, size_t room);
uint8_t *text(int region, const char *text);
/* An input of words of 8 bytes. */
uint8_t *list(int region, int count, ...);
/* These bytes of an input are copied and ignored. */
void ignores(int region, size_t from, size_t to);
void ready(void);
/* 0, with the descriptor closed again; or what it failed with. */
long closed(long fd);

#define GO(...) (ready(), syscall(__VA_ARGS__))

#endif

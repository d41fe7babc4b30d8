/* What varies in an output where some bits of the input do, against what the engine says of it;
   for tests that run under tondo with its test door open. */
#ifndef TESTS_SHADOW_WAYS_H
#define TESTS_SHADOW_WAYS_H

#include <stdbool.h>
#include <stdint.h>
#include <stdlib.h>
#include <string.h>
#include <sys/syscall.h>
#include <unistd.h>

#define DOOR 0x746f6e646fL
enum { DOOR_GET = 1, DOOR_SET, DOOR_SET_PLACES = 4, DOOR_GET_PLACES, DOOR_COUNT };
enum { PLACE = 77 }; /* what the undefined bytes are said to be from */
enum { IN = 512, OUT = 4096, WAYS = 12 };
static uint8_t in[IN] __attribute__((aligned(64))), out[OUT] __attribute__((aligned(64)));

static long door(int what, void *p, size_t size, void *bits) {
    return syscall(DOOR, what, p, size, bits);
}

#ifdef ASKS_ORIGINS
static const bool asks_origins = true;
#else
static const bool asks_origins = false;
#endif

/* `run` makes so many bytes of `out`, its result, of the first `used` bytes of `in`. The number of
   bytes that vary and are said to be defined, or that are said to be undefined because of
   something else; 0 also where anything was told. */
static int missed_ways(size_t (*run)(const void *), const void *which, size_t used, bool *told) {
    static uint8_t base[IN], mask[IN], first[OUT], varies[OUT], said[OUT], none[OUT];
    static uint8_t places[IN], from[OUT];
    size_t made = 0;
    memset(mask, 0, sizeof mask);
    memset(varies, 0, sizeof varies);
    for (int k = 0; k < IN; k++)
        base[k] = (uint8_t)(rand() >> 5);
    for (int n = 1 + rand() % 3; n > 0; n--)
        mask[(size_t)rand() % used] |= (uint8_t)(1 << rand() % 8);
    for (int way = 0; way < WAYS; way++) {
        for (int k = 0; k < IN; k++)
            in[k] = (uint8_t)((base[k] & ~mask[k]) | ((rand() >> 6) & mask[k]));
        made = run(which);
        if (way == 0)
            memcpy(first, out, made);
        for (size_t k = 0; k < made; k++)
            varies[k] |= first[k] ^ out[k];
    }
    memcpy(in, base, IN);
    memset(places, PLACE, IN);
    syscall(DOOR, DOOR_SET_PLACES, in, IN, mask, places);
    long before = door(DOOR_COUNT, NULL, 0, NULL);
    run(which);
    *told = door(DOOR_COUNT, NULL, 0, NULL) != before;
    door(DOOR_GET, out, made, said);
    door(DOOR_GET_PLACES, out, made, from);
    door(DOOR_SET, in, IN, none);
    door(DOOR_SET, out, OUT, none);
    int missed = 0;
    for (size_t k = 0; k < made && !*told; k++)
        missed += (varies[k] & ~said[k]) || (asks_origins && said[k] && from[k] != PLACE);
    return missed;
}

#endif

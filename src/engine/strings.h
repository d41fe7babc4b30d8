/* What the two rooms of string functions share: reading guest memory as it
   stands. A fault on the way is the guest's own (see replaced_fault). */
#ifndef TONDO_ENGINE_STRINGS_H
#define TONDO_ENGINE_STRINGS_H

#include "engine.h"

#define ONES 0x0101010101010101ULL
#define HIGHS 0x8080808080808080ULL

static inline uint8_t byte_at(gaddr a) { return *(volatile uint8_t *)guest(a); }

static inline uint64_t word_at(gaddr a) {
    uint64_t w;
    __builtin_memcpy(&w, guest(a), 8);
    return w;
}

/* A word from here may be read without touching another page. */
static inline bool word_in_page(gaddr a) { return (a & 4095) <= 4088; }

static inline uint32_t half_at(gaddr a) {
    uint32_t w;
    __builtin_memcpy(&w, guest(a), 4);
    return w;
}

/* Bytes before the first one that is `stop` or 0 (want_zero), at most limit. */
uint64_t guest_scan(gaddr address, uint64_t limit, uint8_t stop, bool want_zero);
static inline uint64_t guest_length(gaddr address) {
    return guest_scan(address, ~0ULL >> 1, 0, false);
}
/* How many bytes of each decide a comparison of at most limit bytes (texts end at
   0), and the difference of the last of them. */
uint64_t guest_difference(gaddr a, gaddr b, uint64_t limit, bool text, int64_t *result);
/* memmove, whatever lies where. */
void guest_move(gaddr to, gaddr from, uint64_t size);

#endif

/* Where each byte of a result is from that an instruction makes of bytes of others, where these
   do not move in parts of 4 (parts.c). Asked only where the sources have several origins. */
#include "plan.h"
#include "step.h"
#include "translate.h"

enum { LANE = 16 };

static void put(struct byte_map *m, int at, int from) { m->from[at] = (uint8_t)from; }

/* Pieces of so many bytes of both sources in turn, from one half of each lane. */
static void interleave(struct byte_map *m, int piece, bool upper) {
    for (int at = 0; at < MAP_BYTES; at++) {
        int base = at & ~(LANE - 1), n = at % LANE / piece;
        put(m, at, base + (upper ? LANE / 2 : 0) + n / 2 * piece + at % piece + n % 2 * MAP_SECOND);
    }
    m->sources = 2;
}

/* Four words of each lane, from `first` on, as the number says. */
static void shuffle_words(struct byte_map *m, int first, int number) {
    for (int base = 0; base < MAP_BYTES; base += LANE)
        for (int w = 0; w < 4; w++)
            for (int byte = 0; byte < 2; byte++)
                put(m, base + 2 * (first + w) + byte,
                    base + 2 * (first + (number >> 2 * w & 3)) + byte);
}

/* All bytes of each group go along; what is drawn in is defined, or of the second source. Bits
   that are left over by whole bytes come from the next one. */
static void move_along(struct byte_map *m, int group, int by, int bits) {
    for (int at = 0; at < MAP_BYTES; at++) {
        int within = at % group + by;
        put(m, at, within >= 0 && within < group ? at + by : MAP_NONE);
    }
    m->next = bits ? (by < 0 || bits < 0 ? -1 : 1) : 0;
}

static void align(struct byte_map *m, int by) {
    for (int at = 0; at < MAP_BYTES; at++) {
        int base = at & ~(LANE - 1), n = at % LANE + by; /* the second source is the lower one */
        put(m, at, n < LANE ? MAP_SECOND + base + n : n < 2 * LANE ? base + n - LANE : MAP_NONE);
    }
    m->sources = 2;
}

static void extend_each(struct byte_map *m, int from, int to, bool by_sign) {
    for (int at = 0; at < MAP_BYTES; at++) {
        int byte = at % to;
        put(m, at, byte < from ? at / to * from + byte : by_sign ? at / to * from + from - 1 : MAP_NONE);
    }
}

static void insert(struct byte_map *m, int at, int size) {
    for (int byte = 0; byte < size; byte++)
        put(m, at + byte, MAP_SECOND + byte);
    m->sources = 2;
}

static void extract(struct byte_map *m, int from, int size) {
    for (int at = 0; at < MAP_BYTES; at++)
        put(m, at, at < size ? from + at : MAP_NONE);
}

/* SSE4.1: one of four parts of 4 bytes to another, and some are made zero. */
static void insert_single(struct byte_map *m, int number) {
    for (int byte = 0; byte < 4; byte++)
        put(m, 4 * (number >> 4 & 3) + byte, MAP_SECOND + 4 * (number >> 6 & 3) + byte);
    for (int at = 0; at < LANE; at++)
        if (number >> at / 4 & 1)
            put(m, at, MAP_NONE);
    m->sources = 2;
}

#define EITHER(name) case ZYDIS_MNEMONIC_##name: case ZYDIS_MNEMONIC_V##name

bool byte_map_of(const struct instruction *i, struct byte_map *m) {
    const ZydisDecodedOperand *last = &i->operands[i->z.operand_count_visible - 1];
    bool numbered = last->type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    int n = numbered ? (int)last->imm.value.u & 0xff : 0;
    *m = (struct byte_map){.sources = 1, .numbered = numbered};
    for (int at = 0; at < MAP_BYTES; at++)
        put(m, at, at);
    switch (i->z.mnemonic) {
    EITHER(PUNPCKLBW): interleave(m, 1, false); return true;
    EITHER(PUNPCKLWD): interleave(m, 2, false); return true;
    EITHER(PUNPCKHBW): interleave(m, 1, true); return true;
    EITHER(PUNPCKHWD): interleave(m, 2, true); return true;
    EITHER(PSHUFLW): shuffle_words(m, 0, n); return true;
    EITHER(PSHUFHW): shuffle_words(m, 4, n); return true;
    EITHER(PBLENDW):
        for (int at = 0; at < MAP_BYTES; at++)
            put(m, at, (n >> at % LANE / 2 & 1 ? MAP_SECOND : 0) + at);
        m->sources = 2;
        return true;
    EITHER(PALIGNR): align(m, n); return true;
    EITHER(PSLLDQ): move_along(m, LANE, -n, 0); return true;
    EITHER(PSRLDQ): move_along(m, LANE, n, 0); return true;
    EITHER(PSLLQ): move_along(m, 8, -(n / 8), -(n % 8)); return numbered;
    EITHER(PSRLQ): move_along(m, 8, n / 8, n % 8); return numbered;
    EITHER(PINSRB): insert(m, n & 15, 1); return true;
    EITHER(PINSRW): insert(m, 2 * (n & 7), 2); return true;
    EITHER(PEXTRB): extract(m, n & 15, 1); return true;
    EITHER(PEXTRW): extract(m, 2 * (n & 7), 2); return true;
    EITHER(INSERTPS): insert_single(m, n); return true;
    EITHER(PMOVZXBW): extend_each(m, 1, 2, false); return true;
    EITHER(PMOVZXBD): extend_each(m, 1, 4, false); return true;
    EITHER(PMOVZXBQ): extend_each(m, 1, 8, false); return true;
    EITHER(PMOVZXWD): extend_each(m, 2, 4, false); return true;
    EITHER(PMOVZXWQ): extend_each(m, 2, 8, false); return true;
    EITHER(PMOVZXDQ): extend_each(m, 4, 8, false); return true;
    EITHER(PMOVSXBW): extend_each(m, 1, 2, true); return true;
    EITHER(PMOVSXBD): extend_each(m, 1, 4, true); return true;
    EITHER(PMOVSXBQ): extend_each(m, 1, 8, true); return true;
    EITHER(PMOVSXWD): extend_each(m, 2, 4, true); return true;
    EITHER(PMOVSXWQ): extend_each(m, 2, 8, true); return true;
    EITHER(PMOVSXDQ): extend_each(m, 4, 8, true); return true;
    case ZYDIS_MNEMONIC_VPBROADCASTB: case ZYDIS_MNEMONIC_VPBROADCASTW: {
        int size = i->z.mnemonic == ZYDIS_MNEMONIC_VPBROADCASTB ? 1 : 2;
        for (int at = 0; at < MAP_BYTES; at++)
            put(m, at, at % size);
        return true;
    }
    default:
        return false;
    }
}

/* Where the parts of a register are from, 4 bytes each, when it is made of parts of
   others: instructions that only move parts about have a row here. Those that move single bytes
   are in byte_maps.c; of all others mixtures.c finds it out. */
#include "decode.h"
#include "plan.h"
#include "step.h"
#include "translate.h"

/* The parts of 16 bytes of the result: 0 to 3 of the first source, 4 to 7 of the second. */
#define ROWS(X)                                                                              \
    X(0, 4, 1, 5, PUNPCKLDQ, VPUNPCKLDQ, UNPCKLPS, VUNPCKLPS)                                 \
    X(2, 6, 3, 7, PUNPCKHDQ, VPUNPCKHDQ, UNPCKHPS, VUNPCKHPS)                                 \
    X(0, 1, 4, 5, PUNPCKLQDQ, VPUNPCKLQDQ, UNPCKLPD, VUNPCKLPD)                               \
    X(2, 3, 6, 7, PUNPCKHQDQ, VPUNPCKHQDQ, UNPCKHPD, VUNPCKHPD)                               \
    X(0, 1, 4, 5, MOVLHPS, VMOVLHPS, MOVHPS, VMOVHPS)                                         \
    X(0, 1, 4, 5, MOVHPD, VMOVHPD, MOVHPD, VMOVHPD)                                           \
    X(4, 5, 2, 3, MOVLPS, VMOVLPS, MOVLPD, VMOVLPD)                                           \
    X(6, 7, 2, 3, MOVHLPS, VMOVHLPS, MOVHLPS, VMOVHLPS)                                       \
    X(1, 1, 3, 3, MOVSHDUP, VMOVSHDUP, MOVSHDUP, VMOVSHDUP)                                   \
    X(4, 1, 2, 3, MOVSS, VMOVSS, MOVSS, VMOVSS)                                               \
    X(4, 5, 2, 3, MOVSD, VMOVSD, MOVSD, VMOVSD)                                               \
    X(0, 0, 2, 2, MOVSLDUP, VMOVSLDUP, MOVSLDUP, VMOVSLDUP)                                   \
    X(0, 1, 0, 1, MOVDDUP, VMOVDDUP, MOVDDUP, VMOVDDUP)

enum { LANE = 4, SECOND = PARTS, NONE = 2 * PARTS };

static const struct row {
    ZydisMnemonic names[4];
    uint8_t from[LANE];
} rows[] = {
#define X(a, b, c, d, m, n, o, p)                                                             \
    {{ZYDIS_MNEMONIC_##m, ZYDIS_MNEMONIC_##n, ZYDIS_MNEMONIC_##o, ZYDIS_MNEMONIC_##p},        \
     {a, b, c, d}},
    ROWS(X)
#undef X
};

/* The same in each 16 bytes. */
static void each_lane(uint8_t *from, int a, int b, int c, int d) {
    const int lane[LANE] = {a, b, c, d};
    for (int k = 0; k < PARTS; k++) {
        int base = k & ~(LANE - 1), n = lane[k % LANE];
        from[k] = (uint8_t)(n == NONE ? NONE : n < LANE ? base + n : SECOND + base + n - LANE);
    }
}

static void half(uint8_t *to, int first) {
    for (int k = 0; k < LANE; k++)
        to[k] = (uint8_t)(first == NONE ? NONE : first + k);
}

/* The lowest parts again and again. */
static bool repeated(ZydisMnemonic name, uint8_t *from) {
    int count = 0;
    switch (name) {
    case ZYDIS_MNEMONIC_VBROADCASTSS: case ZYDIS_MNEMONIC_VPBROADCASTD: count = 1; break;
    case ZYDIS_MNEMONIC_VBROADCASTSD: case ZYDIS_MNEMONIC_VPBROADCASTQ: count = 2; break;
    case ZYDIS_MNEMONIC_VBROADCASTF128: case ZYDIS_MNEMONIC_VBROADCASTI128: count = LANE; break;
    default: return false;
    }
    for (int k = 0; k < PARTS; k++)
        from[k] = (uint8_t)(k % count);
    return true;
}

/* With a number that says which parts; how many sources, 0: not one of these. */
static int by_number(ZydisMnemonic name, int n, uint8_t *from) {
    int at[LANE];
    each_lane(from, 0, 1, 2, 3);
    switch (name) {
    case ZYDIS_MNEMONIC_PSHUFD: case ZYDIS_MNEMONIC_VPSHUFD: case ZYDIS_MNEMONIC_VPERMILPS:
        each_lane(from, n & 3, n >> 2 & 3, n >> 4 & 3, n >> 6 & 3);
        return 1;
    case ZYDIS_MNEMONIC_SHUFPS: case ZYDIS_MNEMONIC_VSHUFPS:
        each_lane(from, n & 3, n >> 2 & 3, LANE + (n >> 4 & 3), LANE + (n >> 6 & 3));
        return 2;
    case ZYDIS_MNEMONIC_SHUFPD: case ZYDIS_MNEMONIC_VSHUFPD:
        for (int k = 0; k < PARTS; k++) /* a bit for each 8 bytes */
            from[k] = (uint8_t)((k & 2 ? SECOND : 0) + (k & ~3) + 2 * (n >> k / 2 & 1) + (k & 1));
        return 2;
    case ZYDIS_MNEMONIC_VPERMILPD:
        for (int k = 0; k < PARTS; k++)
            from[k] = (uint8_t)((k & ~3) + 2 * (n >> k / 2 & 1) + (k & 1));
        return 1;
    case ZYDIS_MNEMONIC_VPERMQ: case ZYDIS_MNEMONIC_VPERMPD:
        for (int k = 0; k < PARTS; k++)
            from[k] = (uint8_t)(2 * (n >> (k & ~1) & 3) + (k & 1));
        return 1;
    case ZYDIS_MNEMONIC_BLENDPS: case ZYDIS_MNEMONIC_VBLENDPS: case ZYDIS_MNEMONIC_VPBLENDD:
        for (int k = 0; k < PARTS; k++)
            from[k] = (uint8_t)((n >> k & 1 ? SECOND : 0) + k);
        return 2;
    case ZYDIS_MNEMONIC_BLENDPD: case ZYDIS_MNEMONIC_VBLENDPD:
        for (int k = 0; k < PARTS; k++)
            from[k] = (uint8_t)((n >> k / 2 & 1 ? SECOND : 0) + k);
        return 2;
    case ZYDIS_MNEMONIC_VPERM2I128: case ZYDIS_MNEMONIC_VPERM2F128:
        half(from, n & 8 ? NONE : (n & 2 ? SECOND : 0) + LANE * (n & 1));
        half(from + LANE, n & 128 ? NONE : (n & 32 ? SECOND : 0) + LANE * (n >> 4 & 1));
        return 2;
    case ZYDIS_MNEMONIC_VINSERTI128: case ZYDIS_MNEMONIC_VINSERTF128:
        half(from + LANE * (n & 1), SECOND);
        return 2;
    case ZYDIS_MNEMONIC_VEXTRACTI128: case ZYDIS_MNEMONIC_VEXTRACTF128:
        half(from, LANE * (n & 1));
        half(from + LANE, NONE);
        return 1;
    case ZYDIS_MNEMONIC_PINSRD: case ZYDIS_MNEMONIC_VPINSRD:
        from[n & 3] = SECOND;
        return 2;
    case ZYDIS_MNEMONIC_PINSRQ: case ZYDIS_MNEMONIC_VPINSRQ:
        from[2 * (n & 1)] = SECOND;
        from[2 * (n & 1) + 1] = SECOND + 1;
        return 2;
    case ZYDIS_MNEMONIC_PEXTRD: case ZYDIS_MNEMONIC_VPEXTRD:
    case ZYDIS_MNEMONIC_EXTRACTPS: case ZYDIS_MNEMONIC_VEXTRACTPS:
        each_lane(from, n & 3, NONE, NONE, NONE);
        return 1;
    case ZYDIS_MNEMONIC_PEXTRQ: case ZYDIS_MNEMONIC_VPEXTRQ:
        each_lane(from, 2 * (n & 1), 2 * (n & 1) + 1, NONE, NONE);
        return 1;
    case ZYDIS_MNEMONIC_PSRLDQ: case ZYDIS_MNEMONIC_VPSRLDQ:
        for (int k = 0; k < LANE; k++)
            at[k] = k + n / 4 < LANE ? k + n / 4 : NONE;
        each_lane(from, at[0], at[1], at[2], at[3]);
        return n % 4 ? 0 : 1;
    case ZYDIS_MNEMONIC_PALIGNR: case ZYDIS_MNEMONIC_VPALIGNR: /* the second is the lower one */
        for (int k = 0; k < LANE; k++)
            at[k] = k + n / 4 < LANE       ? LANE + k + n / 4
                    : k + n / 4 < 2 * LANE ? k + n / 4 - LANE
                                           : NONE;
        each_lane(from, at[0], at[1], at[2], at[3]);
        return n % 4 ? 0 : 2;
    default:
        return 0;
    }
}

static int source_of(const ZydisDecodedOperand *o) {
    return o->type == ZYDIS_OPERAND_TYPE_MEMORY ? PARTS_MEMORY : element_of(o->reg.value);
}

bool parts_of(const struct instruction *i, struct parts *parts) {
    int visible = i->z.operand_count_visible, sources = 2;
    const ZydisDecodedOperand *o = i->operands, *last = &o[visible - 1];
    bool found = false, numbered = last->type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    if (visible < 2 || i->mask || o[0].type != ZYDIS_OPERAND_TYPE_REGISTER || o[0].size > 256)
        return false;
    for (size_t k = 0; k < sizeof rows / sizeof rows[0] && !numbered; k++)
        for (int n = 0; n < 4; n++)
            if (!found && rows[k].names[n] == i->z.mnemonic) {
                const uint8_t *f = rows[k].from;
                each_lane(parts->from, f[0], f[1], f[2], f[3]);
                sources = f[0] < LANE && f[1] < LANE && f[2] < LANE ? 1 : 2;
                found = true;
            }
    if (numbered) {
        sources = by_number(i->z.mnemonic, (int)last->imm.value.u & 0xff, parts->from);
        found = sources;
    } else if (repeated(i->z.mnemonic, parts->from)) {
        sources = 1;
        found = true;
    }
    visible -= numbered;
    if (!found || visible < sources)
        return false;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOVSS: case ZYDIS_MNEMONIC_VMOVSS:
    case ZYDIS_MNEMONIC_MOVSD: case ZYDIS_MNEMONIC_VMOVSD:
        if (i->encoded >= 0)
            return false; /* a load of the lowest part alone */
        break;
    default:
        break;
    }
    bool wide = o[0].reg.value >= ZYDIS_REGISTER_YMM0 && o[0].reg.value <= ZYDIS_REGISTER_YMM31;
    parts->count = (uint8_t)(vector_number(o[0].reg.value) < 0 ? o[0].size > 32 ? 2 : 1
                             : wide                            ? PARTS
                                                               : LANE);
    /* two sources among two operands: the target is the first */
    parts->target = (int8_t)element_of(o[0].reg.value);
    parts->first = (int8_t)source_of(&o[visible - sources]);
    parts->second = (int8_t)(sources == 2 ? source_of(&o[visible - 1]) : PARTS_NONE);
    return parts->target >= 0 && parts->first >= 0 && parts->target != ELEMENT_MORE &&
           parts->first != ELEMENT_MORE && parts->second != ELEMENT_MORE;
}

static const uint32_t *bits_of(struct context *c, int element) {
    return element < ELEMENT_VECTOR
               ? (const uint32_t *)&dirty_words(c)[element]
               : (const uint32_t *)dirty_vector(c, (element - ELEMENT_VECTOR) & 15);
}

/* The origin of one part, 0 where it is defined. */
static uint32_t origin_of_part(struct step *k, int element, int part) {
    struct context *c = k->c;
    if (element == PARTS_MEMORY) {
        gaddr a = k->address[0] + 4 * (gaddr)part;
        bool within = 4u * (uint32_t)part + 4 <= k->p->memory[0].size;
        return within ? origin_of_word(c, a) : 0;
    }
    if ((element < ELEMENT_VECTOR && part > 1) || !bits_of(c, element)[part])
        return 0;
    return origin_keep(c, dirty_origins(c, element)[part]);
}

void parts_set(struct context *c, int element, const uint32_t *origins, int count) {
    uint32_t first = 0;
    for (int k = 0; k < count && !first; k++)
        first = origins[k];
    if (!first)
        return;
    dirty_set_origin(c, element, first);
    for (int k = 0; k < count; k++)
        if (origins[k])
            dirty_origins(c, element)[k] = origins[k];
}

/* The origin of one byte, 0 where it is defined. */
static uint32_t origin_of_byte_in(struct step *k, int element, int byte) {
    struct context *c = k->c;
    if (element == PARTS_MEMORY) {
        gaddr a = k->address[0] + (gaddr)byte;
        bool within = byte >= 0 && (uint32_t)byte < k->p->memory[0].size;
        return within && *(const uint8_t *)shadow_of(a) ? origin_keep_byte(c, origin_at(c, a)) : 0;
    }
    if (byte < 0 || byte >= (element < ELEMENT_VECTOR ? 8 : MAP_BYTES) ||
        !((const uint8_t *)bits_of(c, element))[byte])
        return 0;
    return origin_keep_byte(c, dirty_byte_origin(c, element, byte));
}

static bool map_with_sources(const struct instruction *i, struct byte_map *m, struct parts *p) {
    if (!i->valid || i->mask || !byte_map_of(i, m))
        return false;
    const ZydisDecodedOperand *o = i->operands;
    int visible = i->z.operand_count_visible - m->numbered;
    if (o[0].type != ZYDIS_OPERAND_TYPE_REGISTER || o[0].size > 256)
        return false;
    *p = (struct parts){.target = (int8_t)element_of(o[0].reg.value),
                        .first = (int8_t)source_of(&o[visible - m->sources]),
                        .second = (int8_t)source_of(&o[visible - 1])};
    return p->target >= 0 && p->first >= 0 && p->second >= 0 && p->target != ELEMENT_MORE &&
           p->first != ELEMENT_MORE && p->second != ELEMENT_MORE && p->target != ELEMENT_X87 &&
           p->first != ELEMENT_X87 && p->second != ELEMENT_X87;
}

bool joins_bytes(const struct instruction *i, struct parts *parts) {
    struct byte_map m;
    struct parts p;
    if (!map_with_sources(i, &m, &p) || p.second != PARTS_MEMORY)
        return false;
    *parts = p;
    return true;
}

/* The same for an instruction that moves bytes about. */
static bool join_bytes(struct step *k) {
    struct instruction i;
    struct byte_map m;
    struct parts p;
    uint32_t origins[PARTS] = {0}, any_origin = 0;
    decode_here(&i, k->p->pc);
    if (!map_with_sources(&i, &m, &p))
        return false;
    int sources[2] = {p.first, p.second}, count = i.operands[0].size / 8;
    for (int n = 0; n < count / 4 && n < PARTS; n++) {
        uint32_t of[4];
        for (int byte = 0; byte < 4; byte++) {
            int from = m.from[4 * n + byte], source = sources[from >= MAP_SECOND];
            int at = from % MAP_BYTES;
            of[byte] = from == MAP_NONE ? 0 : origin_of_byte_in(k, source, at);
            if (!of[byte] && m.next)
                of[byte] = origin_of_byte_in(k, source, at + m.next);
            any_origin |= of[byte];
        }
        origins[n] = origin_of_four(of);
    }
    parts_set(k->c, k->p->parts.target, origins, count / 4 < PARTS ? count / 4 : PARTS);
    return any_origin;
}

void parts_join(struct step *k) {
    const struct parts *p = &k->p->parts;
    uint32_t origins[PARTS];
    if (!p->count) { /* else the first undefined one's for all */
        if (!join_bytes(k))
            dirty_set_origin(k->c, p->target, origin_keep(k->c, k->origin));
        return;
    }
    for (int n = 0; n < p->count; n++)
        origins[n] = p->from[n] == NONE     ? 0
                     : p->from[n] < SECOND ? origin_of_part(k, p->first, p->from[n])
                                           : origin_of_part(k, p->second, p->from[n] - SECOND);
    parts_set(k->c, p->target, origins, p->count);
}

static int operand_element(const struct plan_operand *o) {
    return o->kind == OPERAND_MEMORY    ? PARTS_MEMORY
           : o->kind == OPERAND_VECTOR  ? ELEMENT_VECTOR + o->number
           : o->kind == OPERAND_GENERAL ? o->number
                                        : PARTS_NONE;
}

/* A byte of an operand that is undefined, to be kept. */
uint32_t origin_of_operand(struct step *k, int operand, int at) {
    const struct plan_operand *o = &k->p->operands[operand];
    int element = operand_element(o);
    if (element == PARTS_NONE || element == ELEMENT_MORE || !k->bits[operand][at])
        return 0;
    if (element != PARTS_MEMORY)
        return origin_keep_byte(k->c, dirty_byte_origin(k->c, element, at + o->high));
    gaddr start = k->address[o->number], a = start + (gaddr)at, word = a & ~3ULL;
    if (word >= start && word + 4 <= start + o->size) /* one origin for its bytes, if it may be */
        return origin_part(origin_of_word(k->c, word), a);
    return origin_keep_byte(k->c, origin_of_few(k->c, a, 1));
}

/* The bytes of a register shifted or rotated by so many bits. */
void parts_shift(struct step *k, int by) {
    const struct plan *p = k->p;
    const struct plan_operand *o = &p->operands[0];
    bool left = p->rule == RULE_SHL || p->rule == RULE_ROL;
    bool around = p->rule == RULE_ROL || p->rule == RULE_ROR;
    if (o->kind != OPERAND_GENERAL || o->size < 4)
        return;
    const uint32_t *parts = dirty_origins(k->c, o->number);
    if (parts[0] == parts[1] && !origin_is_by_byte(parts[0]))
        return;
    for (int n = 0; n < o->size / 4; n++) {
        uint32_t of[4] = {0};
        for (int b = 0; b < 4; b++)
            for (int next = 0; next <= (by % 8 != 0) && !of[b]; next++) {
                int at = 4 * n + b, from = left ? at - by / 8 - next : at + by / 8 + next;
                if (around)
                    from = (from + 2 * o->size) % o->size;
                if (from >= o->size && p->rule == RULE_SAR)
                    from = o->size - 1;
                if (from >= 0 && from < o->size && k->bits[0][from])
                    of[b] = origin_keep_byte(k->c, dirty_byte_origin(k->c, o->number, from));
            }
        k->parts[n] = origin_of_four(of);
    }
    k->noted = o->size / 4;
}

bool parts_differ(struct step *k) {
    const struct plan *p = k->p;
    uint32_t first = 0;
    for (int m = 0; m < p->count; m++) {
        int element = operand_element(&p->operands[m]);
        if (element == PARTS_NONE || !any(k->bits[m], 32) || element == ELEMENT_MORE)
            continue;
        if (element == PARTS_MEMORY)
            return true;
        for (int part = 0; part < (element < ELEMENT_VECTOR ? 2 : PARTS); part++) {
            uint32_t origin = dirty_origins(k->c, element)[part];
            if (!bits_of(k->c, element)[part])
                continue;
            if (origin_is_by_byte(origin) || (first && origin != first))
                return true;
            first = origin;
        }
    }
    return false;
}

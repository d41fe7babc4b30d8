/* Where the parts of a register are from, 4 bytes each, when it is made of parts of
   others: instructions that only move parts about have a row here. Others tell one origin
   for all of their result. */
#include "plan.h"
#include "step.h"
#include "translate.h"

/* The parts of the result: 0 to 3 of the first source, 4 to 7 of the second. */
#define NONE 8
#define ROWS(X)                                                                              \
    X(0, 4, 1, 5, PUNPCKLDQ, VPUNPCKLDQ, UNPCKLPS, VUNPCKLPS)                                 \
    X(2, 6, 3, 7, PUNPCKHDQ, VPUNPCKHDQ, UNPCKHPS, VUNPCKHPS)                                 \
    X(0, 1, 4, 5, PUNPCKLQDQ, VPUNPCKLQDQ, UNPCKLPD, VUNPCKLPD)                               \
    X(2, 3, 6, 7, PUNPCKHQDQ, VPUNPCKHQDQ, UNPCKHPD, VUNPCKHPD)                               \
    X(0, 1, 4, 5, MOVLHPS, VMOVLHPS, MOVHPS, VMOVHPS)                                         \
    X(0, 1, 4, 5, MOVHPD, VMOVHPD, MOVHPD, VMOVHPD)                                           \
    X(4, 5, 2, 3, MOVLPS, VMOVLPS, MOVLPD, VMOVLPD)                                           \
    X(6, 7, 2, 3, MOVHLPS, VMOVHLPS, MOVHLPS, VMOVHLPS)

static const struct row {
    ZydisMnemonic names[4];
    uint8_t from[PARTS];
} rows[] = {
#define X(a, b, c, d, m, n, o, p)                                                             \
    {{ZYDIS_MNEMONIC_##m, ZYDIS_MNEMONIC_##n, ZYDIS_MNEMONIC_##o, ZYDIS_MNEMONIC_##p},        \
     {a, b, c, d}},
    ROWS(X)
#undef X
};

static void set(uint8_t *from, int a, int b, int c, int d) {
    from[0] = (uint8_t)a;
    from[1] = (uint8_t)b;
    from[2] = (uint8_t)c;
    from[3] = (uint8_t)d;
}

/* With a number that says which parts; how many sources, 0: not one of these. */
static int by_number(ZydisMnemonic name, int n, uint8_t *from) {
    switch (name) {
    case ZYDIS_MNEMONIC_PSHUFD: case ZYDIS_MNEMONIC_VPSHUFD:
        set(from, n & 3, n >> 2 & 3, n >> 4 & 3, n >> 6 & 3);
        return 1;
    case ZYDIS_MNEMONIC_SHUFPS: case ZYDIS_MNEMONIC_VSHUFPS:
        set(from, n & 3, n >> 2 & 3, 4 + (n >> 4 & 3), 4 + (n >> 6 & 3));
        return 2;
    case ZYDIS_MNEMONIC_SHUFPD: case ZYDIS_MNEMONIC_VSHUFPD:
        set(from, 2 * (n & 1), 2 * (n & 1) + 1, 4 + 2 * (n >> 1 & 1), 5 + 2 * (n >> 1 & 1));
        return 2;
    case ZYDIS_MNEMONIC_PINSRD: case ZYDIS_MNEMONIC_VPINSRD:
        set(from, 0, 1, 2, 3);
        from[n & 3] = 4;
        return 2;
    case ZYDIS_MNEMONIC_PINSRQ: case ZYDIS_MNEMONIC_VPINSRQ:
        set(from, 0, 1, 2, 3);
        from[2 * (n & 1)] = 4;
        from[2 * (n & 1) + 1] = 5;
        return 2;
    case ZYDIS_MNEMONIC_PEXTRD: case ZYDIS_MNEMONIC_VPEXTRD:
    case ZYDIS_MNEMONIC_EXTRACTPS: case ZYDIS_MNEMONIC_VEXTRACTPS:
        set(from, n & 3, NONE, NONE, NONE);
        return 1;
    case ZYDIS_MNEMONIC_PEXTRQ: case ZYDIS_MNEMONIC_VPEXTRQ:
        set(from, 2 * (n & 1), 2 * (n & 1) + 1, NONE, NONE);
        return 1;
    case ZYDIS_MNEMONIC_PSRLDQ: case ZYDIS_MNEMONIC_VPSRLDQ:
        if (n % 4 || n > 12)
            return 0;
        for (int k = 0; k < PARTS; k++)
            from[k] = (uint8_t)(k + n / 4 < PARTS ? k + n / 4 : NONE);
        return 1;
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
    if (visible < 2 || i->mask || o[0].type != ZYDIS_OPERAND_TYPE_REGISTER || o[0].size > 128)
        return false;
    for (size_t k = 0; k < sizeof rows / sizeof rows[0] && !numbered; k++)
        for (int n = 0; n < 4; n++)
            if (rows[k].names[n] == i->z.mnemonic) {
                copy_bytes(parts->from, rows[k].from, PARTS);
                found = true;
            }
    if (numbered) {
        sources = by_number(i->z.mnemonic, (int)last->imm.value.u & 0xff, parts->from);
        found = sources;
    }
    visible -= numbered;
    if (!found || visible < sources)
        return false;
    /* two sources among two operands: the target is the first */
    parts->target = (int8_t)element_of(o[0].reg.value);
    parts->first = (int8_t)source_of(&o[visible - sources]);
    parts->second = (int8_t)(sources == 2 ? source_of(&o[visible - 1]) : PARTS_NONE);
    return parts->target >= 0 && parts->first >= 0 && parts->target != ELEMENT_MORE &&
           parts->first != ELEMENT_MORE && parts->second != ELEMENT_MORE;
}

/* The origin of one part, 0 where it is defined. */
static uint32_t origin_of_part(struct step *k, int element, int part) {
    struct context *c = k->c;
    if (element == PARTS_MEMORY) {
        gaddr a = k->address[0] + 4 * (gaddr)part;
        gaddr undefined = 4u * (uint32_t)part < k->p->memory[0].size ? shadow_first_undefined(a, 4) : 0;
        return undefined ? origin_keep(c, origin_at(c, undefined)) : 0;
    }
    const uint32_t *bits = element < ELEMENT_VECTOR
                               ? (const uint32_t *)&dirty_words(c)[element]
                               : (const uint32_t *)dirty_vector(c, (element - ELEMENT_VECTOR) & 15);
    if ((element < ELEMENT_VECTOR && part > 1) || !bits[part])
        return 0;
    return dirty_is_mixed(c, element) ? dirty_origin_parts(c, element)[part]
                                      : origin_keep(c, dirty_origin(c, element));
}

void parts_set(struct context *c, int element, const uint32_t *origins) {
    uint32_t first = 0;
    bool mixed = false;
    for (int k = 0; k < PARTS; k++) {
        if (!first)
            first = origins[k];
        mixed |= origins[k] && origins[k] != first;
    }
    if (!first)
        return;
    dirty_set_origin(c, element, mixed ? ORIGIN_MIXED : first);
    for (int k = 0; mixed && k < PARTS; k++)
        dirty_origin_parts(c, element)[k] = origins[k] ? origins[k] : first;
}

void parts_join(struct step *k) {
    const struct parts *p = &k->p->parts;
    uint32_t origins[PARTS];
    for (int n = 0; n < PARTS; n++)
        origins[n] = p->from[n] == NONE    ? 0
                     : p->from[n] < PARTS ? origin_of_part(k, p->first, p->from[n])
                                          : origin_of_part(k, p->second, p->from[n] - PARTS);
    parts_set(k->c, p->target, origins);
}

void parts_either(struct step *k, int x, int y) {
    uint32_t origins[PARTS] = {0};
    for (int n = 0; n < 2; n++) {
        uint64_t half = n ? ~0ULL << 32 : 0xffffffff;
        int operand = sa(k, x) & half ? x : y;
        int element = k->p->operands[operand].kind == OPERAND_MEMORY ? PARTS_MEMORY
                                                                     : k->p->operands[operand].number;
        if ((sa(k, x) | sa(k, y)) & half)
            origins[n] = origin_of_part(k, element, n);
    }
    copy_bytes(k->parts, origins, sizeof origins);
}

/* Where each byte of a result is from when the inputs have several origins: the rule is applied
   once more for each of them, with the bits of that one alone undefined. A byte is from where
   most of its undefined bits are; of several from where a byte at its place is, else the first:
   what a carry brings counts less. */
#include "plan.h"
#include "step.h"

enum { ORIGINS = 16 };

/* Rules that only make outputs of the bits and values of their inputs, and do not say by
   themselves which part is from where (parts.c, lanes that are read). */
static bool is_sorted_out(const struct plan *p) {
    switch (p->rule) {
    case RULE_COPY: case RULE_SIGN:
        return p->reversed || p->operands[0].kind == OPERAND_GENERAL;
    case RULE_AND: case RULE_OR: case RULE_XOR: case RULE_ANDN: case RULE_NOT:
    case RULE_ADD: case RULE_SUB: case RULE_ADC: case RULE_SBB: case RULE_NEG: case RULE_INC:
    case RULE_DEC: case RULE_MUL: case RULE_BLSR: case RULE_BLSI: case RULE_BLSMSK:
    case RULE_BITSET: case RULE_BITCLEAR: case RULE_BITFLIP:
    case RULE_SWAP: case RULE_BSWAP: case RULE_XADD: case RULE_CMPXCHG: case RULE_CMPXCHG_PAIR:
    case RULE_SHLX: case RULE_SHRX: case RULE_SARX: case RULE_RORX: case RULE_SHLD: case RULE_SHRD:
    case RULE_BEXTR: case RULE_BZHI: case RULE_PEXT: case RULE_PDEP:
    case RULE_V_AND: case RULE_V_ANDN: case RULE_V_OR: case RULE_V_XOR:
    case RULE_V_ADD: case RULE_V_SUB: case RULE_V_EQUAL: case RULE_V_GREATER: case RULE_V_MIN:
    case RULE_V_MULTIPLY: case RULE_V_LANES: case RULE_V_SHIFT: case RULE_V_SHIFT_EACH:
    case RULE_V_SCALAR: case RULE_V_ONE: case RULE_V_BLEND:
    case RULE_V_SHUFFLE: case RULE_V_PACK: case RULE_V_PAIRS: case RULE_V_WIDEN:
    case RULE_V_NARROW: case RULE_V_PERMUTE: case RULE_V_PERMUTE_IN:
        return !p->evex;
    default:
        return false;
    }
}

struct mixture {
    uint32_t of[PLAN_OPERANDS][64]; /* each undefined byte of an input */
    uint32_t origins[ORIGINS];
    int count;
};

static void add_origin(struct mixture *m, uint32_t origin) {
    for (int n = 0; n < m->count; n++)
        if (m->origins[n] == origin)
            return;
    if (m->count < ORIGINS)
        m->origins[m->count++] = origin;
}

static void find_origins(struct step *k, struct mixture *m) {
    const struct plan *p = k->p;
    m->count = 0;
    for (int n = 0; n < p->count; n++)
        for (int at = 0; at < 64; at++) {
            bool within = at < p->operands[n].size;
            m->of[n][at] = within && k->bits[n][at] ? origin_of_operand(k, n, at) : 0;
            if (m->of[n][at])
                add_origin(m, m->of[n][at]);
        }
}

/* The step with nothing undefined but what is from there. */
static void keep_one(struct step *one, const struct mixture *m, uint32_t origin) {
    const struct plan *p = one->p;
    for (int n = 0; n < p->count; n++) {
        for (int at = 0; at < p->operands[n].size && at < 64; at++)
            if (m->of[n][at] != origin)
                one->bits[n][at] = 0;
        fill_bytes(one->out[n], 0, sizeof one->out[n]);
    }
}

static bool stands_there(const struct mixture *m, int operands, int at, uint32_t origin) {
    for (int n = 0; n < operands; n++)
        if (m->of[n][at] == origin)
            return true;
    return false;
}

void mixtures_note(struct step *k, void (*apply)(struct step *k)) {
    const struct plan *p = k->p;
    struct mixture m;
    uint8_t best[MIXED][64];
    if (!is_sorted_out(p) || !parts_differ(k))
        return;
    find_origins(k, &m);
    if (m.count < 2)
        return;
    for (int n = 0; n < MIXED; n++)
        fill_bytes(k->mixed[n], 0, sizeof k->mixed[n]);
    fill_bytes(best, 0, sizeof best);
    for (int g = 0; g < m.count; g++) {
        struct step one = *k;
        keep_one(&one, &m, m.origins[g]);
        apply(&one);
        for (int n = 0; n < p->count && n < MIXED; n++)
            for (int at = 0; at < 64 && p->operands[n].write; at++) {
                int bits = count_ones(k->out[n][at] & one.out[n][at]);
                int score = 2 * bits + (bits && stands_there(&m, p->count, at, m.origins[g]));
                if (score > best[n][at]) {
                    best[n][at] = (uint8_t)score;
                    k->mixed[n][at] = m.origins[g];
                }
            }
    }
    for (int n = 0; n < p->count && n < MIXED; n++)
        for (int at = 0; at < 64 && p->operands[n].write; at++)
            if (k->out[n][at] && !k->mixed[n][at])
                k->mixed[n][at] = k->origin;
    k->is_mixed = true;
}

void mixtures_set(struct step *k, int n, int element) {
    const struct plan_operand *o = &k->p->operands[n];
    uint32_t origins[PARTS];
    int count = o->size / 4 < PARTS ? o->size / 4 : PARTS;
    if (!k->is_mixed || n >= MIXED || !count)
        return;
    for (int w = 0; w < count; w++)
        origins[w] = origin_of_four(&k->mixed[n][4 * w]);
    parts_set(k->c, element, origins, count);
}

void mixtures_set_part(struct step *k, int n, uint32_t before) {
    const struct plan_operand *o = &k->p->operands[n];
    struct context *c = k->c;
    uint64_t bits = dirty_words(c)[o->number];
    uint32_t of[4] = {0}, first = 0;
    bool same = true;
    if (o->size >= 4)
        return;
    for (int byte = 0; byte < 4; byte++) {
        int at = byte - o->high;
        if (!(bits >> (8 * byte) & 0xff))
            continue;
        of[byte] = at < 0 || at >= o->size        ? origin_part(before, (uint64_t)byte)
                   : k->is_mixed && n < MIXED ? k->mixed[n][at]
                                               : k->origin;
        first = first ? first : of[byte];
        same &= of[byte] == first;
    }
    for (int byte = 0; byte < 4 && !same; byte++)
        of[byte] = of[byte] ? origin_keep_byte(c, of[byte]) : 0;
    if (first)
        dirty_origins(c, o->number)[0] = same ? first : origin_of_four(of);
}

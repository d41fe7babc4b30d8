/* MMX: eight registers of 64 bits that share their place with the x87 stack (SDM volume 1,
   chapter 9). Each has undefined bits of its own as long as no x87 instruction has come in
   between; a register that x87 left undefined is so as a whole. Most rules are those of the
   longer vectors; what moves parts about has rules of its own here, since these halve the
   lanes of 8 bytes instead of 16. */
#include "step.h"

#include <Zydis/Zydis.h>

enum { FIRST = 8, SIZE = 8 }; /* operand numbers from 8 on are MMX registers */

bool mmx_is(const struct plan_operand *o) { return o->kind == OPERAND_X87 && o->number >= FIRST; }

bool mmx_has(const struct plan *p) {
    for (int n = 0; n < p->count; n++)
        if (mmx_is(&p->operands[n]))
            return true;
    return false;
}

void mmx_forget(struct context *c) { c->mmx_known = 0; }

void mmx_take(struct step *k, int n) {
    struct context *c = k->c;
    const struct plan_operand *o = &k->p->operands[n];
    int r = o->number - FIRST;
    copy_few(k->value[n], (char *)c + CTX_VALUE + 64 * n, SIZE);
    store(k->bits[n], !undefined_x87(c)[r] ? 0 : c->mmx_known >> r & 1 ? c->mmx_bits[r] : ~0ULL, SIZE);
    if (!k->origin && o->read && any(k->bits[n], SIZE))
        k->origin = c->x87_origins[r];
}

void mmx_put(struct step *k, int n) {
    struct context *c = k->c;
    int r = k->p->operands[n].number - FIRST;
    c->mmx_bits[r] = load(k->out[n], SIZE);
    c->mmx_known |= (uint8_t)(1u << r);
    undefined_x87(c)[r] = c->mmx_bits[r] ? 0xff : 0;
    c->x87_origins[r] = c->mmx_bits[r] ? origin_keep(c, k->origin) : 0;
    if (c->mmx_bits[r])
        dirty_set_origin(c, ELEMENT_X87, c->x87_origins[r]);
}

static void unpack(struct step *k, int from) {
    int lane = k->p->lane;
    for (int at = 0; at < SIZE / 2; at += lane) {
        copy_few(k->out[0] + 2 * at, k->bits[0] + from + at, lane);
        copy_few(k->out[0] + 2 * at + lane, k->bits[1] + from + at, lane);
    }
}

static void words(struct step *k) {
    uint64_t control = k->p->operands[2].value;
    for (int i = 0; i < SIZE / 2; i++)
        copy_few(k->out[0] + 2 * i, k->bits[1] + 2 * (control >> 2 * i & 3), 2);
}

static void signs(struct step *k) {
    uint64_t r = 0;
    for (int i = 0; i < SIZE; i++)
        r |= (uint64_t)(k->bits[1][i] >> 7) << i;
    store(k->out[0], r, SIZE);
}

static void pack(struct step *k) {
    int lane = k->p->lane;
    for (int n = 0; n < 2; n++)
        for (int i = 0; i < SIZE / lane; i++)
            store(k->out[0] + n * SIZE / 2 + i * lane / 2,
                  packed_bits(load(k->value[n] + i * lane, lane), load(k->bits[n] + i * lane, lane),
                              lane, k->p->is_signed),
                  lane / 2);
}

static void pairs(struct step *k) {
    int lane = k->p->lane;
    for (int n = 0; n < 2; n++)
        for (int i = 0; i < SIZE / 2 / lane; i++)
            fill_bytes(k->out[0] + n * SIZE / 2 + i * lane,
                       any(k->bits[n] + 2 * i * lane, 2 * lane) ? 0xff : 0, (uint64_t)lane);
}

static void align(struct step *k) {
    for (uint64_t i = 0, from = k->p->operands[2].value & 255; i < SIZE; i++, from++)
        k->out[0][i] = from < SIZE ? k->bits[1][from] : from < 2 * SIZE ? k->bits[0][from - SIZE] : 0;
}

static void shuffle(struct step *k) {
    for (int i = 0; i < SIZE; i++) {
        uint8_t control = k->value[1][i];
        k->out[0][i] = k->bits[1][i] & 0x87 ? 0xff : control & 0x80 ? 0 : k->bits[0][control & 7];
    }
}

static void insert(struct step *k) {
    copy_few(k->out[0], k->bits[0], SIZE);
    copy_few(k->out[0] + 2 * (k->p->operands[2].value & 3), k->bits[1], 2);
}

static void extract(struct step *k) {
    copy_few(k->out[0], k->bits[1] + 2 * (k->p->operands[2].value & 3), 2);
}

/* False: another rule goes for vectors of any length. */
static bool of_its_own(struct step *k) {
    switch (k->p->mmx) {
    case MMX_LOW:
        unpack(k, 0);
        return true;
    case MMX_HIGH:
        unpack(k, SIZE / 2);
        return true;
    case MMX_WORDS:
        words(k);
        return true;
    case MMX_SIGNS:
        signs(k);
        return true;
    case MMX_PACK:
        pack(k);
        return true;
    case MMX_PAIRS:
        pairs(k);
        return true;
    case MMX_ALIGN:
        align(k);
        return true;
    case MMX_SHUFFLE:
        shuffle(k);
        return true;
    case MMX_INSERT:
        insert(k);
        return true;
    case MMX_EXTRACT:
        extract(k);
        return true;
    default:
        return false;
    }
}

bool mmx_rule(struct step *k, bool *any_length) {
    *any_length = false;
    switch (k->p->rule) {
    case RULE_COPY: case RULE_NOTHING: case RULE_V_AND: case RULE_V_ANDN: case RULE_V_OR:
    case RULE_V_XOR: case RULE_V_ADD: case RULE_V_SUB: case RULE_V_EQUAL: case RULE_V_GREATER:
    case RULE_V_MIN: case RULE_V_MULTIPLY: case RULE_V_LANES: case RULE_V_SHIFT:
        *any_length = true;
        return true;
    default:
        return of_its_own(k);
    }
}

void mmx_plan(struct plan *p, int mnemonic) {
    static const struct {
        uint16_t mnemonic;
        uint8_t how, lane;
    } rows[] = {{ZYDIS_MNEMONIC_PUNPCKLBW, MMX_LOW, 1},  {ZYDIS_MNEMONIC_PUNPCKLWD, MMX_LOW, 2},
                {ZYDIS_MNEMONIC_PUNPCKLDQ, MMX_LOW, 4},  {ZYDIS_MNEMONIC_PUNPCKHBW, MMX_HIGH, 1},
                {ZYDIS_MNEMONIC_PUNPCKHWD, MMX_HIGH, 2}, {ZYDIS_MNEMONIC_PUNPCKHDQ, MMX_HIGH, 4},
                {ZYDIS_MNEMONIC_PSHUFW, MMX_WORDS, 2},   {ZYDIS_MNEMONIC_PMOVMSKB, MMX_SIGNS, 1},
                {ZYDIS_MNEMONIC_PACKSSWB, MMX_PACK, 2},  {ZYDIS_MNEMONIC_PACKUSWB, MMX_PACK, 2},
                {ZYDIS_MNEMONIC_PACKSSDW, MMX_PACK, 4},  {ZYDIS_MNEMONIC_PHADDW, MMX_PAIRS, 2},
                {ZYDIS_MNEMONIC_PHADDSW, MMX_PAIRS, 2},  {ZYDIS_MNEMONIC_PHSUBW, MMX_PAIRS, 2},
                {ZYDIS_MNEMONIC_PHSUBSW, MMX_PAIRS, 2},  {ZYDIS_MNEMONIC_PHADDD, MMX_PAIRS, 4},
                {ZYDIS_MNEMONIC_PHSUBD, MMX_PAIRS, 4},   {ZYDIS_MNEMONIC_PALIGNR, MMX_ALIGN, 1},
                {ZYDIS_MNEMONIC_PSHUFB, MMX_SHUFFLE, 1}, {ZYDIS_MNEMONIC_PINSRW, MMX_INSERT, 2},
                {ZYDIS_MNEMONIC_PEXTRW, MMX_EXTRACT, 2}};
    if (!mmx_has(p))
        return;
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        if (rows[i].mnemonic == mnemonic) {
            p->mmx = rows[i].how;
            p->lane = rows[i].lane;
        }
}

/* AVX-512: what lanes do under a mask, and the shadow rules of mask registers and of
   instructions that only EVEX forms have (SDM volume 1, chapter 15). Pure, but for
   what reads and writes memory lane by lane. */
#include "decode.h"
#include "step.h"

/* --- plans --- */

/* Lane by lane a mask keeps memory from being touched; these take the whole of it
   (exception classes E4NF and E6NF). */
static bool takes_whole(int rule) {
    switch (rule) {
    case RULE_DEFAULT: case RULE_SAME: case RULE_V_SHUFFLE: case RULE_V_PERMUTE:
    case RULE_V_PERMUTE_IN: case RULE_V_PERMUTE_TWO: case RULE_V_PACK: case RULE_V_PAIRS:
        return true;
    default:
        return false;
    }
}

static bool is_scalar_move(const struct instruction *i) {
    return i->z.mnemonic == ZYDIS_MNEMONIC_VMOVSS || i->z.mnemonic == ZYDIS_MNEMONIC_VMOVSD;
}

bool masks_memory(const struct instruction *i) {
    int lane, rule = rule_of(i, &lane);
    if (!i->mask || !i->memory_count || (!i->memory[0].read && !i->memory[0].write))
        return false;
    return i->memory[0].write || !takes_whole(rule) || is_scalar_move(i);
}

/* Old values of the target are a source of these, not only what a mask leaves. */
static bool reads_target(const struct instruction *i) {
    switch (i->z.meta.category) {
    case ZYDIS_CATEGORY_VFMA:
    case ZYDIS_CATEGORY_IFMA:
        return true;
    default:
        break;
    }
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_VPTERNLOGD: case ZYDIS_MNEMONIC_VPTERNLOGQ:
    case ZYDIS_MNEMONIC_VPERMI2B: case ZYDIS_MNEMONIC_VPERMI2W: case ZYDIS_MNEMONIC_VPERMI2D:
    case ZYDIS_MNEMONIC_VPERMI2Q: case ZYDIS_MNEMONIC_VPERMI2PS: case ZYDIS_MNEMONIC_VPERMI2PD:
    case ZYDIS_MNEMONIC_VPERMT2B: case ZYDIS_MNEMONIC_VPERMT2W: case ZYDIS_MNEMONIC_VPERMT2D:
    case ZYDIS_MNEMONIC_VPERMT2Q: case ZYDIS_MNEMONIC_VPERMT2PS: case ZYDIS_MNEMONIC_VPERMT2PD:
    case ZYDIS_MNEMONIC_VPDPBUSD: case ZYDIS_MNEMONIC_VPDPBUSDS: case ZYDIS_MNEMONIC_VPDPWSSD:
    case ZYDIS_MNEMONIC_VPDPWSSDS: case ZYDIS_MNEMONIC_VPMADD52LUQ:
    case ZYDIS_MNEMONIC_VPMADD52HUQ: case ZYDIS_MNEMONIC_VFIXUPIMMPS:
    case ZYDIS_MNEMONIC_VFIXUPIMMPD: case ZYDIS_MNEMONIC_VFIXUPIMMSS:
    case ZYDIS_MNEMONIC_VFIXUPIMMSD: case ZYDIS_MNEMONIC_VPSHLDVW: case ZYDIS_MNEMONIC_VPSHLDVD:
    case ZYDIS_MNEMONIC_VPSHLDVQ: case ZYDIS_MNEMONIC_VPSHRDVW: case ZYDIS_MNEMONIC_VPSHRDVD:
    case ZYDIS_MNEMONIC_VPSHRDVQ:
        return true;
    default:
        return false;
    }
}

/* The last letter of KANDB, KMOVW... is the width; of KUNPCKBW that of the sources. */
static int mask_width(const struct instruction *i) {
    const char *name = ZydisMnemonicGetString(i->z.mnemonic);
    int n = 0;
    if (i->z.meta.category != ZYDIS_CATEGORY_KMASK)
        return 8;
    while (name[n + 1])
        n++;
    return name[n] == 'b' ? 1 : name[n] == 'w' ? 2 : name[n] == 'd' ? 4 : 8;
}

void plan_masked(struct plan *p, const struct instruction *i) {
    struct plan_operand *to = &p->operands[0];
    for (int n = 0; n < p->count; n++) {
        struct plan_operand *o = &p->operands[n];
        if (o->kind == OPERAND_MASK)
            o->size = (uint16_t)mask_width(i);
        if (o->kind == OPERAND_VECTOR && o->size > p->span)
            p->span = (uint8_t)o->size;
    }
    if (p->rule == RULE_GATHER || p->rule == RULE_SCATTER) { /* the indexes may be the wider ones */
        ZydisRegister index = i->memory_count ? i->operands[p->rule == RULE_GATHER].mem.index : 0;
        int bytes = index >= ZYDIS_REGISTER_ZMM0 ? 64 : index >= ZYDIS_REGISTER_YMM0 ? 32 : 16;
        if (bytes > p->span)
            p->span = (uint8_t)bytes;
    }
    p->evex = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_EVEX;
    if (p->evex && !p->span) /* the only source is memory */
        p->span = (uint8_t)(i->z.avx.vector_length / 8);
    p->predicate = (uint8_t)(p->count && p->operands[p->count - 1].kind == OPERAND_IMMEDIATE
                                 ? p->operands[p->count - 1].value
                                 : 0);
    const char *name = ZydisMnemonicGetString(i->z.mnemonic);
    if (p->rule == RULE_V_RELATE) /* vpcmpb, vpcmpub */
        p->is_signed = name[5] != 'u';
    if (p->rule == RULE_V_COMMON) /* vptestm, vptestnm */
        p->predicate = name[6] == 'n';
    if (p->rule == RULE_V_EXTEND) /* vpmovsx, vpmovzx */
        p->is_signed = name[5] == 's';
    if (p->rule == RULE_V_PERMUTE_TWO) /* vpermt2, vpermi2 */
        p->predicate = name[5] == 't';
    if ((!p->evex && p->rule != RULE_V_EXTEND && p->rule != RULE_V_RESIZE) || !p->count)
        return;
    p->mask = i->mask;
    p->zeroing = i->zeroing;
    bool scalar = p->rule == RULE_V_SCALAR || p->rule == RULE_V_ONE || is_scalar_move(i);
    if (is_scalar_move(i))
        p->lane = i->z.mnemonic == ZYDIS_MNEMONIC_VMOVSS ? 4 : 8;
    if (is_scalar_move(i) && i->memory_count)
        p->rule = RULE_COPY;
    int source = to->kind == OPERAND_MASK ? p->lane : 0;
    p->granule = (uint8_t)(scalar   ? p->lane
                           : source ? source
                                    : i->operands[0].element_size / 8);
    if (!p->granule)
        return; /* no lanes: what it writes is a general register */
    p->lanes = scalar ? 1 : (uint8_t)((source ? p->span : to->size) / p->granule);
    if (p->rule == RULE_V_RESIZE || p->rule == RULE_V_TRUNCATE) { /* narrow sources have fewer */
        int from = i->operands[1].element_size / 8;
        p->lane = (uint8_t)from;
        int there = i->z.avx.broadcast.mode != ZYDIS_BROADCAST_MODE_INVALID
                        ? p->lanes
                        : i->operands[1].size / 8 / (from ? from : 1);
        if (there < p->lanes)
            p->lanes = (uint8_t)there;
    }
    if (to->kind != OPERAND_MASK && to->read && to->write && !reads_target(i) &&
        p->rule != RULE_GATHER)
        to->read = false; /* said only because of the mask */
    for (int n = 0; n < p->count; n++) {
        struct plan_operand *o = &p->operands[n];
        if (o->kind != OPERAND_MEMORY || p->rule == RULE_GATHER || p->rule == RULE_SCATTER)
            continue;
        bool repeated = i->z.avx.broadcast.mode != ZYDIS_BROADCAST_MODE_INVALID &&
                        !i->z.avx.broadcast.is_static;
        if (repeated) {
            p->broadcast = (uint8_t)o->size;
            o->size = p->span ? p->span : 64;
            if (p->rule == RULE_V_RESIZE)
                o->size = (uint16_t)(p->lanes * p->lane);
        } else if (p->mask && p->lanes && !takes_whole(p->rule) &&
                   !(p->rule == RULE_V_SHIFT && n == 2)) {
            p->piece = (uint8_t)(o->size / p->lanes);
        }
    }
}

/* --- rules --- */

static uint64_t word(const uint8_t *p) { return load(p, 8); }

/* A mask made of lanes: one bit for each, as the lanes in out[0] say. */
void lanes_to_mask(struct step *k) {
    const struct plan *p = k->p;
    uint64_t bits = 0;
    for (int n = 0; n < p->lanes; n++)
        if (any(k->out[0] + n * p->granule, p->granule))
            bits |= 1ULL << n;
    store(k->out[0], bits, 8);
}

/* What an integer comparison by predicate says about lanes that are open in part. */
void vector_relate(struct step *k) {
    const struct plan *p = k->p;
    int x = p->operands[0].kind == OPERAND_MASK ? 1 : 0, y = x + 1, lane = p->lane;
    for (int n = 0; n < p->lanes; n++) {
        uint64_t a = load(k->value[x] + n * lane, lane), s = load(k->bits[x] + n * lane, lane);
        uint64_t b = load(k->value[y] + n * lane, lane), t = load(k->bits[y] + n * lane, lane);
        uint64_t r = (s | t) & mask_for(lane);
        bool open = r != 0, less, same = !((a ^ b) & mask_for(lane));
        less = p->is_signed ? extend(a, lane) < extend(b, lane)
                            : (a & mask_for(lane)) < (b & mask_for(lane));
        bool holds = ((p->predicate & 3) == 0   ? same
                      : (p->predicate & 3) == 1 ? less
                      : (p->predicate & 3) == 2 ? less || same
                                                : false) != (p->predicate >> 2 & 1);
        if (!holds)
            k->holds &= ~(1ULL << n);
        if (open) {
            struct bounds u = p->is_signed ? signed_bounds(a, s, lane) : unsigned_bounds(a, s, lane);
            struct bounds v = p->is_signed ? signed_bounds(b, t, lane) : unsigned_bounds(b, t, lane);
            switch (p->predicate & 7) {
            case 0: case 4: /* equal, not equal */
                open = !((a ^ b) & ~r & mask_for(lane));
                break;
            case 1: case 5: /* less, not less */
                open = !(u.high < v.low) && !(u.low >= v.high);
                break;
            case 2: case 6: /* less or equal, greater */
                open = !(u.high <= v.low) && !(u.low > v.high);
                break;
            default: /* never, always */
                open = false;
            }
        }
        fill_lane(k->out[0], n * lane, lane, open);
    }
}

/* vptestm, vptestnm: whether lanes have a bit in common. */
void vector_common(struct step *k) {
    const struct plan *p = k->p;
    int lane = p->lane;
    for (int n = 0; n < p->lanes; n++) {
        uint64_t m = mask_for(lane);
        uint64_t a = load(k->value[1] + n * lane, lane), s = load(k->bits[1] + n * lane, lane);
        uint64_t b = load(k->value[2] + n * lane, lane), t = load(k->bits[2] + n * lane, lane);
        uint64_t r = (s | t) & (a | s) & (b | t) & m;
        if (((a & b & m) != 0) == (p->predicate != 0)) /* of vptestnm set: no bit in common */
            k->holds &= ~(1ULL << n);
        fill_lane(k->out[0], n * lane, lane, r && !(a & b & ~r & m));
    }
}

/* The topmost bits of lanes become a mask, or the other way round. */
void vector_signs(struct step *k) {
    const struct plan *p = k->p;
    int lane = p->lane;
    if (p->operands[0].kind == OPERAND_MASK) {
        uint64_t bits = 0;
        for (int n = 0; n < p->span / lane; n++)
            bits |= (uint64_t)(k->bits[1][n * lane + lane - 1] >> 7) << n;
        store(k->out[0], bits, 8);
        return;
    }
    for (int n = 0; n < p->span / lane; n++)
        fill_lane(k->out[0], n * lane, lane, word(k->bits[1]) >> n & 1);
}

/* Between numbers of different width: each lane of the source makes one of the
   target's, of which a truncation keeps the lower bits. */
void vector_resize(struct step *k) {
    const struct plan *p = k->p;
    int from = p->lane, to = p->granule;
    fill_bytes(k->out[0], 0, 64);
    for (int n = 0; n < p->lanes; n++) {
        if (p->rule == RULE_V_TRUNCATE)
            copy_bytes(k->out[0] + n * to, k->bits[1] + n * from, (uint64_t)to);
        else
            fill_lane(k->out[0], n * to, to, any(k->bits[1] + n * from, from));
    }
}

/* vpmovzx, vpmovsx where they cannot run on the undefined bits themselves. */
void vector_extend(struct step *k) {
    const struct plan *p = k->p;
    int to = p->granule, from = p->piece ? p->piece : p->lane;
    for (int n = 0; to && from && n < p->lanes; n++) {
        uint64_t s = load(k->bits[1] + n * from, from);
        store(k->out[0] + n * to, p->is_signed ? (uint64_t)extend(s, from) : s, to);
    }
}

/* One bit of each of three sources picks one of the immediate's eight. */
void vector_ternary(struct step *k) {
    const struct plan *p = k->p;
    unsigned table = (unsigned)p->operands[3].value;
    for (int i = 0; i < p->span; i++) {
        uint8_t v[3], s[3], can[2] = {0, 0};
        for (int n = 0; n < 3; n++)
            v[n] = k->value[n][i], s[n] = k->bits[n][i];
        for (int c = 0; c < 8; c++) {
            uint8_t a = (c & 4 ? v[0] : (uint8_t)~v[0]) | s[0];
            uint8_t b = (c & 2 ? v[1] : (uint8_t)~v[1]) | s[1];
            uint8_t d = (c & 1 ? v[2] : (uint8_t)~v[2]) | s[2];
            can[table >> c & 1] |= a & b & d;
        }
        k->out[0][i] = can[0] & can[1];
    }
}

/* vpblendm: the second source where the mask says so, else the first. */
void vector_choose(struct step *k) {
    const struct plan *p = k->p;
    const uint8_t *mask = (const uint8_t *)k->c + CTX_VALUE + 64 * VALUE_MASK;
    uint64_t on = p->mask ? word(mask) : ~0ULL, open = p->mask ? dirty_masks(k->c)[p->mask] : 0;
    int g = p->granule;
    for (int n = 0; n < p->lanes; n++)
        for (int i = n * g; i < (n + 1) * g; i++) {
            uint8_t a = p->zeroing ? 0 : k->value[1][i], s = p->zeroing ? 0 : k->bits[1][i];
            k->out[0][i] = open >> n & 1 ? s | k->bits[2][i] | (a ^ k->value[2][i])
                           : on >> n & 1 ? k->bits[2][i]
                                         : s;
        }
}

/* Indexes pick from two vectors. I2: they stand in the target; T2: in the first source,
   and the target is the first of the two. */
void vector_permute_two(struct step *k) {
    const struct plan *p = k->p;
    int lane = p->lane, count = p->span / lane, index = p->predicate ? 1 : 0, first = 1 - index;
    for (int n = 0; n < count; n++) {
        uint64_t which = load(k->value[index] + n * lane, lane) & (uint64_t)(2 * count - 1);
        uint64_t open = load(k->bits[index] + n * lane, lane) & (uint64_t)(2 * count - 1);
        const uint8_t *from = k->bits[which >= (uint64_t)count ? 2 : first];
        if (open)
            fill_lane(k->out[0], n * lane, lane, true);
        else
            copy_bytes(k->out[0] + n * lane, from + (which % (uint64_t)count) * (uint64_t)lane,
                       (uint64_t)lane);
    }
}

/* Those lanes that the mask picks, side by side; and back. */
void vector_compress(struct step *k) {
    const struct plan *p = k->p;
    const uint8_t *mask = (const uint8_t *)k->c + CTX_VALUE + 64 * VALUE_MASK;
    uint64_t on = p->mask ? word(mask) : ~0ULL, open = p->mask ? dirty_masks(k->c)[p->mask] : 0;
    int g = p->granule, next = 0;
    bool back = p->rule == RULE_V_EXPAND;
    for (int n = 0; n < p->lanes; n++) {
        bool lost = (open & ((2ULL << n) - 1)) != 0; /* which of them it is, nobody knows */
        if (on >> n & 1) {
            copy_bytes(k->out[0] + (back ? n : next) * g, k->bits[1] + (back ? next : n) * g,
                       (uint64_t)g);
            if (lost)
                fill_lane(k->out[0], (back ? n : next) * g, g, true);
            next++;
        } else if (back && lost) {
            fill_lane(k->out[0], n * g, g, true);
        }
        if (lost && !back)
            for (int i = next; i < p->lanes; i++)
                fill_lane(k->out[0], i * g, g, true);
    }
}

void mask_unpack(struct step *k) {
    int half = k->p->operands[0].size / 2;
    uint64_t low = word(k->bits[2]) & mask_for(half), high = word(k->bits[1]) & mask_for(half);
    store(k->out[0], high << (8 * half) | low, 8);
}

/* kortest: ZF when no bit of either is set, CF when all are. */
void mask_or_test(struct step *k) {
    uint64_t m = mask_for(k->p->operands[0].size);
    uint64_t a = word(k->value[0]), s = word(k->bits[0]), b = word(k->value[1]), t = word(k->bits[1]);
    uint64_t r = (s | t) & (~a | s) & (~b | t) & m, known = (a | b) & ~r & m;
    bool zero = r && !known, full = r && !(~(a | b) & ~r & m);
    k->flags = derived((zero ? FLAG_ZF : 0) | (full ? FLAG_CF : 0));
}

/* --- the processor's state in memory --- */

static uint64_t state_offset(uint32_t part, bool compact, uint64_t wanted) {
    static struct {
        uint32_t size, offset, align;
    } layout[32]; /* what CPUID says never changes */
    uint64_t at = 576;
    for (uint32_t n = 2; n <= part; n++) {
        if (!layout[n].size) {
            uint32_t a, b, c, d;
            __asm__ volatile("cpuid" : "=a"(a), "=b"(b), "=c"(c), "=d"(d) : "0"(13), "2"(n));
            layout[n].offset = b, layout[n].align = c & 2 ? 63 : 0, layout[n].size = a;
        }
        if (!layout[n].size || !(wanted >> n & 1))
            continue;
        at = (at + layout[n].align) & ~(uint64_t)layout[n].align;
        if (n == part)
            return compact ? at : layout[n].offset;
        at += layout[n].size;
    }
    return 0;
}

struct state_part state_part(struct context *c, int number, bool compact, uint64_t wanted) {
    static const struct {
        uint32_t part, size, step, count;
        int element;
    } parts[STATE_PARTS] = {
        {5, 8, 8, 8, ELEMENT_MASKS}, {6, 32, 64, 16, ELEMENT_TOPS}, {7, 64, 64, 16, ELEMENT_MORE}};
    uint8_t *bits = number == 0   ? (uint8_t *)dirty_masks(c)
                    : number == 1 ? (uint8_t *)dirty_vector(c, 0) + 32
                                  : (uint8_t *)dirty_vector(c, 16);
    return (struct state_part){state_offset(parts[number].part, compact, wanted), bits,
                               parts[number].size, parts[number].step, parts[number].count,
                               parts[number].element};
}

/* --- what a mask leaves of a result --- */

/* The other lanes become 0 or stay as they were. */
void mask_output(struct step *k, const uint8_t *old) {
    const struct plan *p = k->p;
    const uint8_t *mask = (const uint8_t *)k->c + CTX_VALUE + 64 * VALUE_MASK;
    uint64_t all = lanes_of(p), on = word(mask) & all, open = dirty_masks(k->c)[p->mask] & all;
    int g = p->granule;
    if (p->operands[0].kind == OPERAND_MASK) {
        uint64_t r = word(k->out[0]);
        store(k->out[0], (r | open) & (k->holds | r) & (on | open), 8);
        return;
    }
    if (p->rule == RULE_V_COMPRESS) { /* those it picks have moved together */
        int count = count_ones(on);
        for (int i = count * g; i < p->operands[0].size && !open; i++)
            k->out[0][i] = p->zeroing ? 0 : old[i];
        return;
    }
    for (int n = 0; n < p->lanes; n++) {
        if (open >> n & 1)
            fill_lane(k->out[0], n * g, g, true);
        else if (on >> n & 1)
            continue;
        else if (p->zeroing)
            fill_lane(k->out[0], n * g, g, false);
        else
            copy_bytes(k->out[0] + n * g, old + n * g, (uint64_t)g);
    }
}

/* Computes what an instruction is about to do to undefined bits, from the
   values and undefined bits of its inputs. Runs before the instruction itself.
   Notation as in rules.h: a, b values; s, t their undefined bits. */
#include "cache.h"
#include "decode.h"
#include "step.h"

/* --- conditions --- */

static bool condition_undefined(uint32_t undefined, uint64_t flags, int condition) {
    bool zero_known = !(undefined & FLAG_ZF) && (flags & FLAG_ZF);
    switch (condition >> 1) {
    case 0: return undefined & FLAG_OF;
    case 1: return undefined & FLAG_CF;
    case 2: return undefined & FLAG_ZF;
    case 3:
        return (undefined & FLAG_BELOW_EQUAL) && !zero_known &&
               !(!(undefined & FLAG_CF) && (flags & FLAG_CF));
    case 4: return undefined & FLAG_SF;
    case 5: return undefined & FLAG_PF;
    case 6: return undefined & FLAG_LESS;
    default: {
        bool less = !(flags & FLAG_SF) != !(flags & FLAG_OF);
        return (undefined & FLAG_LESS_EQUAL) && !zero_known &&
               !(!(undefined & FLAG_LESS) && less);
    }
    }
}

bool condition_holds(uint64_t flags, int condition) {
    static const uint32_t tested[] = {FLAG_OF, FLAG_CF, FLAG_ZF, FLAG_CF | FLAG_ZF, FLAG_SF, FLAG_PF};
    bool less = !(flags & FLAG_SF) != !(flags & FLAG_OF);
    int kind = condition >> 1;
    bool set = kind == 6   ? less
               : kind == 7 ? less || (flags & FLAG_ZF)
                           : (flags & tested[kind]) != 0;
    return set != (condition & 1);
}

static void default_rule(struct step *k) {
    const struct plan *p = k->p;
    bool bad = (p->flags_read & *undefined_flags(k->c) & 0xfff) != 0;
    for (int n = 0; n < p->count; n++)
        if (p->operands[n].read)
            bad |= any(k->bits[n], p->operands[n].size > 64 ? 64 : p->operands[n].size);
    for (int n = 0; n < p->count; n++)
        if (p->operands[n].write)
            fill_bytes(k->out[n], bad ? 0xff : 0, 64);
    k->flags = bad ? FLAGS_ALL : 0;
}

/* --- x87 --- */

static int x87_top(void) {
    uint16_t status;
    __asm__ volatile("fnstsw %0" : "=a"(status));
    return status >> 11 & 7;
}

static void x87_rule(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    uint8_t *u = undefined_x87(c);
    int top = x87_top();
    bool bad = false;
    mmx_forget(c);
    int base = p->stack_x87 == 1 ? 1 : 0;
    if (p->exchanges) {
        int a = (top + p->operands[0].number) & 7, b = (top + p->operands[1].number) & 7;
        uint8_t bits = u[a];
        uint32_t origin = c->x87_origins[a];
        u[a] = u[b];
        u[b] = bits;
        c->x87_origins[a] = c->x87_origins[b];
        c->x87_origins[b] = origin;
        return;
    }
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        if (!o->read)
            continue;
        if (o->kind == OPERAND_X87) {
            int from = (top + o->number) & 7;
            if (u[from] && !k->origin)
                k->origin = c->x87_origins[from];
            bad |= u[from];
        } else if (o->kind == OPERAND_MEMORY)
            bad |= any(k->bits[n], o->size > 64 ? 64 : o->size);
    }
    if (p->flags_read & (uint32_t)k->flags) { /* conditional moves */
        bad = true;
        if (!k->origin)
            k->origin = dirty_origin(c, ELEMENT_FLAGS);
    }
    uint32_t origin = bad ? origin_keep(c, k->origin) : 0;
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        if (!o->write)
            continue;
        if (o->kind == OPERAND_X87) {
            u[(top - base + o->number) & 7] = bad ? 0xff : 0;
            c->x87_origins[(top - base + o->number) & 7] = origin;
        } else {
            fill_bytes(k->out[n], bad ? 0xff : 0, 64);
        }
    }
    if (base) {
        u[(top - 1) & 7] = bad ? 0xff : 0;
        c->x87_origins[(top - 1) & 7] = origin;
    }
    for (int i = 0; i < -p->stack_x87; i++)
        u[(top + i) & 7] = 0;
    k->flags = p->flags_written && bad ? derived(FLAG_ZF | FLAG_PF | FLAG_CF) : 0;
    uint64_t *conditions = &dirty_words(c)[ELEMENT_X87 + 1];
    if (p->conditions == CONDITIONS_SET) {
        *conditions = bad;
        c->x87_conditions_origin = origin;
    } else if (p->conditions == CONDITIONS_READ && *conditions) {
        k->out[0][1] = 0x47; /* SDM volume 1, figure 8-4 */
        k->origin = c->x87_conditions_origin;
    }
}

/* --- inputs and outputs --- */

static gaddr address_of(struct context *c, const struct memory *m) {
    gaddr a = (uint64_t)m->displacement;
    if (!m->absolute) {
        if (m->base >= 0)
            a += c->registers[m->base];
        if (m->index >= 0)
            a += c->registers[m->index] * (uint64_t)m->scale;
    }
    if (m->address32)
        a = (uint32_t)a;
    if (m->segment)
        a += m->segment == 'f' ? c->fs_base : c->gs_base;
    return a;
}

/* An undefined register used: as an address, a target or a condition. */
static void use(struct context *c, const struct plan *p, int element, const char *what,
                gaddr address, uint64_t size) {
    struct told *told = (struct told *)&p->told; /* notes of the engine's on its plan */
    uint32_t record = origin_record(c, dirty_origin(c, element));
    uint32_t stack = stack_capture(c, NO_LEAF);
    if (told->finding && told->record == record && told->stack == stack &&
        told->element == (uint32_t)element && told->process == process_index) {
        finding_again(told->finding);
        return;
    }
    told->finding = 0;
    told->record = record;
    told->stack = stack;
    told->element = (uint32_t)element;
    told->process = process_index;
    told->finding =
        finding_undefined(c, p->pc, dirty_origin(c, element), what, address, size, NULL);
}

static void check_address(struct step *k, const struct memory *m, gaddr address) {
    struct context *c = k->c;
    uint64_t *u = dirty_words(c), mask = m->address32 ? 0xffffffff : ~0ULL;
    for (int turn = 0; turn < 2; turn++) {
        int reg = turn ? m->index : m->base;
        if (reg < 0 || !(u[reg] & mask))
            continue;
        use(c, k->p, reg, m->write ? "is the address of a write" : "is the address of a read",
            address, m->size);
        u[reg] = 0;
    }
}

static void read_memory(struct step *k, int n, const struct memory *m, gaddr a, int size) {
    struct context *c = k->c;
    if (a >= GUEST_END || a + (uint64_t)size > GUEST_END || size > 64)
        return; /* the instruction itself will fault, or is too wide to be followed */
    gaddr pc = k->p->pc;
    bool whole = check_range(c, pc, a, (uint64_t)size, false, NULL);
    copy_few(k->value[n], guest(a), size);
    if (!whole)
        return; /* told as that */
    gaddr slot = touch_return_slot(c, a, (uint64_t)size, false);
    if (slot)
        shadow_fill(slot, 8, 0); /* code inline looks at D alone */
    copy_few(k->bits[n], shadow_of(a), size);
    if (!k->origin && any(k->bits[n], size))
        k->origin = origin_at(c, shadow_first_undefined(a, (uint64_t)size));
    (void)m;
}

static uint64_t mask_value(struct context *c) {
    return *(uint64_t *)((char *)c + CTX_VALUE + 64 * VALUE_MASK);
}

/* Part by part, as the mask says; or one part that is repeated. */
static void read_lanes(struct step *k, int n, const struct memory *m, gaddr a) {
    const struct plan *p = k->p;
    uint64_t on = (p->mask ? mask_value(k->c) : ~0ULL) & lanes_of(p);
    uint64_t open = (p->mask ? dirty_masks(k->c)[p->mask] : 0) & lanes_of(p) & ~on;
    int size = p->broadcast ? p->broadcast : p->piece, count = p->lanes;
    uint8_t value[64], bits[64];
    for (int i = 0; i < count; i++) /* perhaps read: then anything */
        if (open >> i & 1 && (i + 1) * p->granule <= 64)
            fill_bytes(k->bits[n] + i * (p->piece ? p->piece : p->granule), 0xff,
                       (uint64_t)(p->piece ? p->piece : p->granule));
    if (!on)
        return;
    if (p->rule == RULE_V_EXPAND)
        count = count_ones(on);
    for (int i = 0; i < (p->broadcast ? 1 : count); i++) {
        if (!p->broadcast && p->rule != RULE_V_EXPAND && !(on >> i & 1))
            continue;
        read_memory(k, n, m, a + (uint64_t)(i * size), size);
        copy_few(value + i * size, k->value[n], size);
        copy_few(bits + i * size, k->bits[n], size);
    }
    if (!p->broadcast)
        fill_bytes(k->bits[n], open & 1 ? 0xff : 0, (uint64_t)size);
    for (int i = 0; i < (p->broadcast ? p->operands[n].size / size : count); i++) {
        int from = p->broadcast ? 0 : i * size;
        if (!p->broadcast && p->rule != RULE_V_EXPAND && !(on >> i & 1))
            continue;
        copy_few(k->value[n] + i * size, value + from, size);
        copy_few(k->bits[n] + i * size, bits + from, size);
    }
}

/* Near the stack pointer, in the running frame: names of its slots may stand there. */
static bool in_running_frame(const struct context *c, gaddr a) {
    return a + 8 >= c->registers[RSP] && c->shadow > c->shadow_base &&
           a < c->shadow[-1].stack_pointer;
}

/* Where a byte that the instruction writes to memory is from: of those that are only moved each
   has its own origin. */
static uint32_t written_origin(struct step *k, int byte) {
    const struct plan *p = k->p;
    bool copies = p->rule == RULE_COPY && !p->reversed;
    const struct plan_operand *from = &p->operands[p->rule == RULE_STRING_MOVE || copies];
    if (k->is_mixed && k->writing < MIXED)
        return k->mixed[k->writing][byte];
    if (copies && from->kind == OPERAND_VECTOR && byte + p->from < 4 * PARTS)
        return dirty_byte_origin(k->c, vector_element(from->number), byte + p->from);
    if (p->rule == RULE_POP)
        return origin_at(k->c, k->c->registers[RSP] + (gaddr)byte);
    if (p->rule != RULE_STRING_MOVE && p->rule != RULE_PUSH)
        return k->origin;
    return from->kind == OPERAND_MEMORY    ? origin_at(k->c, k->address[from->number] + (gaddr)byte)
           : from->kind == OPERAND_GENERAL ? dirty_byte_origin(k->c, from->number, byte)
                                           : k->origin;
}

/* The bytes may be written; where undefined ones came from is recorded. */
static void set_memory(struct step *k, gaddr a, const uint8_t *bits, int size) {
    struct context *c = k->c;
    copy_few(shadow_of(a), bits, size);
    if (!any(bits, size) || !k->origin)
        return;
    bool near = in_running_frame(c, a);
    uint64_t loaded = any(bits + 1, size - 1) ? (uint64_t)size : 1;
    uint32_t origins[64], last = 0, kept = 0;
    for (int i = 0; i < size; i++) {
        uint32_t origin = bits[i] ? written_origin(k, i) : 0;
        if (origin != last)
            kept = near || !origin ? origin : origin_keep_few(c, origin, loaded);
        last = origin;
        origins[i] = kept;
    }
    origin_set_bytes(c, a, size, origins);
}

/* Of a general register or vector stored as it is each part has its own origin; those of
   defined ones go along where they can, so that translated code finds no difference. */
static void store_origins(struct context *c, gaddr a, const uint8_t *bits, int size, int element) {
    uint32_t *parts = dirty_origins(c, element), origins[4 * PARTS];
    bool near = in_running_frame(c, a);
    if ((a | (gaddr)size) & 3) {
        int n = 0;
        for (int i = size; i-- > 0;)
            n = bits[i] ? i / 4 : n;
        bool same = true;
        for (int i = n; i < (size + 3) / 4; i++)
            same &= parts[i] == parts[n] || !any(bits + 4 * i, size - 4 * i < 4 ? size - 4 * i : 4);
        if (same && origin_is_all(a, (uint64_t)size, parts[n]))
            return;
        for (int i = 0; i < size; i++) {
            uint32_t origin = bits[i] ? dirty_byte_origin(c, element, i) : 0;
            origins[i] = near || !origin ? origin : origin_keep_few(c, origin, (uint64_t)size);
        }
        origin_set_bytes(c, a, size, origins);
        return;
    }
    for (int n = 0; n < size / 4; n++) {
        bool open = any(bits + 4 * n, 4);
        if (open && !near)
            parts[n] = origin_keep(c, parts[n]);
        if (open || (parts[n] >= ORIGIN_LEAST && parts[n] < ORIGIN_STACK_CODES))
            origin_set(c, a + 4 * (gaddr)n, 4, parts[n]);
    }
}

static void note_stored(struct step *k, gaddr a) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    bool push = p->memory_count == 0;
    int size = push ? 8 : p->operands[0].size;
    const struct plan_operand *from = &p->operands[push ? 0 : 1];
    uint8_t bits[64];
    if (a >= GUEST_END || size > 64)
        return;
    int element = from->kind == OPERAND_VECTOR ? vector_element(from->number) : from->number;
    copy_few(bits, shadow_of(a), size);
    if (element != ELEMENT_MORE && size <= 4 * PARTS) {
        store_origins(c, a, bits, size, element);
        return;
    }
    k->origin = dirty_origin(c, element);
    set_memory(k, a, bits, size);
}

/* Of a load: where its undefined bits are from. */
static void note_loaded(struct context *c, const struct plan *p, gaddr a, uint32_t size,
                        uint32_t origin) {
    uint32_t parts[PARTS];
    bool odd = origin && a & 3 && size > 1;
    if (odd)
        origin_settle(c, a, size, origin);
    bool same = odd && origin_is_all(a, size, origin);
    if (odd && !same)
        origin_join(c, a, size);
    bool known = origin && !same && !(size & 3) && size <= 4 * PARTS && origin_parts(c, a, size, parts);
    if (origin && !(p->moves_whole && known) && p->moves_few && (size == 2 || size == 4))
        origin = origin_of_few(c, a, size);
    uint64_t left = origin ? p->outputs & ((1ULL << ELEMENT_UPPER) - 1) : 0;
    for (; left; left &= left - 1) {
        int e = __builtin_ctzll(left);
        dirty_set_origin(c, e, origin);
        if (p->moves_whole && known)
            parts_set(c, e, parts, (int)size / 4);
    }
}

static void take_inputs(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    uint64_t *u = dirty_words(c);
    uint32_t beyond = 0; /* of what else a vector holds */
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        switch (o->kind) {
        case OPERAND_GENERAL: {
            uint64_t v = c->registers[o->number] >> (8 * o->high), s = u[o->number] >> (8 * o->high);
            store(k->value[n], v, o->size);
            if (o->read || p->rule == RULE_BSF || p->rule == RULE_BSR || p->rule == RULE_XADD ||
                p->rule == RULE_SWAP) {
                store(k->bits[n], s, o->size);
                for (int byte = 0; byte < o->size && !k->origin; byte++)
                    if (k->bits[n][byte])
                        k->origin = dirty_byte_origin(c, o->number, byte + o->high);
            }
            break;
        }
        case OPERAND_VECTOR: {
            int size = p->evex ? 64 : 32;
            copy_few(k->value[n], (char *)c + CTX_VALUE + 64 * n, size);
            if (o->read || !p->vex) {
                copy_few(k->bits[n], dirty_vector(c, o->number), size);
                for (int byte = 0; byte < o->size && byte < size && o->read && !k->origin; byte++)
                    if (k->bits[n][byte])
                        k->origin = o->number < 16
                                        ? dirty_byte_origin(c, vector_element(o->number), byte)
                                        : dirty_origin(c, vector_element(o->number));
                if (!beyond && o->read && any(k->bits[n], size))
                    beyond = dirty_origin(c, vector_element(o->number));
            }
            break;
        }
        case OPERAND_MASK:
            copy_few(k->value[n], (char *)c + CTX_VALUE + 64 * n, 8);
            if (o->read) {
                copy_few(k->bits[n], dirty_masks(c) + o->number, 8);
                if (!k->origin && any(k->bits[n], o->size))
                    k->origin = dirty_origin(c, ELEMENT_MASKS);
            }
            break;
        case OPERAND_IMMEDIATE:
            store(k->value[n], o->value, 8);
            break;
        case OPERAND_X87:
            if (mmx_is(o)) /* else: x87_rule */
                mmx_take(k, n);
            break;
        case OPERAND_MEMORY: {
            const struct memory *m = &p->memory[o->number];
            if (!m->read && !m->write)
                break;
            check_address(k, m, k->address[o->number]);
            if (!o->read || p->rule == RULE_MASKED || p->rule == RULE_GATHER ||
                p->rule == RULE_SAVE || p->rule == RULE_RESTORE)
                break;
            if (p->broadcast || p->piece)
                read_lanes(k, n, m, k->address[o->number]);
            else
                read_memory(k, n, m, k->address[o->number], o->size ? o->size : 64);
            break;
        }
        }
    }
    if (!k->origin)
        k->origin = beyond;
    if (!k->origin && *undefined_flags(c) && p->flags_read)
        k->origin = dirty_origin(c, ELEMENT_FLAGS);
}

static void write_memory(struct step *k, gaddr a, const uint8_t *bits, int size) {
    struct context *c = k->c;
    if (a >= GUEST_END || a + (uint64_t)size > GUEST_END || size > 64 || size <= 0)
        return;
    if (shadow_first_undefined(a, (uint64_t)size) &&
        !check_range(c, k->p->pc, a, (uint64_t)size, true, NULL)) {
        for (int i = 0; i < size; i++)
            if (!touch_first_bad(c, a + (uint64_t)i, 1, true))
                shadow_of(a)[i] = bits[i];
        return;
    }
    stack_written(c, a);
    set_memory(k, a, bits, size);
}

/* Whether it is written is not known: either the old bits or the new; no value: unknown. */
static void write_perhaps(struct step *k, gaddr a, const uint8_t *bits, const uint8_t *value, int size) {
    uint8_t both[8];
    for (int b = 0; b < size; b++)
        both[b] = value ? *shadow_of(a + (uint64_t)b) | bits[b] |
                              (*(uint8_t *)guest(a + (uint64_t)b) ^ value[b])
                        : 0xff;
    write_memory(k, a, both, size);
}

static void write_lanes(struct step *k, int n, gaddr a) {
    const struct plan *p = k->p;
    uint64_t on = mask_value(k->c) & lanes_of(p), open = dirty_masks(k->c)[p->mask] & lanes_of(p);
    int size = p->granule;
    if (p->rule == RULE_V_COMPRESS) { /* side by side from the first one */
        int sure = open ? count_ones(on & ~open & ((open & -open) - 1)) : count_ones(on);
        int most = count_ones(on | open);
        on = (sure < 64 ? 1ULL << sure : 0) - 1;
        open = ((most < 64 ? 1ULL << most : 0) - 1) & ~on;
    }
    for (int i = 0; i < p->lanes; i++) {
        gaddr at = a + (uint64_t)(i * size);
        if (open >> i & 1)
            write_perhaps(k, at, k->out[n] + i * size,
                          p->rule == RULE_COPY         ? k->value[1] + p->from + i * size
                          : p->rule == RULE_V_TRUNCATE ? k->value[1] + i * p->lane
                                                       : NULL,
                          size);
        else if (on >> i & 1)
            write_memory(k, at, k->out[n] + i * size, size);
    }
}

/* The bits of an operand that a test with another looks at; all of other instructions. */
static uint64_t bits_looked_at(struct step *k, int n) {
    const struct plan *p = k->p;
    if ((p->rule != RULE_TEST && p->rule != RULE_AND) || p->count < 2 || p->operands[n].size > 8)
        return ~0ULL;
    int other = 1 - n, size = p->operands[n].size;
    uint64_t mask = p->operands[other].kind == OPERAND_IMMEDIATE
                        ? p->operands[other].value
                        : load(k->value[other], size) | load(k->bits[other], size);
    return mask & mask_for(size);
}

static void write_outputs(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    uint64_t *u = dirty_words(c);
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        if (!o->write)
            continue;
        k->writing = n;
        uint64_t bits = load(k->out[n], o->size);
        switch (o->kind) {
        case OPERAND_GENERAL: {
            uint32_t before = dirty_origins(c, o->number)[0];
            if (o->size >= 4) {
                u[o->number] = k->whole         ? load(k->out[n], 8)
                               : o->size == 4 ? (uint32_t)bits
                                              : bits;
            } else {
                uint64_t m = mask_for(o->size) << (8 * o->high);
                u[o->number] = (u[o->number] & ~m) | ((bits << (8 * o->high)) & m);
            }
            if (bits && o->size >= 4)
                dirty_set_origin(c, o->number, k->origin);
            if (n == 0 && k->noted)
                parts_set(c, o->number, k->parts, k->noted);
            mixtures_set(k, n, o->number);
            mixtures_set_part(k, n, before);
            if (o->number == RSP && u[RSP]) {
                use(c, p, RSP, "becomes the stack pointer", 0, 0);
                u[RSP] = 0;
            }
            break;
        }
        case OPERAND_VECTOR: {
            uint8_t *to = (uint8_t *)dirty_vector(c, o->number);
            int size = o->size > 64 ? 64 : o->size;
            copy_few(to, k->out[n], size);
            if (p->vex)
                fill_bytes(to + size, 0, (uint64_t)(64 - size));
            uint32_t before[PARTS]; /* a part of it may stay */
            copy_bytes(before, dirty_origins(c, vector_element(o->number)), sizeof before);
            if (any(to, size))
                dirty_set_origin(c, vector_element(o->number), k->origin);
            for (int w = size / 4; w < PARTS && size >= 4 && !p->vex; w++)
                dirty_origins(c, vector_element(o->number))[w] = before[w];
            if (n == 0 && k->noted)
                parts_set(c, vector_element(o->number), k->parts, k->noted);
            mixtures_set(k, n, vector_element(o->number));
            break;
        }
        case OPERAND_MASK:
            bits &= mask_for(o->size);
            dirty_masks(c)[o->number] = bits;
            if (bits)
                dirty_set_origin(c, ELEMENT_MASKS, k->origin);
            break;
        case OPERAND_X87:
            if (mmx_is(o))
                mmx_put(k, n);
            else if (any(k->out[n], 8))
                dirty_set_origin(c, ELEMENT_X87, k->origin);
            break;
        case OPERAND_MEMORY:
            if (!p->memory[o->number].write || p->rule == RULE_MASKED || p->rule == RULE_SAVE ||
                p->rule == RULE_SCATTER)
                break;
            if (p->mask)
                write_lanes(k, n, k->address[o->number]);
            else
                write_memory(k, k->address[o->number], k->out[n], o->size);
            break;
        }
    }
    if (p->rule == RULE_X87 && k->origin)
        dirty_set_origin(c, ELEMENT_X87, k->origin);
    if (p->flags_written) {
        uint32_t written = p->flags_written;
        if (written & (FLAG_SF | FLAG_OF))
            written |= FLAG_LESS | FLAG_LESS_EQUAL;
        if (written & FLAG_ZF)
            written |= FLAG_LESS_EQUAL | FLAG_BELOW_EQUAL;
        if (written & FLAG_CF)
            written |= FLAG_BELOW_EQUAL;
        uint32_t f = (*undefined_flags(c) & ~written) | (k->flags & written);
        /* relations between flags of which only some were written */
        uint32_t w = p->flags_written, again = derived(f);
        bool all = (w & FLAG_CF) && (w & FLAG_ZF);
        if ((w & (FLAG_CF | FLAG_ZF)) && !all)
            f |= again & FLAG_BELOW_EQUAL;
        all = (w & FLAG_ZF) && (w & FLAG_SF) && (w & FLAG_OF);
        if ((w & (FLAG_ZF | FLAG_SF | FLAG_OF)) && !all)
            f |= again & (FLAG_LESS | FLAG_LESS_EQUAL);
        *undefined_flags(c) = p->flags_wanted ? f : 0;
        if (k->flags) {
            dirty_set_origin(c, ELEMENT_FLAGS, k->origin);
            c->compared = p;
            c->compared_bits[0] = bits_looked_at(k, 0);
            c->compared_bits[1] = bits_looked_at(k, 1);
            c->compared_at[0] = k->address[0];
            c->compared_at[1] = k->address[1];
        }
    }
}

/* --- rules with a shape of their own --- */

static void copy_rule(struct step *k) {
    const struct plan *p = k->p;
    int from = p->operands[1].size, to = p->operands[0].size;
    int n = from < to ? from : to;
    if (p->reversed)
        for (int i = 0; i < n; i++)
            k->out[0][i] = k->bits[1][n - 1 - i];
    else
        copy_few(k->out[0], k->bits[1] + p->from, n);
    if (p->rule == RULE_SIGN)
        result(k, 0, (uint64_t)extend(load(k->bits[1], from), from) & mask_for(to));
}

/* Lanes of the first output come from different places. */
static void begin_lanes(struct step *k) {
    for (int n = 0; n < MIXED; n++)
        fill_bytes(k->mixed[n], 0, sizeof k->mixed[n]);
    for (int at = 0; at < k->p->operands[0].size && at < 64; at++)
        k->mixed[0][at] = origin_of_operand(k, 0, at);
    k->is_mixed = true;
}

static void read_lane(struct step *k, int n, const struct memory *m, gaddr a, int to, int lane) {
    uint32_t first = k->origin;
    k->origin = 0;
    read_memory(k, n, m, a, lane);
    for (int byte = 0; byte < lane; byte++) {
        bool undefined = k->bits[n][byte];
        k->out[0][to + byte] = k->bits[n][byte];
        k->mixed[0][to + byte] = undefined ? origin_keep(k->c, origin_at(k->c, a + (gaddr)byte)) : 0;
    }
    fill_bytes(k->bits[n], 0, (uint64_t)lane);
    if (first)
        k->origin = first;
}

static void masked_rule(struct step *k) {
    const struct plan *p = k->p;
    int memory = p->operands[0].kind == OPERAND_MEMORY ? 0 : 2;
    if (p->lane == 1) { /* maskmovdqu: source 0 or 1, mask after it, target at RDI */
        for (memory = 0; memory < p->count; memory++)
            if (p->operands[memory].kind == OPERAND_MEMORY)
                break;
        if (memory == p->count)
            return;
        int source = memory == 0 ? 1 : 0, mask = source + 1;
        for (int i = 0; i < 16; i++)
            if (k->value[mask][i] & 0x80)
                write_memory(k, k->address[p->operands[memory].number] + (uint64_t)i,
                             &k->bits[source][i], 1);
        return;
    }
    gaddr at = k->address[p->operands[memory].number];
    int size = p->operands[memory].size, lane = p->lane;
    if (memory)
        begin_lanes(k);
    for (int i = 0; i < size; i += lane) {
        int sign = i + lane - 1;
        bool on = k->value[1][sign] & 0x80;
        if (memory) {
            if (on)
                read_lane(k, 2, &p->memory[0], at + (uint64_t)i, i, lane);
            if (k->bits[1][sign] & 0x80)
                fill_lane(k->out[0], i, lane, true);
        } else if (k->bits[1][sign] & 0x80) {
            write_perhaps(k, at + (uint64_t)i, k->bits[2] + i, k->value[2] + i, lane);
        } else if (on) {
            for (int byte = lane; byte-- > 0;)
                if (k->bits[2][i + byte])
                    k->origin = origin_of_operand(k, 2, i + byte);
            write_memory(k, at + (uint64_t)i, k->bits[2] + i, lane);
        }
    }
}

static void gather_rule(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    const struct memory *m = &p->memory[0];
    const uint8_t *index = (const uint8_t *)c + CTX_VALUE + 64 * VALUE_INDEX;
    const uint8_t *open = (const uint8_t *)dirty_vector(c, p->index_vector);
    bool scatters = p->rule == RULE_SCATTER;
    int lane = p->lane, mask = 2, count = p->operands[scatters ? 1 : 0].size / lane;
    int indexes = p->span / p->index_size;
    uint64_t on = mask_value(c);
    if (!p->evex) {
        on = 0;
        for (int i = 0; i < count; i++)
            on |= (uint64_t)(k->value[mask][i * lane + lane - 1] >> 7) << i;
        fill_bytes(k->out[mask], 0, 64);
    }
    if (!scatters) {
        copy_bytes(k->out[0], k->bits[0], 64);
        begin_lanes(k);
    }
    gaddr base = (uint64_t)m->displacement + (m->base < 0 ? 0 : c->registers[m->base]);
    for (int i = 0; i < count && i < indexes; i++) {
        if (!(on >> i & 1))
            continue;
        int64_t n = extend(load(index + i * p->index_size, p->index_size), p->index_size);
        if (any(open + i * p->index_size, p->index_size))
            use(c, p, vector_element(p->index_vector),
                scatters ? "is the address of a write" : "is the address of a read", 0,
                (uint64_t)lane);
        gaddr at = base + (uint64_t)n * (uint64_t)m->scale;
        if (scatters) {
            write_memory(k, at, k->bits[1] + i * lane, lane);
            continue;
        }
        read_lane(k, 1, m, at, i * lane, lane);
    }
    if (p->mask)
        dirty_masks(c)[p->mask] = 0; /* the instruction itself clears it */
}

/* How many bytes the instruction before pc, or the one before that, loads from the address
   into the register (narrow variables are extended when they are loaded); 0: neither. */
static uint64_t loaded_before(struct context *c, gaddr pc, int reg, gaddr address, bool again) {
    enum { LONGEST = 15 };
    struct instruction i;
    for (gaddr length = 1; length <= LONGEST; length++) {
        decode_here(&i, pc - length);
        if (!i.valid || i.z.length != length)
            continue;
        const struct memory *m = &i.memory[0];
        if (i.registers_written == 1u << reg && i.memory_count == 1 && m->read &&
            address_of(c, m) == address)
            return m->size;
        uint64_t size = again && !(i.registers_written & 1u << reg)
                            ? loaded_before(c, pc - length, reg, address, false)
                            : 0;
        if (size)
            return size;
    }
    return 0;
}

/* Where the bits are from that a mask leaves. */
static void take_masked_origin(struct step *k) {
    const struct plan *p = k->p;
    for (int n = 0; n < p->count && n < 2; n++) {
        const struct plan_operand *o = &p->operands[n];
        uint64_t looked_at = bits_looked_at(k, n);
        if (looked_at == ~0ULL)
            continue;
        for (int byte = 0; byte < o->size && byte < 8; byte++) {
            if (!(looked_at >> (8 * byte) & k->bits[n][byte]))
                continue;
            if (o->kind == OPERAND_GENERAL)
                k->origin = dirty_byte_origin(k->c, o->number, byte + o->high);
            else if (o->kind == OPERAND_MEMORY)
                k->origin = origin_at(k->c, k->address[o->number] + (gaddr)byte);
            return;
        }
    }
}

/* Fields beside those that were told about may never have been set either. */
static void define_bits(struct context *c, gaddr a, uint64_t size, uint64_t bits) {
    stack_written(c, a);
    if (!(~bits & mask_for((int)size))) {
        shadow_define(c, a, size);
        return;
    }
    for (uint64_t k = 0; k < size; k++)
        *shadow_of(a + k) &= (uint8_t)~(bits >> 8 * k);
}

/* A value that was told about counts as defined, also where it came from, unless another
   stands there now: one mistake is one finding. */
static void define_compared(struct context *c) {
    const struct plan *p = c->compared;
    if (!p || (p->rule != RULE_CMP && p->rule != RULE_TEST && p->rule != RULE_V_COMPARE))
        return;
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        gaddr a = o->kind == OPERAND_MEMORY ? c->compared_at[o->number] : 0;
        uint64_t size = o->size;
        if (o->kind == OPERAND_GENERAL) {
            uint32_t origin = dirty_origin(c, o->number);
            const uint32_t *parts = dirty_origins(c, o->number);
            uint64_t bits = dirty_words(c)[o->number];
            if (!bits)
                continue;
            bool several = origin_is_by_byte(parts[0]) || origin_is_by_byte(parts[1]) ||
                           ((uint32_t)bits && bits >> 32 && parts[0] != parts[1]);
            uint64_t looked_at = mask_for(o->size) & (n < 2 ? c->compared_bits[n] : ~0ULL);
            dirty_words(c)[o->number] &= ~(looked_at << (8 * o->high)); /* the rest are others */
            if (several)
                continue;
            if (origin < ORIGIN_STACK_CODES)
                continue;
            a = STACK_TOP - (origin - ORIGIN_STACK_CODES); /* the variable it was loaded from */
            if (origin_at(c, a) != origin)
                continue;
            uint64_t loaded = loaded_before(c, p->pc, o->number, a, true);
            size = loaded < size ? loaded : size;
        }
        if (a && a < GUEST_END - 8 && size <= 8)
            define_bits(c, a, size, n < 2 ? c->compared_bits[n] : ~0ULL);
    }
    c->compared = NULL;
}

static bool condition_rule(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    bool open = condition_undefined(*undefined_flags(c), c->flags, p->condition);
    uint64_t m = mask_for(p->operands[0].size);
    switch (p->rule) {
    case RULE_BRANCH:
        if (p->condition == 0xff) { /* by the count register */
            if (dirty_words(c)[RCX])
                use(c, p, RCX, "decides a branch", 0, 0);
            dirty_words(c)[RCX] = 0;
            return true;
        }
        if (!open) {
            if (!p->flags_wanted)
                *undefined_flags(c) = 0;
            return true;
        }
        if (!branch_is_moot(c, p->pc)) {
            use(c, p, ELEMENT_FLAGS, "decides a branch", 0, 0);
            define_compared(c);
        }
        *undefined_flags(c) = 0;
        return true;
    case RULE_SET:
        if (open)
            k->origin = dirty_origin(c, ELEMENT_FLAGS);
        result(k, 0, open ? 1 : 0);
        return true;
    case RULE_MOVE_IF: {
        bool taken = condition_holds(c->flags, p->condition);
        uint64_t a = va(k, 0), b = va(k, 1), s = load(k->bits[0], 8) & m, t = sa(k, 1);
        int from = taken ? 1 : 0;
        if (!p->operands[0].read)
            s = dirty_words(c)[p->operands[0].number] & m;
        if (open && !k->origin)
            k->origin = dirty_origin(c, ELEMENT_FLAGS);
        if (!open && p->operands[from].kind == OPERAND_GENERAL) {
            uint32_t *parts = dirty_origins(c, p->operands[from].number);
            k->origin = parts[!(uint32_t)(taken ? t : s)];
            k->parts[0] = parts[0];
            k->parts[1] = parts[1];
            k->noted = p->operands[0].size >= 4 ? 2 : 0;
        }
        result(k, 0, open ? merge_bits(a, s, b, t) & m : taken ? t : s);
        return true;
    }
    }
    return false;
}

static void stack_rule(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    gaddr sp = c->registers[RSP];
    const uint8_t *pointer = (const uint8_t *)&dirty_words(c)[RBP];
    switch (p->rule) {
    case RULE_PUSH:
        set_memory(k, sp - p->width, k->bits[0], p->width);
        if (p->operands[0].kind == OPERAND_GENERAL)
            store_origins(c, sp - p->width, k->bits[0], p->width, p->operands[0].number);
        break;
    case RULE_POP:
        read_memory(k, 1, &p->memory[0], sp, p->width);
        copy_bytes(k->out[0], k->bits[1], 8);
        if (k->origin && p->width >= 4 && origin_parts(c, sp, p->width, k->parts))
            k->noted = p->width / 4;
        break;
    case RULE_PUSH_FLAGS: {
        uint64_t flags = dirty_words(c)[ELEMENT_FLAGS] & ARITHMETIC_FLAGS;
        if (flags)
            k->origin = dirty_origin(c, ELEMENT_FLAGS);
        set_memory(k, sp - p->width, (const uint8_t *)&flags, p->width);
        break;
    }
    case RULE_POP_FLAGS:
        read_memory(k, 1, &p->memory[0], sp, p->width);
        k->flags = derived((uint32_t)load(k->bits[1], 4) & ARITHMETIC_FLAGS);
        break;
    case RULE_ENTER: /* of the outermost level: a push of RBP, which is defined then */
        copy_few(shadow_of(sp - 8), pointer, 8);
        store_origins(c, sp - 8, pointer, 8, RBP);
        break;
    case RULE_LEAVE:
        read_memory(k, 1, &p->memory[0], c->registers[RBP], 8);
        if (dirty_words(c)[RBP])
            use(c, p, RBP, "becomes the stack pointer", 0, 0);
        for (int n = 0; n < p->count; n++) /* the one that is named: RBP */
            copy_bytes(k->out[n], k->bits[1], 8);
        if (k->origin && origin_parts(c, c->registers[RBP], 8, k->parts))
            k->noted = 2;
        break;
    }
}

/* The vectors' places in an FXSAVE area, and of their upper halves behind it
   (SDM volume 1, 13.4: the standard form, and the compact one of these parts). */
static void state_rule(struct step *k) {
    const struct plan *p = k->p;
    struct context *c = k->c;
    enum { LOW = 160, HIGH = 576 };
    gaddr area = k->address[0];
    bool extended = p->extended;
    for (int v = 0; v < 16; v++) {
        uint8_t *u = (uint8_t *)dirty_vector(c, v);
        gaddr low = area + LOW + 16u * (unsigned)v, high = area + HIGH + 16u * (unsigned)v;
        if (p->rule == RULE_RESTORE) {
            copy_few(u, shadow_of(low), 16);
            if (extended)
                copy_few(u + 16, shadow_of(high), 16);
            if (any(u, 32))
                dirty_set_origin(c, ELEMENT_VECTOR + v, origin_at(c, any(u, 16) ? low : high));
            continue;
        }
        k->origin = dirty_origin(c, ELEMENT_VECTOR + v);
        write_memory(k, low, u, 16);
        if (extended)
            write_memory(k, high, u + 16, 16);
    }
    uint64_t wanted = c->registers[RDX] << 32 | (uint32_t)c->registers[RAX];
    bool compact = p->compact;
    if (extended && p->rule == RULE_RESTORE) { /* the header tells */
        enum { XCOMP_BV = 520 };
        uint64_t form = *(uint64_t *)guest(area + XCOMP_BV);
        compact = form >> 63;
        wanted &= compact ? form : ~0ULL;
    }
    for (int part = 0; part < STATE_PARTS && extended; part++) {
        struct state_part s = state_part(c, part, compact, wanted);
        for (uint32_t n = 0; n < s.count && s.offset; n++) {
            gaddr at = area + s.offset + n * s.size;
            uint8_t *u = s.bits + n * s.step;
            if (p->rule == RULE_SAVE) {
                k->origin = dirty_origin(c, s.element);
                write_memory(k, at, u, (int)s.size);
                continue;
            }
            copy_few(u, shadow_of(at), (int)s.size);
            if (any(u, (int)s.size) && s.element != ELEMENT_TOPS)
                dirty_set_origin(c, s.element, origin_at(c, at));
        }
    }
    if (p->rule == RULE_SAVE) { /* all the rest of it is defined */
        shadow_define(c, area, LOW);
        shadow_define(c, area + LOW + 256, extended ? HIGH - LOW - 256 : 96);
    }
}

static void apply(struct step *k) {
    const struct plan *p = k->p;
    switch (p->rule) {
    case RULE_NOTHING:
        k->flags = 0;
        break;
    case RULE_TOUCH:
        break;
    case RULE_COPY: case RULE_SIGN:
        copy_rule(k);
        break;
    case RULE_EXTEND: {
        int half = p->width / 2;
        store(k->out[0], (uint64_t)extend(dirty_words(k->c)[RAX] & mask_for(half), half), p->width);
        k->origin = dirty_origins(k->c, RAX)[0]; /* bytes stay */
        break;
    }
    case RULE_SPREAD: {
        bool bad = dirty_words(k->c)[RAX] >> (8 * p->width - 1) & 1;
        if (bad)
            k->origin = dirty_origin(k->c, RAX);
        for (int n = 0; n < p->count; n++)
            if (p->operands[n].write)
                fill_bytes(k->out[n], bad ? 0xff : 0, 8);
        break;
    }
    case RULE_SWAP:
        copy_bytes(k->out[0], k->bits[1], 8);
        copy_bytes(k->out[1], k->bits[0], 8);
        break;
    case RULE_PUSH: case RULE_POP: case RULE_PUSH_FLAGS: case RULE_POP_FLAGS: case RULE_ENTER:
    case RULE_LEAVE:
        stack_rule(k);
        break;
    case RULE_LEA:
        lea_rule(k);
        break;
    case RULE_ADD: case RULE_SUB: case RULE_CMP: case RULE_ADC: case RULE_SBB: case RULE_NEG:
    case RULE_INC: case RULE_DEC: case RULE_XADD:
        add_rule(k);
        break;
    case RULE_AND: case RULE_TEST: case RULE_OR: case RULE_XOR: case RULE_ANDN:
        logic_rule(k);
        break;
    case RULE_NOT:
        copy_bytes(k->out[0], k->bits[0], 8);
        break;
    case RULE_BSWAP:
        for (int i = 0; i < p->operands[0].size; i++)
            k->out[0][i] = k->bits[0][p->operands[0].size - 1 - i];
        break;
    case RULE_SHL: case RULE_SHR: case RULE_SAR: case RULE_ROL: case RULE_ROR:
        shift_rule(k);
        break;
    case RULE_RCL: case RULE_RCR:
        carry_rotate_rule(k);
        break;
    case RULE_SHLX: case RULE_SHRX: case RULE_SARX: case RULE_RORX:
        shift_flagless(k);
        break;
    case RULE_SHLD: case RULE_SHRD:
        double_shift(k);
        break;
    case RULE_MUL:
        if (p->vex)
            multiply_wide(k);
        else
            multiply(k);
        break;
    case RULE_BSF: case RULE_BSR:
        scan_bits(k);
        break;
    case RULE_POPCNT: {
        uint64_t m = mask_for(p->operands[1].size), a = va(k, 1) & m, s = sa(k, 1) & m;
        uint64_t low = (uint64_t)count_ones(a & ~s);
        uint64_t high = (uint64_t)count_ones(a | s);
        result(k, 0, s ? smear_down(low ^ high) : 0);
        k->flags = derived(s && !low ? FLAG_ZF : 0);
        break;
    }
    case RULE_BLSR: case RULE_BLSI: case RULE_BLSMSK: case RULE_BEXTR: case RULE_BZHI:
    case RULE_PEXT: case RULE_PDEP:
        bit_manipulation(k);
        break;
    case RULE_BIT: case RULE_BITSET: case RULE_BITCLEAR: case RULE_BITFLIP:
        bit_test(k);
        break;
    case RULE_SET: case RULE_MOVE_IF: case RULE_BRANCH:
        condition_rule(k);
        break;
    case RULE_CMPXCHG:
        compare_exchange(k);
        break;
    case RULE_CMPXCHG_PAIR:
        compare_exchange_pair(k);
        break;
    case RULE_STRING_MOVE:
        copy_bytes(k->out[0], k->bits[1], 8);
        if (k->origin && p->operands[1].kind == OPERAND_MEMORY && p->operands[1].size >= 4 &&
            origin_parts(k->c, k->address[p->operands[1].number], p->operands[1].size, k->parts))
            k->noted = p->operands[1].size / 4;
        break;
    case RULE_STRING_COMPARE: {
        int size = p->operands[0].size;
        uint64_t m = mask_for(size), a = va(k, 0) & m, s = sa(k, 0) & m, b = va(k, 1) & m,
                 t = sa(k, 1) & m;
        k->flags = sub_flags(a, s, b, t, 0, 0, sub_bits(a, s, b, t, 0, 0) & m, size);
        break;
    }
    case RULE_V_AND: case RULE_V_ANDN: case RULE_V_OR: case RULE_V_XOR:
        vector_bitwise(k);
        break;
    case RULE_V_ADD: case RULE_V_SUB: case RULE_V_EQUAL: case RULE_V_GREATER: case RULE_V_MIN: case RULE_V_MULTIPLY:
        vector_lanes(k);
        break;
    case RULE_V_LANES:
        vector_any(k);
        break;
    case RULE_V_SCALAR:
        vector_scalar(k);
        break;
    case RULE_V_ONE:
        vector_one(k);
        break;
    case RULE_V_TO_INTEGER:
        fill_bytes(k->out[0], any(k->bits[1], p->lane) ? 0xff : 0, 8);
        break;
    case RULE_V_COMPARE:
        vector_compare(k);
        break;
    case RULE_V_WIDEN: case RULE_V_NARROW:
        vector_convert(k);
        break;
    case RULE_V_PACK:
        vector_pack(k);
        break;
    case RULE_V_PAIRS:
        vector_pairs(k);
        break;
    case RULE_V_SHIFT:
        vector_shift(k);
        break;
    case RULE_V_SHIFT_EACH:
        vector_shift_each(k);
        break;
    case RULE_V_SHUFFLE:
        vector_shuffle(k);
        break;
    case RULE_V_PERMUTE:
        vector_permute(k);
        break;
    case RULE_V_BLEND:
        vector_blend(k);
        break;
    case RULE_V_TEST:
        vector_test(k);
        break;
    case RULE_MASKED:
        masked_rule(k);
        break;
    case RULE_GATHER: case RULE_SCATTER:
        gather_rule(k);
        break;
    case RULE_ZERO_UPPER: /* of the first sixteen; or all of them */
        dirty_clear(k->c, 0xffffULL << ELEMENT_UPPER | 1ULL << ELEMENT_TOPS |
                              (p->zeroing ? 0xffffULL << ELEMENT_VECTOR : 0));
        break;
    case RULE_V_RELATE:
        vector_relate(k);
        break;
    case RULE_V_COMMON:
        vector_common(k);
        break;
    case RULE_V_SIGNS:
        vector_signs(k);
        break;
    case RULE_V_TERNARY:
        vector_ternary(k);
        break;
    case RULE_V_CHOOSE:
        vector_choose(k);
        break;
    case RULE_V_TRUNCATE: case RULE_V_RESIZE:
        vector_resize(k);
        break;
    case RULE_V_EXTEND:
        vector_extend(k);
        break;
    case RULE_V_COMPRESS: case RULE_V_EXPAND:
        vector_compress(k);
        break;
    case RULE_V_PERMUTE_IN:
        vector_permute_in(k);
        break;
    case RULE_V_PERMUTE_TWO:
        vector_permute_two(k);
        break;
    case RULE_MASK_UNPACK:
        mask_unpack(k);
        break;
    case RULE_MASK_OR_TEST:
        mask_or_test(k);
        break;
    case RULE_SAVE: case RULE_RESTORE:
        state_rule(k);
        break;
    case RULE_X87:
        x87_rule(k);
        break;
    default:
        default_rule(k);
    }
}

/* Lanes that become a mask, and those that a mask takes out. */
static void finish_lanes(struct step *k) {
    const struct plan *p = k->p;
    bool makes_mask = p->operands[0].kind == OPERAND_MASK && p->granule;
    if (makes_mask && p->rule != RULE_V_SIGNS && p->rule != RULE_DEFAULT)
        lanes_to_mask(k);
    if (!p->mask || !p->lanes || p->rule == RULE_V_CHOOSE || p->rule == RULE_GATHER ||
        p->operands[0].kind == OPERAND_MEMORY)
        return;
    if (!k->origin && dirty_masks(k->c)[p->mask])
        k->origin = dirty_origin(k->c, ELEMENT_MASKS);
    uint8_t old[64];
    if (p->operands[0].kind == OPERAND_VECTOR) {
        copy_bytes(old, dirty_vector(k->c, p->operands[0].number), 64);
        if (!k->origin && any(old, 64))
            k->origin = dirty_origin(k->c, vector_element(p->operands[0].number));
    }
    mask_output(k, old);
}

static bool has_x87(const struct plan *p) {
    for (int n = 0; n < p->count; n++)
        if (p->operands[n].kind == OPERAND_X87)
            return true;
    return false;
}

/* See plan.h: true when that was all. Where the bits are from does not change. */
static bool stays(struct context *c, const struct plan *p) {
    const struct memory *m = &p->memory[p->operands[0].number];
    const uint64_t *u = dirty_words(c);
    gaddr a = address_of(c, m), sp = c->registers[RSP];
    int size = p->operands[0].size;
    if ((m->base >= 0 && u[m->base]) || (m->index >= 0 && u[m->index]) || a >= GUEST_END - 8)
        return false;
    uint64_t bits = load(shadow_of(a), size);
    if (p->stays == STAYS_UNKNOWN ? bits != mask_for(size) : a < sp && a >= c->stack_low)
        return false;
    if (touch_first_bad(c, a, (uint64_t)size, true))
        return false;
    if (p->stays == STAYS_MASKED)
        store(shadow_of(a), bits & plan_stays(p), size);
    uint32_t left = *undefined_flags(c) & ~p->flags_written;
    *undefined_flags(c) = (left & FLAG_DF) | derived(left);
    return true;
}

static void clear_operands(struct step *k) {
    int count = k->p->count < 3 ? 3 : k->p->count, size = k->p->narrow ? 8 : 64;
    for (int n = 0; n < count; n++) {
        for (int w = 0; w < size; w += 8) {
            store(k->value[n] + w, 0, 8);
            store(k->out[n] + w, 0, 8);
        }
        for (int w = 0; w < (size < 32 ? 32 : size); w += 8) /* looked through by parts.c */
            store(k->bits[n] + w, 0, 8);
    }
}

/* What is read is told where it must not be, and where undefined bits are from is noted. */
static void touch_memory(struct step *k) {
    const struct plan *p = k->p;
    for (int n = 0; n < p->count; n++) {
        const struct plan_operand *o = &p->operands[n];
        const struct memory *m = &p->memory[o->number];
        if (o->kind == OPERAND_VECTOR && o->read && !k->origin &&
            any((const uint8_t *)dirty_vector(k->c, o->number), 32))
            k->origin = dirty_origin(k->c, vector_element(o->number));
        if (o->kind != OPERAND_MEMORY || (!m->read && !m->write))
            continue;
        check_address(k, m, k->address[o->number]);
        if (o->read)
            read_memory(k, n, m, k->address[o->number], o->size ? o->size : 64);
    }
    note_loaded(k->c, p, k->address[0], p->memory[0].size, k->origin);
}

void evaluate(struct context *c, const struct plan *p) {
    struct step k;
    if (p->stays && stays(c, p))
        return;
    k.c = c;
    k.p = p;
    k.flags = k.origin = 0;
    k.whole = k.is_mixed = false;
    k.noted = k.writing = 0;
    k.holds = ~0ULL;
    for (int i = 0; i < p->memory_count; i++)
        k.address[i] = address_of(c, &p->memory[i]);
    bool touches = p->rule == RULE_TOUCH && !p->evex;
    if (p->rule != RULE_STORED && p->rule != RULE_ADDRESS && !touches)
        clear_operands(&k);
    if (p->bit_offset) {
        int size = p->operands[0].size;
        int64_t bit = extend(c->registers[p->operands[1].number], p->operands[1].size);
        k.address[0] += (uint64_t)(bit >> 3 & ~(int64_t)(size - 1));
    }
    if (recover_enter(c))
        return; /* the instruction itself will fault */
    if (p->rule == RULE_STORED) {
        note_stored(&k, p->memory_count == 0 ? c->registers[RSP] : k.address[0]);
        c->recover = 0;
        return;
    }
    if (p->rule == RULE_ADDRESS) {
        for (int i = 0; i < p->memory_count; i++)
            check_address(&k, &p->memory[i], k.address[i]);
        c->recover = 0;
        return;
    }
    if (touches) {
        touch_memory(&k);
        c->recover = 0;
        return;
    }
    if (p->rule != RULE_NOTHING)
        take_inputs(&k);
    take_masked_origin(&k);
    if (p->rule == RULE_TARGET) {
        if (any(k.bits[0], 8))
            finding_undefined(c, p->pc, k.origin, "is the target of a jump", 0, 0, NULL);
        if (p->operands[0].kind == OPERAND_GENERAL)
            dirty_words(c)[p->operands[0].number] = 0;
    } else if (p->rule == RULE_TOUCH) {
        note_loaded(c, p, k.address[0], p->memory[0].size, k.origin);
    } else if (p->rule == RULE_JOIN) {
        parts_join(&k);
    } else {
        k.flags = *undefined_flags(c);
        bool any_length = true;
        if (mmx_has(p) ? !mmx_rule(&k, &any_length)
                       : p->rule != RULE_X87 && has_x87(p) && p->rule != RULE_COPY &&
                             p->rule != RULE_NOTHING)
            default_rule(&k);
        else if (any_length)
            apply(&k);
        if (p->evex)
            finish_lanes(&k);
        if (any_length)
            mixtures_note(&k, apply);
        write_outputs(&k);
    }
    c->recover = 0;
}


/* From glue.S, on the way of a load or store whose operand may be touched: only where its
   undefined bits are from is to be noted. Of the guest's registers the stack pointer alone is
   in the context; the operand's address is in `scratch`. False: it has to go the long way. */
bool glue_note_origin(struct context *c) {
    const struct plan *p = &cache_plans[(uint32_t)c->guest_target];
    struct step k;
    gaddr a = c->scratch;
    uint32_t size = c->way & 0xff;
    if (p->evex || recover_enter(c))
        return false; /* stacks that calls are noted on may be gone */
    k.c = c;
    k.p = p;
    k.address[0] = a;
    k.is_mixed = false;
    gaddr undefined = c->way & WAY_LOAD ? shadow_first_undefined(a, size) : 0;
    k.origin = undefined ? origin_at(c, undefined) : 0;
    if (!(c->way & WAY_LOAD))
        note_stored(&k, a);
    else if (p->rule == RULE_JOIN)
        parts_join(&k);
    else
        note_loaded(c, p, a, size, k.origin);
    c->recover = 0;
    return true;
}

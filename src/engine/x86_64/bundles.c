/* A structure is moved in pieces, whose loads and stores compilers put among each other and
   among the sums that make the next address. Where the first load meets undefined bits, all
   pieces of such a bundle are looked at together: when D and the origins at each target are
   already what they become, and everything else in between is defined, the instructions run
   as they are. What is found otherwise goes the way of the single copy, from the first load. */
#include "bundles.h"
#include "plan.h"

enum { BUNDLES = 8, LONGEST = 40, REACH = 16 }; /* instructions: of a bundle, from a load to its store */

static struct bundle bundles[BUNDLES];
static int bundle_count;

static struct form forms[16]; /* what the registers hold at the instruction looked at */

void bundles_forget(void) { bundle_count = 0; }

static struct form sum(struct form a, struct form b) {
    struct form f = {.known = a.known && b.known, .base = a.base, .index = a.index,
                     .factor = a.factor, .add = a.add + b.add};
    int regs[2] = {b.base, b.index};
    int64_t factors[2] = {1, b.factor};
    for (int k = 0; k < 2 && f.known; k++) {
        if (regs[k] < 0)
            continue;
        if (regs[k] == f.index) {
            f.factor += factors[k];
        } else if (f.index < 0 && f.base < 0 && factors[k] == 1) {
            f.base = regs[k];
        } else if (f.index < 0 && f.base != regs[k]) {
            f.index = regs[k];
            f.factor = factors[k];
        } else if (f.index < 0) {
            f.base = -1;
            f.index = regs[k];
            f.factor = factors[k] + 1;
        } else if (f.base < 0 && factors[k] == 1) {
            f.base = regs[k];
        } else if (f.base < 0 && f.factor == 1) {
            f.base = f.index;
            f.index = regs[k];
            f.factor = factors[k];
        } else {
            f.known = false;
        }
    }
    return f;
}

static struct form times(struct form a, int64_t factor) {
    struct form f = {.known = a.known && (a.base < 0 || a.index < 0), .base = -1, .index = -1,
                     .factor = 0, .add = a.add * factor};
    if (a.base >= 0 || a.index >= 0) {
        f.index = a.base >= 0 ? a.base : a.index;
        f.factor = (a.base >= 0 ? 1 : a.factor) * factor;
    }
    return f;
}

static struct form constant(int64_t add) {
    return (struct form){.known = true, .base = -1, .index = -1, .add = add};
}

/* A part stands as the index. */
static struct form in_order(struct form f) {
    if (f.base < PART)
        return f;
    if (f.index >= 0 && (f.index >= PART || f.factor != 1))
        return (struct form){.known = false};
    int part = f.base;
    f.base = f.index;
    f.index = part;
    f.factor = 1;
    return f;
}

static struct form form_of(const struct memory *m) {
    struct form f = constant(m->displacement);
    if (m->base >= 0)
        f = sum(f, forms[m->base]);
    if (m->index >= 0)
        f = sum(f, times(forms[m->index], m->scale));
    return in_order(f);
}

static bool may_have_place(const struct form *f) {
    return f->known && fits(f->add) && (f->base >= 0 || f->index >= 0) &&
           (f->index < 0 || (fits(f->factor) && f->factor > 0 && f->index != RSP));
}

static struct form add_part(struct bundle *b, struct form of, int how, int64_t value) {
    of = in_order(of);
    if (!may_have_place(&of) || b->part_count == PARTS)
        return (struct form){.known = false};
    b->parts[b->part_count] = (struct part){.of = of, .how = how, .value = value};
    return (struct form){.known = true, .base = -1, .index = PART + b->part_count++, .factor = 1};
}

static struct form operand_form(const ZydisDecodedOperand *o) {
    if (o->type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
        return constant(o->imm.value.s);
    int reg = o->type == ZYDIS_OPERAND_TYPE_REGISTER && o->size >= 32
                  ? register_number(o->reg.value)
                  : -1;
    return reg >= 0 ? forms[reg] : (struct form){.known = false};
}

/* The registers after the instruction. */
static void follow(struct bundle *b, const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    int reg = o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && o[0].size >= 32
                  ? register_number(o[0].reg.value)
                  : -1;
    struct form f = {.known = false};
    bool reads = false, lower = o[0].size == 32; /* else all 64 bits */
    for (int k = 0; k < i->memory_count; k++)
        reads |= i->memory[k].read || i->memory[k].write;
    if (reg >= 0 && !reads)
        switch (i->z.mnemonic) {
        case ZYDIS_MNEMONIC_MOV: f = operand_form(&o[1]); break;
        case ZYDIS_MNEMONIC_LEA:
            if (!is_foreign(&i->memory[0]) && !i->memory[0].address32)
                f = form_of(&i->memory[0]);
            break;
        case ZYDIS_MNEMONIC_ADD: f = sum(forms[reg], operand_form(&o[1])); break;
        case ZYDIS_MNEMONIC_SUB:
            if (o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
                f = sum(forms[reg], constant(-o[1].imm.value.s));
            break;
        case ZYDIS_MNEMONIC_INC: f = sum(forms[reg], constant(1)); break;
        case ZYDIS_MNEMONIC_DEC: f = sum(forms[reg], constant(-1)); break;
        case ZYDIS_MNEMONIC_SHL:
            if (o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE && o[1].imm.value.u < 8)
                f = times(forms[reg], 1LL << o[1].imm.value.u);
            break;
        case ZYDIS_MNEMONIC_MOVSXD:
            f = add_part(b, operand_form(&o[1]), PART_SIGNED, 0);
            break;
        case ZYDIS_MNEMONIC_AND:
        case ZYDIS_MNEMONIC_SHR:
            if (o[1].type != ZYDIS_OPERAND_TYPE_IMMEDIATE || !lower)
                break;
            f = add_part(b, forms[reg],
                         i->z.mnemonic == ZYDIS_MNEMONIC_AND ? PART_AND : PART_SHIFTED,
                         o[1].imm.value.s);
            lower = false; /* no more than that is left */
            break;
        default: break;
        }
    if (lower && f.known)
        f = add_part(b, f, PART_LOWER, 0);
    for (int r = 0; r < 16; r++)
        if (i->registers_written & 1u << r)
            forms[r] = (struct form){.known = false};
    if (reg >= 0)
        forms[reg] = f;
}

bool same_base(const struct form *a, const struct form *b) {
    return a->base == b->base && a->index == b->index && (a->index < 0 || a->factor == b->factor);
}

/* Which of the places has the form, -1: that is one too many. */
static int place_of(struct bundle *b, const struct form *f) {
    for (int k = 0; k < b->place_count; k++)
        if (same_base(&b->places[k], f))
            return (f->add - b->places[k].add) % 4 || !fits(f->add - b->places[k].add + 64) ? -1
                                                                                          : k;
    if (b->place_count == PLACES)
        return -1;
    b->places[b->place_count] = *f;
    return b->place_count++;
}

static bool is_scale(int64_t factor) {
    return factor == 1 || factor == 2 || factor == 4 || factor == 8;
}

/* Whether it can be named as an operand. */
static bool is_operand(const struct form *f) {
    return f->known && f->base < PART && f->index < PART && fits(f->add) && fits(f->add + 64) && (f->index < 0 || is_scale(f->factor)) &&
           (f->base >= 0 || f->index >= 0) && f->index != RSP;
}

static struct memory operand(const struct form *f, uint32_t size) {
    return (struct memory){.base = f->base, .index = f->index, .scale = (int)f->factor,
                           .displacement = f->add, .size = size};
}

/* add, sub or lea with the stack pointer, that stays in reach of the red zone. */
static bool shifts_stack(const struct instruction *i) {
    int64_t by = stack_shift(i);
    for (int k = 0; k < i->memory_count; k++)
        if (i->memory[k].read || i->memory[k].write)
            return false;
    return by && by > -RED_ZONE && by < RED_ZONE;
}

static bool fits_bundle(const struct instruction *i) {
    return role_of(i) == PLAIN && !wants_slow_check(i) && !wants_plan(i) && !i->mask &&
           !is_string_instruction(i) && (!(i->registers_written & 1u << RSP) || shifts_stack(i));
}

/* The store of what the load brings, if that is all that is done with it until then. */
static const struct instruction *store_of(const struct instruction *load) {
    int element = element_of(load->operands[0].reg.value);
    for (const struct instruction *i = load + 1; i < trace + trace_count && i - load <= REACH; i++) {
        if (!fits_bundle(i))
            return NULL;
        if (!((plan_inputs(i) | plan_outputs(i)) & whole_element(element)))
            continue;
        const struct memory *to = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
        bool stores = to && is_plain_store(i) && element_of(i->operands[1].reg.value) == element &&
                      to->size == load->memory[load->encoded].size && !to->address32 &&
                      !is_stack_probe(i, to);
        return stores && (element >= 16 || !(address_uses(to) & 1u << element)) ? i : NULL;
    }
    return NULL;
}

/* Between the first load and the last store. */
struct search {
    struct bundle *b;
    uint64_t undefined, loaded; /* by the pieces so far: undefined bits, anything */
    uint64_t dropped;
    uint32_t needed;    /* registers that something has read so far */
    int open;
    int64_t given_back; /* the stack below this, from the first stack pointer */
};

/* Whether what an earlier piece stored is touched again: that is for the next bundle, for D at the
   target may have to change first. */
static bool comes_again(const struct bundle *b, const struct instruction *i, const struct form *at,
                        int size) {
    for (const struct piece *q = b->pieces; q < b->pieces + b->piece_count; q++)
        if (q->store < i && same_base(at, &q->to) && at->add < q->to.add + q->size &&
            q->to.add < at->add + size)
            return true;
    return false;
}

/* What may be undefined here. */
static uint64_t open_elements(const struct search *s) {
    return (s->b->possible & ~s->dropped) | s->undefined;
}

static bool add_piece(struct search *s, const struct instruction *i) {
    struct bundle *b = s->b;
    const struct instruction *store = copied_size(i) ? store_of(i) : NULL;
    if (!store || b->piece_count == PIECES || i->memory[i->encoded].address32)
        return false;
    struct piece *p = &b->pieces[b->piece_count];
    *p = (struct piece){.load = i, .store = store, .size = (int)copied_size(i),
                        .element = element_of(i->operands[0].reg.value)};
    uint64_t own = whole_element(p->element);
    p->defined = !dirty_site(i->pc);
    p->from = form_of(&i->memory[i->encoded]);
    if (p->size < 32 && p->element >= 16 && (b->possible & 1ULL << (p->element + 16)))
        return false;
    uint32_t needed = s->needed | address_uses(&i->memory[i->encoded]);
    p->late = p->element < 16 && (needed & 1u << p->element);
    if (!is_operand(&p->from) || (!p->defined && p->element >= 16 && (s->dropped & own)) ||
        (open_elements(s) & plan_inputs(i)) || comes_again(b, i, &p->from, p->size))
        return false;
    b->piece_count++;
    s->open++;
    if (p->defined) { /* the code of the version counts on it as well */
        s->dropped |= own & (s->undefined | b->possible);
        s->undefined &= ~own;
    } else {
        s->undefined |= own;
        s->dropped &= ~own;
    }
    s->loaded |= own;
    return true;
}

/* Whether it may lie in the red zone behind an instruction that gives the stack there back: that
   makes it undefined before, and not behind. */
static bool is_given_back(const struct search *s, const struct form *at) {
    if (s->given_back == INT64_MIN || (at->base != RSP && at->base != RBP))
        return false;
    return at->base == RBP || at->index >= 0 || at->add < s->given_back;
}

static bool add_store(struct search *s, const struct instruction *i) {
    for (int k = 0; k < s->b->piece_count; k++) {
        struct piece *p = &s->b->pieces[k];
        if (p->store != i)
            continue;
        p->to = form_of(&i->memory[i->encoded]);
        s->open--;
        return may_have_place(&p->to) && !is_given_back(s, &p->to);
    }
    return false;
}

static bool add_other(struct search *s, const struct instruction *i) {
    uint64_t all = open_elements(s), lost = plan_outputs(i) & all;
    if ((plan_inputs(i) & all) || (lost & (s->loaded | ~wholly_written(i))))
        return false;
    uint64_t possible = now.possible;
    now.possible = all;
    bool special = wants_dirty(i);
    now.possible = possible;
    if (special)
        return false;
    for (int k = 0; k < i->memory_count; k++) {
        const struct memory *m = &i->memory[k];
        if (!m->read && !m->write)
            continue;
        struct form at = form_of(m);
        if (i->encoded != k || is_foreign(m) || m->address32 || !is_operand(&at) || m->size > 16 ||
            !m->size || (m->size & (m->size - 1)) || check_of(i, m) == CHECK_NONE ||
            s->b->other_count == OTHERS || comes_again(s->b, i, &at, (int)m->size))
            return false;
        s->b->others[s->b->other_count].i = i;
        s->b->others[s->b->other_count].at = at;
        s->b->others[s->b->other_count++].size = (int)m->size;
    }
    s->dropped |= lost;
    return true;
}

/* How much of the code from the first load on belongs to the bundle. */
static bool find_pieces(struct bundle *b) {
    struct search s = {.b = b, .given_back = INT64_MIN};
    int pieces = 0, others = 0;
    bool moved = false; /* undefined bits, since the last end that was found */
    for (int r = 0; r < 16; r++)
        forms[r] = (struct form){.known = true, .base = r, .index = -1};
    for (const struct instruction *i = b->load; i < trace + trace_count && i - b->load < LONGEST; i++) {
        if (!fits_bundle(i))
            break;
        bool stores = add_store(&s, i);
        if (!stores && !add_piece(&s, i) && !add_other(&s, i))
            break;
        moved |= stores && (s.undefined & whole_element(element_of(i->operands[1].reg.value)));
        if (stores && !s.open && moved) {
            moved = false;
            b->last = i;
            b->dropped = s.dropped;
            pieces = b->piece_count;
            others = b->other_count;
        }
        s.needed |= i->registers_used;
        follow(b, i);
        if (stack_shift(i) > 0 && forms[RSP].known && s.given_back < forms[RSP].add)
            s.given_back = forms[RSP].add;
    }
    b->piece_count = pieces;
    b->other_count = others;
    return pieces > 0;
}

/* Which registers are overwritten without having been asked for. */
static void find_dead(struct bundle *b) {
    uint64_t later = b->dropped, ask = 0;
    for (struct piece *p = b->pieces + b->piece_count; p-- > b->pieces;) {
        uint64_t own = noted_elements(p->element, p->size);
        p->dead = !(own & ~later);
        if (!p->defined && !p->dead && steady_agrees(p->store))
            ask |= own;
        later |= own;
    }
    b->spent = across_overwritten(b->last->pc + b->last->z.length, ask);
    for (struct piece *p = b->pieces; p < b->pieces + b->piece_count; p++)
        p->dead |= !(noted_elements(p->element, p->size) & ~b->spent);
}

/* Registers that the bundle overwrites before anything in it reads them: what they hold before
   means nothing. */
static uint32_t overwritten_first(const struct bundle *b) {
    uint32_t touched = 0, free = 0;
    for (const struct instruction *i = b->load; i <= b->last; i++) {
        uint32_t read = (uint32_t)plan_inputs(i);
        for (int k = 0; k < i->memory_count; k++)
            read |= address_uses(&i->memory[k]);
        free |= (uint32_t)wholly_written(i) & ~(read | touched);
        touched |= i->registers_used | read;
    }
    return free & 0xffff;
}

/* Those that need not be kept first. */
static int take_register(uint32_t free, uint32_t *used) {
    static const int order[] = {RCX, RDX, RSI, RDI, RBX, RAX, 8, 9, 10, 11, 12, 13, 14, 15, RBP};
    const int count = sizeof order / sizeof order[0];
    for (int k = 0; k < 2 * count; k++) {
        uint32_t reg = 1u << order[k % count];
        if ((*used & reg) || (k < count && !(free & reg)))
            continue;
        *used |= reg;
        return order[k % count];
    }
    return -1;
}

static uint32_t registers_of(const struct bundle *b, const struct form *f) {
    return (f->base >= 0 ? 1u << f->base : 0) |
           (f->index >= PART ? registers_of(b, &b->parts[f->index - PART].of)
            : f->index >= 0  ? 1u << f->index
                             : 0);
}

static bool choose_places(struct bundle *b) {
    uint32_t used = 1u << RSP;
    int words = 0;
    for (int k = 0; k < b->piece_count; k++) {
        struct piece *p = &b->pieces[k];
        used |= registers_of(b, &p->from) | registers_of(b, &p->to);
        words += (p->size + 7) / 8;
        p->from_place = place_of(b, &p->from);
        p->to_place = place_of(b, &p->to);
        if (p->from_place < 0 || p->to_place < 0)
            return false;
    }
    for (int k = 0; k < b->other_count; k++)
        used |= registers_of(b, &b->others[k].at);
    b->free = overwritten_first(b);
    for (int k = 0; k < b->place_count; k++)
        b->registers[k] = take_register(b->free, &used);
    b->word = take_register(b->free, &used);
    b->second = take_register(0, &used);
    return b->word >= 0 && words <= PIECES;
}

/* Which places are of the red zone that the trace itself undoes. */
static void find_below(struct bundle *b) {
    for (int k = 0; k < b->place_count; k++)
        b->below[k] = b->places[k].base == RBP && b->places[k].index < 0;
    for (const struct piece *p = b->pieces; p < b->pieces + b->piece_count; p++) {
        struct memory m = operand(&p->to, p->size);
        b->below[p->to_place] = b->below[p->to_place] && frame_has_below(b->load, &m);
    }
    for (const struct piece *p = b->pieces; p < b->pieces + b->piece_count; p++) {
        struct memory m = operand(&p->to, p->size);
        if (b->below[p->to_place] && !p->defined)
            frame_records(&m);
    }
}

bool bundle_begins(const struct instruction *load, bool single) {
    struct bundle *b = &bundles[bundle_count];
    if (bundle_count == BUNDLES || (now.possible & (ELEMENTS_SHARED | 1ULL << ELEMENT_FLAGS)))
        return false;
    *b = (struct bundle){.load = load, .possible = now.possible};
    if (!find_pieces(b) || !choose_places(b))
        return false;
    b->changes = can_change(b);
    if (single && b->piece_count == 1 && !b->changes)
        return false;
    find_dead(b);
    if (b->changes)
        find_below(b);
    bundle_count++;
    return true;
}

bool bundle_ends(const struct instruction *store) {
    bool any = false;
    for (int k = 0; k < bundle_count; k++)
        if (bundles[k].last == store && !bundles[k].back) {
            dirty_drop(bundles[k].spent);
            bundles[k].possible_after = now.possible;
            bundles[k].back = out.at;
            out.kept = 0;
            any = true;
        }
    return any;
}

static void emit_address_of(const struct bundle *b, const struct form *f, int reg);

static void emit_part(const struct bundle *b, const struct part *p, int reg) {
    emit_address_of(b, &p->of, reg);
    switch (p->how) {
    case PART_LOWER: /* mov reg, reg, of 4 bytes */
        emit8(&out, rex(0, reg, 0, reg));
        emit8(&out, 0x8b);
        emit8(&out, 0xc0 | (reg & 7) << 3 | (reg & 7));
        break;
    case PART_SIGNED: /* movsxd */
        emit8(&out, rex(1, reg, 0, reg));
        emit8(&out, 0x63);
        emit8(&out, 0xc0 | (reg & 7) << 3 | (reg & 7));
        break;
    case PART_AND:
        emit8(&out, rex(0, 0, 0, reg));
        emit8(&out, 0x81);
        emit8(&out, 0xe0 | (reg & 7));
        emit32(&out, p->value);
        break;
    case PART_SHIFTED: /* shr */
        emit8(&out, rex(0, 0, 0, reg));
        emit8(&out, 0xc1);
        emit8(&out, 0xe8 | (reg & 7));
        emit8(&out, (int)p->value & 31);
        break;
    }
}

/* The guest address of the place, where its base stands. */
static void emit_address_of(const struct bundle *b, const struct form *f, int reg) {
    int index = f->index;
    if (index >= PART) {
        emit_part(b, &b->parts[index - PART], reg);
        index = reg;
    }
    if (index < 0 || is_scale(f->factor)) {
        struct memory m = operand(f, 8);
        m.index = index;
        emit_lea(&m, reg);
        return;
    }
    emit8(&out, rex(1, reg, 0, index)); /* imul reg, index, factor */
    emit8(&out, 0x69);
    emit8(&out, 0xc0 | (reg & 7) << 3 | (index & 7));
    emit32(&out, f->factor);
    struct memory m = {.base = f->base, .index = reg, .scale = 1, .displacement = f->add};
    if (f->base >= 0 || f->add)
        emit_lea(&m, reg);
}

static struct memory at_place(const struct bundle *b, int k, const struct form *f) {
    return (struct memory){.base = b->registers[k], .index = -1, .scale = 1,
                           .displacement = f->add - b->places[k].add};
}

struct memory piece_source(const struct bundle *b, const struct piece *p) {
    return at_place(b, p->from_place, &p->from);
}

struct memory piece_target(const struct bundle *b, const struct piece *p) {
    return at_place(b, p->to_place, &p->to);
}

static void compare_with_zero(const struct memory *m, int size, int done) {
    if (size == 2)
        emit8(&out, 0x66);
    emit_gs(m, size >= 8, 0); /* cmp gs:[m + done], 0 */
    emit8(&out, size == 1 ? 0x80 : 0x83);
    emit_operand(m, 7, done);
    emit8(&out, 0);
}

uint8_t *leave_unless_zero(const struct memory *m, bool wide, int done) {
    compare_with_zero(m, wide ? 8 : 4, done);
    return emit_short_jump(IF_NOT_ZERO);
}

int piece_bits(const struct piece *p) {
    return p->element < 16 ? CTX_UNDEFINED + 8 * p->element
                           : CTX_UNDEFINED_VECTOR + 64 * (p->element - ELEMENT_VECTOR);
}

void emit_places(const struct bundle *b) {
    for (int k = 0; k < b->place_count; k++)
        emit_address_of(b, &b->places[k], b->registers[k]);
}

struct memory other_operand(const struct bundle *b, int k) { return operand(&b->others[k].at, 0); }

int emit_others(const struct bundle *b, uint8_t **leave) {
    int count = 0;
    for (int k = 0; k < b->other_count; k++) {
        struct memory m = other_operand(b, k);
        for (int done = 0; done < b->others[k].size; done += 8) {
            compare_with_zero(&m, b->others[k].size, done);
            leave[count++] = emit_short_jump(IF_NOT_ZERO);
        }
    }
    return count;
}

/* Leaves where any bit of the word, or of that at gs:[m + done], is set. */
static uint8_t *leave_by_others(const struct memory *m, int word, bool wide, int done) {
    emit_gs(m, wide, word); /* or word, gs:[m + done] */
    emit8(&out, 0x0b);
    emit_operand(m, word, done);
    return emit_short_jump(IF_NOT_ZERO);
}

/* D at each source and target. */
static int emit_bits(struct bundle *b, uint8_t **leave) {
    int count = 0;
    for (int k = 0; k < b->piece_count; k++) {
        const struct piece *p = &b->pieces[k];
        struct memory from = piece_source(b, p), to = piece_target(b, p);
        for (int done = 0; done < p->size; done += 8) {
            emit_take_bits(&from, b->word, p->size >= 8, done);
            if (p->defined) {
                leave[count++] = leave_by_others(&to, b->word, p->size >= 8, done);
                continue;
            }
            leave[count++] = emit_compare_bits(&to, b->word, p->size >= 8, done);
            if (!p->late && !p->dead)
                emit_to_context(&out, b->word, piece_bits(p) + done);
        }
    }
    return count + emit_others(b, leave + count);
}

static int emit_bundle_origins(struct bundle *b, struct unrecorded *none, uint8_t **leave) {
    int count = 0, word = b->word;
    for (int k = 0; k < b->place_count; k++)
        leave[count++] = emit_origin_place(b->registers[k]);
    for (int k = 0; k < b->piece_count; k++) {
        const struct piece *p = &b->pieces[k];
        struct memory from = piece_source(b, p), to = piece_target(b, p);
        struct memory source = operand(&p->from, 0);
        bool wide = p->size >= 8;
        for (int done = 0; done < p->size && !p->defined; done += 8) {
            uint8_t *defined = NULL;
            enum word expected = word_now(p->load, done);
            if (expected == WORD_DEFINED) {
                compare_with_zero(&source, wide ? 8 : 4, done);
                defined = emit_short_jump(IF_ZERO);
            }
            emit_take_origin(from.base, word, (int)from.displacement + done, wide);
            leave[count++] = emit_compare_origin(to.base, word, wide, (int)to.displacement + done);
            if (!wide && !p->dead)
                emit_twice(word);
            if (!p->dead)
                emit_to_context(&out, word, CTX_ORIGIN_OF(p->element) + done);
            emit_unless_recorded(word, wide, &source, done, expected, none++);
            if (defined)
                patch_jump(defined, out.at);
        }
    }
    return count;
}

static void emit_late_bits(const struct bundle *b) {
    for (int k = 0; k < b->piece_count; k++) {
        const struct piece *p = &b->pieces[k];
        if (p->defined || p->dead || !p->late)
            continue;
        struct memory from = operand(&p->from, 0);
        emit_take_bits(&from, b->word, p->size == 8, 0);
        emit_to_context(&out, b->word, piece_bits(p));
    }
}

void emit_bundle(const struct instruction *load, uint32_t kept) {
    struct bundle *b = NULL;
    for (int k = 0; k < bundle_count; k++)
        if (bundles[k].load == load && bundles[k].back)
            b = &bundles[k];
    if (!b)
        return;
    uint8_t *leave[JUMPS];
    struct unrecorded none[PIECES];
    int words = 0;
    uint32_t spilled = 1u << b->word;
    for (int k = 0; k < b->place_count; k++)
        spilled |= 1u << b->registers[k];
    spilled &= ~b->free;
    now.pc = load->pc;
    now.possible = b->possible;
    out.kept = kept;
    emit_registers(spilled, emit_spill);
    kept = out.kept;
    note_place(now.pc, spilled, false);
    emit_places(b);
    int count = emit_bits(b, leave);
    count += emit_bundle_origins(b, none, leave + count);
    emit_late_bits(b);
    const uint8_t *found = out.at;
    emit_registers(spilled, emit_unspill);
    for (const struct instruction *i = load; i <= b->last; i++) {
        note_place(i->pc, 0, false);
        emit_plain(i);
        if (stack_shift(i) > 0)
            emit_shift_back(i, false);
    }
    uint64_t noted = b->possible;
    for (int k = 0; k < b->piece_count; k++)
        if (!b->pieces[k].defined && !b->pieces[k].dead)
            noted |= noted_elements(b->pieces[k].element, b->pieces[k].size);
    now.possible = noted;
    dirty_drop(noted & (b->dropped | ~b->possible_after));
    emit_into_steady((int)(b->last - trace) + 1, true);
    emit_jump(&out, b->back);
    note_place(load->pc, spilled, false);
    for (int k = 0; k < b->piece_count; k++)
        words += b->pieces[k].defined ? 0 : (b->pieces[k].size + 7) / 8;
    for (int k = 0; k < words; k++)
        count += emit_unrecorded(&none[k], leave + count);
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
    if (b->changes) {
        out.kept = kept;
        emit_spill(&out, b->second);
        note_place(load->pc, spilled | 1u << b->second, false);
        count = emit_changes(b, leave);
        now.possible |= b->spent | b->dropped; /* what was moved went by way of these */
        dirty_drop(b->spent | b->dropped);
        emit_unspill(&out, b->second);
        emit_jump(&out, found);
        for (int k = 0; k < count; k++)
            patch_jump(leave[k], out.at);
        emit_unspill(&out, b->second);
    }
    emit_registers(spilled, emit_unspill);
}

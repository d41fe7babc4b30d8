/* A loop that copies undefined bits again and again, as padding of structures, has a third
   version beside the dirty one: in it the bits and origins at each target are already what
   they become, or only the origins change, and everything else is defined. It keeps the
   registers it works with until it leaves, and for each pointer that only steps along the
   place of its origins. The same goes for registers that stay as they are and are stored. Where anything is not so it leaves for the dirty version, at the
   instruction it has come to.

   Where it can be told what the words look like, there is one version more, the first of a
   round: in it each word has the bits and the origin that it is expected to have (patterns.c).
   Where one has others the round goes on in the usual one. */
#include "copies.h"
#include "patterns.h"
#include "plan.h"

enum { PATIENCE = 4, PAUSE = 64 }; /* rounds */
enum { STEPS = 48, PAIRS = 8, HELD = 8, PLACES = 2 * PAIRS + HELD, OTHERS = 2 * PAIRS, LEAVES = 1024,
       MIXED = 6 * PAIRS };
enum { DIFFERS = 4 * (PAIRS + HELD) };

/* One way of naming memory, and the register with the place of its origins. */
struct place {
    int base, index, scale, reg;
    int64_t displacement; /* the operand that the place is of, as named now */
    bool steps;           /* along, from one round to the next; else it is found anew */
    bool found;
    int last;             /* step that uses it */
};

static struct pair {
    const struct instruction *load, *store;
    struct memory to; /* as it is named before the load */
    int from_place, to_place;
    int size, element;
    int from_odd, to_odd; /* bytes from the start of a word to the source, and to the target */
    bool odd; /* one of them */
    bool dead; /* the register is overwritten before anything else is done with it */
    uint64_t spent; /* so wherever the loop goes: what counts as defined behind the store */
    bool late; /* others may read the target before the store: origins change only there */
    bool carried; /* where it goes is known at the store only: two registers bring bits and origin */
    bool aimed; /* the same of a vector: it is late, and the context brings them */
    struct unrecorded none[4];
    int load_leave;
    struct pattern patterns[4];
} pairs[PAIRS];

/* A store of a register with undefined bits that nothing in the loop changes. */
static struct held {
    const struct instruction *store;
    int place, size, element;
} held[HELD];

/* Where the origins at a target turn out to be others. */
static struct differs {
    uint8_t *jump, *same; /* taken there; where it goes on */
    struct memory to;
    bool in_context;       /* the bits of what is stored are there, not at the target */
    int reg, offset, done; /* of the place; of the piece in the operand */
    int bits, size;        /* in the context; bytes */
    int origin, leave;     /* the register with the new one; the step it leaves for */
} differs[DIFFERS];

static int held_count, differ_count;
static int pair_count, place_count, step_count, leave_count;
static struct place places[PLACES];
static uint8_t *usual[STEPS + 1]; /* the dirty version's code of each step */
static uint64_t followed[STEPS + 1]; /* and what may be undefined there */
static uint8_t *steps[STEPS + 1]; /* the code here, where it may be entered */
static const uint32_t *live;
static const uint8_t *again; /* the code of the first step */
static bool wraps; /* the last step leads to the first */
static bool dense; /* what is to be copied next is undefined now and then */
static struct {
    uint8_t *jump;
    int step;
    bool general; /* goes on in the usual version of the loop, if that can be entered there */
} leaves[LEAVES];
static bool varying;   /* one round finds other words than the next */
static bool patterned; /* the loop has the version with expected words */
static int patience;   /* where the context counts for how long */
static bool expecting; /* which of them is written */
static struct other {  /* a word at a source that has another origin than expected */
    uint8_t *jump;
    const struct pattern *pattern;
    int place, offset, size, step;
} others[OTHERS];
static int other_count;
/* Words of origin at one end of an odd pair that are not all of its origin. */
static struct mixed {
    uint8_t *jump, *back;
    int place, offset, size; /* of a word or two */
    int bytes;               /* of these, a bit for each that is the pair's */
    int origin, step;
} mixed[MIXED];
static int mixed_count;
static uint64_t possible, undefined[STEPS + 1]; /* elements: where it begins, at each step */
static uint64_t assumed; /* of `possible` those that are defined after all whenever it is entered */
static uint64_t lower[3]; /* and those that are but for their lowest 1 or 2 bytes */
static uint32_t used, spilled;
static int word, spare; /* registers */
static int carried_bits, carried_origin; /* of the pair that is carried, where there is one */
static uint8_t *forward[STEPS]; /* jumps of branches to a step further on */

static bool fits_steady(const struct instruction *i) {
    if (role_of(i) != PLAIN || wants_slow_check(i) || wants_plan(i) || is_string_instruction(i) ||
        ((i->registers_written | i->registers_used) & 1u << RSP && i->encoded < 0) ||
        (i->registers_written & 1u << RSP))
        return false;
    for (int k = 0; k < i->memory_count; k++) {
        const struct memory *m = &i->memory[k];
        if (is_foreign(m) || m->vector_index || m->size > 32 || !fits(m->displacement + 64) ||
            ((m->read || m->write) && (!m->encoded || !m->size)))
            return false;
    }
    return true;
}

static bool goes_back(const struct instruction *i) {
    return role_of(i) == BRANCH && branch_target(i) == trace[0].pc;
}

/* The step that a branch goes to, -1: out of the loop. */
static int branch_step(const struct instruction *i) {
    for (int s = (int)(i - trace) + 1; s < step_count; s++)
        if (trace[s].pc == branch_target(i))
            return s;
    return -1;
}

static const struct pair *pair_of(const struct instruction *i) {
    for (int k = 0; k < pair_count; k++)
        if (pairs[k].load == i || pairs[k].store == i)
            return &pairs[k];
    return NULL;
}

/* What may stand between a load and its store; no store changes D here. */
static bool between(const struct instruction *i, int value) {
    return fits_steady(i) && !((plan_inputs(i) | plan_outputs(i)) & whole_element(value));
}

/* A load of 1 or 2 bytes that leaves the rest of the register alone. */
static bool loads_lower(const struct instruction *load) {
    const ZydisDecodedOperand *o = load->operands;
    return load->z.mnemonic == ZYDIS_MNEMONIC_MOV && load->encoded >= 0 && o[0].size < 32 &&
           o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && o[1].type == ZYDIS_OPERAND_TYPE_MEMORY &&
           register_number(o[0].reg.value) >= 0 && o[0].reg.value != ZYDIS_REGISTER_SP &&
           !(o[0].reg.value >= ZYDIS_REGISTER_AH && o[0].reg.value <= ZYDIS_REGISTER_BH);
}

/* Bytes that a load extends by zeros, or puts into a register, to be stored alone: 1 or 2;
   0: none. */
static uint32_t part_size(const struct instruction *load) {
    const ZydisDecodedOperand *o = load->operands;
    bool extends = load->z.mnemonic == ZYDIS_MNEMONIC_MOVZX && load->encoded >= 0 &&
                   o[1].type == ZYDIS_OPERAND_TYPE_MEMORY && o[0].size >= 32 &&
                   o[0].reg.value != ZYDIS_REGISTER_RSP;
    if ((!extends && !loads_lower(load)) || is_foreign(&load->memory[load->encoded]))
        return 0;
    return load->memory[load->encoded].size;
}

static bool is_part(const struct pair *p) { return p->size < 4; }

/* What may be undefined by it. */
static uint64_t loaded_elements(const struct pair *p) {
    return noted_elements(p->element, p->size);
}

bool steady_copies(const struct instruction *i) {
    return (copied_size(i) || part_size(i)) && dirty_site(i->pc);
}

/* Whether a pair is under way at the step: loaded before, to be stored there or behind it. */
static bool is_under_way(const struct pair *p, int step) {
    return p->load < trace + step && p->store >= trace + step;
}

static void find_pairs(void) {
    pair_count = 0;
    for (const struct instruction *i = trace; i < trace + step_count; i++) {
        uint32_t size = copied_size(i) ? copied_size(i) : part_size(i);
        if (pair_count == PAIRS || !size)
            continue;
        struct pair *p = &pairs[pair_count];
        *p = (struct pair){.load = i, .size = (int)size};
        p->element = element_of(i->operands[0].reg.value);
        bool known = true;
        p->store = copy_store(i, between, &p->to, &known);
        p->carried = !known && size <= 8;
        p->aimed = p->late = !known && size > 8;
        if (!p->store || p->store >= trace + step_count || !dirty_site(i->pc))
            continue;
        if (p->element < 16 && address_uses(&p->to) & 1u << p->element)
            continue;
        pair_count++;
    }
}

static const struct held *held_of(const struct instruction *i) {
    for (const struct held *h = held; h < held + held_count; h++)
        if (h->store == i)
            return h;
    return NULL;
}

static bool is_undefined_now(int element) {
    const uint8_t *bits = (const uint8_t *)current() + bits_of_element(element);
    uint8_t any = 0;
    for (int k = 0; k < (element < ELEMENT_VECTOR ? 8 : 32); k++)
        any |= bits[k];
    return any;
}

static bool loop_writes(uint64_t elements) {
    for (const struct instruction *i = trace; i < trace + step_count; i++)
        if (plan_outputs(i) & elements)
            return true;
    return false;
}

static void find_held(void) {
    held_count = 0;
    for (const struct instruction *i = trace; i < trace + step_count && held_count < HELD; i++) {
        if (role_of(i) != PLAIN || !is_plain_store(i))
            continue;
        const struct memory *to = &i->memory[i->encoded];
        int element = element_of(i->operands[1].reg.value), size = (int)to->size;
        uint64_t own = whole_element(element);
        if (size < 4 || !(own & possible) || (element < 16 && address_uses(to) & 1u << element) ||
            !is_undefined_now(element) || loop_writes(own))
            continue;
        held[held_count++] = (struct held){.store = i, .size = size, .element = element};
    }
}

/* How the place moves when the instruction has run. */
static int64_t moves(const struct place *p, const struct instruction *i, bool *known) {
    struct memory m = {.base = p->base, .index = p->index, .scale = p->scale};
    int64_t by;
    *known = operand_moves(&m, i, &by);
    return *known ? by : 0;
}

static bool steps_along(const struct place *p) {
    for (int s = 0; s < step_count; s++) {
        bool known = true;
        int64_t by = moves(p, &trace[s], &known);
        if (!known || by % 4 || by != (int32_t)by)
            return false;
    }
    return true;
}

static int place_for(const struct memory *m, int step) {
    for (int k = 0; k < place_count; k++) {
        struct place *p = &places[k];
        if (p->base == m->base && p->index == m->index && (m->index < 0 || p->scale == m->scale) &&
            (m->displacement - p->displacement) % 4 == 0) {
            p->last = step > p->last ? step : p->last;
            return k;
        }
    }
    struct place p = {.base = m->base, .index = m->index, .scale = m->scale,
                      .displacement = m->displacement, .last = step};
    p.steps = steps_along(&p);
    places[place_count] = p;
    return place_count++;
}

/* How far beyond the start of a word its ends stand, as far as that can be told. It is looked at
   where the places are found. */
static void find_odd(struct pair *p) {
    gaddr from, to;
    if (p->carried || p->aimed || p->size > 16 || !address_now(p->load, &from) ||
        !operand_now(p->load, &p->to, &to))
        return;
    p->from_odd = (int)(from & 3);
    p->to_odd = (int)(to & 3);
    p->odd = p->from_odd || p->to_odd;
}

/* The operand from the start of the word on that its first byte is in. */
static struct memory from_word(const struct memory *m, int odd) {
    struct memory whole = *m;
    whole.displacement -= odd;
    return whole;
}

static void find_places(void) {
    place_count = 0;
    for (int k = 0; k < pair_count; k++) {
        struct pair *p = &pairs[k];
        if (is_part(p))
            continue;
        bool stored = p->late || p->carried;
        const struct instruction *at = stored ? p->store : p->load;
        find_odd(p);
        struct memory from = from_word(&p->load->memory[p->load->encoded], p->from_odd);
        struct memory to =
            from_word(stored ? &p->store->memory[p->store->encoded] : &p->to, p->to_odd);
        p->from_place = place_for(&from, (int)(p->load - trace));
        p->to_place = place_for(&to, (int)(at - trace));
    }
    for (struct held *h = held; h < held + held_count; h++)
        h->place = place_for(&h->store->memory[h->store->encoded], (int)(h->store - trace));
}

static int take_register(void) {
    uint32_t free = ~(used | spilled) & 0xffff;
    int reg = free ? __builtin_ctz(free) : -1;
    spilled |= free & -free;
    return reg;
}

/* Two at least, two more where a pair is carried; places that get none are found each time. */
static bool choose_registers(void) {
    bool carries = false;
    for (int k = 0; k < pair_count; k++)
        carries |= pairs[k].carried;
    spilled = 0;
    word = take_register();
    spare = take_register();
    carried_bits = carries ? take_register() : -1;
    carried_origin = carries ? take_register() : -1;
    if (carries && carried_origin < 0)
        return false;
    for (int pass = 0; pass < 2; pass++) /* first those that step along */
        for (int k = 0; k < place_count; k++)
            if (places[k].steps != pass)
                places[k].reg = take_register();
    for (int k = 0; k < constant_count; k++)
        constants[k].reg = take_register();
    return spare >= 0;
}

/* By how much a place goes along in a round. */
static int64_t stride_of(const struct place *p) {
    int64_t stride = 0;
    bool known;
    for (int s = 0; s < step_count && p->steps; s++)
        stride += moves(p, &trace[s], &known);
    return stride;
}

/* Whether the loop goes through memory word by word: one round's are other members than the next's. */
static bool is_flat(const struct pair *p) {
    int64_t stride = stride_of(&places[p->from_place]), own = (int64_t)p->size * pair_count;
    return stride && stride <= own && stride >= -own;
}

/* By how much the source goes along in a round: where that cannot be told, as its pointer is in
   memory or made anew, as the target does, or by what the loop copies. */
static int64_t source_stride(const struct pair *p) {
    const struct place *from = &places[p->from_place], *to = &places[p->to_place];
    return from->steps ? stride_of(from) : to->steps ? stride_of(to) : p->size * pair_count;
}

/* Whether the rounds that come next find other words than this one does. */
static bool words_vary(void) {
    enum { AHEAD = 3, MANY = 2 };
    for (int k = 0; k < pair_count; k++) {
        int64_t stride = is_part(&pairs[k]) ? 0 : source_stride(&pairs[k]);
        for (int done = 0; stride && done < pairs[k].size; done += 8) {
            int changes = 0;
            for (int n = 1; n <= AHEAD; n++)
                changes += pattern_changes(pairs[k].load, done, n * stride);
            if (changes >= MANY)
                return true;
        }
    }
    return false;
}

/* By how much an operand goes along in a round; 0: that cannot be told. */
static int64_t operand_stride(const struct memory *m) {
    int64_t stride = 0, by;
    for (int s = 0; s < step_count; s++) {
        if (!operand_moves(m, &trace[s], &by))
            return 0;
        stride += by;
    }
    return stride;
}

/* Whether several of the rounds that come next copy something undefined; also where that
   cannot be told: the last one did. */
static bool finds_undefined(void) {
    enum { AHEAD = 8, SEVERAL = 2 };
    int rounds = 0;
    bool told = false;
    if (held_count)
        return true;
    for (int k = 0; k < pair_count; k++)
        told |= operand_stride(&pairs[k].load->memory[pairs[k].load->encoded]) != 0;
    if (!told)
        return true;
    for (int n = 0; n < AHEAD; n++) {
        bool found = false;
        for (int k = 0; k < pair_count; k++) {
            const struct instruction *load = pairs[k].load;
            int64_t stride = operand_stride(&load->memory[load->encoded]);
            found |= stride && pattern_undefined(load, n * stride);
        }
        rounds += found;
    }
    return rounds >= SEVERAL;
}

/* Whether branches in the loop lead to the step. */
static bool is_joined(int step) {
    for (int b = 0; b < step; b++)
        if (role_of(&trace[b]) == BRANCH && branch_step(&trace[b]) == step)
            return true;
    return false;
}

/* Whether the word is not known to be another. */
static bool agrees(const struct memory *m, int done, const struct pattern *w) {
    struct pattern known;
    pattern_learn(m, done, w, false);
    return !pattern_known(m, done, &known) ||
           (known.bits == w->bits && known.constant == w->constant);
}

/* What is to be expected of each word; false: that cannot be told. */
static bool find_patterns(void) {
    bool undefined_bits = false;
    patterns_begin();
    for (int s = 0; s < step_count; s++) {
        const struct instruction *i = &trace[s];
        struct pair *p = (struct pair *)(uintptr_t)pair_of(i);
        if (p && (is_part(p) || p->carried))
            return false;
        if (is_joined(s))
            patterns_forget();
        for (int done = 0; p && done < p->size; done += 8) {
            struct pattern *w = &p->patterns[done / 8];
            const struct memory *m = &i->memory[i->encoded];
            if (p->load == i && !pattern_known(m, done, w) && !pattern_now(i, done, w))
                return false;
            if ((p->load == i || p->late) && !agrees(m, done, w))
                return false;
            if (p->load == i && !p->late && !agrees(&p->to, done, w))
                return false;
            undefined_bits |= w->bits != 0;
        }
        patterns_follow(i);
    }
    return undefined_bits;
}

/* Whether a pair's load has been before the step, but not its store. */
static bool is_open(int step) {
    for (int k = 0; k < pair_count; k++)
        if (is_under_way(&pairs[k], step))
            return true;
    return false;
}

/* Whether one at most is carried at a time: there are registers for one. */
static bool one_is_carried(void) {
    for (int k = 0; k < pair_count; k++)
        for (int other = 0; other < k && pairs[k].carried; other++)
            if (pairs[other].carried && is_under_way(&pairs[other], (int)(pairs[k].load - trace)))
                return false;
    return true;
}

/* General registers that no pair loads: what they hold was there before. */
static uint64_t held_before(void) {
    uint64_t set = possible & 0xffff;
    for (int k = 0; k < pair_count; k++)
        set &= ~whole_element(pairs[k].element);
    return set;
}

/* Whether whatever is loaded to the pair's register leaves all but as many bytes alone. */
static bool only_lower(const struct pair *p) {
    for (int k = 0; k < pair_count; k++)
        if (pairs[k].element == p->element &&
            (!loads_lower(pairs[k].load) || pairs[k].size != p->size))
            return false;
    return true;
}

/* Finds what may be undefined before each step; nothing but the pairs may read it. */
static bool others_are_defined(void) {
    const uint64_t flags = 1ULL << ELEMENT_FLAGS;
    uint64_t set = possible & ~assumed;
    __builtin_memset(undefined, 0, sizeof undefined);
    __builtin_memset(lower, 0, sizeof lower);
    for (int s = 0; s < step_count; s++) {
        const struct instruction *i = &trace[s];
        const struct pair *p = pair_of(i);
        const struct held *h = held_of(i);
        uint64_t own = p ? whole_element(p->element) : h ? whole_element(h->element) : 0;
        uint64_t written = plan_outputs(i) & ~flags;
        if (p && p->load == i && !(set & own & ~loaded_elements(p)))
            written &= loaded_elements(p); /* what else it writes is defined, and was */
        set |= undefined[s]; /* by branches */
        undefined[s] = set;
        if (role_of(i) == BRANCH) {
            int to = branch_step(i);
            if ((goes_back(i) && (set & ~possible)) || (to >= 0 && is_open(to)))
                return false;
            if (to >= 0)
                undefined[to] |= set;
            continue;
        }
        if (role_of(i) == JUMP)
            continue;
        uint64_t read = plan_inputs(i) & set & ~flags & ~own;
        if (read & ~held_before())
            return false;
        if (read) {
            assumed |= read;
            return others_are_defined();
        }
        if (p && p->load == i) {
            if ((written & set & ~own) || (loads_lower(i) && (set & own) && !only_lower(p)))
                return false;
            if (loads_lower(i))
                lower[p->size] |= own & set;
            set |= written;
        } else if (p) {
            set &= ~p->spent;
        } else {
            if (written & set & ~wholly_written(i))
                return false;
            set &= ~written;
        }
    }
    undefined[step_count] = set;
    return !(set & ~possible);
}

/* Whether the loop may be left between the load and the store: then the store is the dirty
   version's, and the register has to have its bits. */
static bool may_be_left(const struct pair *p) {
    for (const struct instruction *i = p->load + 1; i < p->store; i++)
        if (i->memory_count)
            return true;
    return false;
}

/* A load in between may be of the target: where its operand is known at the pair's load it is
   looked at there, before the target's origins change. */
static void find_late(void) {
    for (int k = 0; k < pair_count; k++) {
        uint32_t written = pairs[k].load->registers_written;
        if (pairs[k].carried)
            continue;
        for (const struct instruction *i = pairs[k].load + 1; i < pairs[k].store; i++) {
            const struct pair *other = pair_of(i);
            pairs[k].late |= held_of(i) != NULL;
            if (is_part(&pairs[k])) { /* changes nothing */
                pairs[k].late |= other && !is_part(other);
                continue;
            }
            for (int m = 0; m < i->memory_count; m++)
                pairs[k].late |= i->memory[m].read && (address_uses(&i->memory[m]) & written);
            pairs[k].late |= other != NULL;
            written |= i->registers_written;
        }
    }
}

static bool parts_are_late(void) {
    for (int k = 0; k < pair_count; k++)
        if (is_part(&pairs[k]) && pairs[k].late)
            return true;
    return false;
}

static void find_dead(void) {
    for (int k = 0; k < pair_count; k++) {
        const struct instruction *store = pairs[k].store;
        uint64_t own = loaded_elements(&pairs[k]);
        pairs[k].spent =
            across_overwritten(store->pc + store->z.length, whole_element(pairs[k].element));
        if (own & ~pairs[k].spent)
            pairs[k].spent = 0;
        bool kept = pairs[k].carried || /* in registers, till it is stored */
                    !(pairs[k].aimed || may_be_left(&pairs[k]));
        pairs[k].dead = pairs[k].spent && kept;
        for (const struct instruction *i = pairs[k].store + 1; i < trace + step_count; i++) {
            if (role_of(i) == BRANCH)
                break;
            const struct pair *next = pair_of(i);
            uint64_t value = whole_element(pairs[k].element);
            bool loads = next && next->load == i && next->element == pairs[k].element &&
                         (next->size >= pairs[k].size || is_part(next)) && !loads_lower(i);
            pairs[k].dead |= (loads || (!next && (wholly_written(i) & value))) && kept;
        }
    }
}

/* Whether the first steps of the trace are such a loop; live: flags, by instruction. */
static bool is_steady(int count) {
    step_count = count;
    used = 1u << RSP;
    possible = now.possible;
    assumed = 0;
    for (int s = 0; s < step_count; s++) {
        const struct instruction *i = &trace[s];
        if (role_of(i) == BRANCH || role_of(i) == JUMP)
            continue;
        if (!fits_steady(i))
            return false;
        for (int k = 0; k < i->memory_count; k++)
            if (check_of(i, &i->memory[k]) != CHECK_NONE && live[s])
                return false;
        used |= i->registers_used | i->registers_written;
    }
    find_pairs();
    find_held();
    if (!pair_count && !held_count)
        return false;
    find_late();
    if (parts_are_late() || !one_is_carried())
        return false;
    find_places();
    find_dead();
    varying = words_vary();
    patterned = !varying && !held_count && find_patterns();
    if (!patterned)
        constant_count = 0;
    return choose_registers() && others_are_defined();
}

void steady_begin(const uint32_t *flags_live, bool leads_back) {
    wraps = leads_back;
    leave_count = 0;
    live = flags_live;
    __builtin_memset(usual, 0, sizeof usual);
    __builtin_memset(steps, 0, sizeof steps);
    bool found = false;
    if (now.dirty && !(now.possible & 1ULL << ELEMENT_FLAGS) && !live[0]) {
        found = wraps && trace_count < STEPS && is_steady(trace_count);
        for (int last = trace_count - 1; last > 0 && !found; last--)
            found = last < STEPS && goes_back(&trace[last]) && is_steady(last);
    }
    if (!found)
        step_count = 0;
    dense = found && finds_undefined();
}

bool steady_is_dense(void) { return dense; }

void steady_step(int step) {
    if (step > step_count || !step_count)
        return;
    out.kept = 0; /* others come here */
    followed[step] = now.possible;
    if (!(undefined[step] & ~now.possible))
        usual[step] = out.at;
}

bool steady_agrees(const struct instruction *store) {
    const struct pair *p = pair_of(store);
    return store - trace >= step_count || (p && p->store == store && p->spent);
}

static void leave_by(uint8_t *jump, int step) {
    if (leave_count == LEAVES)
        fail("a loop is left in too many places");
    leaves[leave_count].jump = jump;
    leaves[leave_count].general = false;
    leaves[leave_count++].step = step;
}

static void leave_for_general(uint8_t *jump, int step) {
    leave_by(jump, step);
    leaves[leave_count - 1].general = true;
}

static void leave_by_all(uint8_t **jumps, int count, int step) {
    while (count--)
        leave_by(jumps[count], step);
}

static void emit_defined_check(const struct instruction *i, const struct memory *m, int step) {
    int first = cold_count;
    if (check_of(i, m) == CHECK_NONE || is_proved(m) || (expecting && pattern_is_defined(m)))
        return;
    emit_check_flags_dead(m, COLD_TOUCH);
    for (int k = first; k < cold_count; k++)
        leave_by(colds[k].patch, step);
    cold_count = first;
    prove(m, 0, 0);
}

/* Only when nothing can fail any more: the register may be part of the address. */
static void emit_pair_bits(const struct pair *p) {
    if (p->element < 16) {
        emit_take_bits(&p->load->memory[p->load->encoded], word, p->size == 8, 0);
        emit_to_context(&out, word, CTX_UNDEFINED + 8 * p->element);
    } else {
        emit_on_shadow(p->load);
        emit_bits_to_context(p->load);
    }
}

static void find_place(const struct memory *m, struct place *p, int step) {
    if (p->reg < 0 || p->steps || p->found)
        return;
    struct memory first = *m;
    first.displacement = p->displacement;
    emit_lea(&first, p->reg);
    leave_by(emit_origin_place(p->reg), step);
    p->found = true;
}

/* The register and the offset with the operand's place; found here if need be. */
static int emit_place(const struct memory *m, struct place *p, int step, int *offset) {
    *offset = p->reg < 0 ? 0 : (int)(m->displacement - p->displacement);
    if (p->reg < 0) {
        emit_lea(m, spare);
        leave_by(emit_origin_place(spare), step);
        return spare;
    }
    find_place(m, p, step);
    return p->reg;
}

/* The target's origins at `done` become those in the register. */
static struct differs *emit_target(const struct memory *to, int at, int size, int step, int done,
                                   int origin) {
    int offset, reg = emit_place(to, &places[at], step, &offset);
    struct differs *d = &differs[differ_count++];
    *d = (struct differs){.to = *to, .reg = reg, .offset = offset + done, .done = done,
                          .size = size, .origin = origin, .leave = step};
    d->jump = emit_compare_origin(reg, origin, size >= 8, d->offset);
    d->same = out.at;
    return d;
}

static uint8_t *emit_if_zero(int reg) { /* test reg, reg */
    emit8(&out, rex(1, reg, 0, reg));
    emit8(&out, 0x85);
    emit8(&out, 0xc0 | (reg & 7) << 3 | (reg & 7));
    return emit_short_jump(IF_ZERO);
}

/* Where a word is from means nothing if it is defined; what is undefined of up to 8 bytes is in
   `word` already. */
static uint8_t *emit_if_defined(const struct memory *from, int size, int done) {
    if (size <= 8)
        return emit_if_zero(word);
    emit_gs(from, true, 0); /* cmp qword gs:[from + done], 0 */
    emit8(&out, 0x83);
    emit_operand(from, 7, done);
    emit8(&out, 0);
    return emit_short_jump(IF_ZERO);
}

static void emit_part_bits(const struct memory *from, int reg) { /* movzx reg, gs:[from] */
    emit_gs(from, false, reg);
    emit8(&out, 0x0f);
    emit8(&out, from->size == 1 ? 0xb6 : 0xb7);
    emit_operand(from, reg, 0);
}

static uint8_t *emit_compare_part(const struct memory *to, int reg) { /* cmp gs:[to], reg */
    if (to->size == 2)
        emit8(&out, 0x66);
    emit_gs(to, false, reg);
    if (to->size == 1 && reg < 8 && to->base < 8 && to->index < 8)
        emit8(&out, 0x40); /* else the second byte of another register (SDM volume 2, 2.2.1.2) */
    emit8(&out, to->size == 1 ? 0x38 : 0x39);
    emit_operand(to, reg, 0);
    return emit_short_jump(IF_NOT_ZERO);
}

/* Leaves unless the word that the part stands in has the origin. */
static void emit_part_target(const struct memory *to, int origin, int step) {
    emit_lea(to, spare);
    uint8_t *odd = emit_part_place(spare, (int)to->size);
    if (odd)
        leave_by(odd, step);
    leave_by(emit_compare_origin(spare, origin, false, 0), step);
}

/* Of bytes nothing changes: their word has to have the origin already. */
static void emit_part_load(const struct pair *p, int step) {
    const struct memory *from = &p->load->memory[p->load->encoded];
    uint8_t *jumps[4];
    emit_part_bits(from, word);
    leave_by(emit_compare_part(&p->to, word), step);
    uint8_t *defined = emit_if_defined(from, p->size, 0);
    leave_by_all(jumps, emit_part_origin(from, spare, word, jumps), step);
    if (!p->dead) {
        emit_twice(word);
        emit_to_context(&out, word, CTX_ORIGIN_OF(p->element));
    }
    emit_part_target(&p->to, word, step);
    patch_jump(defined, out.at);
    if (p->dead)
        return;
    emit_part_bits(from, word);
    emit_to_context(&out, word, CTX_UNDEFINED + 8 * p->element);
}

/* Whether one of the pair's places is found for other steps as well. */
static bool is_used_later(const struct pair *p, int step) {
    return places[p->from_place].last > step || places[p->to_place].last > step;
}

/* Leaves unless all that one end of the pair is in has the origin, twice in the register. */
static void emit_odd_words(const struct pair *p, bool source, const struct memory *m, int step,
                           int origin) {
    int odd = source ? p->from_odd : p->to_odd, offset;
    struct memory whole = from_word(m, odd);
    struct place *at = &places[source ? p->from_place : p->to_place];
    int place = emit_place(&whole, at, step, &offset), size = p->size + (odd ? 4 : 0);
    for (int done = source ? 4 : 0, piece; done < size; done += piece) { /* the first is its own */
        struct mixed *m = &mixed[mixed_count++];
        piece = size - done >= 8 ? 8 : 4;
        *m = (struct mixed){.place = place, .offset = offset + done, .origin = origin, .step = step,
                            .size = piece};
        for (int byte = 0; byte < piece; byte++)
            if (done + byte >= odd && done + byte < odd + p->size)
                m->bytes |= 1 << byte;
        m->jump = emit_compare_origin(place, origin, piece == 8, m->offset);
        m->back = out.at;
    }
}

/* Leaves unless the bytes (bits) of the code in a register, which changes, have the origin. */
static int emit_bytes_of(int code, int bytes, int origin, uint8_t **leave) {
    int count = 0;
    uint8_t *by_byte = leave_by_byte(code);
    emit_compare_least(code); /* those with bytes of their own place are below */
    leave[count++] = emit_short_jump(IF_NOT_BELOW);
    uint8_t *own = emit_long_jump();
    patch_jump(by_byte, out.at);
    emit_op(&out, 0x8d, code, code, -(int64_t)ORIGIN_BYTE_CODES);
    patch_jump(own, out.at);
    emit8(&out, rex(1, code, 0, code)); /* imul code, code, ORIGIN_FOUR */
    emit8(&out, 0x6b);
    emit8(&out, 0xc0 | (code & 7) << 3 | (code & 7));
    emit8(&out, ORIGIN_FOUR);
    emit_context_op(&out, OP_ADD, code, CTX_FOUR_TABLE);
    for (int byte = 0; byte < 4; byte++)
        if (bytes >> byte & 1)
            leave[count++] = emit_compare_origin(code, origin, false, 4 * byte);
    return count;
}

static void emit_mixed(void) {
    for (const struct mixed *m = mixed; m < mixed + mixed_count; m++) {
        uint8_t *leave[10];
        int count = 0, code = RAX;
        while (code == m->place || code == m->origin || code == RSP)
            code++;
        patch_jump(m->jump, out.at);
        emit_to_context(&out, code, CTX_SCRATCH);
        for (int done = 0; done < m->size; done += 4) {
            emit_take_origin(m->place, code, m->offset + done, false);
            uint8_t *differs = emit_compare_origin(m->place, m->origin, false, m->offset + done);
            uint8_t *same = emit_long_jump();
            patch_jump(differs, out.at);
            count += emit_bytes_of(code, m->bytes >> done & 15, m->origin, leave + count);
            patch_jump(same, out.at);
        }
        emit_from_context(&out, code, CTX_SCRATCH);
        emit_jump(&out, m->back);
        for (int k = 0; k < count; k++)
            patch_jump(leave[k], out.at);
        emit_from_context(&out, code, CTX_SCRATCH);
        leave_by(emit_long_jump(), m->step);
    }
}

/* Where an end begins inside a word nothing changes: all that both are in has one origin. */
static void emit_odd_load(const struct pair *p, int step) {
    const struct memory *from = &p->load->memory[p->load->encoded];
    struct memory whole = from_word(from, p->from_odd), to = from_word(&p->to, p->to_odd);
    struct place *at = &places[p->from_place];
    if (!p->late) {
        find_place(&whole, at, step);
        find_place(&to, &places[p->to_place], step);
    }
    uint8_t *defined = p->late || p->size > 8 ? NULL : emit_if_defined(from, p->size, 0);
    int offset, place = emit_place(&whole, at, step, &offset);
    emit_take_origin(place, word, offset, false);
    emit_compare_least(word);
    leave_by(emit_short_jump(IF_BELOW), step);
    leave_by(leave_by_byte(word), step);
    emit_twice(word);
    emit_odd_words(p, true, from, step, word);
    for (int done = 0; done < p->size && !p->dead; done += 8)
        emit_to_context(&out, word, CTX_ORIGIN_OF(p->element) + done);
    if (!p->late)
        emit_odd_words(p, false, &p->to, step, word);
    if (defined)
        patch_jump(defined, out.at);
}

static void emit_even_load(struct pair *p, int step) {
    const struct memory *from = &p->load->memory[p->load->encoded];
    int offset, place, piece = p->size >= 8 ? 8 : 4;
    if (!p->late && (p->size > 8 || is_used_later(p, step))) { /* not only where it is undefined */
        find_place(from, &places[p->from_place], step);
        find_place(&p->to, &places[p->to_place], step);
    }
    for (int done = 0; done < p->size; done += 8) {
        enum word expected = word_now(p->load, done);
        uint8_t *defined = p->late || (expected > WORD_DEFINED && !varying && !is_flat(p))
                               ? NULL /* faster, and costs little where it is defined after all */
                               : emit_if_defined(from, p->size, done);
        place = emit_place(from, &places[p->from_place], step, &offset);
        emit_take_origin(place, word, offset + done, piece == 8);
        if (!p->dead) {
            if (piece == 4)
                emit_twice(word);
            emit_to_context(&out, word, CTX_ORIGIN_OF(p->element) + done);
        }
        struct differs *d =
            p->late ? NULL : emit_target(&p->to, p->to_place, p->size, step, done, word);
        if (p->late && expected == WORD_DEFINED)
            defined = emit_if_defined(from, 16, done);
        enum word usual_word = is_flat(p) ? WORD_UNKNOWN : expected; /* the next may be another */
        emit_unless_recorded(word, piece == 8, from, done, usual_word, &p->none[done / 8]);
        if (d)
            d->same = out.at;
        if (defined)
            patch_jump(defined, out.at);
    }
}

static void emit_pair_load(struct pair *p, int step) {
    const struct memory *from = &p->load->memory[p->load->encoded];
    p->load_leave = step;
    for (const struct instruction *i = p->load + 1; i < p->store && !p->late; i++)
        for (int k = 0; k < i->memory_count; k++)
            if (i->memory[k].read)
                emit_defined_check(i, &i->memory[k], step);
    for (int done = 0; done < p->size && !p->aimed; done += 8) {
        emit_take_bits(from, word, p->size >= 8, done);
        leave_by(emit_compare_bits(&p->to, word, p->size >= 8, done), step);
    }
    p->odd ? emit_odd_load(p, step) : emit_even_load(p, step);
    if (!p->dead)
        emit_pair_bits(p);
}

static void emit_pair_store(struct pair *p, int step) {
    if (p->odd && p->late) {
        emit_from_context(&out, word, CTX_ORIGIN_OF(p->element));
        emit_odd_words(p, false, &p->store->memory[p->store->encoded], step, word);
        return;
    }
    const struct memory *to = &p->store->memory[p->store->encoded];
    for (int done = 0; p->aimed && done < p->size; done += 8) {
        emit_from_context(&out, word, bits_of_element(p->element) + done);
        leave_by(emit_compare_bits(to, word, true, done), step);
    }
    for (int done = 0; p->late && done < p->size; done += 8) {
        emit_from_context(&out, word, CTX_ORIGIN_OF(p->element) + done);
        emit_target(to, p->to_place, p->size, step, done, word);
    }
}

/* What the registers bring becomes that of the pair's own. */
static void emit_carried(const struct pair *p) {
    emit_to_context(&out, carried_bits, CTX_UNDEFINED + 8 * p->element);
    uint8_t *defined = emit_if_zero(carried_bits);
    if (p->size < 8)
        emit_twice(carried_origin);
    emit_to_context(&out, carried_origin, CTX_ORIGIN_OF(p->element));
    patch_jump(defined, out.at);
}

static void emit_carried_load(struct pair *p, int step) {
    const struct memory *from = &p->load->memory[p->load->encoded];
    uint8_t *jumps[4];
    p->load_leave = step;
    if (is_part(p))
        emit_part_bits(from, carried_bits);
    else
        emit_take_bits(from, carried_bits, p->size == 8, 0);
    uint8_t *defined = emit_if_zero(carried_bits);
    if (is_part(p)) {
        leave_by_all(jumps, emit_part_origin(from, spare, carried_origin, jumps), step);
    } else {
        struct place *at = &places[p->from_place];
        bool found = at->found;
        int offset, place = emit_place(from, at, step, &offset);
        emit_take_origin(place, carried_origin, offset, p->size == 8);
        emit_unless_recorded(carried_origin, p->size == 8, from, 0, word_now(p->load, 0),
                             &p->none[0]);
        at->found = found; /* it has not been where the word is defined */
    }
    patch_jump(defined, out.at);
}

static void emit_carried_store(struct pair *p, int step) {
    const struct memory *to = &p->store->memory[p->store->encoded];
    leave_by(is_part(p) ? emit_compare_part(to, carried_bits)
                        : emit_compare_bits(to, carried_bits, p->size == 8, 0),
             step);
    uint8_t *defined = emit_if_zero(carried_bits);
    if (is_part(p)) {
        emit_part_target(to, carried_origin, step);
    } else {
        bool found = places[p->to_place].found;
        emit_target(to, p->to_place, p->size, step, 0, carried_origin);
        places[p->to_place].found = found;
    }
    patch_jump(defined, out.at);
    if (!p->dead)
        emit_carried(p);
}

static void emit_held_store(const struct held *h, int step) {
    const struct memory *to = &h->store->memory[h->store->encoded];
    find_place(to, &places[h->place], step);
    for (int done = 0; done < h->size; done += 8) {
        int bits = bits_of_element(h->element);
        emit_from_context(&out, word, bits + done);
        leave_by(emit_compare_bits(to, word, h->size >= 8, done), step);
        uint8_t *defined = emit_if_zero(word);
        emit_from_context(&out, word, CTX_ORIGIN_OF(h->element) + done);
        struct differs *d = emit_target(to, h->place, h->size, step, done, word);
        d->in_context = true;
        d->bits = bits;
        patch_jump(defined, out.at);
    }
}

/* Compares the undefined bits of the words at one end of a pair with what is expected. */
static void emit_expected_bits(const struct pair *p, const struct memory *m, int step,
                               uint64_t *held) {
    struct pattern now;
    for (int done = 0; done < p->size; done += 8) {
        const struct pattern *w = &p->patterns[done / 8];
        struct memory part = *m;
        part.displacement += done;
        part.size = p->size >= 8 ? 8 : 4;
        if (pattern_known(m, done, &now) || (!w->bits && is_proved(&part)))
            continue;
        leave_for_general(emit_pattern_bits(m, done, w, word, held), step);
        pattern_learn(m, done, w, false);
    }
}

/* The same of their origins. */
static void emit_expected_origins(const struct pair *p, const struct memory *m, struct place *at,
                                  int step) {
    struct pattern now;
    for (int done = 0; done < p->size; done += 8) {
        const struct pattern *w = &p->patterns[done / 8];
        if (w->constant < 0 || (pattern_known(m, done, &now) && now.compared))
            continue;
        int offset, place = emit_place(m, at, step, &offset);
        uint8_t *jump = emit_pattern_origin(place, offset + done, p->size, w, word);
        if (m != &p->load->memory[p->load->encoded] || other_count == OTHERS)
            leave_for_general(jump, step);
        else
            others[other_count++] =
                (struct other){jump, w, place, offset + done, p->size, step};
        pattern_learn(m, done, w, true);
    }
}

static void emit_expected_load(struct pair *p, int step) {
    const struct memory *from = &p->load->memory[p->load->encoded];
    uint64_t held = 0;
    emit_expected_bits(p, from, step, &held);
    if (!p->aimed)
        emit_expected_bits(p, &p->to, step, &held);
    emit_expected_origins(p, from, &places[p->from_place], step);
    if (!p->late)
        emit_expected_origins(p, &p->to, &places[p->to_place], step);
    if (p->dead)
        return;
    for (int done = 0; done < p->size; done += 8) {
        if (p->patterns[done / 8].constant < 0)
            continue;
        const struct constant *c = &constants[p->patterns[done / 8].constant];
        if (c->reg < 0)
            emit_constant_origin(c, word);
        emit_to_context(&out, c->reg < 0 ? word : c->reg, CTX_ORIGIN_OF(p->element) + done);
    }
    emit_pair_bits(p);
}

static void emit_expected_store(const struct pair *p, int step) {
    const struct memory *to = &p->store->memory[p->store->encoded];
    uint64_t held = 0;
    if (!p->late)
        return;
    emit_expected_bits(p, to, step, &held);
    emit_expected_origins(p, to, &places[p->to_place], step);
}

static void emit_step_branch(int step) {
    uint8_t *jump = emit_short_jump(trace[step].z.opcode & 15);
    if (branch_step(&trace[step]) >= 0)
        forward[step] = jump;
    else if (goes_back(&trace[step]))
        patch_jump(jump, again);
    else
        leave_by(jump, step); /* to the branch itself: the flags are still the same */
}

static void emit_step(int step) {
    const struct instruction *i = &trace[step];
    now.pc = i->pc;
    if (role_of(i) == BRANCH)
        emit_step_branch(step);
    if (role_of(i) != PLAIN) /* a jump leads to the next step */
        return;
    struct pair *p = (struct pair *)(uintptr_t)pair_of(i);
    if (p && p->carried)
        p->load == i ? emit_carried_load(p, step) : emit_carried_store(p, step);
    else if (p && p->load == i && is_part(p))
        emit_part_load(p, step);
    else if (p && p->load == i)
        expecting ? emit_expected_load(p, step) : emit_pair_load(p, step);
    else if (p)
        expecting ? emit_expected_store(p, step) : emit_pair_store(p, step);
    const struct held *h = held_of(i);
    if (h)
        emit_held_store(h, step);
    for (int k = 0; k < i->memory_count && !p && !h; k++)
        emit_defined_check(i, &i->memory[k], step);
    note_place(i->pc, spilled, false);
    emit_plain(i);
    forget_registers(i);
    now.possible = undefined[step];
    if (!p)
        dirty_overwritten(i);
    else if (p->store == i && p->spent && (!p->dead || p->carried))
        dirty_drop(p->spent);
    for (int k = 0; k < place_count; k++) {
        bool known = true;
        int64_t by = moves(&places[k], i, &known);
        if (by && places[k].steps && places[k].reg >= 0)
            emit_op(&out, 0x8d, places[k].reg, places[k].reg, by);
        if (by || !known || places[k].last <= step)
            places[k].found = false;
    }
    if (expecting)
        patterns_follow(i);
}

static void emit_departure(int step) {
    for (int k = 0; k < pair_count; k++)
        if (pairs[k].carried && is_under_way(&pairs[k], step))
            emit_carried(&pairs[k]);
    emit_registers(spilled, emit_unspill);
    emit_jump(&out, usual[step]);
}

bool steady_goes_on(const struct instruction *branch) {
    return step_count && goes_back(branch) && branch - trace <= step_count &&
           !(now.possible & ~possible);
}

bool emit_steady_end(void) {
    if (!step_count || step_count != trace_count || (now.possible & ~possible))
        return false;
    struct cold *c = cold_add(COLD_DIRTY, emit_long_jump());
    c->target = trace[0].pc;
    c->steady = true;
    return true;
}

/* Jumps taken where more than the lowest bytes of such a register is undefined. */
static int leave_by_upper(uint64_t set, int size, uint8_t **leave) {
    int count = 0;
    for (; set; set &= set - 1) {
        emit8(&out, 0x64); /* test qword fs:[bits], -(1 << 8 * size) */
        emit8(&out, 0x48);
        emit8(&out, 0xf7);
        emit_memory(&out, 0, -1, -1, 1, CTX_UNDEFINED + 8 * __builtin_ctzll(set));
        emit32(&out, -(1LL << 8 * size));
        leave[count++] = emit_short_jump(IF_NOT_ZERO);
    }
    return count;
}

/* Jumps taken where a register that the loop stores has an origin that holds nowhere. */
static int leave_by_unrecorded(uint8_t **leave) {
    int count = 0;
    for (const struct held *h = held; h < held + held_count; h++)
        for (int done = 0; done < h->size; done += 4) {
            emit8(&out, 0x64); /* cmp dword fs:[bits], 0 */
            emit8(&out, 0x83);
            emit_memory(&out, 7, -1, -1, 1, bits_of_element(h->element) + done);
            emit8(&out, 0);
            uint8_t *defined = emit_short_jump(IF_ZERO);
            emit8(&out, 0x64); /* cmp dword fs:[origin], ORIGIN_LEAST */
            emit8(&out, 0x81);
            emit_memory(&out, 7, -1, -1, 1, CTX_ORIGIN_OF(h->element) + done);
            emit32(&out, ORIGIN_LEAST);
            leave[count++] = emit_short_jump(IF_BELOW);
            patch_jump(defined, out.at);
        }
    return count;
}

void emit_into_steady(int step, bool noted) {
    int count = 0;
    uint8_t *odd[PLACES], *other[16 + PAIRS + 8 * HELD];
    if (step > step_count || !steps[step] || (followed[step] & ~undefined[step] & ~assumed))
        return;
    out.kept = 0;
    int holding = emit_compare_words(assumed & followed[step], other);
    for (int size = 1; size <= 2; size++)
        holding += leave_by_upper(lower[size] & followed[step], size, other + holding);
    holding += leave_by_unrecorded(other + holding);
    emit_registers(spilled, emit_spill);
    if (noted)
        note_place(trace[step].pc, spilled, false);
    for (int k = 0; k < place_count; k++) {
        if (!places[k].steps || places[k].reg < 0)
            continue;
        struct memory m = {.base = places[k].base, .index = places[k].index, .scale = places[k].scale,
                           .displacement = places[k].displacement, .size = 8};
        emit_lea(&m, places[k].reg);
        odd[count++] = emit_origin_place(places[k].reg);
    }
    emit_constants();
    if (patterned)
        emit_context_constant(&out, patience, PATIENCE);
    emit_jump(&out, steps[step]);
    for (int k = 0; k < count; k++)
        patch_jump(odd[k], out.at);
    emit_registers(spilled, emit_unspill);
    for (int k = 0; k < holding; k++)
        patch_jump(other[k], out.at);
}

/* Not where code relies on what was done before the step. */
static bool may_be_entered(int step) {
    for (int k = 0; k < place_count; k++)
        if (places[k].found)
            return false;
    return !is_open(step) && !live[step];
}

/* All steps, and the way back. */
static void emit_round(void) {
    note_place(trace[0].pc, spilled, PLACE_EXACT);
    forget_proofs();
    patterns_forget();
    for (int s = 0; s < step_count; s++) {
        for (int b = 0; b < s; b++)
            if (role_of(&trace[b]) == BRANCH && branch_step(&trace[b]) == s) {
                patch_jump(forward[b], out.at);
                forget_proofs();
                patterns_forget();
                for (int k = 0; k < place_count; k++)
                    places[k].found = false;
            }
        if (!expecting)
            steps[s] = may_be_entered(s) ? out.at : NULL;
        emit_step(s);
    }
    if (step_count == trace_count) {
        emit_jump(&out, again);
    } else {
        patch_jump(emit_short_jump(trace[step_count].z.opcode & 15), again);
        emit_departure(step_count); /* to the branch itself, which is not taken there either */
    }
}

static void emit_patience(int extension, int value) { /* <op> dword fs:[patience], value */
    emit8(&out, 0x64);
    emit8(&out, 0x83);
    emit_memory(&out, extension, -1, -1, 1, patience);
    emit8(&out, value);
}

/* Jumps taken in all but one of about PAUSE rounds, by where a register has stepped to: a count
   in memory would make each round wait for the one before. NULL: none does. */
static uint8_t *emit_unless_time(void) {
    for (int k = 0; k < place_count; k++) {
        int64_t stride = places[k].reg >= 0 ? stride_of(&places[k]) : 0, window = 4;
        stride = stride < 0 ? -stride : stride;
        if (!stride || stride > 1 << 16)
            continue;
        while (window < stride)
            window *= 2;
        if (places[k].reg >= 8)
            emit8(&out, 0x41);
        emit8(&out, 0xf7); /* test reg, the bits between */
        emit8(&out, 0xc0 | (places[k].reg & 7));
        emit32(&out, (PAUSE - 1) * window);
        return emit_short_jump(IF_NOT_ZERO);
    }
    return NULL;
}

/* Where a round of the usual version ends: the next one is as expected, mostly. Where too many
   were not (elements from here and there), some go on as they are. */
static void emit_next_round(void) {
    static unsigned next;
    enum { GREATER = 15, SUBTRACT = 5, COMPARE = 7 };
    const uint8_t *expected = again;
    patience = CTX_PATIENCE + 8 * (int)(next++ % PATIENCE_COUNT);
    note_place(trace[0].pc, spilled, PLACE_EXACT);
    again = out.at;
    emit_patience(COMPARE, 0);
    uint8_t *paused = emit_short_jump(IF_SIGN);
    emit_patience(SUBTRACT, 1);
    emit_jump(&out, expected);
    patch_jump(paused, out.at);
    uint8_t *usual_way = emit_unless_time();
    if (!usual_way) {
        emit_patience(SUBTRACT, 1);
        emit_patience(COMPARE, -PAUSE);
        usual_way = emit_short_jump(GREATER);
    }
    emit_context_constant(&out, patience, PATIENCE);
    emit_jump(&out, expected);
    patch_jump(usual_way, out.at);
}

/* A source with another origin: mostly all that follow have it as well. */
static void emit_others(void) {
    for (const struct other *o = others; o < others + other_count; o++) {
        patch_jump(o->jump, out.at);
        emit_new_constant(o->place, o->offset, o->size, o->pattern, word, spare);
        leave_for_general(emit_long_jump(), o->step);
    }
}

void emit_steady(void) {
    for (int s = 0; s <= step_count; s++)
        if (!usual[s] || !step_count)
            return;
    enum { LINE = 64 };
    struct translation last = now;
    out.kept = 0;
    while ((uintptr_t)out.at % LINE) /* nobody comes by here */
        emit8(&out, 0x90);
    again = out.at;
    other_count = differ_count = mixed_count = 0;
    expecting = patterned;
    if (patterned) {
        emit_round();
        emit_next_round();
    }
    expecting = false;
    emit_round();
    emit_others();
    emit_mixed();
    for (int k = 0; k < pair_count; k++)
        for (int done = 0; done < pairs[k].size; done += 8) {
            if (is_part(&pairs[k]) || pairs[k].odd)
                break;
            uint8_t *jumps[3];
            int count = emit_unrecorded(&pairs[k].none[done / 8], jumps);
            leave_by_all(jumps, count, pairs[k].load_leave);
        }
    for (const struct differs *d = differs; d < differs + differ_count; d++) {
        uint8_t *jumps[4];
        patch_jump(d->jump, out.at);
        int count = emit_change_origins(d->reg, d->origin, d->offset, d->size >= 8 ? 8 : 4,
                                        d->in_context ? NULL : &d->to, d->bits, d->done, jumps);
        emit_jump(&out, d->same);
        if (d->origin == carried_origin && count == 2) { /* of the second half: it stands first then */
            patch_jump(jumps[--count], out.at);
            emit_rotate(carried_origin);
            leave_by(emit_long_jump(), d->leave);
        }
        leave_by_all(jumps, count, d->leave);
    }
    for (int s = 0; s < step_count; s++) {
        bool left = false;
        for (int k = 0; k < leave_count; k++)
            if (leaves[k].step == s) {
                bool inside = leaves[k].general && steps[s];
                patch_jump(leaves[k].jump, inside ? steps[s] : out.at);
                left |= !inside;
            }
        if (left)
            emit_departure(s);
    }
    now = last;
}

/* Undefined values in registers that the psABI leaves dead after a call, and that the
   caller reads behind it all the same: compilers keep values there across calls of
   functions whose code they see (interprocedural register allocation), arguments of the
   next call among them. Returns drop the bits of such registers; where the code behind a
   call reads one, the call leaves by C, which notes the bits, and comes back by C, which
   puts them back if the register still has its value. */
#include "plan.h"
#include "translate.h"
#include "../engine.h"

/* Elements that the instruction overwrites as a whole: of vectors the upper halves as well where
   it is encoded by VEX. Older forms may leave a part as it was though they are said to write
   only. */
static uint64_t overwritten(const struct instruction *i) {
    uint64_t set = 0;
    int lane, rule = rule_of(i, &lane);
    bool legacy = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_LEGACY;
    bool moves = moves_whole(i) && (i->memory_count || i->z.mnemonic != ZYDIS_MNEMONIC_MOVSD);
    bool part = i->mask || (legacy && !moves && (rule == RULE_V_SCALAR || rule == RULE_V_ONE ||
                                                 rule == RULE_SAME));
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
        bool whole = e >= ELEMENT_VECTOR ? !part && !(o->actions & ZYDIS_OPERAND_ACTION_MASK_READ)
                                         : o->size >= 32;
        if (e >= 0 && whole && (o->actions & ZYDIS_OPERAND_ACTION_WRITE))
            set |= legacy ? 1ULL << e : whole_element(e);
    }
    return set;
}

/* Registers that hold arguments (psABI 3.2.3). */
static const uint64_t arguments = 1u << RDI | 1u << RSI | 1u << RDX | 1u << RCX | 3u << 8 |
                                  0xffULL << ELEMENT_VECTOR;

/* Ways that are still to be followed, in turn and each a few instructions at a time, and branches
   that were passed with what was open there. */
struct search {
    struct way {
        gaddr pc;
        uint64_t set;
    } ways[32], passed[64];
    int first, count, passed_count;
};

static bool add_way(struct search *s, gaddr pc, uint64_t set) {
    enum { WAYS = sizeof s->ways / sizeof *s->ways };
    if (s->count == WAYS)
        return false;
    s->ways[(s->first + s->count++) % WAYS] = (struct way){pc, set};
    return true;
}

static struct way next_way(struct search *s) {
    struct way w = s->ways[s->first];
    s->first = (s->first + 1) % (int)(sizeof s->ways / sizeof *s->ways);
    s->count--;
    return w;
}

/* Whether the way has come there before, and nothing new is open. */
static bool was_passed(struct search *s, gaddr pc, uint64_t set) {
    for (int k = 0; k < s->passed_count; k++)
        if (s->passed[k].pc == pc && !(set & ~s->passed[k].set))
            return true;
    if (s->passed_count < (int)(sizeof s->passed / sizeof *s->passed))
        s->passed[s->passed_count++] = (struct way){pc, set};
    return false;
}

enum { TURN = 24 };

static uint64_t read_from(gaddr pc, uint64_t set, int ahead, bool calls) {
    enum { INSIDE = 16 };
    struct search s = {.ways = {{pc, set}}, .count = 1};
    struct instruction i;
    uint64_t found = 0;
    while (ahead > 0 && s.count && set & ~found) {
        struct way way = next_way(&s);
        uint64_t left = way.set & ~found;
        pc = way.pc;
        for (int turn = TURN; ahead > 0 && left; ahead--) {
            struct mapping m;
            if (!turn-- && add_way(&s, pc, left))
                break;
            if (!memory_lookup(pc, &m) || (m.protection & 5) != 5 || m.end - pc < 15)
                break;
            decode_again(&i, pc, 15);
            enum role role = role_of(&i);
            if (!i.valid || (role != PLAIN && role != BRANCH && role != JUMP && role != CALL))
                break;
            uint64_t read = plan_inputs(&i) & left;
            if (role == CALL && calls && i.operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
                read |= read_from(branch_target(&i), left & arguments, INSIDE, false);
            found |= read;
            left &= ~read & ~overwritten(&i);
            if (role == BRANCH && was_passed(&s, pc, left))
                break;
            if (role == BRANCH)
                add_way(&s, branch_target(&i), left);
            pc = role == JUMP ? branch_target(&i) : pc + i.z.length;
        }
    }
    return found;
}

uint64_t across_read(gaddr pc, uint64_t set) {
    enum { AHEAD = 600 };
    return read_from(pc, set, AHEAD, true);
}

/* What a function may look at that it was called with. */
static const uint64_t handed_over = ~RETURN_DEAD | arguments | 0xffULL << ELEMENT_UPPER;

uint64_t across_overwritten(gaddr pc, uint64_t set) {
    enum { AHEAD = 240 };
    struct search s = {.ways = {{pc, set}}, .count = 1};
    struct instruction i;
    int ahead = AHEAD;
    while (s.count && set) {
        struct way way = next_way(&s);
        uint64_t left = way.set & set;
        for (pc = way.pc; left; ahead--) {
            struct mapping m;
            bool known = ahead > 0 && !replaced_at(pc) && memory_lookup(pc, &m) &&
                         (m.protection & 5) == 5 && m.end - pc >= 15;
            if (known)
                decode_again(&i, pc, 15);
            enum role role = known && i.valid ? role_of(&i) : BROKEN;
            bool direct = role == JUMP || (role == CALL && i.operands[0].type ==
                                                               ZYDIS_OPERAND_TYPE_IMMEDIATE);
            gaddr next = pc + i.z.length;
            if (role == RETURN) {
                set &= ~left | RETURN_DEAD;
                break;
            }
            if (role != PLAIN && role != BRANCH && !direct) {
                set &= ~left;
                break;
            }
            set &= ~(plan_inputs(&i) & left);
            left &= set & ~overwritten(&i);
            if (role == BRANCH && was_passed(&s, pc, left))
                break;
            if (role == BRANCH || role == CALL) /* behind a call as well: see above */
                set &= add_way(&s, next, left) ? ~0ULL : ~left;
            left &= role == CALL ? set & handed_over : set;
            pc = role == PLAIN ? next : branch_target(&i);
        }
    }
    return set;
}

/* Vector registers keep the guest's values while C runs. */
static void value_of(struct context *c, int element, uint64_t value[2]) {
    value[0] = value[1] = 0;
    if (element < ELEMENT_VECTOR) {
        value[0] = c->registers[element];
        return;
    }
    uint64_t *v = value;
#define READ(n)                                                                               \
    case n:                                                                                   \
        __asm__ volatile("movups %%xmm" #n ", (%0)" : : "r"(v) : "memory");                   \
        break;                                                                                \
    case n + 16: /* who has bits there has AVX */                                             \
        __asm__ volatile("vextractf128 $1, %%ymm" #n ", (%0)" : : "r"(v) : "memory");         \
        break;
    switch (element - ELEMENT_VECTOR) {
        READ(2) READ(3) READ(4) READ(5) READ(6) READ(7) READ(8)
        READ(9) READ(10) READ(11) READ(12) READ(13) READ(14) READ(15)
    }
#undef READ
}

static uint64_t *bits_of(struct context *c, int element) {
    return element < ELEMENT_VECTOR  ? &dirty_words(c)[element]
           : element < ELEMENT_UPPER ? dirty_vector(c, element - ELEMENT_VECTOR)
                                     : dirty_vector(c, element - ELEMENT_UPPER) + 2;
}

void across_keep(struct context *c, gaddr next, uint64_t set) {
    gaddr sp = c->registers[RSP];
    while (c->across_count && c->across[c->across_count - 1].stack_pointer <= sp)
        c->across_count--;
    if (c->across_count == ACROSS)
        return; /* in deep recursion the outermost are known */
    struct across *a = &c->across[c->across_count++];
    a->next = next;
    a->stack_pointer = sp;
    a->count = 0;
    for (; set && a->count < ACROSS_REGISTERS; set &= set - 1) {
        int e = __builtin_ctzll(set);
        const uint64_t *bits = bits_of(c, e);
        bool wide = e >= ELEMENT_VECTOR;
        if (!bits[0] && !(wide && bits[1]))
            continue;
        struct across_register *r = &a->registers[a->count++];
        value_of(c, e, r->value);
        r->bits[0] = bits[0];
        r->bits[1] = wide ? bits[1] : 0;
        copy_bytes(r->origins, dirty_origins(c, e), sizeof r->origins);
        r->element = (uint32_t)e;
    }
}

void across_return(struct context *c) {
    gaddr sp = c->registers[RSP];
    while (c->across_count && c->across[c->across_count - 1].stack_pointer < sp)
        c->across_count--;
    if (!c->across_count)
        return;
    const struct across *a = &c->across[c->across_count - 1];
    if (a->stack_pointer != sp || a->next != c->pc)
        return;
    c->across_count--;
    for (uint32_t k = 0; k < a->count; k++) {
        const struct across_register *r = &a->registers[k];
        uint64_t value[2], *bits = bits_of(c, (int)r->element);
        value_of(c, (int)r->element, value);
        if (value[0] != r->value[0] || value[1] != r->value[1])
            continue;
        bits[0] = r->bits[0];
        if (r->element >= ELEMENT_VECTOR)
            bits[1] = r->bits[1];
        copy_bytes(dirty_origins(c, (int)r->element), r->origins, sizeof r->origins);
        c->dirty |= 1ULL << r->element;
    }
}

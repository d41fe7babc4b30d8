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
    uint64_t set = 0, inputs = plan_inputs(i); /* not what pxor zeroes */
    int lane, rule = rule_of(i, &lane);
    bool legacy = i->z.encoding == ZYDIS_INSTRUCTION_ENCODING_LEGACY;
    bool moves = moves_whole(i) && (i->memory_count || i->z.mnemonic != ZYDIS_MNEMONIC_MOVSD);
    bool part = i->mask || (legacy && !moves && (rule == RULE_V_SCALAR || rule == RULE_V_ONE ||
                                                 rule == RULE_SAME));
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
        bool whole = e >= ELEMENT_VECTOR ? !part && (!(o->actions & ZYDIS_OPERAND_ACTION_MASK_READ) ||
                                                     !(inputs >> e & 1))
                                         : o->size >= 32;
        bool alone = e >= 0 && e != ELEMENT_X87 && !(1ULL << e & ELEMENTS_SHARED);
        if (alone && whole && (o->actions & ZYDIS_OPERAND_ACTION_WRITE))
            set |= legacy ? 1ULL << e : whole_element(e);
    }
    return set;
}

/* Registers that hold arguments (psABI 3.2.3). */
static const uint64_t integer_arguments = 1u << RDI | 1u << RSI | 1u << RDX | 1u << RCX | 3u << 8;
static const uint64_t arguments =
    integer_arguments | 0xffULL << ELEMENT_VECTOR | 0xffULL << ELEMENT_UPPER;

/* General registers that a function keeps for its caller (psABI 3.2.1). */
static const uint64_t preserved = 1u << RBX | 1u << RBP | 15u << 12;

/* --- what the code ahead does with registers --- */

/* One instruction, as far as it counts here. */
struct glance {
    gaddr pc, target; /* of a direct branch, jump or call; 0: none */
    uint64_t read, overwritten;
    uint64_t code, code_end; /* the bytes there and from the eighth on, to know it again */
    uint8_t length, role;
    bool by_slot;    /* target is a fixed place that another jump or call goes by */
    uint16_t set_anew; /* general registers that it sets or partly sets without reading them */
    uint16_t aside;    /* and those that it names, but makes no use of */
    uint8_t pushed;      /* a general register other than RAX that is kept for callers, or 0 */
    bool counts_vectors; /* test al, al: how many vectors hold arguments of a variadic function */
    uint8_t vectors; /* what it sets AL to: before a call of a variadic function how many vectors
                        hold arguments (psABI 3.5.7) */
} __attribute__((aligned(64)));

/* Searches come by the same code again and again. */
enum { GLANCES = 1 << 15 };
static struct glance *glances;
/* And by the same functions: which arguments they read. */
static struct inside {
    gaddr pc;
    uint64_t read, handed_on; /* to functions that are not known */
    uint64_t first;           /* read by its first instruction, to know the code again */
    int depth;                /* of calls from where the search came */
} *insides;
enum { INSIDES = 1 << 12 };
static uint32_t glances_taken; /* by one search at a time; others do without, also in a child */

/* Ways that are still to be followed, in turn and each a few instructions at a time, and branches
   that were passed with what was open there. */
struct search {
    struct way {
        gaddr pc;
        uint64_t set;
    } ways[64], passed[256];
    int first, count, passed_count;
    bool takes_glances;
    bool vectors_live; /* the guest's are in the processor's registers: decoding must spare them */
    struct mapping code; /* that the last instruction stands in */
};

static void begin_search(struct search *s, gaddr pc, uint64_t set, bool vectors_live) {
    s->ways[0] = (struct way){pc, set};
    s->first = s->passed_count = 0;
    s->count = 1;
    s->vectors_live = vectors_live;
    s->takes_glances = !__atomic_exchange_n(&glances_taken, 1, __ATOMIC_ACQUIRE);
    s->code = (struct mapping){.end = 0};
    if (s->takes_glances && !glances) {
        glances = engine_alloc(GLANCES * sizeof *glances);
        insides = engine_alloc(INSIDES * sizeof *insides);
    }
}

static void end_search(const struct search *s) {
    if (s->takes_glances)
        __atomic_store_n(&glances_taken, 0, __ATOMIC_RELEASE);
}

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

/* Whether a way has come there before, and nothing new is open; else that is noted. */
static bool was_passed(struct way *passed, int *count, int most, struct way now) {
    for (int k = 0; k < *count; k++)
        if (passed[k].pc == now.pc && !(now.set & ~passed[k].set))
            return true;
    if (*count < most)
        passed[(*count)++] = now;
    return false;
}

static bool comes_again(struct search *s, gaddr pc, uint64_t set) {
    return was_passed(s->passed, &s->passed_count, (int)(sizeof s->passed / sizeof *s->passed),
                      (struct way){pc, set});
}

/* General registers that the instruction sets, at least in part, whatever they hold: sbb of a
   register from itself spreads the carry, bsf leaves alone what it does not set. */
static uint16_t set_anew(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    bool to_register = o[0].type == ZYDIS_OPERAND_TYPE_REGISTER;
    bool alike = to_register && o[1].type == ZYDIS_OPERAND_TYPE_REGISTER &&
                 o[0].reg.value == o[1].reg.value;
    bool constant = to_register && o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    uint64_t set = 0;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_SBB:
        return alike ? (uint16_t)plan_outputs(i) : 0;
    case ZYDIS_MNEMONIC_BSF:
    case ZYDIS_MNEMONIC_BSR:
        return (uint16_t)plan_outputs(i);
    case ZYDIS_MNEMONIC_OR:
        return constant && o[1].imm.value.s == -1 ? (uint16_t)plan_outputs(i) : 0;
    case ZYDIS_MNEMONIC_AND:
        return constant && !o[1].imm.value.s ? (uint16_t)plan_outputs(i) : 0;
    default:
        break;
    }
    for (int k = 0; k < i->z.operand_count; k++)
        if (o[k].type == ZYDIS_OPERAND_TYPE_REGISTER && o[k].size < 32 &&
            o[k].actions & ZYDIS_OPERAND_ACTION_MASK_WRITE &&
            !(o[k].actions & ZYDIS_OPERAND_ACTION_MASK_READ))
            set |= 1ULL << (element_of(o[k].reg.value) & 63);
    return (uint16_t)(set & ~plan_inputs(i));
}

/* Those that it names, but makes no use of: to push one is the shortest way to make room. */
static uint16_t aside(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    bool one = o[0].type == ZYDIS_OPERAND_TYPE_REGISTER;
    if (i->z.meta.category == ZYDIS_CATEGORY_NOP || i->z.meta.category == ZYDIS_CATEGORY_WIDENOP)
        return 0xffff;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_PUSH)
        return one ? (uint16_t)plan_inputs(i) : 0;
    return i->z.mnemonic == ZYDIS_MNEMONIC_XCHG && one &&
                   o[1].type == ZYDIS_OPERAND_TYPE_REGISTER && o[0].reg.value == o[1].reg.value
               ? (uint16_t)plan_inputs(i)
               : 0;
}

static uint64_t word_at(gaddr a) {
    uint64_t word;
    __builtin_memcpy(&word, guest(a), sizeof word);
    return word;
}

/* BROKEN also where no code can be read. */
static struct glance look(struct search *s, gaddr pc) {
    enum { LONGEST = 15 };
    struct glance g = {.pc = pc, .role = BROKEN};
    struct glance *known = s->takes_glances ? &glances[(pc * 0x9e3779b97f4a7c15ULL) >> 49] : NULL;
    if ((pc < s->code.start || pc >= s->code.end) && !memory_lookup(pc, &s->code))
        s->code.end = 0;
    if (!s->code.end || (s->code.protection & 5) != 5 || s->code.end - pc < LONGEST)
        return g;
    if (known && known->pc == pc && known->code == word_at(pc) && known->code_end == word_at(pc + 7))
        return *known;
    struct instruction i;
    if (s->vectors_live)
        decode_here(&i, pc);
    else
        decode(&i, pc, LONGEST);
    if (!i.valid)
        return g;
    g.role = (uint8_t)role_of(&i);
    g.length = i.z.length;
    g.read = plan_inputs(&i);
    g.overwritten = overwritten(&i);
    if ((g.role == BRANCH || g.role == JUMP || g.role == CALL) &&
        i.operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
        g.target = branch_target(&i);
    else if (g.role == INDIRECT || g.role == CALL)
        g.target = transfer_slot_of(&i);
    if (i.z.mnemonic == ZYDIS_MNEMONIC_MOV && i.operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
        i.operands[0].reg.value == ZYDIS_REGISTER_EAX &&
        i.operands[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE && i.operands[1].imm.value.u <= 8)
        g.vectors = (uint8_t)i.operands[1].imm.value.u;
    g.set_anew = set_anew(&i);
    g.aside = aside(&i);
    if (i.z.mnemonic == ZYDIS_MNEMONIC_PUSH && g.aside & preserved)
        g.pushed = (uint8_t)__builtin_ctz(g.aside & preserved);
    g.counts_vectors = i.z.mnemonic == ZYDIS_MNEMONIC_TEST &&
                       i.operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
                       i.operands[0].reg.value == ZYDIS_REGISTER_AL;
    g.by_slot = g.role == INDIRECT ||
                (g.role == CALL && i.operands[0].type != ZYDIS_OPERAND_TYPE_IMMEDIATE);
    g.code = word_at(pc);
    g.code_end = word_at(pc + 7);
    if (known)
        *known = g;
    return g;
}

/* Whether registers for vectors are kept behind the test: the prologue of a variadic function. */
static bool is_variadic(struct search *s, gaddr pc) {
    enum { AHEAD = 6 };
    for (int n = 0; n < AHEAD; n++) {
        struct glance g = look(s, pc);
        if (g.role != PLAIN && g.role != BRANCH)
            return false;
        if (g.read >> ELEMENT_VECTOR & 0xff)
            return true;
        pc += g.length;
    }
    return false;
}

enum { SAVED = ELEMENT_FLAGS }; /* in the set of a way: registers that were pushed there */
static const uint64_t registers_alone = 0xffff | 0xffffULL << ELEMENT_VECTOR;

static void unset_found(struct unset *u, uint64_t found, gaddr where) {
    u->set |= found;
    for (; found; found &= found - 1)
        u->where[unset_index(__builtin_ctzll(found))] = where;
}

void across_unset(gaddr entry, uint64_t set, struct unset *u) {
    enum { AHEAD = 200, VECTORS_AHEAD = 60 };
    const uint64_t results = 1ULL << RAX | 3ULL << ELEMENT_VECTOR;
    struct search s;
    int ahead = AHEAD;
    bool again = false; /* what comes back to where registers would be marked */
    bool vectors = false;
    uint64_t wanted = registers_alone;
    *u = (struct unset){0};
    begin_search(&s, entry, set, false);
    for (int k = 0; k < UNSET_REGISTERS; k++)
        u->from[k] = set >> unset_element(k) & 1 ? entry : 0;
    while (s.count && ahead > 0) {
        struct way way = next_way(&s);
        gaddr pc = way.pc;
        uint64_t left = way.set & ~u->set;
        while ((left & wanted) && ahead-- > 0) {
            struct glance g = look(&s, pc);
            vectors |= ((g.read | g.overwritten) & ~0ULL << ELEMENT_VECTOR) != 0;
            if (ahead == AHEAD - VECTORS_AHEAD && !vectors) /* it computes with none */
                wanted &= 0xffff;
            if (g.role == RETURN && left & 1ULL << RAX && !u->returns)
                u->returns = pc;
            if (g.role != PLAIN && g.role != BRANCH && g.role != JUMP && g.role != CALL)
                break;
            if (g.counts_vectors && left & 1ULL << RAX && is_variadic(&s, pc + g.length))
                left &= ~(1ULL << RAX);
            uint64_t anew = g.set_anew | (g.overwritten & registers_alone);
            uint64_t read = g.read & left & wanted & ~(uint64_t)(g.set_anew | g.aside);
            unset_found(u, read, pc);
            left &= ~read & ~anew;
            if (g.pushed && !(left >> SAVED & 1ULL << g.pushed)) {
                int r = g.pushed;
                if (!u->from[r])
                    u->from[r] = pc + g.length;
                if (u->from[r] == pc + g.length)
                    left |= 1ULL << r & ~u->set;
                left |= 1ULL << (SAVED + r);
            }
            if (g.role == CALL)
                left &= ~results;
            bool jumps = g.role == BRANCH || g.role == JUMP;
            for (int k = 0; jumps && k < UNSET_REGISTERS; k++)
                again |= u->from[k] && g.target == u->from[k];
            if (g.role == BRANCH && comes_again(&s, pc, left))
                break;
            if (g.role == BRANCH && !add_way(&s, g.target, left))
                break;
            if (g.role == JUMP && symbols_is_entry(g.target)) /* a call at the end */
                break;
            pc = g.role == JUMP ? g.target : pc + g.length;
        }
    }
    end_search(&s);
    if (again) {
        u->set = 0;
        u->returns = 0;
    }
}

/* Where a jump or a call goes now, 0: that is not known. */
static gaddr leads_to(const struct glance *g) {
    return !g->by_slot ? g->target : g->target ? transfer_bound(g->target) : 0;
}

enum { TURN = 24 };

/* Arguments that the function there reads before it sets them; what it hands on counts two calls
   deep. What is not found out counts as not read: of what a caller leaves in registers that may
   hold arguments, most are none. */
static struct inside read_inside(struct search *caller, gaddr pc, int depth) {
    enum { STEPS = 96, WAYS = 16, PASSED = 32, DEPTH = 2 };
    struct inside *known = caller->takes_glances
                               ? &insides[(pc * 0x9e3779b97f4a7c15ULL) >> 52] : NULL;
    struct glance first = look(caller, pc);
    struct inside found = {.pc = pc, .first = first.read, .depth = depth};
    if (first.role == BROKEN)
        return found;
    if (known && known->pc == pc && known->depth <= depth && known->first == first.read)
        return *known;
    struct way ways[WAYS] = {{pc, arguments}}, passed[PASSED];
    int count = 1, passed_count = 0;
    for (int steps = STEPS; count && steps > 0;) {
        struct way w = ways[--count];
        for (w.set &= ~found.read; w.set && steps > 0; steps--) {
            struct glance g = look(caller, w.pc);
            bool goes = g.role == JUMP || g.role == CALL || g.role == INDIRECT;
            gaddr to = goes ? leads_to(&g) : 0;
            if (g.role != PLAIN && g.role != BRANCH && !goes)
                break;
            found.read |= w.set & g.read;
            if (goes && !to) {
                found.handed_on |= w.set;
            } else if (g.role == CALL && depth < DEPTH && (w.set & ~found.read)) {
                struct inside called = read_inside(caller, to, depth + 1);
                found.read |= w.set & called.read;
                found.handed_on |= w.set & called.handed_on;
            }
            w.set &= ~found.read & ~g.overwritten;
            if (g.role == BRANCH && was_passed(passed, &passed_count, PASSED, w))
                break;
            if (g.role == BRANCH && count < WAYS)
                ways[count++] = (struct way){g.target, w.set};
            if (g.role == INDIRECT && !to)
                break;
            w.pc = g.role == JUMP || g.role == INDIRECT ? to : w.pc + g.length;
        }
    }
    if (known)
        *known = found;
    return found;
}

/* What an unknown function may get as arguments: others than variadic ones are seldom given
   vectors that were set before the last call. */
static uint64_t given(int vectors) {
    return integer_arguments | ((1ULL << vectors) - 1) << ELEMENT_VECTOR;
}

/* Where a way is not followed to its end what is open on it counts as read; and so does what may
   be an argument of a function that is not known, if `handed_on`. */
static uint64_t read_behind(gaddr pc, uint64_t set, bool vectors_live, bool handed_on) {
    enum { AHEAD = 2400, VECTORS_AHEAD = 600 };
    struct search s;
    uint64_t found = 0, spare_vectors = set & RETURN_DEAD & ~0ULL << ELEMENT_VECTOR;
    int ahead = AHEAD;
    begin_search(&s, pc, set, vectors_live);
    while (s.count && set & ~found) {
        struct way way = next_way(&s);
        uint64_t left = way.set & ~found;
        int vectors = 0;
        pc = way.pc;
        for (int turn = TURN; left; ahead--) {
            if (ahead == AHEAD - VECTORS_AHEAD && spare_vectors)
                set &= ~spare_vectors;
            left &= set;
            if (ahead <= 0) {
                found |= left;
                break;
            }
            if (turn-- <= 0 && !vectors && add_way(&s, pc, left))
                break;
            struct glance g = look(&s, pc);
            bool goes = g.role == JUMP || g.role == CALL || g.role == INDIRECT;
            gaddr to = goes ? leads_to(&g) : 0;
            if (g.role != PLAIN && g.role != BRANCH && !goes)
                break;
            uint64_t read = g.read & left;
            if ((g.read | g.overwritten) & RETURN_DEAD & ~0ULL << ELEMENT_VECTOR)
                spare_vectors = 0;
            if (goes && !to && handed_on) { /* a jump maybe to a case of a switch */
                read |= left & (g.role == CALL ? given(vectors) : ~0ULL);
            } else if (g.role == CALL && to && (left & ~read & arguments)) {
                struct inside called = read_inside(&s, to, 0);
                read |= left & (called.read | (handed_on ? called.handed_on & given(vectors) : 0));
            }
            if (g.role == CALL || g.overwritten & 1ULL << RAX)
                vectors = g.vectors;
            found |= read;
            left &= ~read & ~g.overwritten;
            if (g.role == BRANCH && comes_again(&s, pc, left))
                break;
            if (g.role == BRANCH && !add_way(&s, g.target, left))
                found |= left;
            if (g.role == INDIRECT && !to)
                break;
            pc = g.role == JUMP || g.role == INDIRECT ? to : pc + g.length;
        }
    }
    end_search(&s);
    return found;
}

uint64_t across_read(gaddr pc, uint64_t set) { return read_behind(pc, set, false, false); }
uint64_t across_read_or_handed_on(gaddr pc, uint64_t set) {
    return read_behind(pc, set, false, true);
}
uint64_t across_read_while_running(gaddr pc, uint64_t set) {
    return read_behind(pc, set, true, true);
}

/* What a function may look at that it was called with. */
static const uint64_t handed_over = ~RETURN_DEAD | arguments;

/* `inside`: by the function there itself, which is running; else what its caller gets as well. */
static uint64_t overwritten_behind(gaddr pc, uint64_t set, bool inside) {
    enum { AHEAD = 240 };
    struct search s;
    int ahead = AHEAD;
    begin_search(&s, pc, set, inside);
    while (s.count && set) {
        struct way way = next_way(&s);
        uint64_t left = way.set & set;
        for (pc = way.pc; left; ahead--) {
            bool known = ahead > 0 && !replaced_at(pc);
            struct glance g = known ? look(&s, pc) : (struct glance){.role = BROKEN};
            bool direct = (g.role == JUMP || g.role == CALL) && !g.by_slot;
            gaddr next = pc + g.length;
            if (g.role == RETURN) {
                set &= ~left | (inside ? 0 : RETURN_DEAD);
                break;
            }
            if (g.role != PLAIN && g.role != BRANCH && !direct) {
                set &= ~left;
                break;
            }
            set &= ~(g.read & left);
            left &= set & ~g.overwritten;
            if (g.role == BRANCH && comes_again(&s, pc, left))
                break;
            if (g.role == BRANCH || g.role == CALL) /* behind a call as well: see above */
                set &= add_way(&s, next, left) ? ~0ULL : ~left;
            left &= g.role == CALL ? set & handed_over : set;
            pc = g.role == PLAIN ? next : g.target;
        }
    }
    end_search(&s);
    return set;
}

uint64_t across_overwritten(gaddr pc, uint64_t set) { return overwritten_behind(pc, set, false); }

/* Only of functions that it knows does a compiler expect that they leave scratch registers alone. */
bool across_called(gaddr call, uint64_t *set) {
    struct search s;
    begin_search(&s, call, *set, true);
    struct glance g = look(&s, call);
    gaddr to = g.role == CALL ? leads_to(&g) : 0;
    struct inside called = {.read = to ? 0 : integer_arguments | 1u << 10 /* of nested functions */};
    if (to)
        called = read_inside(&s, to, 0);
    end_search(&s);
    uint64_t taken = *set & (called.read | (called.handed_on & integer_arguments));
    if (taken && to)
        taken &= unset_may_take(to);
    uint64_t scratch = *set & ~preserved;
    *set &= to ? ~(scratch ? overwritten_behind(to, scratch, true) : 0) : preserved;
    return !taken;
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

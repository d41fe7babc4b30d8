/* Variables of one function whose scopes do not meet share a place in its frame where the compiler
   optimizes; what the one left there is not a value of the next. Here it is found where such a
   scope begins, in code that other scopes cannot be mixed up with: instructions are moved about,
   and debug information only says which scope each is of. */
#include "symbol_file.h"

#include "../core/ledger_format.h"

#include <Zydis/Zydis.h>
#include <stdlib.h>
#include <string.h>

enum {
    LARGEST = 1 << 17,  /* bytes of a function that are looked through */
    PIECES = 8,         /* of its code, */
    SCOPES = 1024,      /* its scopes */
    LOCALS = 4096,      /* and places of its variables */
    LONGEST = 1 << 20,  /* bytes of a variable */
    EFFORT = 8000000   /* instructions looked at for one function */
};

struct piece {
    Dwarf_Addr low, high;
};

struct scope {
    Dwarf_Die die;
    int end;          /* behind the last one in it: they stand in a row */
    int first;        /* the instruction that it begins with; -1: there is none */
    int8_t fits;      /* begins_there: 0: not looked at, else 1 or -1 */
};

struct local {
    int scope;
    int64_t start, size; /* from the canonical frame address; see realigned */
    bool home;           /* a variable that stands there all its life */
};

enum flow { FALLS, BRANCHES, JUMPS, ENDS, UNKNOWN_JUMP };

/* Whether it may store something to the frame: no; where it says; maybe; one that many follow. */
enum stores { STORES_NOT, STORES_THERE, STORES_BY_REGISTER, STORES_IN_A_ROW };

struct step {
    Dwarf_Addr address;
    uint8_t length, flow; /* enum flow */
    bool framed, calls;   /* it is known where the frame is; it is a call */
    uint8_t stores;       /* enum stores */
    bool acts, reads;     /* it changes memory, or looks at the frame; it reads memory */
    bool fills;           /* does nothing: maybe there for what comes behind to be aligned */
    int target;           /* of a direct jump, among all; -1: elsewhere */
    int scope;            /* the innermost */
    int base;             /* DWARF's number of the register that it goes to memory by, else -1 */
    int64_t low, high;    /* what it touches there; then of the frame, from the canonical frame
                             address */
};

struct edge {
    int to, from;
};

struct code {
    struct symbol_file *file;
    Dwarf_Addr bias; /* of link-time addresses against those of debug information */
    Dwarf_Addr entry;
    int64_t base, pointer; /* what places count from, from the canonical frame address */
    bool realigned;        /* all of this counts from the frame pointer: that address is no fixed
                              distance away */
    struct piece pieces[PIECES]; /* by address */
    int piece_count;
    struct scope scopes[SCOPES];
    struct local locals[LOCALS];
    int scope_count, local_count;
    struct step *steps;
    int step_count;
    struct edge *edges; /* of direct jumps, by where they go */
    int edge_count;
    uint8_t *reached;
    int *queue;
    long effort;
};

/* --- scopes and variables --- */

static bool is_sized(Dwarf_Die *variable, int64_t *size) {
    Dwarf_Attribute attribute;
    Dwarf_Die type;
    Dwarf_Word bytes = 0;
    bool known = dwarf_attr_integrate(variable, DW_AT_type, &attribute) &&
                 dwarf_formref_die(&attribute, &type) && dwarf_aggregate_size(&type, &bytes) == 0;
    *size = known && bytes > 0 && bytes <= LONGEST ? (int64_t)bytes : 1;
    return known && bytes > 0 && bytes <= LONGEST;
}

/* Where a location is said to be by how far it is from somewhere, what follows may be anything. */
static void add_local(struct code *c, int scope, const Dwarf_Op *ops, size_t count, int64_t size,
                      bool home) {
    bool pointed = false, based = count && ops->atom == (c->realigned ? DW_OP_breg6 : DW_OP_fbreg);
    if (!c->realigned && c->pointer != LEDGER_NO_POINTER)
        pointed = count && ops->atom == DW_OP_breg7;
    if ((!based && !pointed) || c->local_count == LOCALS)
        return;
    c->locals[c->local_count++] =
        (struct local){.scope = scope,
                       .start = (int64_t)ops->number + (based ? c->base : c->pointer),
                       .size = size,
                       .home = home && based && count == 1};
}

static void add_variable(struct code *c, Dwarf_Die *die, int scope) {
    Dwarf_Attribute attribute;
    Dwarf_Addr unused, low, high;
    Dwarf_Op *ops;
    size_t count = 0;
    ptrdiff_t offset = 0;
    int64_t size;
    bool sized = is_sized(die, &size);
    if (!dwarf_attr_integrate(die, DW_AT_location, &attribute))
        return;
    if (dwarf_getlocation(&attribute, &ops, &count) == 0) {
        add_local(c, scope, ops, count, size, sized && dwarf_tag(die) == DW_TAG_variable);
        return;
    }
    while ((offset = dwarf_getlocations(&attribute, offset, &unused, &low, &high, &ops, &count)) > 0)
        add_local(c, scope, ops, count, size, false);
}

static void add_scopes(struct code *c, int in) {
    Dwarf_Die child;
    if (dwarf_child(&c->scopes[in].die, &child) != 0)
        return;
    do {
        switch (dwarf_tag(&child)) {
        case DW_TAG_variable:
        case DW_TAG_formal_parameter:
            add_variable(c, &child, in);
            break;
        case DW_TAG_lexical_block:
        case DW_TAG_try_block:
        case DW_TAG_catch_block:
        case DW_TAG_inlined_subroutine: {
            Dwarf_Addr unused, low, high;
            struct scope *s = &c->scopes[c->scope_count];
            if (c->scope_count == SCOPES || dwarf_ranges(&child, 0, &unused, &low, &high) <= 0)
                break;
            *s = (struct scope){.die = child, .first = -1};
            add_scopes(c, c->scope_count++);
            s->end = c->scope_count;
            break;
        }
        }
    } while (dwarf_siblingof(&child, &child) == 0);
}

static bool within(const struct code *c, int scope, int outer) {
    return scope >= outer && scope < c->scopes[outer].end;
}

static bool overlap(const struct local *a, const struct local *b) {
    return a->start < b->start + b->size && b->start < a->start + a->size;
}

/* It has its place to itself while it lives, and others have it at other times. */
static bool shares(const struct code *c, const struct local *l) {
    bool found = false;
    for (int k = 0; k < c->local_count; k++) {
        const struct local *o = &c->locals[k];
        if (o == l || !overlap(o, l) || within(c, o->scope, l->scope))
            continue;
        if (within(c, l->scope, o->scope))
            return false; /* maybe the same under another name */
        found = true;
    }
    return found;
}

/* --- instructions --- */

static int step_at(const struct code *c, Dwarf_Addr address) {
    size_t n = symbol_position(c->steps, (size_t)c->step_count, sizeof *c->steps, address);
    return n && c->steps[n - 1].address == address ? (int)n - 1 : -1;
}

/* Behind a call of these there is other code, or none. */
static bool never_returns(const char *name) {
    static const char *const names[] = {
        "_Unwind_Resume", "__cxa_throw", "__cxa_rethrow", "_ZSt9terminatev",
        "__cxa_throw_bad_array_new_length", "__cxa_bad_cast", "__cxa_bad_typeid",
        "__cxa_call_unexpected", "abort", "exit", "_exit", "_Exit", "__stack_chk_fail",
        "__assert_fail", "__fortify_fail", "__chk_fail", "longjmp", "siglongjmp", "__longjmp_chk",
        "pthread_exit", "quick_exit", "err", "errx"};
    for (size_t k = 0; k < sizeof names / sizeof *names; k++)
        if (strcmp(name, names[k]) == 0)
            return true;
    return strncmp(name, "_ZSt", 4) == 0 && strstr(name, "__throw_");
}

static enum flow flow_of(const ZydisDecodedInstruction *i, const ZydisDecodedOperand *o) {
    switch (i->meta.category) {
    case ZYDIS_CATEGORY_RET:
        return ENDS;
    case ZYDIS_CATEGORY_COND_BR:
        return BRANCHES;
    case ZYDIS_CATEGORY_UNCOND_BR:
        return o->type == ZYDIS_OPERAND_TYPE_IMMEDIATE ? JUMPS : UNKNOWN_JUMP;
    default:
        return i->mnemonic == ZYDIS_MNEMONIC_UD2 || i->mnemonic == ZYDIS_MNEMONIC_HLT ? ENDS : FALLS;
    }
}

/* What it touches by the stack pointer or the frame pointer (psABI 3.6.2). An address that is taken
   may be stored to soon. */
static void take_memory(struct step *s, const ZydisDecodedInstruction *i, const ZydisDecodedOperand *o) {
    bool repeated = i->meta.category == ZYDIS_CATEGORY_STRINGOP;
    s->base = -1;
    s->stores = repeated ? STORES_IN_A_ROW : STORES_NOT;
    s->acts = repeated || s->calls;
    for (int n = i->operand_count_visible; n < i->operand_count; n++) /* push and the like */
        s->acts |= o[n].type == ZYDIS_OPERAND_TYPE_MEMORY && (o[n].actions & ZYDIS_OPERAND_ACTION_MASK_WRITE);
    for (int n = 0; n < i->operand_count_visible && !repeated; n++) {
        if (o[n].type != ZYDIS_OPERAND_TYPE_MEMORY)
            continue;
        s->reads |= (o[n].actions & ZYDIS_OPERAND_ACTION_MASK_READ) != 0;
        s->acts |= o[n].mem.type == ZYDIS_MEMOP_TYPE_MEM && (o[n].actions & ZYDIS_OPERAND_ACTION_MASK_WRITE);
        bool fixed = o[n].mem.base == ZYDIS_REGISTER_NONE || o[n].mem.base == ZYDIS_REGISTER_RIP;
        bool rsp = o[n].mem.base == ZYDIS_REGISTER_RSP, rbp = o[n].mem.base == ZYDIS_REGISTER_RBP;
        bool taken = o[n].mem.type == ZYDIS_MEMOP_TYPE_AGEN;
        bool stores = taken || (o[n].actions & ZYDIS_OPERAND_ACTION_MASK_WRITE);
        if ((rsp || rbp) && o[n].mem.index == ZYDIS_REGISTER_NONE) {
            s->base = rsp ? 7 : 6;
            s->low = o[n].mem.disp.value;
            s->high = s->low + (taken ? 1 : o[n].size / 8);
            s->stores = stores ? STORES_THERE : STORES_NOT;
            s->acts |= !taken;
        } else if (!fixed && !taken && stores) {
            s->stores = STORES_BY_REGISTER;
        }
    }
}

static int by_goal(const void *a, const void *b) {
    const struct edge *x = a, *y = b;
    return (x->to > y->to) - (x->to < y->to);
}

static bool decode_all(struct code *c) {
    ZydisDecoder decoder;
    size_t room = 0;
    ZydisDecoderInit(&decoder, ZYDIS_MACHINE_MODE_LONG_64, ZYDIS_STACK_WIDTH_64);
    for (int k = 0; k < c->piece_count; k++)
        room += c->pieces[k].high - c->pieces[k].low;
    if (room > LARGEST)
        return false;
    c->steps = malloc((room + 1) * sizeof *c->steps);
    Dwarf_Addr *targets = malloc((room + 1) * sizeof *targets);
    bool good = c->steps && targets;
    for (int k = 0; k < c->piece_count && good; k++) {
        Dwarf_Addr at = c->pieces[k].low;
        uint64_t size = c->pieces[k].high - at;
        const uint8_t *code = symbol_file_code(c->file, at + c->bias, &size);
        good = code && size == c->pieces[k].high - at;
        while (good && size) {
            ZydisDecodedInstruction i;
            ZydisDecodedOperand o[ZYDIS_MAX_OPERAND_COUNT];
            if (!ZYAN_SUCCESS(ZydisDecoderDecodeFull(&decoder, code, size, &i, o))) {
                good = false;
                break;
            }
            enum flow flow = flow_of(&i, o);
            const char *name = i.mnemonic == ZYDIS_MNEMONIC_CALL
                                   ? symbol_called(c->file, at + i.length + c->bias) : NULL;
            if (name && never_returns(name))
                flow = ENDS;
            bool direct = (flow == BRANCHES || flow == JUMPS) && o[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
            targets[c->step_count] = direct ? at + i.length + (uint64_t)o[0].imm.value.s : 0;
            c->steps[c->step_count++] =
                (struct step){.address = at, .length = i.length, .flow = (uint8_t)flow, .target = -1,
                              .calls = i.meta.category == ZYDIS_CATEGORY_CALL,
                              .fills = i.mnemonic == ZYDIS_MNEMONIC_NOP || i.mnemonic == ZYDIS_MNEMONIC_INT3};
            take_memory(&c->steps[c->step_count - 1], &i, o);
            code += i.length, at += i.length, size -= i.length;
        }
    }
    c->edges = malloc((room + 1) * sizeof *c->edges);
    for (int k = 0; k < c->step_count && good && c->edges; k++) {
        int to = targets[k] ? step_at(c, targets[k]) : -1;
        c->steps[k].target = to;
        if (to >= 0)
            c->edges[c->edge_count++] = (struct edge){to, k};
    }
    free(targets);
    if (good && c->edge_count)
        qsort(c->edges, (size_t)c->edge_count, sizeof *c->edges, by_goal);
    for (int k = 0, e = 0; k < c->step_count && good; k++) {
        while (e < c->edge_count && c->edges[e].to < k)
            e++;
        bool is_goal = e < c->edge_count && c->edges[e].to == k;
        uint8_t before = k ? c->steps[k - 1].flow : ENDS;
        if (c->steps[k].fills && !is_goal && before != FALLS && before != BRANCHES)
            c->steps[k].flow = ENDS; /* nothing comes by there */
    }
    return good && c->edges;
}

/* The innermost scope of each: scopes stand behind those around them. */
static void place_scopes(struct code *c) {
    for (int s = 1; s < c->scope_count; s++) {
        Dwarf_Addr unused, low, high;
        ptrdiff_t offset = 0;
        while ((offset = dwarf_ranges(&c->scopes[s].die, offset, &unused, &low, &high)) > 0) {
            size_t n = symbol_position(c->steps, (size_t)c->step_count, sizeof *c->steps, low);
            if (n && c->steps[n - 1].address == low)
                n--;
            for (; n < (size_t)c->step_count && c->steps[n].address < high; n++)
                c->steps[n].scope = s;
        }
    }
}

/* Where a scope begins, in the piece that the function begins in; others are left to rare ways and to
   unwinding. Code that neither calls nor changes memory may come earlier, behind what others do. */
static int beginning(const struct code *c, int scope) {
    int low = step_at(c, c->entry), k = low, first;
    while (k >= 0 && k < c->step_count && (k == low || c->steps[k].address == c->steps[k - 1].address + c->steps[k - 1].length) &&
           !(within(c, c->steps[k].scope, scope) && c->steps[k].acts))
        k++;
    if (k < 0 || k == c->step_count || !within(c, c->steps[k].scope, scope) || !c->steps[k].acts)
        return -1;
    for (first = k; --k > low;)
        if (within(c, c->steps[k].scope, scope))
            first = k;
        else if (c->steps[k].acts || c->steps[k].reads || c->steps[k].flow != FALLS)
            break;
    return first;
}

/* What each touches by the register that the call frame information (DWARF 5, 6.4) goes by. */
static void place_frame(struct code *c) {
    Dwarf_Addr eh_bias, debug_bias, end = 0;
    Dwarf_CFI *cfi = dwfl_module_eh_cfi(c->file->module, &eh_bias);
    int64_t distance = 0;
    int base = 0;
    dwfl_module_getdwarf(c->file->module, &debug_bias);
    for (int k = 0; k < c->step_count; k++) {
        struct step *s = &c->steps[k];
        Dwarf_Addr at = s->address + debug_bias - eh_bias;
        if (at >= end || (k && s->address != s[-1].address + s[-1].length)) {
            Dwarf_Frame *frame;
            Dwarf_Op *ops;
            size_t count;
            base = 0;
            end = at + 1;
            if (cfi && dwarf_cfi_addrframe(cfi, at, &frame) == 0) {
                dwarf_frame_info(frame, NULL, &end, NULL);
                bool known = dwarf_frame_cfa(frame, &ops, &count) == 0 && count > 0;
                bool fixed = known && count == 1 && ops[0].atom == DW_OP_bregx;
                if (fixed && !c->realigned) {
                    base = (int)ops[0].number;
                    distance = (int64_t)ops[0].number2;
                } else if (known && !fixed && c->realigned && ops[0].atom == DW_OP_breg6) {
                    base = 6;
                    distance = 0;
                }
                free(frame);
            }
        }
        s->framed = base == 7 || base == 6;
        bool known = s->framed && s->base == base;
        s->low = known ? s->low - distance : 0;
        s->high = known ? s->high - distance : 0;
    }
}

/* --- which code comes after which --- */

/* What a step may run after, at most two of them; how many there are. Jumps by a table are not known. */
static int ways_to(const struct code *c, int here, int *from) {
    int low = 0, high = c->edge_count, count = 0;
    const struct step *s = &c->steps[here];
    if (here && s->address == s[-1].address + s[-1].length &&
        (s[-1].flow == FALLS || s[-1].flow == BRANCHES))
        from[count++] = here - 1;
    while (low < high)
        if (c->edges[(low + high) / 2].to < here)
            low = (low + high) / 2 + 1;
        else
            high = (low + high) / 2;
    for (; low < c->edge_count && c->edges[low].to == here; low++, count++)
        if (count < 2)
            from[count] = c->edges[low].from;
    return count;
}

/* Whether ways meet there, but for those of two jumps in a row (ucomisd; jp; jne). */
static bool is_joint(const struct code *c, int here) {
    int from[2], count = ways_to(c, here, from);
    if (count < 2)
        return false;
    int apart = from[0] < from[1] ? from[1] - from[0] : from[0] - from[1];
    return count > 2 || apart > 1 || c->steps[from[0]].flow != BRANCHES ||
           c->steps[from[1]].flow != BRANCHES;
}

/* What may run from a step on, without passing `but`, is marked in `reached`. Tells whether `but`
   was come to. */
enum how {
    BEHIND = 1,    /* the step itself does not count */
    OWN_JUMPS = 2, /* not beyond jumps of code outside the scope */
    NEAR = 4       /* nor beyond calls and where ways meet: no further are instructions moved */
};
static bool walk(struct code *c, int from, int but, int how, int scope) {
    int count = 0;
    bool found = false;
    memset(c->reached, 0, (size_t)c->step_count);
    c->effort += c->step_count / 8;
    if ((how & BEHIND) || from != but) {
        c->queue[count++] = from;
        c->reached[from] = !(how & BEHIND);
    }
    while (count) {
        int here = c->queue[--count], next[2] = {-1, -1};
        const struct step *s = &c->steps[here];
        c->effort++;
        if ((how & OWN_JUMPS && s->flow != FALLS && !within(c, s->scope, scope)) ||
            (how & NEAR && s->calls))
            continue;
        if (s->flow == FALLS || s->flow == BRANCHES)
            next[0] = here + 1 < c->step_count && s[1].address == s->address + s->length ? here + 1 : -1;
        next[1] = s->target;
        for (int n = 0; n < 2; n++) {
            found |= next[n] == but && but >= 0;
            if (next[n] >= 0 && next[n] != but && !c->reached[next[n]] &&
                !(how & NEAR && is_joint(c, next[n]))) {
                c->reached[next[n]] = 1;
                c->queue[count++] = next[n];
            }
        }
    }
    return found;
}

/* Whether a variable of a scope around the code is there. */
static bool is_known(const struct code *c, const struct step *s, const struct local *l) {
    for (int n = 0; n < c->local_count; n++)
        if (overlap(&c->locals[n], l) && within(c, s->scope, c->locals[n].scope))
            return true;
    return false;
}

/* Marks what comes before it without calls between: right before it, in the same sense, or else
   without looks at memory by scopes whose variables share the place. */
static void walk_back(struct code *c, int to, const struct local *l, bool near) {
    int from[2], count = 0;
    memset(c->reached, 0, (size_t)c->step_count);
    c->effort += c->step_count / 8;
    c->queue[count++] = to;
    while (count) {
        int here = c->queue[--count], ways = ways_to(c, here, from);
        bool by_table = !ways, all = by_table || ways > 2;
        c->effort++;
        if (near && is_joint(c, here))
            continue;
        for (int k = 0; k < (all ? c->step_count : ways); k++) {
            int before = all ? k : from[k];
            const struct step *s = &c->steps[before];
            bool leads = !all || (by_table ? s->flow == UNKNOWN_JUMP && s->target < 0
                                           : s->target == here || before == from[0]);
            if (!leads || c->reached[before] || s->calls ||
                (!near && s->reads && !within(c, s->scope, l->scope) && is_known(c, s, l)))
                continue;
            c->reached[before] = 1;
            c->queue[count++] = before;
        }
    }
}

/* Where it does more than compute. */
static bool reaches_scope(struct code *c, int scope) {
    c->effort += c->step_count;
    for (int k = 0; k < c->step_count; k++)
        if (c->reached[k] && within(c, c->steps[k].scope, scope) &&
            (c->steps[k].acts || c->steps[k].reads))
            return true;
    return false;
}

static bool reaches_unknown(const struct code *c) {
    for (int k = 0; k < c->step_count; k++)
        if (c->reached[k] && c->steps[k].flow == UNKNOWN_JUMP && c->steps[k].target < 0)
            return true;
    return false;
}

/* All that its code does comes after its first instruction, which is passed once as long as it runs. */
static bool has_beginning(struct code *c, int scope) {
    const struct scope *s = &c->scopes[scope];
    int entry = step_at(c, c->entry);
    if (entry < 0 || s->first < 0 || !c->steps[s->first].framed ||
        walk(c, s->first, s->first, BEHIND | OWN_JUMPS, scope))
        return false;
    walk(c, entry, s->first, 0, 0);
    if (reaches_scope(c, scope))
        return false;
    if (!reaches_unknown(c))
        return true;
    walk(c, s->first, -1, 0, 0); /* else jumps by tables could lead into it */
    for (int k = 0; k < c->step_count; k++)
        if (!c->reached[k] && within(c, c->steps[k].scope, scope))
            return false;
    return true;
}

static bool begins_there(struct code *c, int scope) {
    struct scope *s = &c->scopes[scope];
    if (!s->fits)
        s->fits = has_beginning(c, scope) ? 1 : -1;
    return s->fits > 0;
}

/* No code comes near behind of scopes that have the place at other times, unless they begin anew, nor
   is it touched there for values without a name. */
static bool is_left(struct code *c, const struct local *l) {
    int first = c->scopes[l->scope].first;
    for (int k = 0; k < c->local_count; k++) {
        const struct local *o = &c->locals[k];
        int other = c->scopes[o->scope].first;
        if (o == l || !overlap(o, l) || within(c, o->scope, l->scope))
            continue;
        if (other == first || c->effort > EFFORT)
            return false;
        walk(c, first, begins_there(c, o->scope) ? other : -1, NEAR, 0);
        if (reaches_scope(c, o->scope))
            return false;
    }
    walk(c, first, -1, NEAR, 0);
    for (int k = 0; k < c->step_count; k++) {
        const struct step *s = &c->steps[k];
        if (c->reached[k] && s->high > l->start && s->low < l->start + l->size && !is_known(c, s, l))
            return false;
    }
    return true;
}

static bool is_stored_to(struct code *c, const struct local *l) {
    for (int k = 0; k < c->step_count; k++) {
        const struct step *s = &c->steps[k];
        bool there = s->high > l->start && s->low < l->start + l->size;
        if (c->reached[k] && !within(c, s->scope, l->scope) &&
            (s->stores == STORES_IN_A_ROW || (s->stores == STORES_THERE && there) ||
             (s->stores == STORES_BY_REGISTER && is_known(c, s, l))))
            return true;
    }
    return false;
}

/* Nor does anybody else store to it right before, since of two that store the same the second may be
   left out; or store and not look at it then: branches that begin with the same stores may have them
   before they part. */
static bool is_unset(struct code *c, const struct local *l) {
    walk_back(c, c->scopes[l->scope].first, l, true);
    if (is_stored_to(c, l))
        return false;
    walk_back(c, c->scopes[l->scope].first, l, false);
    return !is_stored_to(c, l);
}

static int find_rooms(struct code *c, struct fresh_room *rooms, int most) {
    int count = 0;
    bool ready = false;
    for (int k = 0; k < c->local_count && count < most && c->effort < EFFORT; k++) {
        const struct local *l = &c->locals[k];
        if (!l->home || !l->scope || !shares(c, l))
            continue;
        if (!ready) {
            if (!decode_all(c) || !c->step_count)
                return 0;
            c->reached = malloc((size_t)c->step_count);
            c->queue = malloc(2 * (size_t)c->step_count * sizeof *c->queue);
            if (!c->reached || !c->queue)
                return 0;
            place_scopes(c);
            place_frame(c);
            for (int s = 1; s < c->scope_count; s++)
                c->scopes[s].first = beginning(c, s);
            ready = true;
        }
        if (begins_there(c, l->scope) && is_left(c, l) && is_unset(c, l))
            rooms[count++] = (struct fresh_room){
                .address = c->steps[c->scopes[l->scope].first].address + c->bias, .offset = l->start,
                .size = (uint64_t)l->size,
                .by_pointer = c->realigned};
    }
    return count;
}

static int by_address(const void *a, const void *b) {
    const struct piece *x = a, *y = b;
    return (x->low > y->low) - (x->low < y->low);
}

int symbols_fresh_rooms(struct symbols *symbols, const char *path, uint64_t link_address,
                        struct fresh_room *rooms, int most) {
    struct symbol_file *f = symbol_file_open(symbols, path);
    Dwarf_Die function;
    int64_t base, pointer;
    Dwarf_Addr bias, unused, low, high;
    ptrdiff_t offset = 0;
    Dwarf_Die *cu = symbol_function_of_c(f, link_address, &function);
    if (!cu || !symbol_file_unit(f, link_address + f->bias, &bias) ||
        !symbol_frame_base(f, &function, link_address + f->bias - bias, &base, &pointer))
        return 0;
    struct code *c = calloc(1, sizeof *c);
    if (!c)
        return 0;
    c->file = f;
    c->bias = bias - f->bias;
    c->entry = link_address - c->bias;
    c->base = base;
    c->pointer = pointer;
    c->realigned = symbol_is_realigned(f, &function);
    if (c->realigned)
        c->base = 0;
    while (c->piece_count < PIECES && (offset = dwarf_ranges(&function, offset, &unused, &low, &high)) > 0)
        c->pieces[c->piece_count++] = (struct piece){low, high};
    c->scopes[c->scope_count++] = (struct scope){.die = function};
    add_scopes(c, 0);
    c->scopes[0].end = c->scope_count;
    qsort(c->pieces, (size_t)c->piece_count, sizeof *c->pieces, by_address);
    int count = find_rooms(c, rooms, most);
    free(c->steps);
    free(c->edges);
    free(c->reached);
    free(c->queue);
    free(c);
    return count;
}

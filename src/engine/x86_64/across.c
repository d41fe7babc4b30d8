/* Undefined values in registers that the psABI leaves dead after a call, and that the
   caller reads behind it all the same: compilers keep values there across calls of
   functions whose code they see (interprocedural register allocation). Returns drop the
   bits of such registers; where the code behind a call reads one, the call leaves by C,
   which notes the bits, and comes back by C, which puts them back if the register still
   has its value. */
#include "plan.h"
#include "translate.h"
#include "../engine.h"

/* Of the general registers that the instruction overwrites as a whole. */
static uint32_t overwritten(const struct instruction *i) {
    uint32_t set = 0;
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
        if (e >= 0 && e < 16 && o->size >= 32 && (o->actions & ZYDIS_OPERAND_ACTION_WRITE))
            set |= 1u << e;
    }
    return set;
}

uint32_t across_read(gaddr pc, uint32_t set) {
    enum { AHEAD = 32, WAYS = 4 };
    static struct instruction ahead;
    struct {
        gaddr pc;
        uint32_t set;
    } ways[WAYS] = {{pc, set}};
    uint32_t found = 0;
    int count = 1;
    for (int n = 0; n < AHEAD && count && set & ~found;) {
        uint32_t left = ways[--count].set & ~found;
        for (pc = ways[count].pc; n < AHEAD && left; n++) {
            struct mapping m;
            if (!memory_lookup(pc, &m) || (m.protection & 5) != 5 || m.end - pc < 15)
                break;
            decode(&ahead, pc, 15);
            enum role role = role_of(&ahead);
            if (!ahead.valid || (role != PLAIN && role != BRANCH && role != JUMP && role != CALL))
                break;
            uint32_t read = (uint32_t)plan_inputs(&ahead) & left;
            found |= read;
            left &= ~read & ~overwritten(&ahead);
            gaddr next = pc + ahead.z.length;
            if (role == BRANCH && count < WAYS) {
                ways[count].pc = branch_target(&ahead);
                ways[count++].set = left;
            }
            pc = role == JUMP ? branch_target(&ahead) : next;
        }
    }
    return found;
}

void across_keep(struct context *c, gaddr next, uint32_t set) {
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
        int e = __builtin_ctz(set);
        if (!dirty_words(c)[e])
            continue;
        a->registers[a->count++] = (struct across_register){
            c->registers[e], dirty_words(c)[e], dirty_origin(c, e), (uint32_t)e};
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
        if (c->registers[r->number] != r->value)
            continue;
        dirty_words(c)[r->number] = r->bits;
        dirty_set_origin(c, (int)r->number, r->origin);
        c->dirty |= 1ULL << r->number;
    }
}

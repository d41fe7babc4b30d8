/* How control leaves a trace: calls with their entry in the shadow call stack, indirect
   jumps through the thread's table, branches and loops. Returns: returns.c. */
#include "translate.h"
#include "rules.h"

/* mov reg, operand, where operand is what an indirect branch goes through.
   Register values are the guest's except `spilled` ones, kept in their slots. */
static void emit_load_target(const struct instruction *i, int reg) {
    const ZydisDecodedOperand *o = &i->operands[0];
    if (o->type == ZYDIS_OPERAND_TYPE_REGISTER) {
        int from = register_number(o->reg.value);
        emit8(&out, rex(1, from, 0, reg));
        emit8(&out, 0x89);
        emit8(&out, 0xc0 | (from & 7) << 3 | (reg & 7));
        return;
    }
    const struct memory *m = &i->memory[0];
    for (int k = 0; k < i->memory_count; k++)
        if (i->memory[k].encoded)
            m = &i->memory[k];
    if (is_foreign(m)) {
        /* reg itself may be part of the address: go through a third one */
        int scratch = pick_scratch(i->registers_used | 1u << reg | 1u << RDX);
        emit_spill(&out, scratch);
        emit_address(m, scratch);
        emit_op(&out, 0x8b, reg, scratch, 0);
        emit_unspill(&out, scratch);
        return;
    }
    emit8(&out, rex(1, reg, m->index, m->base));
    emit8(&out, 0x8b);
    emit_memory(&out, reg, m->base, m->index, m->scale, m->displacement);
}

/* Pushes the guest's return address and notes it on the shadow call stack.
   RDX is spilled and free; the landing's offset is filled in by the caller. */
static uint8_t *emit_push_return(gaddr return_address) {
    emit_from_context(&out, RDX, CTX_SHADOW);
    emit8(&out, 0x48); /* mov qword [rdx + next.stack_pointer], 0: it has called nobody yet */
    emit8(&out, 0xc7);
    emit_memory(&out, 0, RDX, -1, 1,
                sizeof(struct shadow_entry) + offsetof(struct shadow_entry, stack_pointer));
    emit32(&out, 0);
    if (return_address >> 31) {
        emit8(&out, 0x68);
        emit32(&out, (int32_t)return_address);
        emit8(&out, 0xc7); /* mov dword [rsp+4], high */
        emit_memory(&out, 0, RSP, -1, 1, 4);
        emit32(&out, (int64_t)(return_address >> 32));
        emit8(&out, 0xc7);
        emit_memory(&out, 0, RDX, -1, 1, 0);
        emit32(&out, (int32_t)return_address);
        emit8(&out, 0xc7);
        emit_memory(&out, 0, RDX, -1, 1, 4);
        emit32(&out, (int64_t)(return_address >> 32));
    } else {
        emit8(&out, 0x68);
        emit32(&out, (int64_t)return_address);
        emit8(&out, 0x48); /* mov qword [rdx], imm32 */
        emit8(&out, 0xc7);
        emit_memory(&out, 0, RDX, -1, 1, 0);
        emit32(&out, (int64_t)return_address);
    }
    if (code_is_generated(return_address)) { /* its collector reads the frames it made */
        struct memory slot = {.base = RSP, .index = -1, .scale = 1, .size = 8};
        emit_zero(&slot);
    }
    emit_op(&out, 0x89, RSP, RDX, 8);
    emit8(&out, 0x48);
    emit8(&out, 0xc7);
    emit_memory(&out, 0, RDX, -1, 1, 16);
    uint8_t *landing = out.at;
    emit32(&out, 0); /* the upper half is 0: the stack is not interned yet */
    emit_op(&out, 0x8d, RDX, RDX, sizeof(struct shadow_entry));
    emit_to_context(&out, RDX, CTX_SHADOW);
    return landing;
}

static const uint8_t nop5[] = {0x0f, 0x1f, 0x44, 0, 0};

/* A place that others jump to: five bytes that one aligned write can turn into a
   jump when the code behind them is dropped. */
void emit_entry(gaddr pc, int kind) {
    while ((uintptr_t)out.at & 7)
        emit8(&out, 0x90);
    note_place(pc, 0, kind);
    for (unsigned k = 0; k < sizeof nop5; k++)
        emit8(&out, nop5[k]);
    out.kept = 0;
}

/* Where the call comes back to; the trace goes on there. */
static void set_landing(uint8_t *field, gaddr return_address, bool by_c) {
    emit_entry(return_address, PLACE_EXACT | PLACE_ENTRY);
    uint8_t *landing = by_c ? cache.landing : out.at - sizeof nop5;
    uint32_t offset = (uint32_t)((uint64_t)(uintptr_t)landing - CACHE_BASE);
    __builtin_memcpy(field, &offset, 4);
}

void emit_jump_to_host(int hosts) {
    emit8(&out, 0x64); /* mov rcx, fs:[hosts + rdx * 8] */
    emit8(&out, 0x48);
    emit8(&out, 0x8b);
    emit_memory(&out, RCX, -1, RDX, 8, hosts);
    emit_to_context(&out, RCX, CTX_TARGET);
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    emit8(&out, 0x64); /* jmp fs:[target] */
    emit8(&out, 0xff);
    emit_memory(&out, 4, -1, -1, 1, CTX_TARGET);
}

/* RCX holds the guest target, also stored in the context; RCX and RDX are
   spilled. Finds the code through the thread's own table. */
static void emit_lookup(bool flags_live) {
    emit8(&out, 0x0f); /* movzx edx, cx */
    emit8(&out, 0xb7);
    emit8(&out, 0xd1);
    if (flags_live) {
        emit8(&out, 0x64); /* mov rdx, fs:[keys + rdx * 8] */
        emit8(&out, 0x48);
        emit8(&out, 0x8b);
        emit_memory(&out, RDX, -1, RDX, 8, CTX_LOOKUP_KEY);
        emit8(&out, 0x48); /* lea rcx, [rcx + rdx] */
        emit8(&out, 0x8d);
        emit_memory(&out, RCX, RCX, RDX, 1, 0);
        emit8(&out, 0xe3);
        emit8(&out, 5);
        emit8(&out, 0xe9);
        cold_add(COLD_LOOKUP, out.at);
        emit32(&out, 0);
        emit8(&out, 0x64); /* movzx edx, word fs:[guest target] */
        emit8(&out, 0x0f);
        emit8(&out, 0xb7);
        emit_memory(&out, RDX, -1, -1, 1, CTX_GUEST_TARGET);
    } else {
        emit8(&out, 0x64); /* add rcx, fs:[keys + rdx * 8] */
        emit8(&out, 0x48);
        emit8(&out, 0x03);
        emit_memory(&out, RCX, -1, RDX, 8, CTX_LOOKUP_KEY);
        emit8(&out, 0x0f);
        emit8(&out, 0x85);
        cold_add(COLD_LOOKUP, out.at);
        emit32(&out, 0);
    }
    emit_jump_to_host(CTX_LOOKUP_HOST);
}

/* What the loader's lazy binding leaves in a slot until the first call: the way to
   itself, `push n; jmp`. */
static bool is_unbound(gaddr to) {
    static const uint8_t landing_pad[] = {0xf3, 0x0f, 0x1e, 0xfa};
    const uint8_t *code = guest(to);
    if (same_bytes(code, landing_pad, sizeof landing_pad))
        code += sizeof landing_pad;
    return code[0] == 0x68 && (code[5] == 0xe9 || (code[5] == 0xf2 && code[6] == 0xe9));
}

gaddr transfer_slot_of(const struct instruction *i) {
    const struct memory *o = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
    return o && o->absolute && !is_foreign(o) && o->size == 8 ? (gaddr)o->displacement : 0;
}

/* Where the place leads, 0: not to code. */
static gaddr leads_to(gaddr slot) {
    struct mapping m;
    if (!memory_lookup(slot, &m) || !(m.protection & 1) || m.end - slot < 8)
        return 0;
    gaddr to = *(gaddr *)guest(slot);
    return memory_lookup(to, &m) && (m.protection & 5) == 5 && m.end - to >= 16 ? to : 0;
}

gaddr transfer_bound(gaddr slot) {
    gaddr to = leads_to(slot);
    return to && !is_unbound(to) ? to : 0;
}

/* Branches through a fixed place of memory, as all calls between modules are, mostly
   go where they went the first time: where the place leads now, 0: that is not known. */
static gaddr slot_target(const struct instruction *i, gaddr *slot) {
    *slot = transfer_slot_of(i);
    gaddr to = *slot && !now.dirty ? leads_to(*slot) : 0;
    return to >> 31 ? 0 : to;
}

gaddr transfer_slot(gaddr slot, bool *bound) {
    struct mapping m;
    gaddr to = *(gaddr *)guest(slot);
    *bound = !memory_lookup(to, &m) || (m.protection & 5) != 5 || m.end - to < 16 ||
             !is_unbound(to);
    return to;
}

/* cmp qword [slot], target */
static void emit_slot_check(gaddr slot, gaddr target) {
    emit8(&out, 0x48);
    emit8(&out, 0x81);
    emit_memory(&out, 7, -1, -1, 1, (int64_t)slot);
    emit32(&out, (int64_t)target);
}

bool emit_slot_jump(const struct instruction *i) {
    gaddr slot, to = slot_target(i, &slot);
    if (!to)
        return false;
    if (is_unbound(to)) {
        emit_exit(EXIT_UNBOUND, i->pc, (uint32_t)slot);
        return true;
    }
    emit_slot_check(slot, to);
    emit_conditional_link(4, to); /* je */
    return false;
}

void emit_call(const struct instruction *i, bool flags_live, bool keeps) {
    gaddr next = i->pc + i->z.length;
    bool direct = i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    gaddr slot, known = direct || flags_live ? 0 : slot_target(i, &slot);
    uint8_t *known_landing = NULL;
    if (known) {
        emit_slot_check(slot, known);
        emit8(&out, 0x0f); /* jne */
        emit8(&out, 0x85);
        uint8_t *otherwise = out.at;
        uint32_t kept = out.kept;
        emit32(&out, 0);
        emit_spill(&out, RDX);
        note_place(i->pc, 1u << RDX, false);
        known_landing = emit_push_return(next);
        emit_unspill(&out, RDX);
        emit_link(known);
        patch_jump(otherwise, out.at);
        out.kept = kept;
    }
    if (!direct && (!now.dirty || !dirty_site(i->pc)))
        emit_checks(i, flags_live);
    note_place(i->pc, 0, false);
    emit_spill(&out, RDX);
    if (!direct) {
        emit_spill(&out, RCX);
        note_place(i->pc, 1u << RDX | 1u << RCX, false);
        emit_load_target(i, RCX);
        emit_to_context(&out, RCX, CTX_GUEST_TARGET);
    } else {
        note_place(i->pc, 1u << RDX, false);
    }
    uint8_t *landing = emit_push_return(next);
    if (direct) {
        emit_unspill(&out, RDX);
        emit_dirty_link(next + (uint64_t)i->operands[0].imm.value.s);
    } else if (now.possible) {
        emit_dirty_lookup();
    } else {
        emit_lookup(flags_live);
    }
    set_landing(landing, next, keeps);
    if (known_landing)
        __builtin_memcpy(known_landing, landing, 4);
}

void emit_indirect_jump(const struct instruction *i, bool flags_live) {
    emit_spill(&out, RCX);
    emit_spill(&out, RDX);
    note_place(i->pc, 1u << RDX | 1u << RCX, false);
    emit_load_target(i, RCX);
    emit_to_context(&out, RCX, CTX_GUEST_TARGET);
    if (now.possible) {
        emit_dirty_lookup();
        return;
    }
    emit_lookup(flags_live);
}

void emit_branch(const struct instruction *i, uint32_t flags_after) {
    if (now.possible & 1ULL << ELEMENT_FLAGS)
        emit_dirty_branch(i, flags_after);
    bool steady = steady_goes_on(i);
    if (!now.possible && !steady && !goes_round(branch_target(i))) {
        emit_conditional_link(i->z.opcode & 15, branch_target(i));
        return;
    }
    if (!steady && (!now.changed || !now.possible)) {
        emit_conditional_dirty_link(i->z.opcode & 15, branch_target(i));
        return;
    }
    emit8(&out, 0x0f);
    emit8(&out, 0x80 | (i->z.opcode & 15));
    struct cold *c = cold_add(COLD_DIRTY, out.at);
    emit32(&out, 0);
    c->target = branch_target(i);
    c->steady = steady;
}

void emit_loop(const struct instruction *i) {
    if (dirty_inputs(i) & now.possible)
        emit_dirty_use(i, -1, ARITHMETIC_FLAGS);
    if (i->z.address_width == 32)
        emit8(&out, 0x67);
    emit8(&out, i->z.opcode);
    emit8(&out, 5);
    emit8(&out, 0xe9);
    uint8_t *over = out.at;
    emit32(&out, 0);
    out.kept = 0; /* it counts in RCX */
    emit_dirty_link(branch_target(i));
    patch_jump(over, out.at);
    out.kept = 0;
}

/* The target of an indirect branch is used. */
void emit_target_use(const struct instruction *i) {
    if (!now.dirty || i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
        return;
    if ((dirty_inputs(i) & now.possible) || (i->memory_count && dirty_site(i->pc)))
        emit_dirty_use(i, RULE_TARGET, 0);
}

/* Checks of D before loads and stores. None of it changes a flag that is live. A
   return address's slot keeps D = 0xFF: nobody but call and return has business there. */
#include "copies.h"

void emit_gs(const struct memory *m, int wide, int reg) {
    emit8(&out, 0x65);
    if (m->address32)
        emit8(&out, 0x67);
    int prefix = rex(wide, reg, m->index < 0 ? 0 : m->index, m->base < 0 ? 0 : m->base);
    if (prefix != 0x40)
        emit8(&out, prefix);
}

void emit_operand(const struct memory *m, int reg, int64_t offset) {
    emit_memory(&out, reg, m->base, m->index, m->scale, m->displacement + offset);
}

static int next_piece(uint32_t left) {
    return left >= 8 ? 8 : left >= 4 ? 4 : left >= 2 ? 2 : 1;
}

/* jne to a cold piece of this kind */
static struct cold *emit_unless(enum cold_kind kind) {
    emit8(&out, 0x0f);
    emit8(&out, 0x85);
    struct cold *c = cold_add(kind, out.at);
    emit32(&out, 0);
    return c;
}

/* jrcxz over a jump to a cold piece */
static struct cold *emit_unless_rcx(enum cold_kind kind) {
    emit8(&out, 0xe3);
    emit8(&out, 5);
    emit8(&out, 0xe9);
    struct cold *c = cold_add(kind, out.at);
    emit32(&out, 0);
    c->spilled = 1u << RCX;
    return c;
}

void emit_check_flags_dead(const struct memory *m, enum cold_kind kind) {
    int first = cold_count;
    for (uint32_t done = 0; done < m->size;) {
        int piece = next_piece(m->size - done);
        if (piece == 2) {
            emit8(&out, 0x66); /* before REX */
        }
        emit_gs(m, piece == 8, 0);
        emit8(&out, piece == 1 ? 0x80 : 0x83);
        emit_operand(m, 7, done);
        emit8(&out, 0);
        emit_unless(kind)->memory = *m;
        done += (uint32_t)piece;
    }
    for (int i = first; i < cold_count; i++)
        colds[i].resume = out.at;
}

/* The same without touching the flags: the shadow goes to RCX. */
static void emit_check_flags_live(const struct memory *m, enum cold_kind kind) {
    int first = cold_count;
    bool own = m->base == RCX || m->index == RCX;
    emit_spill(&out, RCX);
    for (uint32_t done = 0; done < m->size;) {
        int piece = next_piece(m->size - done);
        if (done && own)
            emit_unspill(&out, RCX);
        emit8(&out, 0x65);
        if (m->address32)
            emit8(&out, 0x67);
        emit8(&out, rex(piece == 8, RCX, m->index < 0 ? 0 : m->index, m->base < 0 ? 0 : m->base));
        if (piece <= 2) {
            emit8(&out, 0x0f);
            emit8(&out, piece == 1 ? 0xb6 : 0xb7);
        } else {
            emit8(&out, 0x8b);
        }
        emit_operand(m, RCX, done);
        emit_unless_rcx(kind)->memory = *m;
        done += (uint32_t)piece;
    }
    emit_unspill(&out, RCX);
    for (int i = first; i < cold_count; i++)
        colds[i].resume = out.at;
}

/* mov rcx, <size> gs:[at + offset], extended with zeros */
static void emit_shadow_to_rcx(const struct memory *at, int piece, int64_t offset) {
    emit8(&out, 0x65);
    emit8(&out, rex(piece == 8, RCX, 0, at->base));
    if (piece <= 2) {
        emit8(&out, 0x0f);
        emit8(&out, piece == 1 ? 0xb6 : 0xb7);
    } else {
        emit8(&out, 0x8b);
    }
    emit_operand(at, RCX, offset);
}

/* Thread-local operands and far ones: the address is computed first. */
static void emit_check_foreign(const struct instruction *i, const struct memory *m,
                               enum cold_kind kind, bool flags_live) {
    uint32_t used = i->registers_used | 1u << RCX | (m->base >= 0 ? 1u << m->base : 0) |
                    (m->index >= 0 ? 1u << m->index : 0);
    int scratch = pick_scratch(used);
    int first = cold_count;
    struct memory at = {.base = scratch, .index = -1, .scale = 1};
    emit_spill(&out, scratch);
    if (flags_live)
        emit_spill(&out, RCX);
    note_place(now.pc, 1u << scratch | (flags_live ? 1u << RCX : 0), false);
    emit_address(m, scratch);
    for (uint32_t done = 0; done < m->size;) {
        int piece = next_piece(m->size - done);
        if (flags_live) {
            emit_shadow_to_rcx(&at, piece, done);
            emit_unless_rcx(kind);
            colds[cold_count - 1].spilled |= 1u << scratch;
        } else {
            if (piece == 2)
                emit8(&out, 0x66);
            emit_gs(&at, piece == 8, 0);
            emit8(&out, piece == 1 ? 0x80 : 0x83);
            emit_operand(&at, 7, done);
            emit8(&out, 0);
            emit_unless(kind)->spilled = 1u << scratch;
        }
        colds[cold_count - 1].memory = *m;
        done += (uint32_t)piece;
    }
    if (flags_live)
        emit_unspill(&out, RCX);
    emit_unspill(&out, scratch);
    for (int k = first; k < cold_count; k++)
        colds[k].resume = out.at;
}

static bool is_stack_instruction(const struct instruction *i) {
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_PUSH:
    case ZYDIS_MNEMONIC_POP:
    case ZYDIS_MNEMONIC_PUSHF:
    case ZYDIS_MNEMONIC_PUSHFQ:
    case ZYDIS_MNEMONIC_POPF:
    case ZYDIS_MNEMONIC_POPFQ:
    case ZYDIS_MNEMONIC_CALL:
    case ZYDIS_MNEMONIC_RET:
    case ZYDIS_MNEMONIC_LEAVE:
    case ZYDIS_MNEMONIC_ENTER:
        return true;
    default:
        return false;
    }
}

/* Below the red zone by a distance from the stack pointer itself: code that makes
   sure in time that the stack can grow, never a stale pointer. A locked or of 0
   with such a place, also within the red zone, is a fence. */
bool is_stack_probe(const struct instruction *i, const struct memory *m) {
    if (m->base != RSP || m->index >= 0 || m->segment || m->address32 || m->displacement >= 0)
        return false;
    return m->displacement < -128 ||
           ((i->z.attributes & ZYDIS_ATTRIB_HAS_LOCK) && i->z.mnemonic == ZYDIS_MNEMONIC_OR &&
            i->operands[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE && !i->operands[1].imm.value.u);
}

/* What a module keeps where nobody can write is defined, and there as long as its code. */
static bool is_constant(const struct memory *m) {
    struct mapping place;
    return m->absolute && !m->segment && !m->write && m->size && m->displacement > 0 &&
           memory_lookup((gaddr)m->displacement, &place) && !(place.protection & 2) &&
           (gaddr)m->displacement + m->size <= place.end;
}

enum check check_of(const struct instruction *i, const struct memory *m) {
    if (!m->read && !m->write)
        return CHECK_NONE;
    if (m->vector_index)
        return CHECK_NONE; /* always followed by C */
    if (!m->encoded && is_stack_instruction(i))
        return CHECK_NONE; /* see emit_stack_before */
    if (m->segment && m->base < 0 && m->index < 0 && m->displacement == 0x28)
        return CHECK_NONE; /* the psABI's stack guard */
    switch (i->z.meta.category) {
    case ZYDIS_CATEGORY_PREFETCH:
    case ZYDIS_CATEGORY_NOP:
    case ZYDIS_CATEGORY_WIDENOP:
        return CHECK_NONE;
    default:
        break;
    }
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_CLFLUSH:
    case ZYDIS_MNEMONIC_CLFLUSHOPT:
    case ZYDIS_MNEMONIC_CLWB:
        return CHECK_NONE;
    default:
        break;
    }
    if (is_stack_probe(i, m) || is_constant(m))
        return CHECK_NONE;
    if (m->read || !m->write)
        return CHECK_LOAD;
    if (m->base == RSP && m->index < 0 && m->displacement >= 0 && !m->segment && !m->address32)
        return CHECK_ZERO; /* a slot of the live frame, not of the red zone */
    if (frame_has(m) || frame_has_below(i, m))
        return CHECK_ZERO;
    return CHECK_STORE;
}

/* Needs the slow, exact check: sizes and addresses known only at run time. */
bool wants_slow_check(const struct instruction *i) {
    return is_string_instruction(i) && i->repeated;
}

/* Moves and stores, whose length is known beforehand; 0: another one. */
static uint32_t string_kind(const struct instruction *i) {
    if (i->memory_count && (i->memory[0].segment || i->memory[0].address32))
        return 0;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_MOVSB: return STRING_READS | STRING_WRITES | 1;
    case ZYDIS_MNEMONIC_MOVSW: return STRING_READS | STRING_WRITES | 2;
    case ZYDIS_MNEMONIC_MOVSD: return STRING_READS | STRING_WRITES | 4;
    case ZYDIS_MNEMONIC_MOVSQ: return STRING_READS | STRING_WRITES | 8;
    case ZYDIS_MNEMONIC_STOSB: return STRING_WRITES | 1;
    case ZYDIS_MNEMONIC_STOSW: return STRING_WRITES | 2;
    case ZYDIS_MNEMONIC_STOSD: return STRING_WRITES | 4;
    case ZYDIS_MNEMONIC_STOSQ: return STRING_WRITES | 8;
    default: return 0;
    }
}

/* Operands that this trace has checked and whose registers are unchanged: the
   same bytes need no second check. */
static struct memory proofs[16];
/* The load that made it, as a range of cold pieces; none for a store. */
static struct made_by {
    int first, end;
} made[16];
static int proof_count;
/* Where a word goes back to its place with a field changed: the load saw to its D. */
static const struct instruction *back;

void forget_proofs(void) {
    proof_count = 0;
    back = NULL;
}

void forget_registers(const struct instruction *i) {
    uint32_t written = i->registers_written;
    int64_t shift = written & 1u << RSP ? stack_shift(i) : 0;
    for (int k = 0; k < proof_count;) {
        struct memory *m = &proofs[k];
        uint32_t uses = (m->base >= 0 ? 1u << m->base : 0) | (m->index >= 0 ? 1u << m->index : 0);
        bool lost = uses & written & ~(shift ? 1u << RSP : 0);
        if (shift && (uses & 1u << RSP) && m->index < 0) {
            m->displacement -= shift;
            lost |= m->displacement < 0;
        } else if (shift > 0) {
            lost = true; /* may have pointed into what was released */
        }
        if (lost) {
            proofs[k] = proofs[--proof_count];
            made[k] = made[proof_count];
        } else
            k++;
    }
}

/* A return address keeps D = 0xFF even though it may be loaded: code that goes on to
   store there must say so at the load. */
bool is_proved(const struct memory *m) {
    for (int k = 0; k < proof_count; k++) {
        const struct memory *p = &proofs[k];
        if (p->base == m->base && p->index == m->index && p->address32 == m->address32 &&
            p->segment == m->segment && p->absolute == m->absolute &&
            (m->index < 0 || p->scale == m->scale) && p->displacement <= m->displacement &&
            m->displacement + m->size <= p->displacement + p->size) {
            for (int c = made[k].first; m->write && c < made[k].end; c++)
                colds[c].trusted = true;
            return true;
        }
    }
    return false;
}

void prove(const struct memory *m, int first, int end) {
    int at = proof_count < 16 ? proof_count++ : 15;
    proofs[at] = *m;
    made[at] = (struct made_by){first, end};
}

/* mov <size> gs:[operand], 0 */
void emit_zero(const struct memory *m) {
    for (uint32_t done = 0; done < m->size;) {
        int piece = next_piece(m->size - done);
        if (piece == 2)
            emit8(&out, 0x66);
        emit_gs(m, piece == 8, 0);
        emit8(&out, piece == 1 ? 0xc6 : 0xc7);
        emit_operand(m, 0, done);
        if (piece == 1)
            emit8(&out, 0);
        else if (piece == 2)
            emit8(&out, 0), emit8(&out, 0);
        else
            emit32(&out, 0);
        done += (uint32_t)piece;
    }
}

static void emit_check(const struct instruction *i, const struct memory *m, enum cold_kind kind,
                       bool flags_live) {
    if (m->size == 64) { /* the stubs take 32 bytes at most */
        struct memory half = *m;
        half.size = 32;
        emit_check(i, &half, kind, flags_live);
        half.displacement += 32;
        emit_check(i, &half, kind, flags_live);
        return;
    }
    if (is_foreign(m))
        emit_check_foreign(i, m, kind, flags_live);
    else if (flags_live)
        emit_check_flags_live(m, kind);
    else
        emit_check_flags_dead(m, kind);
}

/* Where others of the operand's bits may be undefined: those that decide; 0: all. In dirty
   versions, which count on what they have loaded, all. */
static uint64_t bits_that_decide(const struct instruction *i, const struct memory *m, bool flags_live) {
    bool others = !now.dirty && !flags_live && !is_foreign(m) && !m->write && m->size <= 8;
    return others ? bits_asked(i) : 0;
}

/* Whether the word is put back with a field changed: of its undefined bits others stay. */
static bool goes_back(const struct instruction *i, const struct memory *m, bool flags_live,
                      struct cold *c) {
    uint64_t stay;
    if (now.dirty || flags_live || is_foreign(m) || m->size > 8 || (m->size & (m->size - 1)))
        return false;
    const struct instruction *store = stays_in_place(i, &stay);
    if (!store || (m->size == 8 && !fits((int64_t)stay)))
        return false;
    c->masked = c->trusted = true;
    c->mask = (int32_t)stay;
    back = store == i ? NULL : store;
    return true;
}

/* A repeated instruction would take a pointer beyond the program's memory to what stands there:
   the D of such an address cannot be read, which faults as the access itself would. */
static void emit_wild_checks(const struct instruction *i) {
    for (int k = 0; k < i->memory_count; k++) {
        const struct memory *m = &i->memory[k];
        if (m->segment || m->address32 || (m->base != RDI && m->base != RSI))
            continue;
        emit_spill(&out, RAX);
        note_place(i->pc, 1u << RAX, false);
        emit8(&out, 0xe3); /* jrcxz: nothing is touched */
        emit8(&out, 3);
        emit8(&out, 0x65); /* mov al, gs:[base] */
        emit8(&out, 0x8a);
        emit8(&out, m->base);
        emit_unspill(&out, RAX);
        note_place(i->pc, 0, false);
    }
}

void emit_checks(const struct instruction *i, bool flags_live) {
    if (wants_slow_check(i)) {
        uint32_t how = string_kind(i);
        if (how)
            emit_context_constant(&out, CTX_GUEST_TARGET, how);
        emit_exit_and_back(how ? EXIT_STRING : EXIT_SLOW, i->pc);
        emit_wild_checks(i);
        forget_proofs();
        return;
    }
    for (int n = 0; n < 2 * i->memory_count; n++) {
        /* loads first: a store that was checked is taken for done, and the dirty version
           is to find D as it was */
        const struct memory *m = &i->memory[n % i->memory_count];
        if (m->write != (n >= i->memory_count))
            continue;
        enum check check = check_of(i, m);
        if (check == CHECK_NONE || i == back || is_proved(m))
            continue;
        bool known = m->size && (m->size <= 32 || m->size == 64);
        if (!known || !fits(m->displacement + 64)) {
            if (is_foreign(m) && known)
                goto plain;
            emit_exit_and_back(EXIT_SLOW, i->pc);
            return;
        }
    plain:;
        int first = cold_count;
        if (check == CHECK_ZERO)
            emit_zero(m);
        else
            emit_check(i, m, check == CHECK_STORE ? COLD_STORE : COLD_CHECK, flags_live);
        if (check == CHECK_LOAD && cold_count == first + 1) {
            if (goes_back(i, m, flags_live, &colds[first]))
                continue;
            colds[first].asked = bits_that_decide(i, m, flags_live);
            if (colds[first].asked) /* others may be undefined */
                continue;
        }
        prove(m, first, check == CHECK_LOAD ? cold_count : first);
        for (int c = first; check == CHECK_LOAD && m->write && c < cold_count; c++)
            colds[c].trusted = true;
    }
}

static void emit_check_of(const struct memory *m, enum cold_kind kind, bool flags_live) {
    if (flags_live)
        emit_check_flags_live(m, kind);
    else
        emit_check_flags_dead(m, kind);
}

void emit_load_check(const struct memory *m, bool flags_live) {
    emit_check_of(m, COLD_CHECK, flags_live);
}

void emit_touch_check(const struct memory *m, bool flags_live) {
    emit_check_of(m, COLD_TOUCH, flags_live);
}

/* --- cold parts --- */

static uint32_t add_check(const struct cold *c, uint8_t *patch) {
    if (cache.check_count >= CACHE_CHECKS)
        fail("the translation cache is full");
    struct cache_check *check = &cache_checks[cache.check_count];
    check->pc_low = (uint32_t)c->pc;
    check->pc_high = (uint16_t)(c->pc >> 32) & 0x7fff;
    check->trusted = c->trusted;
    check->possible = set_number(c->possible);
    check->resume = (uint32_t)((uint64_t)(uintptr_t)c->resume - CACHE_BASE);
    check->store = c->beyond != NULL;
    check->owes = (uint8_t)c->owes;
    patch = c->beyond ? c->beyond : patch;
    check->patch = patch ? (uint32_t)((uint64_t)(uintptr_t)patch - CACHE_BASE) & 0x7fffffff : 0;
    return cache.check_count++;
}

static void emit_unspill_all(uint32_t spilled) {
    for (int r = 0; r < 16; r++)
        if (spilled & 1u << r)
            emit_unspill(&out, r);
}

/* The running function may load its own return address, as setjmp does. Flags are kept. */
static void emit_own_return_address(const struct cold *c) {
    const struct memory *m = &c->memory;
    if (now.dirty || c->trusted || m->write || m->size != 8 || m->index >= 0 || m->segment ||
        m->address32 || m->absolute || (m->base != RSP && m->base != RBP))
        return;
    emit_spill(&out, RCX);
    emit_from_context(&out, RCX, CTX_SHADOW);
    emit_op(&out, 0x8b, RCX, RCX,
            (int)offsetof(struct shadow_entry, stack_pointer) - (int)sizeof(struct shadow_entry));
    emit8(&out, 0x48); /* not rcx */
    emit8(&out, 0xf7);
    emit8(&out, 0xd1);
    emit8(&out, 0x48); /* lea rcx, [rcx + operand + 1]: 0 when they are the same */
    emit8(&out, 0x8d);
    emit_memory(&out, RCX, m->base, RCX, 1, m->displacement + 1);
    emit8(&out, 0xe3); /* jrcxz to the second jump */
    emit8(&out, 2);
    emit8(&out, 0xeb);
    uint8_t *other = out.at;
    emit8(&out, 0);
    emit_unspill(&out, RCX);
    emit_jump(&out, c->resume);
    *other = (uint8_t)(out.at - other - 1);
    emit_unspill(&out, RCX);
}

void emit_lea(const struct memory *m, int reg) {
    if (m->address32)
        emit8(&out, 0x67);
    emit8(&out, rex(1, reg, m->index < 0 ? 0 : m->index, m->base < 0 ? 0 : m->base));
    emit8(&out, 0x8d);
    emit_operand(m, reg, 0);
}

/* To glue_store: RCX the address, EDX the size and what it is for, both spilled. */
static void emit_way(struct cold *c, uint32_t way) {
    emit_spill(&out, RCX);
    emit_spill(&out, RDX);
    const struct memory *m = &c->memory;
    if (is_foreign(m)) {
        uint32_t used = 1u << RCX | 1u << RDX | (m->base >= 0 ? 1u << m->base : 0) |
                        (m->index >= 0 ? 1u << m->index : 0);
        int scratch = pick_scratch(used);
        emit_spill(&out, scratch);
        emit_address(m, scratch);
        emit_op(&out, 0x8d, RCX, scratch, 0);
        emit_unspill(&out, scratch);
    } else {
        emit_lea(m, RCX);
    }
    emit_goal(RDX, c->resume);
    emit8(&out, 0xba);
    emit32(&out, m->size | way);
    emit_jump(&out, cache.exits[EXIT_STORE]);
}

/* mov rcx, fs:[offset], and the like */
static void emit_rcx_context(int opcode, int offset) {
    emit8(&out, 0x64);
    emit8(&out, 0x48);
    emit8(&out, opcode);
    emit_memory(&out, RCX, -1, -1, 1, offset);
}

static void emit_rcx_immediate(int extension, int64_t value) {
    emit8(&out, 0x48);
    emit8(&out, 0x81);
    emit8(&out, 0xc0 | extension << 3 | RCX);
    emit32(&out, value);
}

/* and <size> gs:[operand], mask */
static void emit_shadow_mask(const struct memory *m, int32_t mask) {
    if (m->size == 2)
        emit8(&out, 0x66);
    emit_gs(m, m->size == 8, 0);
    emit8(&out, m->size == 1 ? 0x80 : 0x81);
    emit_operand(m, 4, 0);
    for (uint32_t k = 0; k < (m->size < 4 ? m->size : 4); k++)
        emit8(&out, mask >> 8 * k & 0xff);
}

/* Leaves by the jumps, whose number is returned, unless the program may touch the operand for
   sure: as the frame's own (`own`) or as an aligned one on the heap. Flags are dead, RCX is
   spilled. */
static int emit_unless_touchable(const struct memory *m, bool own, uint8_t **leave) {
    int count = 0;
    if (own) {
        /* in a frame of ordinary size, below the return address on top */
        if (m->base != RSP || m->displacement < 0) {
            emit_lea(m, RCX);
            emit8(&out, 0x48); /* cmp rcx, rsp */
            emit8(&out, 0x39);
            emit8(&out, 0xc0 | RSP << 3 | RCX);
            leave[count++] = emit_if(&out, 2); /* jb */
        }
        emit_rcx_context(0x8b, CTX_SHADOW);
        emit_op(&out, 0x8b, RCX, RCX, -16);
        emit8(&out, 0x48);
        emit8(&out, 0x29); /* sub rcx, base */
        emit8(&out, 0xc0 | m->base << 3 | RCX);
        emit_rcx_immediate(5, m->displacement + (int64_t)m->size);
        emit_rcx_immediate(7, 0xffff);
        leave[count++] = emit_if(&out, 7); /* ja */
    } else {
        emit_lea(m, RCX);
        emit_rcx_context(0x3b, CTX_STACK_LOW);
        leave[count++] = emit_if(&out, 3); /* jae */
        if (m->size > 1) {
            emit8(&out, 0xf6); /* test cl, size - 1 */
            emit8(&out, 0xc1);
            emit8(&out, m->size > 8 ? 7 : (int)m->size - 1);
            leave[count++] = emit_if(&out, 5);
        }
        emit8(&out, 0x48); /* shr rcx, 3 */
        emit8(&out, 0xc1);
        emit8(&out, 0xe9);
        emit8(&out, 3);
        emit_rcx_context(0x03, CTX_A_BASE);
        if (m->size > 8)
            emit8(&out, 0x66);
        emit8(&out, m->size > 8 ? 0x81 : 0x80); /* cmp [rcx], 0 */
        emit_memory(&out, 7, RCX, -1, 1, 0);
        for (uint32_t k = 0; k < (m->size > 8 ? 2 : 1); k++)
            emit8(&out, 0);
        leave[count++] = emit_if(&out, 5);
    }
    return count;
}

/* What glue_frame_store does, and glue_heap_store for aligned places, here: the jumps
   there and back are indirect ones. Flags are dead. Falls through where it is not so. Where
   something is stored it is defined then; where a part of the target stays that does. */
static void emit_store_here(struct cold *c, bool own) {
    const struct memory *m = &c->memory;
    uint8_t *otherwise[3];
    emit_spill(&out, RCX);
    int count = emit_unless_touchable(m, own, otherwise);
    emit_unspill(&out, RCX);
    if (c->masked) {
        if (c->mask != -1)
            emit_shadow_mask(m, c->mask);
        emit_zero_word(CTX_UNDEFINED_FLAGS);
    } else {
        emit_zero(m);
    }
    emit_jump(&out, c->resume);
    for (int k = 0; k < count; k++)
        patch_jump(otherwise[k], out.at);
    emit_unspill(&out, RCX);
}

/* Below the stack pointer only the frame's own registers are trusted. */
static bool is_own(const struct memory *m) {
    return (m->base == RSP || m->base == RBP) && m->index < 0;
}

/* Goes back where none of the bits that decide is undefined. Where the others of a byte may be
   undefined as a whole it could also be one that must not be touched: that is all right for
   whole words, which are aligned (see check_range: what is beyond is dropped). */
static void emit_asked(const struct cold *c) {
    const struct memory *m = &c->memory;
    uint8_t *otherwise[6];
    int count = 0;
    uint32_t kept = out.kept;
    bool whole = false;
    for (uint32_t k = 0; k < m->size; k++)
        whole |= !(c->asked >> 8 * k & 255);
    for (uint32_t done = 0; done < m->size; done += 4) {
        uint32_t bits = (uint32_t)(c->asked >> 8 * done), size = m->size < 4 ? m->size : 4;
        if (!bits)
            continue;
        if (size == 2)
            emit8(&out, 0x66);
        emit_gs(m, false, 0); /* test <size> gs:[operand], bits */
        emit8(&out, size == 1 ? 0xf6 : 0xf7);
        emit_operand(m, 0, done);
        for (uint32_t k = 0; k < size; k++)
            emit8(&out, (int)(bits >> 8 * k & 255));
        otherwise[count++] = emit_if(&out, 5);
    }
    if (whole) {
        int first = count;
        emit_spill(&out, RCX);
        if (m->size >= 4) {
            emit_lea(m, RCX);
            otherwise[count++] = leave_by_bits(RCX, (int)m->size - 1);
        } else {
            count += emit_unless_touchable(m, is_own(m), otherwise + count);
        }
        emit_unspill(&out, RCX);
        emit_jump(&out, c->resume);
        for (; count > first; count--)
            patch_jump(otherwise[count - 1], out.at);
        emit_unspill(&out, RCX);
    } else {
        emit_jump(&out, c->resume);
    }
    for (int k = 0; k < count; k++)
        patch_jump(otherwise[k], out.at);
    out.kept = kept; /* not spilled on the way here */
}

/* The jump at the end is patched to lead to the dirty version. */
void emit_cold_check(struct cold *c) {
    emit_unspill_all(c->spilled);
    if (c->asked)
        emit_asked(c);
    if (c->masked)
        emit_store_here(c, is_own(&c->memory));
    emit_own_return_address(c);
    emit_dirty_set();
    uint8_t *number = out.at;
    emit_context_constant(&out, CTX_ARGUMENT, 0);
    align_patch(1);
    uint32_t index = add_check(c, out.at + 1);
    __builtin_memcpy(number + 8, &index, 4);
    if (c->owes) { /* the dirty version takes it over; whoever goes on otherwise does not know */
        emit_jump(&out, out.at + 5);
        emit_owing(c->owes, c->spilled & 1u << RCX); /* by jrcxz, where flags are live */
    }
    emit_jump(&out, cache.exits[EXIT_CHECK]);
}

void emit_cold_store(struct cold *c) {
    const struct memory *m = &c->memory;
    emit_unspill_all(c->spilled);
    bool own = is_own(m);
    bool usual = !(c->spilled & 1u << RCX) && !is_foreign(m);
    if (usual && m->size && m->size <= 16 && !(m->size & (m->size - 1)))
        emit_store_here(c, own);
    emit_dirty_set();
    emit_context_constant(&out, CTX_ARGUMENT, add_check(c, NULL));
    if (!usual) { /* flags may be live */
        emit_way(c, own ? 0 : WAY_STRANGE);
        return;
    }
    emit_spill(&out, RCX);
    emit_goal(RCX, c->resume);
    if (address_uses(m) & 1u << RCX)
        emit_unspill(&out, RCX);
    if (m->size && m->size <= 16 && !(m->size & (m->size - 1))) {
        emit_lea(m, RCX);
        emit_jump(&out, cache.exits[EXIT_FRAME_STORE + (own ? 0 : 5) + __builtin_ctz(m->size)]);
        return;
    }
    emit_spill(&out, RDX);
    emit_lea(m, RCX);
    emit8(&out, 0xba);
    emit32(&out, m->size | (own ? 0 : WAY_STRANGE) | WAY_FRAMES);
    emit_jump(&out, cache.exits[EXIT_PLAIN_STORE]);
}

void emit_cold_touch(struct cold *c) {
    /* by jrcxz, where flags are live */
    bool flags = c->spilled == 1u << RCX, known = !c->spilled || flags;
    uint32_t size = c->memory.size;
    emit_unspill_all(c->spilled);
    int odd = 0;
    if (c->masked && !c->spilled && !is_foreign(&c->memory) && !(size & (size - 1)))
        emit_store_here(c, is_own(&c->memory));
    if (c->way && known && size && size <= 32 && !is_foreign(&c->memory)) {
        if (c->way & WAY_LOAD)
            odd = emit_known_origin(c, flags);
        else if ((c->way & WAY_ORIGIN) && !(size & (size - 1)))
            emit_known_target(c, flags);
    }
    if (c->values)
        emit_plan_values(c->argument);
    emit_dirty_set();
    emit_context_constant(&out, CTX_PC, (uint32_t)c->pc);
    emit_context_constant(&out, CTX_PC + 4, (uint32_t)(c->pc >> 32));
    emit_context_constant(&out, CTX_GUEST_TARGET, c->argument);
    emit_context_constant(&out, CTX_ARGUMENT,
                          (uint32_t)((uint64_t)(uintptr_t)c->resume - CACHE_BASE));
    if (c->way & WAY_LOAD)
        emit_context_constant(&out, CTX_ODD_AT, (uint32_t)odd);
    if (!c->way || c->memory.size > 32)
        emit_jump(&out, cache.exits[EXIT_UNDEFINED]);
    else
        emit_way(c, c->way);
}

void emit_dirty_store_check(const struct memory *m, bool flags_live) {
    if (m->base == RSP && m->index < 0 && m->displacement >= 0 && !m->address32)
        return; /* a slot of the live frame: D is written in any case */
    if (flags_live)
        emit_check_flags_live(m, COLD_STORE);
    else
        emit_check_flags_dead(m, COLD_STORE);
}

/* To a COLD_TOUCH piece when one of the words of the context is not 0. */
void emit_words_check(int offset, int words, const struct memory *m, bool flags_live) {
    uint8_t *found[8];
    for (int w = 0; w < words && flags_live; w++) {
        emit_spill(&out, RCX);
        emit_from_context(&out, RCX, offset + 8 * w);
        emit_unless_rcx(COLD_TOUCH)->memory = *m;
        emit_unspill(&out, RCX);
    }
    for (int w = 0; w < words && !flags_live; w++) {
        emit8(&out, 0x64); /* cmp qword fs:[word], 0 */
        emit8(&out, 0x48);
        emit8(&out, 0x83);
        emit_memory(&out, 7, -1, -1, 1, offset + 8 * w);
        emit8(&out, 0);
        if (w + 1 < words)
            found[w] = emit_if(&out, 5); /* jne: to the last, which leads on */
    }
    for (int w = 0; w + 1 < words && !flags_live; w++)
        patch_jump(found[w], out.at);
    if (!flags_live)
        emit_unless(COLD_TOUCH)->memory = *m;
}

/* mov <size> gs:[operand], reg */
void emit_shadow_store(const struct memory *m, int reg) {
    if (m->size == 2)
        emit8(&out, 0x66);
    emit8(&out, 0x65);
    if (m->address32)
        emit8(&out, 0x67);
    emit8(&out, rex(m->size == 8, reg, m->index < 0 ? 0 : m->index, m->base < 0 ? 0 : m->base));
    emit8(&out, m->size == 1 ? 0x88 : 0x89);
    emit_operand(m, reg, 0);
}

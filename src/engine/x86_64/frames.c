/* The stack: the upkeep of D where the stack pointer moves. What is released becomes
   undefined (0xFF), what is pushed becomes defined. None of it changes a flag that is live. */
#include "copies.h"
#include "translate.h"
#include "../engine.h"

int64_t stack_shift(const struct instruction *i) {
    const ZydisDecodedOperand *o = i->operands;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_PUSH:
    case ZYDIS_MNEMONIC_PUSHFQ:
        return -(int64_t)(i->z.operand_width / 8);
    case ZYDIS_MNEMONIC_POP:
        return i->registers_written & ~(1u << RSP) || o[0].type != ZYDIS_OPERAND_TYPE_REGISTER
                   ? i->z.operand_width / 8
                   : 0;
    case ZYDIS_MNEMONIC_SUB:
    case ZYDIS_MNEMONIC_ADD:
        if (o[0].type == ZYDIS_OPERAND_TYPE_REGISTER && o[0].reg.value == ZYDIS_REGISTER_RSP &&
            o[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE)
            return i->z.mnemonic == ZYDIS_MNEMONIC_ADD ? o[1].imm.value.s : -o[1].imm.value.s;
        return 0;
    case ZYDIS_MNEMONIC_LEA:
        if (o[0].reg.value == ZYDIS_REGISTER_RSP && o[1].mem.base == ZYDIS_REGISTER_RSP &&
            o[1].mem.index == ZYDIS_REGISTER_NONE)
            return o[1].mem.disp.value;
        return 0;
    default:
        return 0;
    }
}

/* The psABI leaves a function 128 bytes below the stack pointer. Compilers do not look
   back there into a frame they gave up, but code written by hand does. */
static bool looks_back(const struct instruction *i) {
    while (++i < trace + trace_count) {
        enum role role = role_of(i);
        if (role == CALL || role == RETURN || role == BROKEN)
            break;
        for (int k = 0; k < i->memory_count; k++)
            if (i->memory[k].base == RSP && i->memory[k].encoded &&
                i->memory[k].displacement < 0 && i->memory[k].displacement >= -128)
                return true;
    }
    return false;
}

static const struct memory top = {.base = RSP, .index = -1, .scale = 1, .size = 8};

/* mov qword gs:[base + displacement], -1 */
static void emit_ones(int base, int index, int64_t displacement) {
    emit8(&out, 0x65);
    emit8(&out, rex(1, 0, index < 0 ? 0 : index, base));
    emit8(&out, 0xc7);
    emit_memory(&out, 0, base, index, 1, displacement);
    emit32(&out, -1);
}

#define UNROLLED 128
#define WIDE 1024
#define AT_ONCE 128 /* bytes that one round of a loop fills */

/* xmm0 is all ones between the two. */
static void emit_ones_begin(void) {
    emit8(&out, 0x64); /* movups fs:[value], xmm0 */
    emit8(&out, 0x0f);
    emit8(&out, 0x11);
    emit_memory(&out, 0, -1, -1, 1, CTX_VALUE);
    emit8(&out, 0x66); /* pcmpeqd xmm0, xmm0 */
    emit8(&out, 0x0f);
    emit8(&out, 0x76);
    emit8(&out, 0xc0);
}

static void emit_ones_end(void) {
    emit8(&out, 0x64); /* movups xmm0, fs:[value] */
    emit8(&out, 0x0f);
    emit8(&out, 0x10);
    emit_memory(&out, 0, -1, -1, 1, CTX_VALUE);
}

/* movups gs:[rsp + index + displacement], xmm0 for n bytes, a multiple of 16 */
static void emit_wide_ones(int index, int64_t displacement, int64_t n) {
    for (int64_t at = 0; at < n; at += 16) {
        emit8(&out, 0x65);
        if (index > 7)
            emit8(&out, rex(0, 0, index, RSP));
        emit8(&out, 0x0f);
        emit8(&out, 0x11);
        emit_memory(&out, 0, RSP, index, 1, displacement + at);
    }
}

/* D of the n bytes below the stack pointer becomes 0xFF; no flag changes. */
static void emit_fill_below(int64_t n) {
    if (n <= UNROLLED) {
        for (int64_t at = 8; at <= n; at += 8)
            emit_ones(RSP, -1, -at);
        return;
    }
    int64_t rest = n <= WIDE ? n : n % AT_ONCE;
    emit_ones_begin();
    emit_wide_ones(-1, -(rest & ~15LL), rest & ~15LL);
    if (rest & 8)
        emit_ones(RSP, -1, -(rest & ~7LL));
    if (rest < n) {
        emit_spill(&out, RCX);
        emit8(&out, 0x48); /* mov rcx, -n */
        emit8(&out, 0xc7);
        emit8(&out, 0xc1);
        emit32(&out, -(n - rest));
        uint8_t *again = out.at;
        emit_wide_ones(RCX, -rest, AT_ONCE);
        emit_op(&out, 0x8d, RCX, RCX, AT_ONCE);
        emit8(&out, 0xe3);
        emit8(&out, 2);
        emit8(&out, 0xeb);
        emit8(&out, (int)(again - (out.at + 1)));
        emit_unspill(&out, RCX);
    }
    emit_ones_end();
}

/* How far the stack pointer stands below the frame pointer, at least; -1: not known. */
static int64_t depth;

/* The lowest place below both pointers that the trace has defined, from the frame
   pointer; 0: none. It is undone where the frame is left. */
static int64_t below;
static uint32_t recorded; /* 8 bytes each, from the frame pointer down, that were given origins */

void frame_follow(const struct instruction *i) {
    enum { SP = 1u << RSP, FP = 1u << RBP };
    static bool own_rules; /* of code that the program made for itself */
    if (!i) {
        below = 0;
        recorded = 0;
        own_rules = code_is_generated(now.pc);
    }
    if (!i || own_rules) {
        depth = -1;
        return;
    }
    enum role role = role_of(i);
    if (role == CALL)
        return; /* both come back as they were (psABI, 3.2.1) */
    const ZydisDecodedOperand *o = i->operands;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_MOV && o[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
        o[0].reg.value == ZYDIS_REGISTER_RBP && o[1].type == ZYDIS_OPERAND_TYPE_REGISTER &&
        o[1].reg.value == ZYDIS_REGISTER_RSP) {
        depth = 0;
        return;
    }
    if (i->registers_written & FP) {
        depth = -1;
    } else if (depth >= 0 && (i->registers_written & SP) && i->z.mnemonic != ZYDIS_MNEMONIC_AND) {
        int64_t shift = stack_shift(i); /* an AND only moves it down */
        depth = shift && depth >= shift ? depth - shift : -1;
    }
}

bool frame_has(const struct memory *m) {
    return m->base == RBP && m->index < 0 && !m->segment && !m->address32 && m->displacement < 0 &&
           -m->displacement <= depth && m->displacement + (int64_t)m->size <= 0;
}

static bool pops_frame_pointer(const struct instruction *i) {
    return i->z.mnemonic == ZYDIS_MNEMONIC_POP &&
           i->operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
           i->operands[0].reg.value == ZYDIS_REGISTER_RBP;
}

/* Whether the trace goes from here to the end of the frame and returns, come what may. */
static bool goes_straight_back(const struct instruction *i) {
    const struct instruction *end = trace + trace_count;
    for (i++; i + 1 < end; i++) {
        enum role role = role_of(i);
        if (pops_frame_pointer(i))
            return role_of(i + 1) == RETURN;
        if ((role != PLAIN && role != JUMP) ||
            (i->registers_written & (1u << RSP | 1u << RBP)))
            return false;
    }
    return false;
}

bool frame_has_below(const struct instruction *i, const struct memory *m) {
    if (depth != 0 || m->base != RBP || m->index >= 0 || m->segment || m->address32 ||
        m->displacement >= 0 || m->displacement < -RED_ZONE ||
        m->displacement + (int64_t)m->size > 0 || !goes_straight_back(i))
        return false;
    if (m->displacement < below)
        below = m->displacement;
    return true;
}

uint32_t frame_owes(void) {
    return (uint32_t)(-below + 7) / 8 | (recorded ? OWES_ORIGINS : 0);
}

void frame_records(const struct memory *m) {
    for (int64_t at = m->displacement & -8; at < m->displacement + (int64_t)m->size; at += 8)
        recorded |= 1u << (-at / 8 - 1);
}

/* To RCX. */
static void lower_mark(int mark) {
    emit_context_op(&out, OP_COMPARE, RCX, mark);
    uint8_t *lower = emit_if(&out, 3); /* jae */
    emit_to_context(&out, RCX, mark);
    patch_jump(lower, out.at);
}

void emit_owing(uint32_t owes, bool flags_live) {
    if (flags_live)
        emit_save_flags();
    emit_spill(&out, RCX);
    emit_op(&out, 0x8d, RCX, RSP, -8 * (int)(owes & OWES_WORDS));
    emit8(&out, 0x48); /* and rcx, -8: what is undone goes by words */
    emit8(&out, 0x83);
    emit8(&out, 0xe1);
    emit8(&out, -8);
    lower_mark(CTX_MARK);
    if (owes & OWES_ORIGINS)
        lower_mark(CTX_MARK_ORIGIN);
    emit_unspill(&out, RCX);
    if (flags_live) {
        emit_spill(&out, RAX);
        emit_restore_flags();
    }
}

void frame_takes_over(uint32_t owes, bool flags_live) {
    if (!owes)
        return;
    if (!goes_straight_back(trace - 1)) {
        emit_owing(owes, flags_live);
        return;
    }
    uint32_t words = owes & OWES_WORDS;
    depth = 0;
    below = -8 * (int64_t)words;
    recorded = owes & OWES_ORIGINS ? (1u << words) - 1 : 0;
}

static void emit_no_origins(bool flags_live) {
    if (flags_live)
        emit_save_flags();
    emit_spill(&out, RCX);
    note_place(now.pc, 1u << RCX, false);
    emit_op(&out, 0x8d, RCX, RBP, 0);
    emit_place_of_word(RCX);
    for (int k = 0; recorded >> k; k++) {
        if (!(recorded >> k & 1))
            continue;
        emit8(&out, 0x48); /* mov qword [rcx - 8 * (k + 1)], 0 */
        emit8(&out, 0xc7);
        emit_memory(&out, 0, RCX, -1, 1, -8 * (k + 1));
        emit32(&out, 0);
    }
    emit_unspill(&out, RCX);
    if (flags_live) {
        emit_spill(&out, RAX);
        emit_restore_flags();
    }
}

void emit_frame_end(const struct instruction *i, bool flags_live) {
    if (!below || !pops_frame_pointer(i))
        return;
    for (int64_t at = -8; at > below - 8; at -= 8)
        emit_ones(RBP, -1, at);
    if (recorded)
        emit_no_origins(flags_live);
    below = 0;
    recorded = 0;
}

/* What kind of change to the stack pointer only the run can tell. */
static bool moves_stack(const struct instruction *i) {
    if (!(i->registers_written & 1u << RSP) || stack_shift(i))
        return false;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_PUSH:
    case ZYDIS_MNEMONIC_POP:
    case ZYDIS_MNEMONIC_AND: /* alignment moves it down */
    case ZYDIS_MNEMONIC_SUB:
    case ZYDIS_MNEMONIC_ENTER:
        return false;
    default:
        return true;
    }
}

/* A frame is left through its frame pointer: anything else may be a change of stacks. One
   that goes above it keeps something in the red zone: C knows (see release_stack). */
static bool leaves_frame(const struct instruction *i) {
    const ZydisDecodedOperand *o = &i->operands[1];
    if (i->z.mnemonic == ZYDIS_MNEMONIC_LEAVE)
        return true;
    if (i->z.mnemonic == ZYDIS_MNEMONIC_MOV)
        return o->type == ZYDIS_OPERAND_TYPE_REGISTER && o->reg.value == ZYDIS_REGISTER_RBP;
    return i->z.mnemonic == ZYDIS_MNEMONIC_LEA && o->mem.base == ZYDIS_REGISTER_RBP &&
           o->mem.index == ZYDIS_REGISTER_NONE && o->mem.disp.value <= 0;
}

/* A register that functions keep for their caller (psABI, 3.2.1). */
static bool is_kept(const ZydisDecodedOperand *o) {
    enum { KEPT = 1 << RBX | 1 << RBP | 0xf << 12 };
    int reg = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o->reg.value) : -1;
    return reg >= 0 && o->size == 64 && (KEPT >> reg & 1);
}

/* A frame of eight bytes is made with a push, the shortest instruction for it: what RAX
   holds when a function is entered means nothing. It stands behind the pushes that keep
   registers, and nothing before it sets RAX. */
bool makes_frame(const struct instruction *i) {
    if (!now.function || i->z.mnemonic != ZYDIS_MNEMONIC_PUSH || i->operands[0].size != 64 ||
        i->operands[0].type != ZYDIS_OPERAND_TYPE_REGISTER ||
        i->operands[0].reg.value != ZYDIS_REGISTER_RAX)
        return false;
    for (const struct instruction *k = trace; k < i; k++) {
        enum role role = role_of(k);
        if ((role != PLAIN && role != BRANCH) || (k->registers_written & 1u << RAX) ||
            (k->z.mnemonic == ZYDIS_MNEMONIC_PUSH ? !is_kept(&k->operands[0])
                                                  : (k->registers_written & 1u << RSP) != 0))
            return false;
    }
    return i + 1 < trace + trace_count && i[1].z.mnemonic != ZYDIS_MNEMONIC_PUSH &&
           i[1].z.mnemonic != ZYDIS_MNEMONIC_POP;
}

/* The other end: a pop into a register that no caller looks at. */
bool drops_frame(const struct instruction *i) {
    enum { LOST = 1 << RAX | 1 << RCX | 1 << RDX | 1 << RSI | 1 << RDI | 0xf << 8 };
    if (i->z.mnemonic != ZYDIS_MNEMONIC_POP || i->operands[0].size != 64 ||
        i->operands[0].type != ZYDIS_OPERAND_TYPE_REGISTER ||
        !(LOST >> register_number(i->operands[0].reg.value) & 1))
        return false;
    const struct instruction *end = trace + trace_count;
    for (i++; i < end && i->z.mnemonic == ZYDIS_MNEMONIC_POP && is_kept(&i->operands[0]);)
        i++;
    return i < end && role_of(i) == RETURN;
}

void emit_stack_before(const struct instruction *i, bool flags_live) {
    struct memory m = top;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_LEAVE:
        m.base = RBP;
        break;
    case ZYDIS_MNEMONIC_POP:
    case ZYDIS_MNEMONIC_POPF:
    case ZYDIS_MNEMONIC_POPFQ:
        if (drops_frame(i))
            goto moves;
        m.size = i->z.operand_width / 8u;
        break;
    default:
        goto moves;
    }
    if (!is_proved(&m)) {
        emit_load_check(&m, flags_live);
    }
moves:
    emit_stack_note(i);
}

void emit_stack_note(const struct instruction *i) {
    if (moves_stack(i))
        emit_to_context(&out, RSP, CTX_OLD_SP);
}

/* For C: the stack pointer as it was; it stands so much higher now. */
static void emit_step_size(int64_t shift) {
    emit_spill(&out, RCX);
    emit_op(&out, 0x8d, RCX, RSP, -shift);
    emit_to_context(&out, RCX, CTX_OLD_SP);
    emit_unspill(&out, RCX);
}

static bool shifts_back(const struct instruction *i) {
    return role_of(i) == PLAIN && stack_shift(i) > 0 && i->z.mnemonic != ZYDIS_MNEMONIC_POP;
}

/* Whether the function goes on with what it has given back below it, or another one takes its
   place: else a return tidies up soon, or what gives back more. */
static bool goes_on_above(const struct instruction *i) {
    while (++i < trace + trace_count) {
        enum role role = role_of(i);
        if (role == RETURN || shifts_back(i))
            return false;
        if (role != PLAIN && role != JUMP)
            break;
    }
    return true;
}

/* Origins recorded there are forgotten: others will have their locals there. */
static void emit_forget_below(bool flags_live) {
    if (flags_live)
        emit_save_flags();
    struct cold *c = cold_add(COLD_MARK, emit_mark_test(7)); /* ja */
    c->argument = (uint32_t)((uint64_t)(uintptr_t)out.at - CACHE_BASE);
    if (flags_live) {
        emit_spill(&out, RAX);
        emit_restore_flags();
    }
}

/* D of what lies between the old stack pointer and the new one becomes 0xFF. */
static void emit_release(const struct instruction *i, bool inline_fill, bool flags_live) {
    if (flags_live || !inline_fill) {
        emit_exit_and_back(EXIT_RELEASE, now.pc);
        return;
    }
    emit_spill(&out, RCX);
    note_place(now.pc, 1u << RCX, false);
    emit_from_context(&out, RCX, CTX_OLD_SP);
    emit8(&out, 0x48); /* sub rcx, rsp */
    emit8(&out, 0x29);
    emit8(&out, 0xe1);
    emit8(&out, 0x73); /* jae done */
    uint8_t *done = out.at;
    emit8(&out, 0);
    emit8(&out, 0x48); /* cmp rcx, -AT_ONCE */
    emit8(&out, 0x83);
    emit8(&out, 0xf9);
    emit8(&out, -AT_ONCE);
    emit8(&out, 0x0f); /* jb */
    emit8(&out, 0x82);
    struct cold *c = cold_add(COLD_RELEASE, out.at);
    emit32(&out, 0);
    uint8_t *again = out.at;
    emit_ones(RSP, RCX, 0);
    emit8(&out, 0x48); /* add rcx, 8 */
    emit8(&out, 0x83);
    emit8(&out, 0xc1);
    emit8(&out, 8);
    emit8(&out, 0x78); /* js again */
    emit8(&out, (int)(again - (out.at + 1)));
    *done = (uint8_t)(out.at - done - 1);
    c->resume = out.at;
    c->beyond = again;
    emit_unspill(&out, RCX);
    if (goes_on_above(i))
        emit_forget_below(false);
}

/* Compilers move reads of an array of varying length behind the instruction that gives its room
   back: the last that may be one, from the instruction on; NULL: there is none. */
static const struct instruction *last_read_of_released(const struct instruction *first) {
    enum { AHEAD = 16 };
    const struct instruction *last = NULL, *end = trace + trace_count;
    for (const struct instruction *k = first; k < end && k - first < AHEAD; k++) {
        if (role_of(k) != PLAIN || ((k->registers_written | k->registers_used) & 1u << RSP))
            break;
        for (int m = 0; m < k->memory_count; m++)
            if (k->memory[m].read && k->memory[m].base >= 0 && k->memory[m].base != RBP)
                last = k;
    }
    return last;
}

static const struct instruction *released_after; /* that one; NULL: nothing waits */
static bool released_inline;

void frame_begins(void) {
    released_after = NULL;
    if (!room_was_given_back(trace[0].pc))
        return;
    released_inline = false; /* by whom is not known here */
    released_after = last_read_of_released(trace);
    if (!released_after)
        emit_release(trace, false, true);
}

void frame_release_due(const struct instruction *i, bool flags_live, bool last) {
    if (!released_after || (released_after != i && !last))
        return;
    released_after = NULL;
    emit_release(i, released_inline, flags_live);
    forget_proofs();
}

void emit_cold_release(const struct cold *c) {
    emit8(&out, 0x48); /* cmp rcx, -4096 */
    emit8(&out, 0x81);
    emit8(&out, 0xf9);
    emit32(&out, -4096);
    emit8(&out, 0x72); /* jb: C sees to it */
    uint8_t *large = out.at;
    emit8(&out, 0);
    emit_ones_begin();
    uint8_t *again = out.at;
    emit_wide_ones(RCX, 0, AT_ONCE);
    emit8(&out, 0x48); /* sub rcx, -AT_ONCE */
    emit8(&out, 0x83);
    emit8(&out, 0xe9);
    emit8(&out, -AT_ONCE);
    emit8(&out, 0x48); /* cmp rcx, -AT_ONCE */
    emit8(&out, 0x83);
    emit8(&out, 0xf9);
    emit8(&out, -AT_ONCE);
    emit8(&out, 0x7e); /* jle again */
    emit8(&out, (int)(again - (out.at + 1)));
    emit_ones_end();
    emit8(&out, 0x48); /* test rcx, rcx */
    emit8(&out, 0x85);
    emit8(&out, 0xc9);
    emit8(&out, 0x0f); /* js: the rest, eight bytes at a time */
    emit8(&out, 0x88);
    emit32(&out, c->beyond - (out.at + 4));
    emit_jump(&out, c->resume);
    *large = (uint8_t)(out.at - large - 1);
    emit_unspill(&out, RCX);
    emit_dirty_set();
    emit_context_constant(&out, CTX_ARGUMENT,
                          (uint32_t)((uint64_t)(uintptr_t)c->resume - CACHE_BASE));
    emit_jump(&out, cache.exits[EXIT_RELEASE]);
}

/* Code by hand in a leaf function steps over the red zone, and back. Whether that is what is given
   back cannot be ruled out: something below the stack pointer may be read before the return. */
static bool may_step_over(const struct instruction *i) {
    if (!shifts_back(i) || stack_shift(i) < RED_ZONE)
        return false;
    while (++i < trace + trace_count) {
        enum role role = role_of(i);
        if (role == RETURN)
            return false;
        if (role != PLAIN && role != JUMP)
            break;
        for (int k = 0; k < i->memory_count; k++)
            if (i->memory[k].read && i->memory[k].encoded && i->memory[k].base != RSP)
                return true;
    }
    return true;
}

/* Where the red zone may have been written to before, C sees to it. */
static void emit_step_back(const struct instruction *i, bool flags_live) {
    int64_t shift = stack_shift(i);
    if (!flags_live) {
        struct cold *c = cold_add(COLD_STEP, emit_mark_test(7)); /* ja */
        c->argument = (uint32_t)shift;
        emit_fill_below(shift);
        c->resume = out.at;
        return;
    }
    emit_step_size(shift);
    emit_exit_and_back(EXIT_RELEASE, now.pc);
}

void emit_cold_step(const struct cold *c) {
    emit_step_size(c->argument);
    emit_dirty_set();
    emit_context_constant(&out, CTX_ARGUMENT,
                          (uint32_t)((uint64_t)(uintptr_t)c->resume - CACHE_BASE));
    emit_jump(&out, cache.exits[EXIT_RELEASE]);
}

void emit_shift_back(const struct instruction *i, bool flags_live) {
    if (looks_back(i))
        return;
    if (may_step_over(i)) {
        emit_step_back(i, flags_live);
        return;
    }
    emit_fill_below(stack_shift(i));
    if (shifts_back(i) && goes_on_above(i))
        emit_forget_below(flags_live);
}

void emit_stack_after(const struct instruction *i, bool flags_live) {
    struct memory m = top;
    int64_t shift = stack_shift(i);
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_PUSH:
    case ZYDIS_MNEMONIC_PUSHF:
    case ZYDIS_MNEMONIC_PUSHFQ:
        m.size = i->z.operand_width / 8u;
        if (makes_frame(i))
            emit_ones(RSP, -1, 0);
        else
            emit_zero(&m);
        break;
    case ZYDIS_MNEMONIC_ENTER:
        m.base = RBP;
        emit_zero(&m);
        break;
    default:
        if (shift > 0) {
            emit_shift_back(i, flags_live);
        } else if (moves_stack(i)) {
            released_inline = leaves_frame(i);
            released_after = last_read_of_released(i + 1);
            if (!released_after)
                emit_release(i, released_inline, flags_live);
        }
    }
    if (shift > 0 || moves_stack(i))
        forget_proofs();
    forget_registers(i);
    if (i->z.mnemonic == ZYDIS_MNEMONIC_PUSH && !makes_frame(i))
        prove(&m, 0, 0);
}

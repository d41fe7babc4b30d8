/* From guest machine code to checked machine code, one trace at a time: a
   single entry, running on through not-taken branches and direct jumps. Guest
   registers stay in their own registers; before each load and store the shadow
   of the operand is compared with 0. Flags are only protected where a backward
   analysis finds them live. Every emitted guest instruction is noted with its
   address, so that a fault or a signal finds its way back. */
#include "compute.h"
#include "copies.h"
#include "rules.h"

#define TRACE 48
#define DIRTY_TRACE 24

struct emitter out;
struct translation now;
struct cold colds[COLD];
int cold_count;
struct instruction trace[TRACE];
int trace_count;

struct cold *cold_add(enum cold_kind kind, uint8_t *patch) {
    struct cold *c = &colds[cold_count++];
    __builtin_memset(c, 0, sizeof *c);
    c->kind = kind;
    c->patch = patch;
    c->pc = now.pc;
    c->possible = now.possible;
    c->changed = now.changed;
    c->kept = out.kept;
    c->owes = frame_owes();
    return c;
}

void note_place(gaddr pc, uint32_t spilled, int exact) {
    if (cache.site_count >= CACHE_PLACES)
        fail("the translation cache is full");
    uint32_t host = (uint32_t)((uint64_t)(uintptr_t)out.at - CACHE_BASE);
    struct cache_place *p = &cache_places[cache.site_count];
    if (cache.site_count && p[-1].host == host) { /* nothing was emitted in between */
        if (!exact && place_pc(&p[-1]) == pc)
            return;
        place_set_pc(&p[-1], pc);
        p[-1].spilled = (uint16_t)spilled;
        p[-1].exact = (exact | p[-1].exact) & 3;
        if (!(exact & PLACE_EXACT))
            p[-1].exact &= PLACE_ENTRY;
        return;
    }
    p->host = host;
    place_set_pc(p, pc);
    p->spilled = (uint16_t)spilled;
    p->exact = exact & 3;
    __atomic_store_n(&cache.site_count, cache.site_count + 1, __ATOMIC_RELEASE);
}

/* Keeps a 32-bit displacement that will be patched inside one aligned word. */
void align_patch(int opcode_bytes) {
    while ((((uintptr_t)out.at + (uintptr_t)opcode_bytes) & 63) > 60)
        emit8(&out, 0x90);
}

void emit_link(gaddr target) {
    uint64_t host = cache_find(target);
    align_patch(1);
    emit8(&out, 0xe9);
    uint8_t *patch = out.at;
    emit32(&out, 0);
    if (host)
        patch_jump(patch, (uint8_t *)(uintptr_t)host);
    else
        cold_add(COLD_LINK, patch)->target = target;
}

void emit_conditional_link(int condition, gaddr target) {
    uint64_t host = cache_find(target);
    align_patch(2);
    emit8(&out, 0x0f);
    emit8(&out, 0x80 | condition);
    uint8_t *patch = out.at;
    emit32(&out, 0);
    if (host)
        patch_jump(patch, (uint8_t *)(uintptr_t)host);
    else
        cold_add(COLD_LINK, patch)->target = target;
}

void emit_conditional_dirty_link(int condition, gaddr target) {
    align_patch(2);
    emit8(&out, 0x0f);
    emit8(&out, 0x80 | condition);
    struct cold *c = cold_add(COLD_LINK, out.at);
    c->target = target;
    c->dirty_link = true;
    emit32(&out, 0);
}

/* mov fs:[CTX_PC], pc */
static void emit_pc(gaddr pc) {
    emit_context_constant(&out, CTX_PC, (uint32_t)pc);
    emit_context_constant(&out, CTX_PC + 4, (uint32_t)(pc >> 32));
}

/* Leaves through a door at once. */
void emit_exit(int reason, gaddr pc, uint32_t argument) {
    emit_pc(pc);
    emit_dirty_set();
    emit_context_constant(&out, CTX_ARGUMENT, argument);
    emit_jump(&out, cache.exits[reason]);
}

/* The same, and comes back behind the door. */
void emit_exit_and_back(int reason, gaddr pc) {
    emit_pc(pc);
    emit_dirty_set();
    uint8_t *start = out.at;
    emit_context_constant(&out, CTX_ARGUMENT, 0);
    emit_jump(&out, cache.exits[reason]);
    out.kept = 0;
    uint32_t resume = (uint32_t)((uint64_t)(uintptr_t)out.at - CACHE_BASE);
    __builtin_memcpy(start + 8, &resume, 4);
}

/* --- instructions --- */

/* The instruction with its memory operand replaced by [base + displacement], or
   by an absolute address when base is negative; segment prefixes go. */
void emit_rewritten(const struct instruction *i, int base, int64_t displacement);
void emit_rewritten(const struct instruction *i, int base, int64_t displacement) {
    const uint8_t *code = guest(i->pc);
    int modrm = i->z.raw.modrm.offset;
    int kind = i->z.encoding, at = 0;
    while (at < i->z.raw.prefix_count) {
        uint8_t byte = code[at++];
        if (kind == ZYDIS_INSTRUCTION_ENCODING_LEGACY && at == i->z.raw.prefix_count &&
            (byte & 0xf0) == 0x40 && (i->z.attributes & ZYDIS_ATTRIB_HAS_REX)) {
            emit8(&out, byte & ~3);
            continue;
        }
        if (byte != 0x64 && byte != 0x65 && byte != 0x67)
            emit8(&out, byte);
    }
    if (kind == ZYDIS_INSTRUCTION_ENCODING_VEX || kind == ZYDIS_INSTRUCTION_ENCODING_EVEX ||
        kind == ZYDIS_INSTRUCTION_ENCODING_XOP) {
        uint8_t first = code[at++];
        emit8(&out, first);
        if (first != 0xc5)
            emit8(&out, code[at++] | 0x60); /* X and B are stored inverted */
    } else if (at < modrm && (code[at] & 0xf0) == 0x40) {
        emit8(&out, code[at++] & ~3);
    }
    while (at < modrm)
        emit8(&out, code[at++]);
    emit_memory(&out, i->z.raw.modrm.reg, base, -1, 1, displacement);
    int tail = modrm + 1;
    if (i->z.raw.disp.size)
        tail = i->z.raw.disp.offset + i->z.raw.disp.size / 8;
    else if (i->z.raw.sib.offset)
        tail = i->z.raw.sib.offset + 1;
    while (tail < i->z.length)
        emit8(&out, code[tail++]);
}

int pick_scratch(uint32_t used) {
    static const int order[] = {RSI, RDI, RBX, RDX, RCX, RAX};
    for (unsigned k = 0; k < sizeof order / sizeof order[0]; k++)
        if (!(used & 1u << order[k]))
            return order[k];
    return RBP;
}

void emit_goal(int reg, const uint8_t *place) {
    emit_constant(&out, reg, (uint64_t)(uintptr_t)place);
    emit_to_context(&out, reg, CTX_TARGET);
}

/* The address of an operand the cache cannot use as it stands, into a register. */
void emit_address(const struct memory *m, int scratch) {
    if (m->segment) {
        emit_from_context(&out, scratch, m->segment == 'f' ? CTX_FS_BASE : CTX_GS_BASE);
        if (m->absolute) { /* segment and RIP: add the address */
            emit8(&out, rex(1, scratch, 0, scratch));
            emit8(&out, 0x8d);
            emit_memory(&out, scratch, scratch, -1, 1, (int32_t)m->displacement);
            return;
        }
        if (m->base >= 0) {
            emit8(&out, rex(1, scratch, m->base, scratch));
            emit8(&out, 0x8d);
            emit8(&out, (scratch & 7) << 3 | 0x44);
            if (m->base == RSP) { /* cannot be an index: swap the roles */
                out.at -= 2;
                emit8(&out, 0x8d);
                emit8(&out, (scratch & 7) << 3 | 0x44);
                emit8(&out, (scratch & 7) << 3 | RSP);
                out.at[-4] = (uint8_t)rex(1, scratch, scratch, RSP);
            } else {
                emit8(&out, (m->base & 7) << 3 | (scratch & 7));
            }
            emit8(&out, 0);
        }
        if (m->index >= 0) {
            emit8(&out, rex(1, scratch, m->index, scratch));
            emit8(&out, 0x8d);
            emit_memory(&out, scratch, scratch, m->index, m->scale, 0);
        }
        if (m->displacement) {
            emit8(&out, rex(1, scratch, 0, scratch));
            emit8(&out, 0x8d);
            emit_memory(&out, scratch, scratch, -1, 1, m->displacement);
        }
        return;
    }
    emit_constant(&out, scratch, (uint64_t)m->displacement);
}

/* True when the cache can use the operand only through another register. */
bool is_foreign(const struct memory *m) {
    return m->segment || (m->absolute && (m->displacement < 0 || !fits(m->displacement)));
}

void emit_as_it_is(const struct instruction *i) {
    const struct memory *m = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
    if (m && m->absolute) {
        emit_rewritten(i, -1, m->displacement);
        return;
    }
    const uint8_t *code = guest(i->pc);
    for (int k = 0; k < i->z.length; k++)
        emit8(&out, code[k]);
}

void emit_plain(const struct instruction *i) {
    out.kept &= ~(uint32_t)i->registers_written;
    const struct memory *m = i->encoded >= 0 ? &i->memory[i->encoded] : NULL;
    if (m && i->z.meta.category == ZYDIS_CATEGORY_WIDENOP)
        return;
    if (m && i->z.mnemonic == ZYDIS_MNEMONIC_NOP)
        return;
    if (m && i->z.mnemonic == ZYDIS_MNEMONIC_LEA && m->absolute) {
        int reg = register_number(i->operands[0].reg.value);
        if (i->z.operand_width == 64 && !is_foreign(m))
            emit_constant(&out, reg, (uint64_t)m->displacement);
        else if (i->z.operand_width == 64)
            emit_constant(&out, reg, (uint64_t)m->displacement);
        else
            emit_rewritten(i, -1, (int32_t)m->displacement);
        return;
    }
    if (m && m->segment && i->z.mnemonic == ZYDIS_MNEMONIC_LEA) {
        for (int k = 0; k < i->z.length; k++)
            emit8(&out, ((uint8_t *)guest(i->pc))[k]);
        return;
    }
    if (m && is_foreign(m)) {
        const ZydisDecodedOperand *o = &i->operands[0];
        int reg = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? register_number(o->reg.value) : -1;
        /* a load that overwrites its register needs no other */
        if (reg >= 0 && reg < 8 && reg != RSP && reg != RBP &&
            i->z.mnemonic == ZYDIS_MNEMONIC_MOV && o->size >= 32 && m->base != reg &&
            m->index != reg) {
            emit_address(m, reg);
            emit_rewritten(i, reg, 0);
            return;
        }
        int scratch = pick_scratch(i->registers_used);
        emit_spill(&out, scratch);
        note_place(i->pc, 1u << scratch, false);
        emit_address(m, scratch);
        emit_rewritten(i, scratch, 0);
        emit_unspill(&out, scratch);
        return;
    }
    emit_as_it_is(i);
}

/* Into a part of the cache of its own: what is run stays close together. */
static void emit_cold(void) {
    struct emitter hot = out;
    struct translation last = now;
    out.at = cache.cold;
    for (int k = 0; k < cold_count; k++) {
        struct cold *c = &colds[k];
        patch_jump(c->patch, out.at);
        now.pc = c->pc;
        now.possible = c->possible;
        now.changed = c->changed;
        out.kept = c->kept;
        switch (c->kind) {
        case COLD_LINK: {
            if (cache.link_count >= CACHE_LINKS)
                fail("the translation cache is full");
            struct cache_link *link = &cache_links[cache.link_count];
            link->target_low = (uint32_t)c->target;
            link->target_high = (uint16_t)(c->target >> 32);
            link->possible = set_number(c->dirty_link ? c->possible : 0);
            link->patch = (uint32_t)((uint64_t)(uintptr_t)c->patch - CACHE_BASE);
            if (c->dirty_link)
                emit_dirty_set();
            emit_context_constant(&out, CTX_ARGUMENT, cache.link_count++);
            emit_jump(&out, cache.exits[c->dirty_link ? EXIT_DIRTY_LINK : EXIT_LINK]);
            break;
        }
        case COLD_CHECK:
            emit_cold_check(c);
            break;
        case COLD_STORE:
            emit_cold_store(c);
            break;
        case COLD_TOUCH:
            emit_cold_touch(c);
            break;
        case COLD_DIRTY:
            emit_cold_dirty(c);
            break;
        case COLD_MARK:
            if (c->argument) { /* where it goes on */
                emit_spill(&out, RCX);
                emit_goal(RCX, (uint8_t *)(uintptr_t)(CACHE_BASE + c->argument));
                emit_unspill(&out, RCX);
            }
            emit_jump(&out, cache.exits[EXIT_MARK]);
            break;
        case COLD_RELEASE:
            emit_cold_release(c);
            break;
        case COLD_STEP:
            emit_cold_step(c);
            break;
        case COLD_LOOKUP:
            emit_unspill(&out, RCX);
            emit_unspill(&out, RDX);
            emit_dirty_set();
            emit_jump(&out, cache.exits[EXIT_LOOKUP]);
            break;
        case COLD_NEXT_RETURN:
            emit_unspill(&out, RDX);
            emit_exit(EXIT_NEXT_RETURN, c->pc, c->argument);
            break;
        case COLD_KEPT_RETURN:
            emit_restore_flags();
            /* fallthrough */
        case COLD_RETURN:
            emit_unspill(&out, RDX);
            emit_dirty_set();
            emit_context_constant(&out, CTX_ARGUMENT, c->argument);
            emit_jump(&out, cache.exits[EXIT_RETURN]);
            break;
        }
    }
    cache.cold = out.at;
    out = hot;
    now = last;
}

uint8_t *translate_begin_piece(gaddr pc, uint32_t spilled) {
    out.at = cache.at;
    out.kept = 0;
    cold_count = 0;
    note_place(pc, spilled, false);
    return out.at;
}

void translate_end_piece(void) {
    emit_cold();
    cache.at = out.at;
}

/* --- traces --- */

enum role role_of(const struct instruction *i) {
    if (!i->valid)
        return BROKEN;
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_SYSCALL:
        return SYSTEM_CALL;
    case ZYDIS_MNEMONIC_CPUID:
    case ZYDIS_MNEMONIC_RDFSBASE:
    case ZYDIS_MNEMONIC_RDGSBASE:
    case ZYDIS_MNEMONIC_WRFSBASE:
    case ZYDIS_MNEMONIC_WRGSBASE:
    case ZYDIS_MNEMONIC_INT:
    case ZYDIS_MNEMONIC_INT3:
    case ZYDIS_MNEMONIC_INT1:
    case ZYDIS_MNEMONIC_SYSENTER:
    case ZYDIS_MNEMONIC_XBEGIN:
    case ZYDIS_MNEMONIC_IRET:
    case ZYDIS_MNEMONIC_IRETD:
    case ZYDIS_MNEMONIC_IRETQ:
        return EMULATED;
    case ZYDIS_MNEMONIC_LOOP:
    case ZYDIS_MNEMONIC_LOOPE:
    case ZYDIS_MNEMONIC_LOOPNE:
    case ZYDIS_MNEMONIC_JRCXZ:
    case ZYDIS_MNEMONIC_JECXZ:
    case ZYDIS_MNEMONIC_JCXZ:
        return LOOP;
    default:
        break;
    }
    bool far_branch = i->z.meta.branch_type == ZYDIS_BRANCH_TYPE_FAR;
    switch (i->z.meta.category) {
    case ZYDIS_CATEGORY_CALL:
        return far_branch ? EMULATED : CALL;
    case ZYDIS_CATEGORY_RET:
        return far_branch ? EMULATED : RETURN;
    case ZYDIS_CATEGORY_UNCOND_BR:
        if (far_branch)
            return EMULATED;
        return i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE ? JUMP : INDIRECT;
    case ZYDIS_CATEGORY_COND_BR:
        return BRANCH;
    default:
        return PLAIN;
    }
}

gaddr branch_target(const struct instruction *i) {
    return i->pc + i->z.length + (uint64_t)i->operands[0].imm.value.s;
}

static bool in_trace(int count, gaddr pc) {
    for (int k = 0; k < count; k++)
        if (trace[k].pc == pc)
            return true;
    return false;
}

static uint64_t executable_bytes(gaddr pc) {
    struct mapping m;
    if (!memory_lookup(pc, &m) || !(m.protection & 4))
        return 0;
    uint64_t n = m.end - pc;
    if (n < 15 && memory_lookup(m.end, &m) && (m.protection & 4))
        n += 15;
    return n;
}

/* Decodes the trace; returns its length, and where it goes on (0: it ends in a
   branch of its own). */
/* The trace is compared with the guest's code each time it is entered: what lies on a
   stack, as nested functions do, stands among data that is written all the time. */
static bool checked;
enum { CHECKED_BYTES = 64 };

/* A few instructions, and on to a function: no flag means anything there. */
static bool leads_out(gaddr pc) {
    static struct instruction ahead;
    for (int n = 0; n < 4; n++) {
        uint64_t available = executable_bytes(pc);
        decode_again(&ahead, pc, available < 15 ? available : 15);
        if (!ahead.valid || ahead.flags_read || role_of(&ahead) != PLAIN)
            return ahead.valid && role_of(&ahead) == INDIRECT;
        pc += ahead.z.length;
    }
    return false;
}

static bool is_stack_code(gaddr pc) {
    struct context *c = current();
    struct mapping m;
    return pc >= c->stack_low && pc < c->stack_high && memory_lookup(pc, &m) &&
           (m.protection & 6) == 6 && (leads_out(pc) || flags_dead_at(pc));
}

/* Dirty versions made before the first AVX-512 instruction save less of the registers
   than there is to save from now on. */
static void note_width(const struct instruction *i) {
    if (cache.wide || !i->valid ||
        (i->z.encoding != ZYDIS_INSTRUCTION_ENCODING_EVEX &&
         i->z.meta.category != ZYDIS_CATEGORY_KMASK))
        return;
    uint32_t a, b, c, d;
    enum { AVX512_STATE = 0xe0, AVX512BW = 1u << 30 };
    __asm__ volatile("xgetbv" : "=a"(a), "=d"(d) : "c"(0));
    if ((a & AVX512_STATE) != AVX512_STATE)
        return;
    __asm__ volatile("cpuid" : "=a"(a), "=b"(b), "=c"(c), "=d"(d) : "0"(7), "2"(0));
    cache.wide_masks = b & AVX512BW;
    cache.wide = cache.outdated = true;
}

static int longest;
static bool follow_jumps;

static int gather_all(gaddr pc, gaddr *next, gaddr *low, gaddr *high) {
    int count = 0;
    uint64_t available = 0;
    *next = 0;
    *low = pc;
    *high = pc;
    gaddr expected = 0, watched = 1;
    checked = is_stack_code(pc);
    while (count < longest) {
        if (pc != expected || available < 15)
            available = executable_bytes(pc);
        if (available && !checked && (pc + 14) >> 12 != watched) {
            /* before it is read: what is written from now on is noticed */
            memory_note_code(pc, 15, true);
            watched = (pc + 14) >> 12;
        }
        if (!available ||
            (count && ((!now.dirty && cache_find(pc)) || replaced_at(pc) || in_trace(count, pc) ||
                       unset_splits(pc)))) {
            *next = pc;
            return count;
        }
        struct instruction *i = &trace[count];
        decode_again(i, pc, available < 15 ? available : 15);
        note_width(i);
        count++;
        if (pc < *low)
            *low = pc;
        if (pc + i->z.length > *high)
            *high = pc + i->z.length;
        enum role role = role_of(i);
        if (checked && ((role != PLAIN && role != INDIRECT && role != RETURN) ||
                        *high - *low > CHECKED_BYTES)) {
            if (count > 1) {
                *high = *next = i->pc;
                return count - 1;
            }
            checked = false;
            memory_note_code(pc, 15, true);
        }
        expected = pc + i->z.length;
        available = available > i->z.length ? available - i->z.length : 0;
        if (role == JUMP) {
            gaddr target = branch_target(i);
            if (!follow_jumps || (!now.dirty && cache_find(target)) || target - *low > 65536 || *high - target > 65536 ||
                count > TRACE / 2) {
                *next = target;
                return count;
            }
            pc = target;
            continue;
        }
        if (role == CALL && now.dirty)
            return count;
        if (role == CALL && count < TRACE - 8) {
            pc += i->z.length;
            continue;
        }
        if (role != PLAIN && role != BRANCH && role != LOOP && role != CALL)
            return count;
        pc += i->z.length;
    }
    *next = pc;
    return count;
}

/* Whether the trace goes back to where it begins. */
static bool is_loop(int count, gaddr next) {
    for (int k = 0; k < count; k++)
        if (role_of(&trace[k]) == BRANCH && branch_target(&trace[k]) == trace[0].pc)
            return true;
    return count && next == trace[0].pc;
}

static bool copies_undefined(int count) {
    for (int k = 0; k < count; k++)
        if (copied_size(&trace[k]) && dirty_site(trace[k].pc))
            return true;
    return false;
}

/* Dirty versions are long: their traces are cut short, but where they copy structures, and end
   where something jumps, but where they are loops that have a steady version. */
static int gather(gaddr pc, gaddr *next, gaddr *low, gaddr *high) {
    longest = now.dirty ? DIRTY_TRACE : TRACE;
    follow_jumps = !now.dirty;
    int count = gather_all(pc, next, low, high);
    if (!now.dirty || !*next || is_loop(count, *next) || !copies_undefined(count))
        return count;
    longest = TRACE;
    follow_jumps = true;
    count = gather_all(pc, next, low, high);
    if (is_loop(count, *next))
        return count;
    follow_jumps = false; /* long, for what is moved together is looked at together */
    return gather_all(pc, next, low, high);
}

/* Code of no known module may follow conventions of its own: some compilers return
   the number of values in the carry flag. Where the code behind one of its calls reads
   a flag before it sets it, all returns of such code keep their flags from then on. */
static bool generated_returns_flags;
/* Code written by hand may return flags as well: functions that are called so that the code
   behind the call reads some. */
static gaddr flag_returners[256];
static uint32_t flag_returner_count;
enum { NEAR = 1024 }; /* bytes, to the end of such a function */
static bool in_flag_returner; /* the trace belongs to such a function */
static gaddr noticed_low, noticed_high;

bool translate_noticed_flags(gaddr *low, gaddr *high) {
    *low = noticed_low;
    *high = noticed_high;
    noticed_low = noticed_high = 0;
    return *high != 0;
}

/* Whether the code reads flags that it has not written itself. */
static bool reads_flags_at(gaddr pc) {
    enum { AHEAD = 4 };
    static struct instruction next;
    for (int n = 0; n < AHEAD; n++) {
        uint64_t available = executable_bytes(pc);
        if (!available)
            return false;
        decode_again(&next, pc, available < 15 ? available : 15);
        if (!next.valid)
            return false;
        if (next.flags_read & ARITHMETIC_FLAGS)
            return true;
        if (role_of(&next) != PLAIN || flags_written(&next))
            return false;
        pc += next.z.length;
    }
    return false;
}

static bool is_flag_returner(gaddr function) {
    for (uint32_t k = 0; k < flag_returner_count; k++)
        if (flag_returners[k] == function)
            return true;
    return false;
}

static void look_behind_call(const struct instruction *i) {
    bool direct = i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
    if (!reads_flags_at(i->pc + i->z.length))
        return;
    if (code_is_generated(i->pc)) {
        if (!generated_returns_flags)
            noticed_high = GUEST_END;
        generated_returns_flags = true;
    } else if (direct && !is_flag_returner(branch_target(i)) &&
               flag_returner_count < sizeof flag_returners / sizeof *flag_returners) {
        gaddr function = branch_target(i);
        flag_returners[flag_returner_count++] = function;
        if (!noticed_high || function < noticed_low) /* its returns may have been translated */
            noticed_low = function;
        if (function + NEAR > noticed_high)
            noticed_high = function + NEAR;
    }
}

/* Of the function that the thread is in. */
static bool returns_flags(void) {
    const struct context *c = current();
    if (c->shadow == c->shadow_base)
        return false;
    gaddr back = c->shadow[-1].return_address;
    if (!executable_bytes(back) || !executable_bytes(back - 5))
        return false;
    const uint8_t *call = guest(back - 5);
    int32_t distance;
    __builtin_memcpy(&distance, call + 1, sizeof distance);
    return reads_flags_at(back) ||
           (call[0] == 0xe8 && is_flag_returner(back + (uint64_t)(int64_t)distance));
}

/* Whether flags are popped right before the return, with but other pops in between: what a
   signal's handler made the thread call (Go stops goroutines so) goes back to where flags may be
   live. */
static bool pops_flags_before(gaddr pc) {
    enum { POPF = 0x9d, POP = 0x58, POP_LAST = 0x5f, REX_B = 0x41, MOST = 16 };
    if (executable_bytes(pc - MOST) < MOST)
        return false;
    const uint8_t *at = guest(pc);
    for (const uint8_t *first = at - MOST; at > first + 1; at--) {
        if (at[-1] == POPF)
            return true;
        if (at[-1] < POP || at[-1] > POP_LAST)
            return false;
        if (at[-2] == REX_B)
            at--;
    }
    return false;
}

/* Of a return: the end of such a function may have been reached from elsewhere as well. */
static bool ends_flag_returner(gaddr pc) {
    for (uint32_t k = 0; k < flag_returner_count; k++)
        if (pc - flag_returners[k] < NEAR)
            return true;
    return false;
}

static bool keeps_flags(gaddr pc) {
    return in_flag_returner || (generated_returns_flags && code_is_generated(pc)) ||
           ends_flag_returner(pc) || pops_flags_before(pc);
}

/* Of a call: what the code behind it reads was set by the callee, or passes through it. */
static bool call_keeps_flags(const struct instruction *i) {
    return (generated_returns_flags && code_is_generated(i->pc)) ||
           reads_flags_at(i->pc + i->z.length);
}

/* The same for the trace's instruction, with anything in between that leaves flags alone. */
static bool flags_popped_at(int k) {
    while (--k >= 0) {
        if (trace[k].z.mnemonic == ZYDIS_MNEMONIC_POPF || trace[k].z.mnemonic == ZYDIS_MNEMONIC_POPFQ)
            return true;
        if (role_of(&trace[k]) != PLAIN || flags_written(&trace[k]))
            return false;
    }
    return false;
}

/* Flags needed after each instruction, from the back; bit set: live. */
static uint32_t live_before[TRACE];
static uint32_t live_behind_trace;

static void flags_liveness(int count) {
    uint32_t live = live_behind_trace;
    for (int k = count - 1; k >= 0; k--) {
        const struct instruction *i = &trace[k];
        switch (role_of(i)) {
        case CALL: /* the psABI keeps no flag across calls */
            live = call_keeps_flags(i) ? ARITHMETIC_FLAGS : 0;
            break;
        case RETURN:
            live = keeps_flags(i->pc) || flags_popped_at(k) ? ARITHMETIC_FLAGS : 0;
            break;
        case INDIRECT:
            live = i->memory_count && i->memory[0].absolute ? 0 : ARITHMETIC_FLAGS;
            break;
        case PLAIN:
        case JUMP:
            live = (live & ~i->flags_killed) | i->flags_read;
            break;
        default:
            live = ARITHMETIC_FLAGS;
        }
        live_before[k] = live;
    }
}

/* Looks a few instructions past the trace: flags overwritten there before they
   are read are dead at its end. */
enum { AHEAD = 24 }; /* without optimization the next to write flags is far */

bool flags_dead_at(gaddr pc) {
    static struct instruction ahead;
    uint32_t open = ARITHMETIC_FLAGS;
    for (int n = 0; n < AHEAD; n++) {
        uint64_t available = executable_bytes(pc);
        if (!available)
            return false;
        if (replaced_at(pc))
            return true;
        decode_again(&ahead, pc, available < 15 ? available : 15);
        if (!ahead.valid || (ahead.flags_read & open))
            return false;
        open &= ~ahead.flags_killed;
        if (!open)
            return true;
        enum role role = role_of(&ahead);
        if (role == JUMP)
            pc = branch_target(&ahead);
        else if (role == CALL)
            return !call_keeps_flags(&ahead);
        else if (role == RETURN)
            return !keeps_flags(pc);
        else if (role == PLAIN)
            pc += ahead.z.length;
        else
            return false;
    }
    return false;
}

/* The flags that are needed after the instruction. */
static uint32_t live_after(int k) {
    return k + 1 < trace_count ? live_before[k + 1] : live_behind_trace;
}

bool flags_dead_behind(const struct instruction *i) { return !live_after((int)(i - trace)); }

/* Behind a repeated instruction, which is not stepped through element by element when a signal
   comes (see signals.c). Flags stay. */
static void emit_poll(const struct instruction *i) {
    out.kept = 0;
    emit_spill(&out, RCX);
    note_place(i->pc, 1u << RCX, false);
    emit8(&out, 0x64); /* mov ecx, fs:[pending] */
    emit8(&out, 0x8b);
    emit_memory(&out, RCX, -1, -1, 1, CTX_PENDING);
    emit8(&out, 0xe3); /* jrcxz */
    uint8_t *over = out.at;
    emit8(&out, 0);
    emit_unspill(&out, RCX);
    emit_exit_and_back(EXIT_POLL, i->pc);
    *over = (uint8_t)(out.at - over - 1);
    emit_unspill(&out, RCX);
    note_place(i->pc, 0, false);
}

/* Leaves by C, which marks registers, unless it has just done so. Flags stay. */
static void emit_unset(gaddr pc, uint32_t number) {
    emit_spill(&out, RCX);
    note_place(pc, 1u << RCX, false);
    emit8(&out, 0x64); /* mov ecx, fs:[unset] */
    emit8(&out, 0x8b);
    emit_memory(&out, RCX, -1, -1, 1, CTX_UNSET);
    emit8(&out, 0x8d); /* lea ecx, [rcx - number] */
    emit_memory(&out, RCX, RCX, -1, 1, -(int64_t)number);
    emit8(&out, 0xe3); /* jrcxz */
    uint8_t *over = out.at;
    emit8(&out, 0);
    emit_unspill(&out, RCX);
    emit_exit(EXIT_UNSET, pc, number);
    *over = (uint8_t)(out.at - over - 1);
    emit_unspill(&out, RCX);
    emit_context_constant(&out, CTX_UNSET, 0);
    note_place(pc, 0, false);
}

static void emit_instruction(const struct instruction *i, bool flags_live, uint32_t flags_after) {
    if (wants_dirty(i)) {
        emit_dirty(i, flags_live, flags_after);
        return;
    }
    if (wants_plan(i)) {
        if (!emit_masked_use(i, flags_live, flags_after) &&
            !emit_gather_use(i, flags_live, flags_after))
            emit_dirty_use(i, 0, flags_after);
    } else {
        emit_checks(i, flags_live);
        emit_stack_before(i, flags_live);
    }
    note_place(i->pc, 0, false);
    emit_plain(i);
    if (wants_slow_check(i))
        emit_poll(i);
    emit_stack_after(i, flags_after != 0);
    dirty_overwritten(i);
    if (now.dirty && copy_ends(i)) /* with a member that is defined */
        forget_proofs();
}

/* Whether a register is to keep its undefined bits across the call. */
static bool keep_across(const struct instruction *i) {
    uint64_t set = now.possible & RETURN_DEAD & (0xffff | 0xffffffffULL << ELEMENT_VECTOR);
    set = set ? across_read_or_handed_on(i->pc + i->z.length, set) : 0;
    if (!set)
        return false;
    emit_context_constant(&out, CTX_GUEST_TARGET, (uint32_t)set);
    emit_context_constant(&out, CTX_GUEST_TARGET + 4, (uint32_t)(set >> 32));
    emit_exit_and_back(EXIT_KEEP, i->pc);
    return true;
}

/* Registers that the psABI leaves dead behind the call that this returns from, and that the code
   there reads all the same: functions written in assembly hand over results by them. */
static uint64_t read_by_caller(void) {
    const struct context *c = current();
    uint64_t flags = now.possible & 1ULL << ELEMENT_FLAGS;
    uint64_t set = now.possible & RETURN_DEAD & (0xffff | 0xffffffffULL << ELEMENT_VECTOR);
    if (flags && !returns_flags())
        flags = 0;
    return flags | (set && c->shadow > c->shadow_base
                        ? across_read(c->shadow[-1].return_address, set) : 0);
}

static void emit_one(const struct instruction *i, bool flags_live, uint32_t flags_after) {
    enum role role = role_of(i);
    now.pc = i->pc;
    note_place(i->pc, 0, PLACE_EXACT);
    emit_frame_end(i, flags_live);
    if (now.possible && !flags_live)
        dirty_drop(1ULL << ELEMENT_FLAGS);
    switch (role) {
    case BROKEN:
        emit8(&out, 0x0f);
        emit8(&out, 0x0b);
        break;
    case SYSTEM_CALL:
        emit_exit(EXIT_SYSCALL, i->pc, 0);
        break;
    case EMULATED:
        emit_exit(EXIT_EMULATE, i->pc, 0);
        break;
    case JUMP:
        break;
    case BRANCH:
        emit_branch(i, flags_after);
        break;
    case LOOP:
        emit_loop(i);
        break;
    case CALL:
        if (!flags_live) /* else they are for whom it calls, or pass through */
            dirty_drop(1ULL << ELEMENT_FLAGS);
        emit_target_use(i);
        look_behind_call(i);
        emit_call(i, flags_live, keep_across(i));
        break;
    case INDIRECT:
        emit_target_use(i);
        if (!flags_live && emit_slot_jump(i))
            break;
        if (!now.dirty || !dirty_site(i->pc))
            emit_checks(i, flags_live);
        note_place(i->pc, 0, false);
        emit_indirect_jump(i, flags_live);
        break;
    case RETURN:
        dirty_drop(RETURN_DEAD & ~read_by_caller());
        if (now.possible) {
            uint32_t extra = i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE
                                 ? (uint32_t)i->operands[0].imm.value.u & 0xffff
                                 : 0;
            emit_dirty_return(extra, flags_live);
        }
        emit_return(i, flags_live);
        break;
    case PLAIN:
        emit_instruction(i, flags_live, flags_after);
        break;
    }
    if (role != PLAIN && role != BRANCH && role != JUMP)
        forget_proofs();
}

/* Leaves by EXIT_CHANGED when the guest's code is no longer this; flags are dead. */
static void emit_code_check(gaddr low, gaddr high) {
    emit_spill(&out, RDX);
    emit_constant(&out, RDX, low);
    uint8_t *jumps[CHECKED_BYTES];
    int count = 0;
    for (gaddr a = low; a < high;) {
        int size = high - a >= 4 ? 4 : 1;
        uint32_t word = 0;
        copy_bytes(&word, guest(a), (uint64_t)size);
        emit8(&out, size == 4 ? 0x81 : 0x80); /* cmp [rdx + n], imm */
        emit_memory(&out, 7, RDX, -1, 1, (int64_t)(a - low));
        if (size == 4)
            emit32(&out, word);
        else
            emit8(&out, (int)word);
        emit8(&out, 0x0f); /* jne */
        emit8(&out, 0x85);
        jumps[count++] = out.at;
        emit32(&out, 0);
        a += (gaddr)size;
    }
    emit_unspill(&out, RDX);
    emit8(&out, 0xe9);
    uint8_t *same = out.at;
    emit32(&out, 0);
    for (int k = 0; k < count; k++)
        patch_jump(jumps[k], out.at);
    emit_unspill(&out, RDX);
    emit_exit(EXIT_CHANGED, low, 0);
    patch_jump(same, out.at);
}

static uint64_t translate_trace(gaddr pc, const struct replaced *r) {
    out.at = cache.at;
    while ((uintptr_t)out.at & 7)
        emit8(&out, 0x90);
    uint8_t *entry = out.at;
    out.kept = 0;
    if ((uint64_t)(uintptr_t)entry + (1 << 20) > CACHE_BASE + CACHE_SIZE / 2 ||
        (uint64_t)(uintptr_t)cache.cold + (1 << 20) > CACHE_BASE + CACHE_SIZE ||
        cache.block_count >= CACHE_BLOCKS)
        fail("the translation cache is full");
    cold_count = 0;
    copies_forget();
    computes_forget();
    gaddr next = 0, low = pc, high = pc + 1;
    bool renews = false;
    uint32_t unset = !r && !now.owes ? unset_at(pc, now.function) : 0;
    if (unset && !now.dirty) {
        emit_entry(pc, PLACE_EXACT | PLACE_ENTRY);
        emit_exit(EXIT_UNSET, pc, unset);
    } else if (r) {
        emit_entry(pc, PLACE_EXACT | PLACE_ENTRY);
        emit_dirty_set();
        bool resolver = replaced_is_resolver(pc);
        bool quick = !now.dirty && !resolver && replaced_has_quick(r);
        uint8_t *beyond = NULL;
        if (!resolver && replaced_counts(r)) {
            emit_register_op(&out, OP_COMPARE, RCX, RDX);
            beyond = emit_if(&out, 2); /* jb */
        }
        emit_exit(!quick               ? EXIT_REPLACED
                  : replaced_copies(r) ? EXIT_COPY
                                       : EXIT_QUICK,
                  pc,
                  replaced_index(r) | (resolver ? REPLACED_RESOLVER : 0));
        if (beyond) {
            patch_jump(beyond, out.at);
            emit_exit(EXIT_REPLACED, pc, replaced_index(r) | REPLACED_BEYOND);
        }
    } else {
        in_flag_returner = returns_flags();
        int count = trace_count = gather(pc, &next, &low, &high);
        if (!count)
            return 0;
        bool dead_at_end = next && flags_dead_at(next);
        live_behind_trace = next && !dead_at_end ? ARITHMETIC_FLAGS : 0;
        flags_liveness(count);
        emit_entry(pc, PLACE_EXACT | PLACE_ENTRY);
        if (checked)
            emit_code_check(low, high);
        if (unset)
            emit_unset(pc, unset);
        forget_proofs();
        frame_follow(NULL);
        frame_begins();
        frame_takes_over(now.owes, live_before[0] != 0);
        renews = now.dirty && (is_loop(count, next) || copies_undefined(count));
        steady_begin(live_before, next == pc);
        for (int k = 0; k < count; k++) {
            steady_step(k);
            emit_one(&trace[k], live_before[k] != 0, live_after(k));
            frame_follow(&trace[k]);
            frame_release_due(&trace[k], live_after(k) != 0,
                              k + 1 == count || cold_count > COLD - 64);
            if (now.dirty && role_of(&trace[k]) == CALL) {
                now.possible = 0; /* the landing is for a state without undefined bits */
                next = trace[k].pc + trace[k].z.length;
            }
            if (cold_count > COLD - 64 && k + 1 < count) {
                next = trace[k + 1].pc;
                break;
            }
        }
        steady_step(count);
        if (next) {
            now.pc = next;
            note_place(next, 0, PLACE_EXACT);
            if (dead_at_end)
                dirty_drop(1ULL << ELEMENT_FLAGS);
            if (!emit_steady_end())
                emit_dirty_link(next);
        }
    }
    if (!r)
        emit_steady();
    emit_copies();
    emit_computed();
    note_place(pc, 0, false);
    emit_cold();
    cache.at = out.at;
    struct cache_block *block = &cache_blocks[cache.block_count];
    block->start = low;
    block->end = high;
    block->host = (uint32_t)((uint64_t)(uintptr_t)entry - CACHE_BASE);
    block->host_end = (uint32_t)((uint64_t)(uintptr_t)out.at - CACHE_BASE);
    block->valid = true;
    block->renews = renews;
    cache_file_block(cache.block_count++);
    memory_note_code(low, high - low, r || !checked);
    return (uint64_t)(uintptr_t)entry;
}

/* The thread that needs the code has just called it, or got a signal that it handles. */
static bool is_function(gaddr pc) {
    const struct context *c = current();
    gaddr sp = c->registers[RSP];
    bool called = c->shadow > c->shadow_base && c->shadow[-1].stack_pointer == sp;
    bool handles = c->handled_count && c->handled[c->handled_count - 1] == sp;
    return (called || handles) && !code_is_generated(pc);
}

uint64_t translate(gaddr pc, bool original) {
    now = (struct translation){.pc = pc, .function = is_function(pc)};
    return translate_trace(pc, original ? NULL : replaced_at(pc));
}

uint64_t translate_version(gaddr pc, uint64_t possible, uint32_t owes) {
    now = (struct translation){.pc = pc, .dirty = true, .possible = possible, .owes = owes,
                               .function = is_function(pc)};
    return translate_trace(pc, replaced_at(pc));
}

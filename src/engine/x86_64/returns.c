/* Returns. The shadow call stack says where one goes: its entry has the offset of the
   call's landing in the code cache. A jump to there is an indirect one, and costs as much as
   all the rest together; but most functions return to one of a few places. So a return
   begins with a chain of pieces, each of which knows one landing and goes there, or to a
   dirty version of the code there, by a direct jump. The chain grows while the program runs;
   where it would get too long, all but its beginning is left out again. */
#include "plan.h"
#include "translate.h"

static uint32_t offset_of(const uint8_t *at) { return (uint32_t)((uint64_t)(uintptr_t)at - CACHE_BASE); }

static const int entry_host =
    (int)offsetof(struct shadow_entry, host) - (int)sizeof(struct shadow_entry);

/* A jump that is patched later, to where the chain goes on: at first to C. */
static uint8_t *emit_chain_end(int condition, uint32_t number) {
    align_patch(condition ? 2 : 1);
    uint8_t *patch;
    if (condition) {
        patch = emit_if(&out, condition);
    } else {
        emit8(&out, 0xe9);
        patch = out.at;
        emit32(&out, 0);
    }
    cold_add(COLD_NEXT_RETURN, patch)->argument = number;
    return patch;
}

uint8_t *emit_mark_test(int condition) {
    emit8(&out, 0x64);
    emit8(&out, 0x48);
    emit8(&out, 0x3b);
    emit_memory(&out, RSP, -1, -1, 1, CTX_MARK);
    return emit_if(&out, condition);
}

static void emit_landing_test(const struct shadow_entry *e) { /* cmp dword [rdx + host], landing */
    emit8(&out, 0x81);
    emit_memory(&out, 7, RDX, -1, 1, entry_host);
    emit32(&out, e->host);
}

/* Jumps where the word on the stack is another return address; their number is the result. */
static int emit_address_test(const struct shadow_entry *e, uint8_t **others) {
    int count = 0;
    bool low = !(e->return_address >> 31);
    if (low) /* cmp [rsp], return address */
        emit8(&out, 0x48);
    emit8(&out, 0x81);
    emit_memory(&out, 7, RSP, -1, 1, 0);
    emit32(&out, (int32_t)e->return_address);
    others[count++] = emit_if(&out, 5);
    if (!low) {
        emit8(&out, 0x81);
        emit_memory(&out, 7, RSP, -1, 1, 4);
        emit32(&out, (int64_t)(e->return_address >> 32));
        others[count++] = emit_if(&out, 5);
    }
    return count;
}

static void emit_way_back(uint32_t extra, uint64_t target) {
    emit_op(&out, 0x8d, RDX, RDX, -(int)sizeof(struct shadow_entry));
    emit_to_context(&out, RDX, CTX_SHADOW);
    emit_unspill(&out, RDX);
    emit_op(&out, 0x8d, RSP, RSP, 8 + extra);
    cold_add(COLD_MARK, emit_mark_test(7))->argument = offset_of((uint8_t *)(uintptr_t)target);
    emit_jump(&out, (uint8_t *)(uintptr_t)target);
}

/* RDX, spilled, is the top of the shadow call stack. Where its landing is this one and the
   return address as well, the piece returns to the target; `others` get the jumps for where
   the return address is not, their number is the result. The chain goes on where the
   landing is another one. */
static int emit_piece(struct cache_return *r, const struct shadow_entry *e, uint64_t target,
                      uint8_t **others) {
    emit_landing_test(e);
    r->last = offset_of(emit_chain_end(5, (uint32_t)(r - cache_returns)));
    int count = emit_address_test(e, others);
    emit_way_back(r->extra, target);
    return count;
}

/* Of landings that were given up C has to be told. */
static bool is_known(const struct shadow_entry *e) {
    return e->host && e->host != offset_of(cache.landing);
}

/* RDX is spilled. Where the chain does not know the way it goes on behind this. */
static void emit_chain(gaddr pc, uint32_t extra, uint64_t possible) {
    const struct context *c = current();
    uint8_t *others[2];
    int count = 0;
    if (cache.return_count >= CACHE_RETURNS)
        fail("the translation cache is full");
    struct cache_return *r = &cache_returns[cache.return_count++];
    *r = (struct cache_return){.pc = pc, .extra = (uint16_t)extra, .possible = set_number(possible)};
    emit_from_context(&out, RDX, CTX_SHADOW);
    /* a clean return mostly goes back to whoever called just now */
    if (!possible && c->shadow > c->shadow_base && is_known(&c->shadow[-1])) {
        count = emit_piece(r, &c->shadow[-1], CACHE_BASE + c->shadow[-1].host, others);
        r->first = r->last;
    } else {
        r->first = r->last = offset_of(emit_chain_end(0, (uint32_t)(r - cache_returns)));
    }
    for (int k = 0; k < count; k++)
        patch_jump(others[k], out.at);
    r->generic = offset_of(out.at);
}

static uint8_t *code_at(uint32_t offset) { return (uint8_t *)(uintptr_t)(CACHE_BASE + offset); }

/* The caller holds the cache's lock. */
static void learn(struct cache_return *r, const struct shadow_entry *e, uint64_t target) {
    enum { PIECES = 3, CHAINS = 5 };
    uint8_t *others[2];
    if (r->count == PIECES * CHAINS || !target) {
        patch_jump(code_at(r->first), code_at(r->generic));
        return;
    }
    now = (struct translation){.pc = r->pc, .dirty = r->possible, .possible = set_of(r->possible)};
    uint32_t end = r->last;
    uint8_t *piece = translate_begin_piece(r->pc, 1u << RDX);
    int count = emit_piece(r, e, target, others);
    for (int k = 0; k < count; k++)
        patch_jump(others[k], code_at(r->generic));
    translate_end_piece();
    /* too long: what it knew may belong to code that is not run any more */
    patch_jump(code_at(r->count++ % PIECES ? end : r->first), piece);
}

bool returns_learn(struct context *c, uint32_t number) {
    struct cache_return *r = &cache_returns[number];
    enum { MANY = 12 };
    if (c->shadow == c->shadow_base || !is_known(&c->shadow[-1]))
        return false;
    const struct shadow_entry e = c->shadow[-1];
    uint64_t possible = set_of(r->possible), target = CACHE_BASE + e.host;
    if (possible) {
        c->shadow--; /* translated for where it returns to */
        target = count_ones(possible) > MANY ? 0
                                            : dirty_lookup(c, e.return_address, possible, false);
        c->shadow++;
    }
    vectors_save(c);
    lock_take(&cache.lock);
    learn(r, &e, target);
    lock_drop(&cache.lock);
    vectors_restore(c);
    if (!possible)
        c->dirty = 0;
    c->spill[RDX] = c->registers[RDX];
    c->target = CACHE_BASE + r->generic;
    return true;
}

/* lea rsp, [rsp + 8 + extra], and what may have to be tidied up on the stack then; RCX and
   RDX are spilled, and free again behind it. */
static void emit_leave_frame(uint32_t extra) {
    emit_op(&out, 0x8d, RSP, RSP, 8 + extra);
    uint8_t *fine = emit_mark_test(6); /* jbe */
    /* the mark is seen to first; it comes back by CTX_TARGET */
    emit_constant(&out, RDX, CACHE_BASE);
    uint8_t *field = out.at - 8;
    emit_to_context(&out, RDX, CTX_TARGET);
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    emit_jump(&out, cache.exits[EXIT_MARK]);
    uint64_t back = (uint64_t)(uintptr_t)out.at;
    __builtin_memcpy(field, &back, 8);
    emit_spill(&out, RCX);
    emit_spill(&out, RDX);
    patch_jump(fine, out.at);
}

static void emit_pop_shadow(void) { /* sub qword fs:[shadow], sizeof(struct shadow_entry) */
    emit8(&out, 0x64);
    emit8(&out, 0x48);
    emit8(&out, 0x83);
    emit_memory(&out, 5, -1, -1, 1, CTX_SHADOW);
    emit8(&out, sizeof(struct shadow_entry));
}

/* Values that go by the name of a stack slot get its record. */
static void emit_names_first(const uint8_t *again, const uint8_t *by_c) {
    emit_goal(RDX, again);
    emit_constant(&out, RDX, (uint64_t)(uintptr_t)by_c);
    emit_to_context(&out, RDX, CTX_GUEST_TARGET);
    emit_constant(&out, RDX, now.possible); /* as emit_dirty_set; it is read at once */
    emit_to_context(&out, RDX, CTX_DIRTY);
    emit_unspill(&out, RDX);
    emit_context_constant(&out, CTX_PC, (uint32_t)now.pc);
    emit_context_constant(&out, CTX_PC + 4, (uint32_t)(now.pc >> 32));
    emit_jump(&out, cache.exits[EXIT_NAMES]);
}

/* Jumps taken where a word of origin is the name of a stack slot, the only ones with the highest
   bit; RDX is spilled. */
static int emit_unless_named(uint64_t set, uint8_t **leave) {
    bool first = true;
    for (; set; set &= set - 1) {
        int e = __builtin_ctzll(set);
        for (int at = 0; at <= (e < ELEMENT_VECTOR ? 0 : 8); at += 8) {
            emit8(&out, 0x64); /* mov rdx, fs:[origins], then or */
            emit8(&out, 0x48);
            emit8(&out, first ? 0x8b : 0x0b);
            emit_memory(&out, RDX, -1, -1, 1, CTX_ORIGIN_OF(e) + at);
            first = false;
        }
    }
    emit8(&out, 0x48); /* test rdx, rdx; of both halves */
    emit8(&out, 0x85);
    emit8(&out, 0xd2);
    leave[0] = emit_if(&out, 8); /* js */
    emit8(&out, 0x85); /* test edx, edx */
    emit8(&out, 0xd2);
    leave[1] = emit_if(&out, 8);
    return 2;
}

/* Mostly a function goes back to where it was called from now, and what its last copies went by is
   nothing that is asked for there: then nothing more is looked at. */
static void emit_return_to_caller(uint32_t extra) {
    const struct context *c = current();
    const uint64_t possible = now.possible;
    if (c->shadow == c->shadow_base || !is_known(&c->shadow[-1]) || (possible & ELEMENTS_SHARED) ||
        across_overwritten(c->shadow[-1].return_address, possible) != possible)
        return;
    const struct shadow_entry *e = &c->shadow[-1];
    uint8_t *others[3];
    emit_spill(&out, RDX);
    note_place(now.pc, 1u << RDX, false);
    emit_from_context(&out, RDX, CTX_SHADOW);
    emit_landing_test(e);
    others[0] = emit_if(&out, 5); /* jne */
    int count = 1 + emit_address_test(e, others + 1);
    dirty_drop(possible);
    now.possible = possible;
    emit_way_back(extra, CACHE_BASE + e->host);
    for (int k = 0; k < count; k++)
        patch_jump(others[k], out.at);
    emit_unspill(&out, RDX);
}

/* A return with something undefined: through C when it is not the one foreseen
   or a value still goes by the name of a stack slot; else to where it led before, or
   by the thread's table. Falls through when all is defined. */
void emit_dirty_return(uint32_t extra, bool flags_live) {
    uint8_t *jumps[FEW_WORDS], *leave[2];
    if (flags_live || dirty_word_count(now.possible) > FEW_WORDS) {
        emit_leave_dirty(EXIT_RETURN, extra);
        return;
    }
    emit_return_to_caller(extra);
    int count = emit_compare_words(now.possible, jumps);
    emit8(&out, 0xe9);
    uint8_t *over = out.at;
    uint32_t kept = out.kept;
    emit32(&out, 0);
    for (int k = 0; k < count; k++)
        patch_jump(jumps[k], out.at);
    const uint8_t *again = out.at;
    emit_spill(&out, RDX);
    int left = emit_unless_named(now.possible, leave);
    emit_chain(now.pc, extra, now.possible);
    emit_spill(&out, RCX);
    emit_from_context(&out, RDX, CTX_SHADOW);
    emit_op(&out, 0x8b, RCX, RDX, -(int)sizeof(struct shadow_entry));
    emit_op(&out, 0x3b, RCX, RSP, 0);
    uint8_t *other = emit_if(&out, 5); /* jne */
    emit8(&out, 0x81); /* cmp dword [rdx + host], landing: across.c has a say */
    emit_memory(&out, 7, RDX, -1, 1, entry_host);
    emit32(&out, offset_of(cache.landing));
    uint8_t *given_up = emit_if(&out, 4); /* je */
    emit_pop_shadow();
    emit_to_context(&out, RCX, CTX_GUEST_TARGET);
    emit_leave_frame(extra);
    emit_from_context(&out, RCX, CTX_GUEST_TARGET);
    emit_dirty_lookup();
    patch_jump(other, out.at);
    patch_jump(given_up, out.at);
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    const uint8_t *by_c = out.at;
    emit_exit(EXIT_RETURN, now.pc, extra);
    for (int k = 0; k < left; k++)
        patch_jump(leave[k], out.at);
    emit_names_first(again, by_c);
    patch_jump(over, out.at);
    out.kept = kept;
}

void emit_save_flags(void) {
    emit_spill(&out, RAX);
    emit8(&out, 0x9f); /* lahf; seto al */
    emit8(&out, 0x0f);
    emit8(&out, 0x90);
    emit8(&out, 0xc0);
    emit_to_context(&out, RAX, CTX_FLAG_SAVE);
    emit_unspill(&out, RAX);
}

void emit_restore_flags(void) {
    emit_from_context(&out, RAX, CTX_FLAG_SAVE);
    emit8(&out, 0x04); /* add al, 127: the overflow flag */
    emit8(&out, 127);
    emit8(&out, 0x9e); /* sahf */
    emit_unspill(&out, RAX);
}

void emit_return(const struct instruction *i, bool flags_live) {
    uint32_t extra = i->operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE
                         ? (uint32_t)i->operands[0].imm.value.u & 0xffff
                         : 0;
    /* That the stack pointer fits as well is not asked: the host address belongs to
       the return address in any case, and records that a longjmp left behind are
       dropped at the next return that differs. */
    enum cold_kind missed = flags_live ? COLD_KEPT_RETURN : COLD_RETURN;
    uint32_t spilled = 1u << RDX;
    if (flags_live) {
        emit_spill(&out, RAX);
        emit8(&out, 0x9f); /* lahf */
        emit8(&out, 0x0f); /* seto al */
        emit8(&out, 0x90);
        emit8(&out, 0xc0);
        emit_to_context(&out, RAX, CTX_FLAG_SAVE);
        spilled |= 1u << RAX;
    }
    emit_spill(&out, RDX);
    note_place(i->pc, spilled, false);
    if (!flags_live)
        emit_chain(i->pc, extra, 0);
    if (flags_live) { /* C tidies up as well */
        emit_op(&out, 0x8d, RDX, RSP, 8 + extra);
        emit8(&out, 0x64); /* cmp rdx, fs:[mark] */
        emit8(&out, 0x48);
        emit8(&out, 0x3b);
        emit_memory(&out, RDX, -1, -1, 1, CTX_MARK);
        cold_add(missed, emit_if(&out, 7))->argument = extra; /* ja */
    }
    emit_from_context(&out, RDX, CTX_SHADOW);
    emit_op(&out, 0x8b, RDX, RDX, -(int)sizeof(struct shadow_entry));
    emit_op(&out, 0x3b, RDX, RSP, 0);
    cold_add(missed, emit_if(&out, 5))->argument = extra; /* jne */
    emit_from_context(&out, RDX, CTX_SHADOW);
    emit_op(&out, 0x8d, RDX, RDX, -(int)sizeof(struct shadow_entry));
    emit_to_context(&out, RDX, CTX_SHADOW);
    emit8(&out, 0x8b); /* mov edx, [rdx + 16]: the offset */
    emit_memory(&out, RDX, RDX, -1, 1, offsetof(struct shadow_entry, host));
    emit8(&out, 0x64); /* add rdx, fs:[cache base] */
    emit8(&out, 0x48);
    emit8(&out, 0x03);
    emit_memory(&out, RDX, -1, -1, 1, CTX_CACHE_BASE);
    emit_to_context(&out, RDX, CTX_TARGET);
    emit_unspill(&out, RDX);
    emit_op(&out, 0x8d, RSP, RSP, 8 + extra);
    if (flags_live) {
        emit_restore_flags();
    } else {
        cold_add(COLD_MARK, emit_mark_test(7)); /* ja */
    }
    emit8(&out, 0x64);
    emit8(&out, 0xff);
    emit_memory(&out, 4, -1, -1, 1, CTX_TARGET);
}


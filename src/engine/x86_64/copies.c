/* Undefined bits on their way from memory to memory, as padding goes along when structures
   are copied: most of it needs no C. What is looked for each time is whether D and the
   origins at the target are already what they become. */
#include "patterns.h"
#include "plan.h"

uint8_t *emit_short_jump(int condition) {
    emit8(&out, 0x0f);
    emit8(&out, 0x80 | condition);
    emit32(&out, 0);
    return out.at - 4;
}

uint8_t *emit_long_jump(void) {
    emit8(&out, 0xe9);
    emit32(&out, 0);
    return out.at - 4;
}

uint8_t *leave_by_bits(int reg, int bits) { /* test reg, bits */
    emit8(&out, rex(0, 0, 0, reg));
    emit8(&out, 0xf6);
    emit8(&out, 0xc0 | (reg & 7));
    emit8(&out, bits);
    return emit_short_jump(IF_NOT_ZERO);
}

void emit_place_of_word(int reg) {
    emit8(&out, rex(1, 0, 0, reg)); /* btr reg, 44: as & (ORIGIN_SIZE - 1) */
    emit8(&out, 0x0f);
    emit8(&out, 0xba);
    emit8(&out, 0xf0 | (reg & 7));
    emit8(&out, __builtin_ctzll(ORIGIN_SIZE));
    emit_context_op(&out, OP_ADD, reg, CTX_ORIGINS);
}

uint8_t *emit_origin_place(int reg) {
    uint8_t *odd = leave_by_bits(reg, 3);
    emit_place_of_word(reg);
    return odd;
}

static void emit_align(int reg) { /* and reg, -4 */
    emit8(&out, rex(1, 0, 0, reg));
    emit8(&out, 0x83);
    emit8(&out, 0xe0 | (reg & 7));
    emit8(&out, 0xfc);
}

/* cmp reg, fs:[offset]; leaves when they differ. */
static uint8_t *emit_compare_context(int reg, bool wide, int offset) {
    emit8(&out, 0x64);
    emit8(&out, rex(wide, reg, 0, 0));
    emit8(&out, 0x3b);
    emit_memory(&out, reg, -1, -1, 1, offset);
    return emit_short_jump(IF_NOT_ZERO);
}

uint8_t *emit_part_place(int reg, int size) {
    uint8_t *odd = size > 1 ? leave_by_bits(reg, size - 1) : NULL;
    emit_align(reg);
    emit_place_of_word(reg);
    return odd;
}

static void emit_compare_memory(int place, int offset, int64_t value) { /* cmp dword, value */
    if (place >= 8)
        emit8(&out, rex(0, 0, 0, place));
    emit8(&out, value == (int8_t)value ? 0x83 : 0x81);
    emit_memory(&out, 7, place, -1, 1, offset);
    if (value == (int8_t)value)
        emit8(&out, (int)value);
    else
        emit32(&out, value);
}

/* cmp dword, 0: of the undefined bits of a value, at gs:[m + done] or, without m, in the context */
static void emit_bits_of_word(const struct memory *m, int bits, int done) {
    if (m) {
        emit_gs(m, false, 0);
        emit8(&out, 0x83);
        emit_operand(m, 7, done);
    } else {
        emit8(&out, 0x64);
        emit8(&out, 0x83);
        emit_memory(&out, 7, -1, -1, 1, bits + done);
    }
    emit8(&out, 0);
}

static void emit_upper(int word) { /* shr word, 32 */
    emit8(&out, rex(1, 0, 0, word));
    emit8(&out, 0xc1);
    emit8(&out, 0xe8 | (word & 7));
    emit8(&out, 32);
}

void emit_compare_least(int word) { /* cmp word, ORIGIN_LEAST, of its lower half */
    emit8(&out, rex(0, 0, 0, word));
    emit8(&out, 0x81);
    emit8(&out, 0xf8 | (word & 7));
    emit32(&out, ORIGIN_LEAST);
}

/* Mostly it is the word that was seen there before. */
void emit_unless_recorded(int word, bool wide, const struct memory *m, int done, enum word now,
                          struct unrecorded *u) {
    static unsigned next;
    unsigned n = next++;
    *u = (struct unrecorded){.m = *m, .done = done, .word = word, .wide = wide, .now = now};
    bool half = now == WORD_LOWER_DEFINED || now == WORD_UPPER_DEFINED;
    if (wide && half) {
        int part = now == WORD_LOWER_DEFINED ? 0 : HALF_RECORDED_COUNT;
        u->slot = CTX_HALF_RECORDED + 8 * (part + (int)(n % HALF_RECORDED_COUNT));
        emit_bits_of_word(m, 0, part ? done + 4 : done);
        u->jumps[1] = emit_short_jump(IF_NOT_ZERO);
    } else {
        u->slot = CTX_RECORDED + 8 * (int)(n % RECORDED_COUNT);
    }
    if (wide) {
        emit_context_op(&out, OP_COMPARE, word, u->slot);
        u->jumps[0] = emit_short_jump(IF_NOT_ZERO);
    } else {
        emit_compare_least(word);
        u->jumps[0] = emit_short_jump(IF_BELOW);
    }
    u->back = out.at;
}

int emit_unrecorded(const struct unrecorded *u, uint8_t **leave) {
    int count = 0, word = u->word;
    uint8_t *upper[2];
    patch_jump(u->jumps[0], out.at);
    if (u->jumps[1])
        patch_jump(u->jumps[1], out.at);
    if (u->wide) {
        emit_compare_least(word);
        uint8_t *lower = emit_short_jump(IF_BELOW);
        emit_rotate(word);
        emit_compare_least(word);
        upper[0] = emit_short_jump(IF_BELOW);
        emit_rotate(word);
        emit_to_context(&out, word, u->slot);
        emit_jump(&out, u->back);
        patch_jump(lower, out.at);
    }
    emit_bits_of_word(&u->m, 0, u->done);
    leave[count++] = emit_short_jump(IF_NOT_ZERO);
    if (u->wide) {
        emit_rotate(word);
        emit_compare_least(word);
        upper[1] = emit_short_jump(IF_BELOW);
        emit_rotate(word);
        if (u->now == WORD_LOWER_DEFINED)
            emit_to_context(&out, word, u->slot);
        emit_jump(&out, u->back);
        patch_jump(upper[0], out.at);
        if (u->now == WORD_UPPER_DEFINED) {
            emit_bits_of_word(&u->m, 0, u->done + 4);
            leave[count++] = emit_short_jump(IF_NOT_ZERO);
            emit_rotate(word);
            emit_to_context(&out, word, u->slot);
            emit_jump(&out, u->back);
        }
        patch_jump(upper[1], out.at);
        emit_bits_of_word(&u->m, 0, u->done + 4);
        leave[count++] = emit_short_jump(IF_NOT_ZERO);
        emit_rotate(word);
    }
    emit_jump(&out, u->back);
    return count;
}

void emit_take_origin(int place, int word, int offset, bool wide) { /* mov word, [place + offset] */
    emit8(&out, rex(wide, word, 0, place));
    emit8(&out, 0x8b);
    emit_memory(&out, word, place, -1, 1, offset);
}

void emit_twice(int word) { /* imul word, fs:[twice] */
    emit8(&out, 0x64);
    emit8(&out, rex(1, word, 0, 0));
    emit8(&out, 0x0f);
    emit8(&out, 0xaf);
    emit_memory(&out, word, -1, -1, 1, CTX_TWICE);
}

/* The first element that has its origins in the slot. */
static int element_of_slot(int slot) {
    return slot < ELEMENT_VECTOR ? slot : ELEMENT_VECTOR + (slot - ELEMENT_VECTOR) / 2;
}

int bits_of_element(int element) {
    return element < ELEMENT_VECTOR ? CTX_UNDEFINED + 8 * element
                                    : CTX_UNDEFINED_VECTOR + 64 * (element - ELEMENT_VECTOR);
}

uint8_t *leave_by_byte(int word) { /* cmp word, ORIGIN_BYTE_CODES; names of slots are below 0 */
    emit8(&out, rex(0, 0, 0, word));
    emit8(&out, 0x81);
    emit8(&out, 0xf8 | (word & 7));
    emit32(&out, ORIGIN_BYTE_CODES);
    return emit_short_jump(IF_NOT_LESS);
}

int emit_part_origin(const struct memory *m, int place, int word, uint8_t **leave) {
    int count = 0;
    emit_lea(m, place);
    leave[count] = emit_part_place(place, (int)m->size);
    count += leave[count] != NULL;
    emit_take_origin(place, word, 0, false);
    emit_compare_least(word);
    leave[count++] = emit_short_jump(IF_BELOW);
    leave[count++] = leave_by_byte(word);
    return count;
}

/* All words of the loaded value's slot get the origin that all words at the place have. */
static int emit_one_origin(int place, int word, int size, int slot, uint8_t **leave) {
    int count = 0;
    emit_take_origin(place, word, 0, false);
    emit_compare_least(word);
    leave[count++] = emit_short_jump(IF_BELOW);
    for (int done = 4; done < size; done += 4)
        leave[count++] = emit_compare_origin(place, word, false, done);
    emit_twice(word);
    for (int at = 0; at < (slot < ELEMENT_VECTOR ? 8 : 32); at += 8)
        emit_to_context(&out, word, CTX_ORIGIN + 16 * slot + at);
    return count;
}

uint8_t *emit_unless_least(int word, int half, const struct memory *m, int done) {
    if (half)
        emit_upper(word);
    emit_compare_least(word);
    uint8_t *recorded = emit_short_jump(IF_NOT_BELOW);
    emit_bits_of_word(m, 0, done);
    uint8_t *leave = emit_short_jump(IF_NOT_ZERO);
    patch_jump(recorded, out.at);
    return leave;
}

/* With flags that are live at the check. */
static void leave_with_flags(bool flags) {
    if (!flags)
        return;
    emit_spill(&out, RAX);
    emit_restore_flags();
}

/* The load stands at an odd place, or in a word of several origins: what its words were when the
   loaded bytes had one. */
static int emit_odd_origin(int place, int word, int size, int odd, int slot, uint8_t **leave) {
    int count = 0;
    emit8(&out, rex(0, word, 0, place)); /* mov word, place; and word, 3; add word, size << 8 */
    emit8(&out, 0x8b);
    emit8(&out, 0xc0 | (word & 7) << 3 | (place & 7));
    emit8(&out, rex(0, 0, 0, word));
    emit8(&out, 0x83);
    emit8(&out, 0xe0 | (word & 7));
    emit8(&out, 3);
    emit8(&out, rex(0, 0, 0, word));
    emit8(&out, 0x81);
    emit8(&out, 0xc0 | (word & 7));
    emit32(&out, size << ODD_SHIFT);
    leave[count++] = emit_compare_context(word, false, odd + ODD_SHAPE);
    emit_align(place);
    emit_place_of_word(place);
    emit_take_origin(place, word, 0, true);
    leave[count++] = emit_compare_context(word, true, odd + ODD_WORDS);
    if (size == 8) {
        emit_take_origin(place, word, 8, false);
        leave[count++] = emit_compare_context(word, false, odd + ODD_WORDS + 8);
    }
    emit_from_context(&out, word, odd + ODD_CODE - 4);
    emit_upper(word);
    emit_twice(word);
    emit_to_context(&out, word, CTX_ORIGIN + 16 * slot);
    return count;
}

static const struct instruction *traced_at(gaddr pc) {
    for (const struct instruction *i = trace; i < trace + trace_count; i++)
        if (i->pc == pc)
            return i;
    return NULL;
}

/* Each word of the loaded value's slot gets the origin of its own. */
static int emit_each_origin(const struct cold *c, int place, int word, struct unrecorded *none) {
    const struct memory *m = &c->memory;
    const struct instruction *load = traced_at(c->pc);
    int slot = (int)(c->way >> WAY_SLOT), count = 0;
    for (int done = 0; done < (int)m->size; done += 8) {
        emit_take_origin(place, word, done, true);
        emit_to_context(&out, word, CTX_ORIGIN + 16 * slot + done);
        if (m->size == 8 && slot >= ELEMENT_VECTOR)
            emit_to_context(&out, word, CTX_ORIGIN + 16 * slot + 8);
        emit_unless_recorded(word, true, m, done, load ? word_now(load, done) : WORD_UNKNOWN,
                             &none[count++]);
    }
    return count;
}

/* A load of bytes whose origins are recorded: where one is recorded the memory is the
   program's (freeing it forgets them). The register that is loaded serves for all, if it can. */
int emit_known_origin(struct cold *c, bool flags) {
    static unsigned next;
    const struct memory *m = &c->memory;
    uint8_t *leave[20], *odd[8];
    struct unrecorded none[4];
    int slot = (int)(c->way >> WAY_SLOT), size = (int)m->size, at = 0;
    int count = 0, odd_count = 0, none_count = 0;
    bool own = c->loaded && !flags;
    int place = own ? slot : pick_scratch(address_uses(m));
    int word = own ? slot : pick_scratch(address_uses(m) | 1u << place);
    if (flags)
        emit_save_flags();
    emit_spill(&out, place);
    if (!own)
        emit_spill(&out, word);
    if (size <= 8 && slot < ELEMENT_VECTOR)
        at = CTX_ODD + ODD_SIZE * (int)(next++ % ODD_COUNT);
    if (size < 4) {
        odd_count = emit_part_origin(m, place, word, odd);
        emit_twice(word);
        for (int done = 0; done < (slot < ELEMENT_VECTOR ? 8 : 32); done += 8)
            emit_to_context(&out, word, CTX_ORIGIN + 16 * slot + done);
    } else {
        emit_lea(m, place);
        odd[odd_count++] = emit_origin_place(place);
        if (size >= 8 && cache_plans[c->argument].moves_whole)
            none_count = emit_each_origin(c, place, word, none);
        else
            count += emit_one_origin(place, word, size, slot, leave);
    }
    const uint8_t *found = out.at;
    if (!own) {
        emit_unspill(&out, place);
        emit_unspill(&out, word);
        leave_with_flags(flags);
    }
    emit_jump(&out, own ? c->loaded : c->resume);
    for (int k = 0; k < none_count; k++)
        count += emit_unrecorded(&none[k], leave + count);
    for (int k = 0; k < odd_count; k++)
        patch_jump(odd[k], out.at);
    if (at) {
        int more = own ? pick_scratch(address_uses(m) | 1u << place) : word, first = count;
        uint32_t kept = out.kept;
        if (own)
            emit_spill(&out, more);
        emit_lea(m, place);
        count += emit_odd_origin(place, more, size, at, slot, leave + count);
        if (own)
            emit_unspill(&out, more);
        emit_jump(&out, found);
        for (int k = first; k < count && own; k++)
            patch_jump(leave[k], out.at);
        if (own) {
            emit_unspill(&out, more);
            count = first;
        }
        out.kept = kept;
    }
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
    emit_unspill(&out, place);
    if (!own)
        emit_unspill(&out, word);
    leave_with_flags(flags);
    return at;
}

void emit_rotate(int word) { /* ror word, 32 */
    emit8(&out, rex(1, 0, 0, word));
    emit8(&out, 0xc1);
    emit8(&out, 0xc8 | (word & 7));
    emit8(&out, 32);
}

/* Leaves unless the lower half of `word` may stand anywhere and one is recorded at the place. */
static void leave_unless_replaced(int place, int word, int offset, uint8_t **leave) {
    emit_compare_least(word);
    leave[0] = emit_short_jump(IF_LESS); /* or the name of a stack slot */
    emit_compare_memory(place, offset, 0);
    leave[1] = emit_short_jump(IF_ZERO);
}

/* mov [place + offset], word */
static void emit_put_origin(int place, int word, int offset, bool wide) {
    emit8(&out, rex(wide, word, 0, place));
    emit8(&out, 0x89);
    emit_memory(&out, word, place, -1, 1, offset);
}

int emit_change_origins(int place, int word, int offset, int piece, const struct memory *m,
                        int bits, int done, uint8_t **leave) {
    int count = 0;
    uint8_t *lower[2], *upper[2], *both = NULL;
    if (piece == 8) { /* as a whole, where that can be: so it is read again */
        leave_unless_replaced(place, word, offset, lower);
        emit_rotate(word);
        leave_unless_replaced(place, word, offset + 4, upper);
        emit_rotate(word);
        emit_put_origin(place, word, offset, true);
        both = emit_long_jump();
        for (int k = 0; k < 2; k++)
            patch_jump(upper[k], out.at);
        emit_rotate(word);
        for (int k = 0; k < 2; k++)
            patch_jump(lower[k], out.at);
    }
    for (int at = 0; at < piece; at += 4) {
        uint8_t *stays[2];
        leave_unless_replaced(place, word, offset + at, stays);
        emit_put_origin(place, word, offset + at, false);
        uint8_t *over = emit_long_jump();
        for (int k = 0; k < 2; k++)
            patch_jump(stays[k], out.at);
        emit_bits_of_word(m, bits, done + at);
        leave[count++] = emit_short_jump(IF_NOT_ZERO);
        patch_jump(over, out.at);
        if (piece == 8)
            emit_rotate(word);
    }
    if (both)
        patch_jump(both, out.at);
    return count;
}

static int piece_of(int size) { return size >= 8 ? 8 : 4; }

/* A store over bytes that have origins recorded. */
void emit_known_target(struct cold *c, bool flags) {
    const struct memory *m = &c->memory;
    int slot = (int)(c->way >> WAY_SLOT), piece = piece_of((int)m->size), count = 0;
    int bits = bits_of_element(element_of_slot(slot));
    uint8_t *leave[24];
    if (flags)
        emit_save_flags();
    emit_spill(&out, RCX);
    emit_spill(&out, RDX);
    emit_lea(m, RCX);
    leave[count] = m->size < 4 ? emit_part_place(RCX, (int)m->size) : emit_origin_place(RCX);
    count += leave[count] != NULL;
    if (m->size < 4) {
        emit_from_context(&out, RDX, CTX_ORIGIN + 16 * slot);
        leave[count++] = leave_by_byte(RDX);
        leave[count++] = emit_compare_origin(RCX, RDX, false, 0);
    }
    for (int done = 0; done < (int)m->size && m->size >= 4; done += piece) {
        emit_from_context(&out, RDX, CTX_ORIGIN + 16 * slot + done);
        count += emit_change_origins(RCX, RDX, done, piece, NULL, bits, done, leave + count);
    }
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    leave_with_flags(flags);
    emit_jump(&out, c->resume);
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    leave_with_flags(flags);
}

/* The same at an odd place, its address in RCX: all words there have the one origin of the value. */
static int emit_odd_words(int size, int element, uint8_t **leave) {
    int count = 0;
    emit_align(RCX);
    emit_place_of_word(RCX);
    emit_from_context(&out, RDX, CTX_ORIGIN_OF(element));
    for (int at = 0; at <= size; at += 4)
        leave[count++] = emit_compare_origin(RCX, RDX, false, at);
    if (size == 8)
        leave[count++] = emit_compare_context(RDX, false, CTX_ORIGIN_OF(element) + 4);
    return count;
}

/* A store that leaves D as it is, with origins recorded: goes on at the jump returned. */
uint8_t *emit_same_store(const struct memory *m, int element, int offset) {
    uint8_t *normal[32], *odd = NULL;
    int count = 0;
    emit_spill(&out, RCX);
    emit_spill(&out, RDX);
    emit_lea(m, RCX);
    note_place(now.pc, 1u << RCX | 1u << RDX, false);
    for (uint32_t done = 0; done < m->size; done += 8) {
        emit_from_context(&out, RDX, offset + (int)done);
        emit8(&out, 0x65); /* cmp gs:[rcx + done], rdx */
        if (m->size == 2)
            emit8(&out, 0x66);
        emit8(&out, rex(m->size >= 8, RDX, 0, RCX));
        emit8(&out, m->size == 1 ? 0x38 : 0x39);
        emit_memory(&out, RDX, RCX, -1, 1, done);
        normal[count++] = emit_short_jump(IF_NOT_ZERO);
    }
    for (uint32_t done = 8; done < m->size; done += 8) { /* or rdx, fs:[an earlier word] */
        emit8(&out, 0x64);
        emit8(&out, 0x48);
        emit8(&out, 0x0b);
        emit_memory(&out, RDX, -1, -1, 1, offset + (int)done - 8);
    }
    if (m->size <= 8) { /* test rdx, rdx */
        if (m->size == 2)
            emit8(&out, 0x66);
        emit8(&out, rex(m->size == 8, RDX, 0, RDX));
        emit8(&out, m->size == 1 ? 0x84 : 0x85);
        emit8(&out, 0xd2);
    }
    uint8_t *defined = emit_short_jump(IF_ZERO);
    if (m->size < 4) {
        normal[count] = emit_part_place(RCX, (int)m->size);
        count += normal[count] != NULL;
        emit_from_context(&out, RDX, CTX_ORIGIN_OF(element));
        normal[count++] = leave_by_byte(RDX);
        normal[count++] = emit_compare_origin(RCX, RDX, false, 0);
    } else if (m->size <= 8) {
        odd = leave_by_bits(RCX, 3);
        emit_place_of_word(RCX);
    } else {
        normal[count++] = emit_origin_place(RCX);
    }
    uint8_t *differs[4], *same[4];
    int different = 0, piece = piece_of((int)m->size);
    for (int at = 0; at < (int)m->size && m->size >= 4; at += piece) {
        emit_from_context(&out, RDX, CTX_ORIGIN_OF(element) + at);
        differs[different] = emit_compare_origin(RCX, RDX, piece == 8, at);
        same[different++] = out.at;
    }
    patch_jump(defined, out.at);
    const uint8_t *finished = out.at;
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    uint8_t *over = emit_long_jump();
    if (odd) {
        patch_jump(odd, out.at);
        count += emit_odd_words((int)m->size, element, normal + count);
        emit_jump(&out, finished);
    }
    for (int k = 0; k < different; k++) {
        patch_jump(differs[k], out.at);
        count += emit_change_origins(RCX, RDX, k * piece, piece, NULL, offset, k * piece,
                                     normal + count);
        emit_jump(&out, same[k]);
    }
    for (int k = 0; k < count; k++)
        patch_jump(normal[k], out.at);
    emit_unspill(&out, RCX);
    emit_unspill(&out, RDX);
    return over;
}

static void emit_shadow_word(const struct memory *m, int opcode, uint32_t size) {
    emit8(&out, 0x65); /* <op> gs:[m], rdx or the other way about */
    emit8(&out, rex(size == 8, RDX, 0, m->base));
    emit8(&out, opcode);
    emit_operand(m, RDX, 0);
}

/* Origins go from the word at RSI to that at RDI where RDX, its undefined bits, is not 0;
   all three and RAX are changed. Leaves by the jumps where none is recorded at the
   source, or at the target where there must be one already. */
static int emit_origins_across(uint32_t size, bool recorded, uint8_t **leave) {
    int count = 0;
    leave[count++] = emit_origin_place(RSI);
    leave[count++] = emit_origin_place(RDI);
    for (uint32_t at = 0; at < size; at += 4) {
        if (at) { /* shr rdx, 32 */
            emit8(&out, 0x48);
            emit8(&out, 0xc1);
            emit8(&out, 0xea);
            emit8(&out, 32);
        } else { /* test edx, edx */
            emit8(&out, 0x85);
            emit8(&out, 0xd2);
        }
        uint8_t *defined = emit_short_jump(IF_ZERO);
        emit8(&out, 0x8b); /* mov eax, [rsi + at]; cmp eax, ORIGIN_LEAST */
        emit_memory(&out, RAX, RSI, -1, 1, at);
        emit8(&out, 0x3d);
        emit32(&out, ORIGIN_LEAST);
        leave[count++] = emit_short_jump(IF_BELOW);
        emit8(&out, 0x3b); /* cmp eax, [rdi + at] */
        emit_memory(&out, RAX, RDI, -1, 1, at);
        uint8_t *same = emit_short_jump(IF_ZERO);
        if (recorded) {
            emit_compare_memory(RDI, (int)at, 0);
            leave[count++] = emit_short_jump(IF_ZERO);
        }
        emit8(&out, 0x85); /* test eax, eax: the name of a stack slot */
        emit8(&out, 0xc0);
        leave[count++] = emit_short_jump(IF_SIGN);
        emit8(&out, 0x89); /* mov [rdi + at], eax */
        emit_memory(&out, RAX, RDI, -1, 1, at);
        patch_jump(same, out.at);
        patch_jump(defined, out.at);
    }
    return count;
}

void emit_registers(uint32_t set, void (*each)(struct emitter *e, int reg)) {
    for (int r = 0; r < 16; r++)
        if (set & 1u << r)
            each(&out, r);
}

static const int moved_registers[] = {RDX, RAX, RSI, RDI};

static void emit_moved(void (*each)(struct emitter *e, int reg)) {
    for (int k = 0; k < 4; k++)
        each(&out, moved_registers[k]);
}

/* One word from [rsi] to [rdi] with its undefined bits and where they are from; flags
   are dead, both registers are defined. Goes on at the jumps in `done` (their number is
   returned); what it cannot do itself follows. A defined word is stored as ever; over
   the same undefined bits with an origin there is nothing to check, else it is a store
   like others, but on a stack, where origins are noted by C. */
int emit_word_move(uint32_t size, uint8_t **done) {
    struct memory from = {.base = RSI, .index = -1, .scale = 1, .size = size, .read = true};
    struct memory to = {.base = RDI, .index = -1, .scale = 1, .size = size, .write = true};
    uint8_t *leave[12];
    int count = 0, finished = 0;
    emit_spill(&out, RDX);
    if (size <= 2) {
        emit8(&out, 0x65); /* movzx rdx, gs:[rsi] */
        emit8(&out, rex(0, RDX, 0, RSI));
        emit8(&out, 0x0f);
        emit8(&out, size == 1 ? 0xb6 : 0xb7);
        emit_operand(&from, RDX, 0);
    } else {
        emit_shadow_word(&from, 0x8b, size);
    }
    emit8(&out, rex(1, RDX, 0, RDX)); /* test rdx, rdx */
    emit8(&out, 0x85);
    emit8(&out, 0xd2);
    uint8_t *undefined = emit_short_jump(IF_NOT_ZERO);
    emit_unspill(&out, RDX);
    emit_check_flags_dead(&to, COLD_STORE);
    done[finished++] = emit_long_jump();
    patch_jump(undefined, out.at);
    if (size < 4) {
        emit_unspill(&out, RDX);
        return finished;
    }
    note_place(now.pc, 1u << RDX, false);
    emit_shadow_word(&to, 0x39, size); /* cmp gs:[rdi], rdx */
    uint8_t *differs = emit_short_jump(IF_NOT_ZERO);
    uint32_t kept = out.kept;
    emit_moved(emit_spill);
    count = emit_origins_across(size, true, leave);
    emit_moved(emit_unspill);
    done[finished++] = emit_long_jump();
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
    emit_moved(emit_unspill);
    out.kept = kept;
    patch_jump(differs, out.at);
    emit_op(&out, 0x8d, RDX, RDI, 7); /* lea rdx, [rdi + 7]; sub rdx, rsi; cmp rdx, 15 */
    emit8(&out, 0x48);
    emit8(&out, 0x29);
    emit8(&out, 0xf2);
    emit8(&out, 0x48);
    emit8(&out, 0x83);
    emit8(&out, 0xfa);
    emit8(&out, 15);
    uint8_t *overlap = emit_short_jump(IF_BELOW);
    emit_unspill(&out, RDX);
    emit_check_flags_dead(&to, COLD_STORE);
    emit8(&out, 0x64); /* cmp rdi, fs:[stack_low] */
    emit8(&out, 0x48);
    emit8(&out, 0x3b);
    emit_memory(&out, RDI, -1, -1, 1, CTX_STACK_LOW);
    uint8_t *last = emit_short_jump(IF_NOT_BELOW);
    out.kept = 0;
    emit_moved(emit_spill);
    note_place(now.pc, 1u << RDX | 1u << RAX | 1u << RSI | 1u << RDI, false);
    emit_shadow_word(&from, 0x8b, size);
    emit_shadow_word(&to, 0x89, size);
    emit_op(&out, 0x8d, RAX, RDI, 0);
    emit8(&out, 0x48); /* shr rax, 16; the flag of its 64 KiB lies above the origins */
    emit8(&out, 0xc1);
    emit8(&out, 0xe8);
    emit8(&out, 16);
    emit8(&out, 0x64); /* add rax, fs:[origins] */
    emit8(&out, 0x48);
    emit8(&out, 0x03);
    emit_memory(&out, RAX, -1, -1, 1, CTX_ORIGINS);
    emit8(&out, 0x48); /* bts rax, 44 */
    emit8(&out, 0x0f);
    emit8(&out, 0xba);
    emit8(&out, 0xe8);
    emit8(&out, __builtin_ctzll(ORIGIN_SIZE));
    emit8(&out, 0xc6); /* mov byte [rax], 1 */
    emit8(&out, 0x00);
    emit8(&out, 1);
    count = emit_origins_across(size, false, leave);
    emit_moved(emit_unspill);
    done[finished++] = emit_long_jump();
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
    emit_moved(emit_unspill);
    patch_jump(overlap, out.at);
    emit_unspill(&out, RDX);
    patch_jump(last, out.at);
    out.kept = 0;
    return finished;
}


/* --- a load and the store that follows it --- */

/* What a load takes and a store right behind it puts elsewhere is copied in one go: of
   undefined bits with one origin, over the same bits; anything else goes the usual way. */
enum { COPIES = 16, BETWEEN = 16, WORDS_BETWEEN = 4, COPY_JUMPS = 48, COPY_MOST = 32 };

static struct copy {
    const struct instruction *load, *store;
    struct memory to; /* as it is named before the load */
    uint64_t possible, possible_after;
    int element;          /* what is loaded */
    bool single;          /* by itself; else as part of a bundle only */
    int place, to_place, word; /* registers to work with; one place for a single piece */
    int cold;             /* goes the usual way */
    uint8_t *jumps[8];    /* displacements of those that lead here */
    int jump_count;
    uint8_t *back;        /* behind the store */
} copies[COPIES];
static int copy_count;

void copies_forget(void) {
    copy_count = 0;
    bundles_forget();
}

bool adds_constant(const struct instruction *i, int *reg, int64_t *amount) {
    const ZydisDecodedOperand *to = &i->operands[0], *by = &i->operands[1];
    if (to->type != ZYDIS_OPERAND_TYPE_REGISTER || to->size != 64)
        return false;
    *reg = register_number(to->reg.value);
    switch (i->z.mnemonic) {
    case ZYDIS_MNEMONIC_ADD:
    case ZYDIS_MNEMONIC_SUB:
        if (by->type != ZYDIS_OPERAND_TYPE_IMMEDIATE)
            return false;
        *amount = i->z.mnemonic == ZYDIS_MNEMONIC_ADD ? by->imm.value.s : -by->imm.value.s;
        return true;
    case ZYDIS_MNEMONIC_INC:
    case ZYDIS_MNEMONIC_DEC:
        *amount = i->z.mnemonic == ZYDIS_MNEMONIC_INC ? 1 : -1;
        return true;
    case ZYDIS_MNEMONIC_LEA:
        *amount = i->memory[0].displacement;
        return i->memory[0].base == *reg && i->memory[0].index < 0 && !i->memory[0].segment &&
               !i->memory[0].address32;
    default:
        return false;
    }
}

uint32_t address_uses(const struct memory *m) {
    return (m->base >= 0 ? 1u << m->base : 0) | (m->index >= 0 ? 1u << m->index : 0);
}

uint64_t wholly_written(const struct instruction *i) {
    uint64_t set = moves_whole(i) && i->memory_count ? plan_outputs(i) : 0;
    for (int k = 0; k < i->z.operand_count; k++) {
        const ZydisDecodedOperand *o = &i->operands[k];
        int e = o->type == ZYDIS_OPERAND_TYPE_REGISTER ? element_of(o->reg.value) : -1;
        if (e >= 0 && e < 16 && o->size >= 32 && (o->actions & ZYDIS_OPERAND_ACTION_WRITE))
            set |= 1ULL << e;
    }
    return set;
}

uint64_t noted_elements(int element, int size) {
    return element < ELEMENT_VECTOR || size > 16 ? whole_element(element) : 1ULL << element;
}

/* A move of a defined word between a register and memory, as gcc puts between the load and
   the store of another word. */
static bool moves_defined(const struct instruction *i) {
    const struct memory *m = &i->memory[0];
    if (i->memory_count != 1 || i->encoded != 0 || is_foreign(m) || m->address32 ||
        (m->size != 4 && m->size != 8 && m->size != 16))
        return false;
    return m->write ? is_plain_store(i) && !is_stack_probe(i, m) : copied_size(i) != 0;
}

/* Nothing but registers that are defined, not the stack pointer and not `value`, and moves
   of defined words. */
static bool goes_between(const struct instruction *i, int value) {
    uint32_t used = i->registers_used | i->registers_written;
    if (role_of(i) != PLAIN || wants_dirty(i) || (used & 1u << RSP) ||
        ((plan_inputs(i) | plan_outputs(i)) & (whole_element(value) | now.possible)))
        return false;
    for (int k = 0; k < i->memory_count; k++)
        if ((i->memory[k].read || i->memory[k].write) && !moves_defined(i))
            return false;
    return true;
}

/* What is touched between the load and the store can be looked at before the load: its
   address is the same there. */
static bool addresses_stay(const struct copy *c) {
    uint32_t written = c->load->registers_written;
    for (const struct instruction *i = c->load + 1; i < c->store; i++) {
        if (i->encoded >= 0 && (i->memory[0].read || i->memory[0].write) &&
            (address_uses(&i->memory[0]) & written))
            return false;
        written |= i->registers_written;
    }
    return true;
}

/* Leaves where a word moved in between is not defined, or may not be touched. */
static int emit_defined_between(const struct copy *c, uint8_t **leave) {
    int count = 0;
    for (const struct instruction *i = c->load + 1; i < c->store; i++) {
        const struct memory *m = &i->memory[0];
        if (i->encoded < 0 || (!m->read && !m->write))
            continue;
        for (uint32_t done = 0; done < m->size; done += 8) {
            emit_gs(m, m->size >= 8, 0); /* cmp gs:[operand + done], 0 */
            emit8(&out, 0x83);
            emit_operand(m, 7, (int)done);
            emit8(&out, 0);
            leave[count++] = emit_short_jump(IF_NOT_ZERO);
        }
    }
    return count;
}

/* Of the words moved in between: few, and none in a register that is needed. */
static uint32_t used_between(const struct copy *c, int *words) {
    uint32_t used = 0;
    *words = 0;
    for (const struct instruction *i = c->load + 1; i < c->store; i++)
        if (i->encoded >= 0 && (i->memory[0].read || i->memory[0].write)) {
            used |= address_uses(&i->memory[0]);
            *words += i->memory[0].size > 8 ? 2 : 1;
        }
    return used;
}

uint32_t copied_size(const struct instruction *load) {
    const ZydisDecodedOperand *value = &load->operands[0];
    if (load->encoded < 0 || !load->memory[load->encoded].read || !moves_whole(load))
        return 0;
    uint32_t size = load->memory[load->encoded].size;
    int v = vector_number(value->reg.value);
    if (size < 4 || size > COPY_MOST || (size & (size - 1)) || v > 15 ||
        (v >= 0 ? size < 16 : element_of(value->reg.value) < 0 || value->size != 8 * size))
        return 0;
    return is_foreign(&load->memory[load->encoded]) ? 0 : size;
}

enum word word_now(const struct instruction *load, int done) {
    const struct memory *from = &load->memory[load->encoded];
    gaddr a;
    if (!address_now(load, &a))
        return WORD_UNKNOWN;
    a += (gaddr)done;
    uint64_t bits = 0;
    copy_bytes(&bits, shadow_of(a), from->size >= 8 ? 8 : 4);
    return !bits                             ? WORD_DEFINED
           : from->size < 8                  ? WORD_UNDEFINED
           : !(uint32_t)bits                 ? WORD_LOWER_DEFINED
           : !(bits >> 32)                   ? WORD_UPPER_DEFINED
                                             : WORD_UNDEFINED;
}

const struct instruction *copy_store(const struct instruction *load,
                                     bool (*between)(const struct instruction *i, int value),
                                     struct memory *to, bool *known) {
    const struct instruction *end = trace + trace_count, *i = load + 1;
    int value = element_of(load->operands[0].reg.value);
    while (i < end && i - load <= BETWEEN && between(i, value))
        i++;
    if (i == end || role_of(i) != PLAIN || !is_plain_store(i) ||
        element_of(i->operands[1].reg.value) != value)
        return NULL;
    *to = i->memory[i->encoded];
    const struct memory *from = &load->memory[load->encoded];
    if (to->size != from->size || to->address32 || from->address32 || is_stack_probe(i, to))
        return NULL;
    for (const struct instruction *b = i - 1; b > load; b--) {
        int reg = -1;
        int64_t amount = 0;
        if (!(b->registers_written & address_uses(to)))
            continue;
        if (!adds_constant(b, &reg, &amount)) {
            *to = i->memory[i->encoded];
            *known = false;
            return i;
        }
        to->displacement += (reg == to->base ? amount : 0) +
                            (reg == to->index ? amount * to->scale : 0);
    }
    *known = true;
    return to->displacement == (int32_t)to->displacement ? i : NULL;
}

/* Whether it can be copied in one go by itself: with the registers to work with. */
static bool is_single(struct copy *c) {
    const struct memory *from = &c->load->memory[c->load->encoded];
    bool vector = vector_number(c->load->operands[0].reg.value) >= 0;
    int words;
    bool known;
    c->store = copy_store(c->load, goes_between, &c->to, &known);
    if (!c->store || !known || !addresses_stay(c))
        return false;
    uint32_t used = address_uses(&c->to) | address_uses(from) | used_between(c, &words);
    if (words > WORDS_BETWEEN || (!vector && address_uses(&c->to) & 1u << c->element))
        return false;
    c->place = pick_scratch(used);
    c->word = pick_scratch(used | 1u << c->place);
    if (c->place == c->word || (used & 1u << c->word))
        return false;
    used |= 1u << c->place | 1u << c->word;
    c->to_place = from->size > 8 ? pick_scratch(used) : c->place;
    return from->size <= 8 || !(used & 1u << c->to_place);
}

void copy_begins(const struct instruction *load, bool flags_live, int first) {
    if (copy_count == COPIES || flags_live || first == cold_count || !copied_size(load) ||
        cold_count - first > (int)(sizeof copies[0].jumps / sizeof copies[0].jumps[0]))
        return;
    struct copy *c = &copies[copy_count];
    *c = (struct copy){.load = load, .possible = now.possible, .cold = first};
    c->element = element_of(load->operands[0].reg.value);
    c->single = is_single(c);
    if (!bundle_begins(load, c->single) && !c->single)
        return;
    for (int k = first; k < cold_count; k++)
        c->jumps[c->jump_count++] = colds[k].patch;
    cold_count = first + 1;
    copy_count++;
}

bool copy_ends(const struct instruction *store) {
    bool any = bundle_ends(store);
    for (int k = 0; k < copy_count; k++)
        if (copies[k].single && copies[k].store == store && !copies[k].back) {
            copies[k].possible_after = now.possible;
            copies[k].back = out.at;
            out.kept = 0;
            any = true;
        }
    return any;
}

uint8_t *emit_compare_origin(int place, int reg, bool wide, int offset) {
    emit8(&out, rex(wide, reg, 0, place));
    emit8(&out, 0x3b);
    emit_memory(&out, reg, place, -1, 1, offset);
    return emit_short_jump(IF_NOT_ZERO);
}

void emit_take_bits(const struct memory *from, int reg, bool wide, int done) {
    emit_gs(from, wide, reg);
    emit8(&out, 0x8b);
    emit_operand(from, reg, done);
}

uint8_t *emit_compare_bits(const struct memory *to, int reg, bool wide, int done) {
    emit_gs(to, wide, reg);
    emit8(&out, 0x39);
    emit_operand(to, reg, done);
    return emit_short_jump(IF_NOT_ZERO);
}

/* Jumps in `differs`: the target has origins to change, piece by piece; it goes on at `same`. */
static int emit_copy_checks(const struct copy *c, uint8_t **leave, uint8_t **differs,
                            uint8_t **same, struct unrecorded *none) {
    const struct memory *from = &c->load->memory[c->load->encoded];
    bool wide = from->size >= 8;
    int count = 0, size = (int)from->size, place = c->place, word = c->word;
    for (int done = 0; done < size; done += 8) {
        emit_take_bits(from, word, wide, done);
        leave[count++] = emit_compare_bits(&c->to, word, wide, done);
    }
    count += emit_defined_between(c, leave + count);
    emit_lea(from, place);
    leave[count++] = emit_origin_place(place);
    if (size > 8) {
        emit_lea(&c->to, c->to_place);
        leave[count++] = emit_origin_place(c->to_place);
    }
    for (int done = 0; done < size; done += 8) {
        emit_take_origin(place, word, done, wide);
        if (!wide)
            emit_twice(word);
        emit_to_context(&out, word, CTX_ORIGIN_OF(c->element) + done);
        if (size <= 8) {
            emit_lea(&c->to, place);
            leave[count++] = emit_origin_place(place);
        }
        *differs++ = emit_compare_origin(c->to_place, word, wide, done);
        emit_unless_recorded(word, wide, &c->to, done, word_now(c->load, done), none++);
        *same++ = out.at;
    }
    return count;
}

static void emit_copy(const struct copy *c) {
    struct cold *usual = &colds[c->cold];
    uint8_t *leave[COPY_JUMPS], *differs[4], *same[4];
    struct unrecorded none[4];
    int place = c->place, word = c->word, size = (int)c->to.size, piece = piece_of(size);
    uint32_t spilled = 1u << place | 1u << word | 1u << c->to_place;
    now.pc = c->load->pc;
    now.possible = c->possible;
    out.kept = usual->kept;
    emit_registers(spilled, emit_spill);
    note_place(now.pc, spilled, false);
    int count = emit_copy_checks(c, leave, differs, same, none);
    if (c->element < 16) { /* only now: it may be part of the address */
        emit_take_bits(&c->load->memory[c->load->encoded], word, size == 8, 0);
        emit_to_context(&out, word, CTX_UNDEFINED + 8 * c->element);
    } else {
        emit_on_shadow(c->load);
        emit_bits_to_context(c->load);
    }
    emit_registers(spilled, emit_unspill);
    note_place(now.pc, 0, false);
    for (const struct instruction *i = c->load; i <= c->store; i++) {
        if (i > c->load)
            note_place(i->pc, 0, false);
        emit_plain(i);
    }
    now.possible = c->possible | noted_elements(c->element, size);
    dirty_drop(now.possible & ~c->possible_after); /* a bundle ends here as well */
    emit_into_steady((int)(c->store - trace) + 1, true);
    emit_jump(&out, c->back);
    for (int done = 0; done < size; done += 8) {
        patch_jump(differs[done / 8], out.at);
        count += emit_change_origins(c->to_place, word, done, piece, &c->to, 0, done,
                                     leave + count);
        emit_jump(&out, same[done / 8]);
        count += emit_unrecorded(&none[done / 8], leave + count);
    }
    for (int k = 0; k < count; k++)
        patch_jump(leave[k], out.at);
    emit_registers(spilled, emit_unspill);
}

void emit_copies(void) {
    struct translation last = now;
    for (int k = 0; k < copy_count; k++) {
        const struct copy *c = &copies[k];
        note_place(c->load->pc, 0, false);
        for (int j = 0; j < c->jump_count; j++)
            patch_jump(c->jumps[j], out.at);
        emit_bundle(c->load, colds[c->cold].kept);
        note_place(c->load->pc, 0, false);
        if (c->back)
            emit_copy(c);
        note_place(c->load->pc, 0, false);
        colds[c->cold].patch = emit_long_jump();
    }
    now = last;
}

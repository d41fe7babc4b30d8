/* A bundle at whose targets D or the origins change: fresh slots of a frame, memory that is new,
   elements that differ in what is set. First all is looked at: whether what is loaded has
   origins that hold anywhere, whether every target may be written, whether none lies over a
   source. Then D and the origins are moved in the order of the loads and stores. */
#include "bundles.h"

enum { LONGEST_RANGE = 64 }; /* bytes */

static uint8_t **leaves; /* of the bundle: jumps that are taken where it cannot be done so */
static int leave_count;

static void leave_if(int condition) { leaves[leave_count++] = emit_short_jump(condition); }

/* Bytes from the place's register. */
struct range {
    int64_t low, end;
};

static struct range range_of(const struct bundle *b, int place, bool targets) {
    struct range r = {INT32_MAX, INT32_MIN};
    for (int k = 0; k < b->piece_count; k++) {
        const struct piece *p = &b->pieces[k];
        if ((targets ? p->to_place : p->from_place) != place)
            continue;
        int64_t at = (targets ? p->to.add : p->from.add) - b->places[place].add;
        r.low = at < r.low ? at : r.low;
        r.end = at + p->size > r.end ? at + p->size : r.end;
    }
    return r;
}

static bool is_used(struct range r) { return r.low < r.end; }

bool can_change(const struct bundle *b) {
    if (b->second < 0)
        return false;
    for (int k = 0; k < b->place_count; k++) {
        struct range r = range_of(b, k, true);
        if (is_used(r) && r.end - r.low > LONGEST_RANGE)
            return false;
    }
    return true;
}

/* --- steps of code --- */

enum { NOT_ABOVE = 6, ABOVE };
enum { AND_VALUE = 4, COMPARE_VALUE = 7 };

static void with_value(int extension, int reg, int64_t value) {
    emit8(&out, rex(1, 0, 0, reg));
    emit8(&out, 0x81);
    emit8(&out, 0xc0 | extension << 3 | (reg & 7));
    emit32(&out, value);
}

static void shift_right(int reg, int by) {
    emit8(&out, rex(1, 0, 0, reg));
    emit8(&out, 0xc1);
    emit8(&out, 0xe8 | (reg & 7));
    emit8(&out, by);
}

static void lea(int reg, int base, int64_t offset) { emit_op(&out, 0x8d, reg, base, offset); }

static void put_bits(const struct memory *to, int reg, bool wide, int done) { /* gs:[to + done] */
    emit_gs(to, wide, reg);
    emit8(&out, 0x89);
    emit_operand(to, reg, done);
}

static void put_no_bits(const struct memory *to, bool wide, int done) {
    emit_gs(to, wide, 0);
    emit8(&out, 0xc7);
    emit_operand(to, 0, done);
    emit32(&out, 0);
}

static void put_origin(const struct memory *to, int reg, bool wide, int done) {
    emit8(&out, rex(wide, reg, 0, to->base));
    emit8(&out, 0x89);
    emit_memory(&out, reg, to->base, -1, 1, to->displacement + done);
}

/* --- what has to hold --- */

/* `word` is an address of which bytes from `from.low` to `from.end` count. */
static void leave_if_over(const struct bundle *b, struct range from, int place) {
    struct range to = range_of(b, place, true);
    /* by how far the address may lie above the target's: from low to high */
    int64_t low = to.low - from.end + 1, high = to.end - from.low - 1;
    lea(b->word, b->word, -low);
    emit_register_op(&out, OP_SUB, b->word, b->registers[place]);
    with_value(COMPARE_VALUE, b->word, high - low);
    leave_if(NOT_ABOVE);
}

/* Whether anything is stored there before the instruction. */
static bool is_stored_before(const struct bundle *b, int place, const struct instruction *i) {
    for (int k = 0; k < b->piece_count; k++)
        if (b->pieces[k].to_place == place && b->pieces[k].store < i)
            return true;
    return false;
}

/* What stands in the same place is known to lie apart (comes_again). */
static void leave_if_lapped(const struct bundle *b) {
    for (int t = 0; t < b->place_count; t++) {
        if (!is_used(range_of(b, t, true)))
            continue;
        for (int s = 0; s < b->place_count; s++) {
            struct range from = range_of(b, s, false);
            if (s == t || !is_used(from))
                continue;
            lea(b->word, b->registers[s], 0);
            leave_if_over(b, from, t);
        }
        for (int k = 0; k < b->other_count; k++) {
            struct memory m = other_operand(b, k);
            if (same_base(&b->others[k].at, &b->places[t]) ||
                !is_stored_before(b, t, b->others[k].i))
                continue;
            emit_lea(&m, b->word);
            leave_if_over(b, (struct range){0, b->others[k].size}, t);
        }
    }
}

/* Leaves where a half of `word` is no code that holds anywhere, though bits of it at the source
   are undefined. */
static void leave_unless_portable(const struct memory *from, int word, bool wide, int done) {
    static unsigned next;
    uint8_t *fine[3], *lower, *upper;
    if (!wide) {
        emit_compare_least(word);
        fine[0] = emit_short_jump(IF_NOT_LESS);
        leaves[leave_count++] = leave_unless_zero(from, false, done);
        patch_jump(fine[0], out.at);
        return;
    }
    int slot = CTX_PORTABLE + 8 * (int)(next++ % PORTABLE_COUNT);
    emit_context_op(&out, OP_COMPARE, word, slot);
    fine[0] = emit_short_jump(IF_ZERO);
    emit_compare_least(word);
    lower = emit_short_jump(IF_LESS);
    emit_rotate(word);
    emit_compare_least(word);
    upper = emit_short_jump(IF_LESS);
    emit_rotate(word);
    emit_to_context(&out, word, slot);
    fine[1] = emit_long_jump();
    patch_jump(lower, out.at);
    leaves[leave_count++] = leave_unless_zero(from, false, done);
    emit_rotate(word);
    emit_compare_least(word);
    fine[2] = emit_short_jump(IF_NOT_LESS);
    patch_jump(upper, out.at);
    leaves[leave_count++] = leave_unless_zero(from, false, done + 4);
    for (int k = 0; k < 3; k++)
        patch_jump(fine[k], out.at);
}

static void look_at_sources(const struct bundle *b) {
    for (int place = 0; place < b->place_count; place++) {
        if (!is_used(range_of(b, place, false)))
            continue;
        lea(b->second, b->registers[place], 0);
        emit_place_of_word(b->second);
        for (int k = 0; k < b->piece_count; k++) {
            const struct piece *p = &b->pieces[k];
            struct memory from = piece_source(b, p);
            bool wide = p->size >= 8;
            for (int done = 0; done < p->size && p->from_place == place; done += 8) {
                if (p->defined) {
                    leaves[leave_count++] = leave_unless_zero(&from, wide, done);
                    continue;
                }
                emit_take_origin(b->second, b->word, (int)from.displacement + done, wide);
                leave_unless_portable(&from, b->word, wide, done);
            }
        }
    }
}

/* Bits of A from bit `first` of the byte that `reg` points to. */
static void leave_if_forbidden(int reg, int first, int count) {
    for (int bit = 0; bit < first + count; bit += 32) {
        uint64_t from = bit < first ? (uint64_t)first - (uint64_t)bit : 0;
        uint64_t end = (uint64_t)(first + count - bit);
        uint64_t mask = ((end < 32 ? 1ULL << end : 1ULL << 32) - 1) & ~((1ULL << from) - 1);
        if (reg >= 8)
            emit8(&out, 0x41);
        emit8(&out, 0xf7); /* test dword [reg + bit / 8], mask */
        emit_memory(&out, 0, reg, -1, 1, bit / 8);
        emit32(&out, (int64_t)mask);
        leave_if(IF_NOT_ZERO);
    }
}

/* A slot between return addresses of the two innermost frames, the red zone among them; the
   return that ends the frame is told of it. */
static void look_at_stack(const struct bundle *b, int reg, struct range r) {
    enum { TOP = -16, BELOW = TOP - 24 }; /* stack_pointer of shadow call entries */
    int word = b->word, second = b->second;
    emit_context_op(&out, OP_COMPARE, word, CTX_STACK_HIGH);
    leave_if(IF_NOT_BELOW);
    emit_context_op(&out, OP_COMPARE, RSP, CTX_STACK_LOW);
    leave_if(IF_BELOW);
    emit_context_op(&out, OP_COMPARE, RSP, CTX_STACK_HIGH);
    leave_if(ABOVE);
    lea(second, RSP, -RED_ZONE);
    emit_register_op(&out, OP_COMPARE, word, second);
    leave_if(IF_BELOW);
    emit_from_context(&out, second, CTX_SHADOW);
    lea(word, reg, r.end);
    emit_op(&out, OP_COMPARE, word, second, TOP);
    uint8_t *within = emit_short_jump(NOT_ABOVE);
    emit_op(&out, OP_COMPARE, word, second, BELOW);
    leave_if(ABOVE);
    lea(word, reg, r.low - 8);
    emit_op(&out, OP_COMPARE, word, second, TOP);
    leave_if(IF_BELOW);
    patch_jump(within, out.at);
    lea(word, reg, r.low);
    with_value(AND_VALUE, word, -8);
    emit_context_op(&out, OP_COMPARE, word, CTX_MARK_ORIGIN);
    uint8_t *above = emit_short_jump(IF_NOT_BELOW);
    emit_to_context(&out, word, CTX_MARK_ORIGIN);
    emit_context_op(&out, OP_COMPARE, word, CTX_MARK);
    uint8_t *marked = emit_short_jump(IF_NOT_BELOW);
    emit_to_context(&out, word, CTX_MARK);
    patch_jump(above, out.at);
    patch_jump(marked, out.at);
    lea(word, reg, r.end);
    emit_context_op(&out, OP_COMPARE, word, CTX_MARK_HIGH);
    uint8_t *below = emit_short_jump(NOT_ABOVE);
    emit_to_context(&out, word, CTX_MARK_HIGH);
    patch_jump(below, out.at);
}

static void look_at_targets(const struct bundle *b) {
    int word = b->word, second = b->second;
    for (int k = 0; k < b->place_count; k++) {
        int reg = b->registers[k];
        struct range r = range_of(b, k, true);
        if (!is_used(r) || b->below[k])
            continue;
        lea(word, reg, r.low);
        emit_context_op(&out, OP_COMPARE, word, CTX_STACK_LOW);
        uint8_t *stack = emit_short_jump(IF_NOT_BELOW);
        lea(second, word, 0);
        shift_right(second, 3);
        emit_context_op(&out, OP_ADD, second, CTX_A_BASE);
        uint8_t *odd = leave_by_bits(word, 4), *done[2];
        leave_if_forbidden(second, 0, (int)(r.end - r.low));
        done[0] = emit_long_jump();
        patch_jump(odd, out.at);
        leave_if_forbidden(second, 4, (int)(r.end - r.low));
        done[1] = emit_long_jump();
        patch_jump(stack, out.at);
        look_at_stack(b, reg, r);
        patch_jump(done[0], out.at);
        patch_jump(done[1], out.at);
    }
}

/* --- what is written --- */

/* That origins are recorded in the 64 KiB of the address. */
static void note_origins_at(const struct bundle *b, int reg, int64_t offset) {
    int word = b->word;
    lea(word, reg, offset);
    shift_right(word, 16);
    emit_context_op(&out, OP_ADD, word, CTX_ORIGINS);
    emit8(&out, rex(1, 0, 0, word)); /* bts word, 44: as ORIGIN_BASE + ORIGIN_SIZE */
    emit8(&out, 0x0f);
    emit8(&out, 0xba);
    emit8(&out, 0xe8 | (word & 7));
    emit8(&out, __builtin_ctzll(ORIGIN_SIZE));
    if (word >= 8)
        emit8(&out, 0x41);
    emit8(&out, 0xc6); /* mov byte [word], 1 */
    emit_memory(&out, 0, word, -1, 1, 0);
    emit8(&out, 1);
}

static int held; /* offset in the context of what the register `word` holds, too */

static void hold(const struct bundle *b, int offset) {
    emit_to_context(&out, b->word, offset);
    held = offset;
}

static void take_held(const struct bundle *b, int offset) {
    if (held != offset)
        emit_from_context(&out, b->word, offset);
    held = offset;
}

static void move_bits(const struct bundle *b, const struct piece *p, bool stores) {
    struct memory from = piece_source(b, p), to = piece_target(b, p);
    bool wide = p->size >= 8;
    for (int done = 0; done < p->size; done += 8) {
        if (stores && p->defined) {
            put_no_bits(&to, wide, done);
        } else if (stores) {
            take_held(b, piece_bits(p) + done);
            put_bits(&to, b->word, wide, done);
        } else if (!p->defined) {
            emit_take_bits(&from, b->word, wide, done);
            hold(b, piece_bits(p) + done);
        }
    }
}

static void move_origins(const struct bundle *b, const struct piece *p, bool stores) {
    struct memory from = piece_source(b, p), to = piece_target(b, p);
    bool wide = p->size >= 8;
    for (int done = 0; done < p->size && !p->defined; done += 8) {
        int slot = CTX_ORIGIN_OF(p->element) + done;
        if (stores) {
            take_held(b, slot);
            put_origin(&to, b->word, wide, done);
            continue;
        }
        emit_take_origin(from.base, b->word, (int)from.displacement + done, wide);
        if (!wide)
            emit_twice(b->word);
        hold(b, slot);
    }
}

static void in_order(const struct bundle *b,
                     void (*move)(const struct bundle *b, const struct piece *p, bool stores)) {
    held = 0;
    for (const struct instruction *i = b->load; i <= b->last; i++)
        for (int k = 0; k < b->piece_count; k++)
            if (b->pieces[k].load == i || b->pieces[k].store == i)
                move(b, &b->pieces[k], b->pieces[k].store == i);
}

int emit_changes(const struct bundle *b, uint8_t **leave) {
    leaves = leave;
    leave_count = 0;
    emit_places(b);
    for (int k = 0; k < b->place_count; k++)
        leaves[leave_count++] = leave_by_bits(b->registers[k], 3);
    leave_if_lapped(b);
    leave_count += emit_others(b, leaves + leave_count);
    look_at_sources(b);
    look_at_targets(b);
    for (int k = 0; k < b->place_count; k++) {
        struct range r = range_of(b, k, true);
        if (!is_used(r))
            continue;
        note_origins_at(b, b->registers[k], r.low);
        note_origins_at(b, b->registers[k], r.end - 1);
    }
    in_order(b, move_bits);
    for (int k = 0; k < b->place_count; k++)
        emit_place_of_word(b->registers[k]);
    in_order(b, move_origins);
    return leave_count;
}

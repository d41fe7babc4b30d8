/* The rules that are asked for most, in code of their own: sums, logic and moves of general
   registers (compute_general.c), and lanes of vectors (compute_vectors.c). It stands behind the
   code of a dirty version and runs where an input really is undefined; what it says is what
   evaluate.c would. It goes on to C where a result would have several origins. Flags are dead
   there. */
#include "computed.h"

uint8_t *leave[32];
int leave_count;

bool is_operand(const struct memory *m) {
    return !is_foreign(m) && !m->address32 && !m->vector_index && fits(m->displacement + 64) &&
           !(address_uses(m) & now.possible);
}

void leave_unless_defined(const struct memory *m) {
    int piece = m->size < 8 ? (int)m->size : 8;
    for (int done = 0; done < (int)m->size; done += piece) {
        if (piece == 2)
            emit8(&out, 0x66);
        emit_gs(m, piece == 8, 0);
        emit8(&out, piece == 1 ? 0x80 : 0x83);
        emit_operand(m, 7, done);
        emit8(&out, 0);
        leave[leave_count++] = emit_short_jump(IF_NOT_ZERO);
    }
}

void emit_memory_bits(const struct memory *m, int place, int word) {
    int piece = m->size >= 8 ? 8 : 4;
    if (m->size < 4) { /* defined, or by C */
        leave_unless_defined(m);
        emit_context_constant(&out, MEMORY_BITS, 0);
        emit_context_constant(&out, MEMORY_BITS + 4, 0);
        return;
    }
    emit_lea(m, place);
    leave[leave_count++] = emit_origin_place(place);
    for (int done = 0; done < (int)m->size; done += piece) {
        emit_take_bits(m, word, piece == 8, done);
        emit_to_context(&out, word, MEMORY_BITS + done);
        emit_take_origin(place, word, done, piece == 8);
        if (piece == 4)
            emit_twice(word);
        emit_to_context(&out, word, MEMORY_ORIGINS + done);
        for (int half = 0; half < piece; half += 4)
            leave[leave_count++] = emit_unless_least(word, half, m, done + half);
    }
}

bool computes(const struct instruction *i, const struct plan *p, uint32_t live_after) {
    struct sum q;
    struct lanes l;
    if (live_after || (now.possible & ELEMENTS_SHARED))
        return false;
    return find_sum(i, &q) || find_lanes(i, p, &l);
}

enum { MOST = 24 };
static struct later {
    const struct instruction *i;
    int cold; /* where C is asked */
    uint8_t *resume; /* null: where the cold piece does */
} laters[MOST];
static int later_count;

void computes_forget(void) { later_count = 0; }

void compute_later(const struct instruction *i, int cold, uint8_t *resume) {
    if (later_count < MOST)
        laters[later_count++] = (struct later){i, cold, resume};
}

static void emit_later(const struct later *l) {
    struct cold *c = &colds[l->cold];
    struct sum q;
    struct lanes lanes;
    now.pc = c->pc;
    now.possible = c->possible;
    out.kept = c->kept;
    leave_count = 0;
    note_place(l->i->pc, 0, false);
    if (find_sum(l->i, &q))
        emit_general(l->i, &q);
    else if (find_lanes(l->i, &cache_plans[c->argument], &lanes))
        emit_vectors(l->i, &lanes);
    patch_jump(leave[0], l->resume ? l->resume : c->resume);
    c->patch = emit_long_jump();
}

void emit_computed(void) {
    struct translation last = now;
    const uint8_t *start = NULL;
    for (int k = 0; k < later_count; k++) {
        struct cold *c = &colds[laters[k].cold];
        if (k && laters[k - 1].i == laters[k].i && laters[k - 1].resume == laters[k].resume) {
            patch_jump(c->patch, start); /* several tests of the same operands */
            c->patch = emit_long_jump(); /* never */
            continue;
        }
        start = out.at;
        patch_jump(c->patch, out.at);
        emit_later(&laters[k]);
    }
    now = last;
}

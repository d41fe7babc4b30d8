/* Where undefined bits are from goes along from register to register, beside what runs on
   the bits themselves: the element's origin, and its parts where those differ. Flags are
   not touched; C is asked only where parts are put together that differ. */
#include "plan.h"

#include "translate.h"

static uint64_t bit(int element) { return 1ULL << element; }

static int origin_slot_of(int element) {
    return CTX_ORIGIN + 8 * (element >= ELEMENT_UPPER ? element - 16 : element);
}

static void emit_parts_from(int from, int to) {
    for (int half = 0; half < 16; half += 8) {
        emit_from_context(&out, RCX, CTX_ORIGIN_PARTS + 16 * from + half);
        emit_to_context(&out, RCX, CTX_ORIGIN_PARTS + 16 * to + half);
    }
}

/* The word of origin goes from one element to the outputs, and its parts where they
   differ; RCX is spilled. */
static void emit_origin_from(int element, uint64_t outputs) {
    int from = element >= ELEMENT_UPPER ? element - 16 : element;
    emit_from_context(&out, RCX, origin_slot_of(element));
    outputs &= (1ULL << ELEMENT_UPPER) - 1;
    for (uint64_t o = outputs; o; o &= o - 1)
        emit_to_context(&out, RCX, origin_slot_of(__builtin_ctzll(o)));
    emit8(&out, 0x8d); /* lea ecx, [rcx + 1]; jrcxz over the jump */
    emit_memory(&out, RCX, RCX, -1, 1, -(int)ORIGIN_MIXED);
    emit8(&out, 0xe3);
    emit8(&out, 5);
    emit8(&out, 0xe9);
    uint8_t *same = out.at;
    emit32(&out, 0);
    for (uint64_t o = outputs; o; o &= o - 1) {
        int to = __builtin_ctzll(o);
        emit_parts_from(from, to);
        if (from >= ELEMENT_VECTOR && to >= ELEMENT_VECTOR)
            emit_parts_from(from + 16, to + 16);
    }
    patch_jump(same, out.at);
}

/* The displacement of a jump taken where the element's parts differ; RCX is spilled. */
static uint8_t *emit_if_mixed(int element) {
    emit8(&out, 0x64); /* mov ecx, fs:[origin]; lea ecx, [rcx + 1] */
    emit8(&out, 0x8b);
    emit_memory(&out, RCX, -1, -1, 1, origin_slot_of(element));
    emit8(&out, 0x8d);
    emit_memory(&out, RCX, RCX, -1, 1, -(int)ORIGIN_MIXED);
    emit8(&out, 0xe3); /* jrcxz to the second jump */
    emit8(&out, 5);
    emit8(&out, 0xe9);
    emit32(&out, 5);
    emit8(&out, 0xe9);
    emit32(&out, 0);
    return out.at - 4;
}

/* Where undefined bits are from goes along with them: of several inputs, from the first
   that is undefined now; what the output brought itself comes first. */
static void emit_origin_along(uint64_t inputs, uint64_t outputs) {
    enum { MOST = 4 };
    uint64_t halves = ~((1ULL << ELEMENT_UPPER) - 1);
    uint64_t registers = (inputs | (inputs & halves) >> 16) & ~halves & ~ELEMENTS_SHARED;
    uint8_t *found[MOST][4], *over[MOST];
    int tests[MOST], chosen[MOST], count = 0, done = 0;
    bool kept = registers & outputs;
    if (!registers || !outputs || (kept && !(registers & (registers - 1))))
        return;
    for (int pass = 0; pass < 2; pass++)
        for (uint64_t r = registers; r && count < MOST; r &= r - 1)
            if (((outputs & r & -r) == 0) == pass)
                chosen[count++] = __builtin_ctzll(r);
    emit_spill(&out, RCX);
    for (int k = 0; k + 1 < count; k++) {
        uint64_t set = inputs & (bit(chosen[k]) | (chosen[k] >= ELEMENT_VECTOR ? bit(chosen[k] + 16) : 0));
        tests[k] = emit_test_words(set, found[k]);
    }
    emit_origin_from(chosen[count - 1], outputs);
    for (int k = 0; k + 1 < count; k++) {
        emit8(&out, 0xe9);
        over[done++] = out.at;
        emit32(&out, 0);
        for (int t = 0; t < tests[k]; t++)
            patch_jump(found[k][t], out.at);
        if (k || !kept)
            emit_origin_from(chosen[k], outputs);
    }
    for (int k = 0; k < done; k++)
        patch_jump(over[k], out.at);
    emit_unspill(&out, RCX);
}

/* The same where parts are moved about: C finds out what comes from where, but only when
   that can differ. */
static bool emit_parts_along(const struct instruction *i, uint64_t outputs) {
    enum { MOST = 8 };
    struct parts parts;
    if (!parts_of(i, &parts) || parts.first == PARTS_MEMORY || parts.second == PARTS_MEMORY)
        return false;
    /* also what is said to be written only, of which a part stays */
    uint64_t first = now.possible & whole_element(parts.first);
    uint64_t second = parts.second != PARTS_NONE && parts.second != parts.first
                          ? now.possible & whole_element(parts.second)
                          : 0;
    uint8_t *found[FEW_WORDS], *other[FEW_WORDS], *ask[3], *done[3];
    int asks = 0, over = 0, count;
    if (!first && !second)
        return false;
    uint32_t index = plan_make(i, now.possible, 0);
    cache_plans[index].rule = RULE_JOIN;
    cache_plans[index].parts = parts;
    int only = first ? parts.first : parts.second;
    emit_spill(&out, RCX);
    if (first && second) {
        emit_spill(&out, RDX);
        count = emit_test_words(first, found);
        ask[asks++] = emit_if_mixed(parts.second); /* before the target changes */
        emit_origin_from(parts.second, outputs);
        emit8(&out, 0xe9);
        done[over++] = out.at;
        emit32(&out, 0);
        for (int k = 0; k < count; k++)
            patch_jump(found[k], out.at);
        count = emit_test_words(second, other);
        emit8(&out, 0xe9);
        uint8_t *alone = out.at;
        emit32(&out, 0);
        for (int k = 0; k < count; k++)
            patch_jump(other[k], out.at);
        emit8(&out, 0x64); /* mov ecx, fs:[first]; mov edx, fs:[second] */
        emit8(&out, 0x8b);
        emit_memory(&out, RCX, -1, -1, 1, origin_slot_of(parts.first));
        emit8(&out, 0x64);
        emit8(&out, 0x8b);
        emit_memory(&out, RDX, -1, -1, 1, origin_slot_of(parts.second));
        emit8(&out, 0x48); /* not rcx; lea rcx, [rcx + rdx + 1]: 0 when they are the same */
        emit8(&out, 0xf7);
        emit8(&out, 0xd1);
        emit8(&out, 0x48);
        emit8(&out, 0x8d);
        emit_memory(&out, RCX, RCX, RDX, 1, 1);
        emit8(&out, 0xe3); /* jrcxz over the jump */
        emit8(&out, 5);
        emit8(&out, 0xe9);
        ask[asks++] = out.at;
        emit32(&out, 0);
        patch_jump(alone, out.at);
    }
    ask[asks++] = emit_if_mixed(only);
    if (!(outputs & bit(only)))
        emit_origin_from(only, outputs);
    for (int k = 0; k < over; k++)
        patch_jump(done[k], out.at);
    if (first && second)
        emit_unspill(&out, RDX);
    emit_unspill(&out, RCX);
    for (int k = 0; k < asks; k++) {
        struct cold *c = cold_add(COLD_TOUCH, ask[k]);
        c->spilled = 1u << RCX | (first && second ? 1u << RDX : 0);
        c->argument = index;
        c->resume = out.at;
    }
    return true;
}

void emit_origins_along(const struct instruction *i, uint64_t inputs, uint64_t outputs) {
    if (!emit_parts_along(i, outputs))
        emit_origin_along(inputs, outputs);
}

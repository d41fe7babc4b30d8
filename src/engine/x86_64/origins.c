/* Where undefined bits are from goes along from register to register, beside what runs on
   the bits themselves: the words of origin of the element, one for each 4 bytes. Flags are
   not touched. */
#include "copies.h"
#include "plan.h"

#include "translate.h"

static uint64_t bit(int element) { return 1ULL << element; }

/* What becomes of the words of one element. */
enum manner { IN_PLACE, LOWER_TWICE, ALL_ALIKE };

static enum manner manner_of(const struct instruction *i, int from, uint64_t outputs) {
    int lane, rule = rule_of(i, &lane);
    bool shared = from < ELEMENT_VECTOR && from >= ELEMENT_FLAGS;
    for (uint64_t o = outputs; o; o &= o - 1)
        shared |= __builtin_ctzll(o) >= ELEMENT_FLAGS && __builtin_ctzll(o) < ELEMENT_VECTOR;
    if (rule == RULE_V_SHIFT && lane <= 4)
        return IN_PLACE; /* bits stay in their lane */
    if (shared || (rule != RULE_COPY && rule != RULE_SIGN))
        return ALL_ALIKE;
    int size = i->operands[1].size;
    bool widens = size < 32 || (size == 32 && outputs >> ELEMENT_VECTOR);
    return rule == RULE_SIGN || widens ? LOWER_TWICE : IN_PLACE;
}

static void emit_ecx_context(int opcode, int offset) { /* mov ecx, fs:[offset], or back */
    emit8(&out, 0x64);
    emit8(&out, opcode);
    emit_memory(&out, RCX, -1, -1, 1, offset);
}

/* The words of origin go from one element to the outputs; RCX is spilled. */
static void emit_origin_from(int element, uint64_t outputs, enum manner manner) {
    int from = CTX_ORIGIN_OF(element);
    uint64_t lower = outputs & ((1ULL << ELEMENT_UPPER) - 1);
    if (manner == LOWER_TWICE) {
        emit_ecx_context(0x8b, from);
        for (uint64_t o = lower; o; o &= o - 1)
            for (int at = 0; at < (__builtin_ctzll(o) < ELEMENT_FLAGS ? 8 : 16); at += 4)
                emit_ecx_context(0x89, CTX_ORIGIN_OF(__builtin_ctzll(o)) + at);
        return;
    }
    bool source = element >= ELEMENT_VECTOR && manner == IN_PLACE;
    for (int at = 0; at < 32; at += 8) {
        bool loaded = false;
        for (uint64_t o = lower; o; o &= o - 1) {
            int to = __builtin_ctzll(o);
            if ((at >= 8 && to < ELEMENT_FLAGS) || (at >= 16 && to < ELEMENT_VECTOR) ||
                (at >= 16 && !(outputs & bit(to + 16))))
                continue;
            if (!loaded && (at == 0 || source))
                emit_from_context(&out, RCX, from + at);
            loaded = true;
            emit_to_context(&out, RCX, CTX_ORIGIN_OF(to) + at);
        }
    }
}

/* lea rcx, [~rcx + rdx + 1]: 0 when they are the same; the displacement of a jump taken when
   they are not. */
static uint8_t *emit_if_differ(void) {
    emit8(&out, 0x48); /* not rcx */
    emit8(&out, 0xf7);
    emit8(&out, 0xd1);
    emit8(&out, 0x48);
    emit8(&out, 0x8d);
    emit_memory(&out, RCX, RCX, RDX, 1, 1);
    emit8(&out, 0xe3); /* jrcxz over the jump */
    emit8(&out, 5);
    emit8(&out, 0xe9);
    emit32(&out, 0);
    return out.at - 4;
}

static void emit_edx_context(int offset) { /* mov edx, fs:[offset] */
    emit8(&out, 0x64);
    emit8(&out, 0x8b);
    emit_memory(&out, RDX, -1, -1, 1, offset);
}

/* Jumps taken where the element's words are not all the same; RCX and RDX are spilled. Where
   flags are dead, also where the word stands for bytes from several places. */
static int emit_unless_alike(int element, bool flags_live, uint8_t **jumps) {
    int at = CTX_ORIGIN_OF(element), count = 0;
    bool vector = element >= ELEMENT_VECTOR, upper = vector && (now.possible & bit(element + 16));
    if (element >= ELEMENT_FLAGS && !vector)
        return 0;
    emit_ecx_context(0x8b, at);
    emit_edx_context(at + 4);
    if (!flags_live)
        jumps[count++] = leave_by_byte(RDX);
    jumps[count++] = emit_if_differ();
    for (int next = 8; vector && next < (upper ? 32 : 16); next += 8) {
        emit_from_context(&out, RCX, at);
        emit_from_context(&out, RDX, at + next);
        jumps[count++] = emit_if_differ();
    }
    return count;
}

/* Jumps taken where the other element is undefined as well, and from somewhere else. */
static int emit_unless_other(int element, int other, uint64_t inputs, bool flags_live,
                             uint8_t **jumps) {
    uint8_t *undefined[4];
    uint64_t set = inputs & (bit(other) | (other >= ELEMENT_VECTOR ? bit(other + 16) : 0));
    int tests = emit_test_words(set, undefined);
    uint8_t *defined = emit_long_jump();
    for (int t = 0; t < tests; t++)
        patch_jump(undefined[t], out.at);
    int count = emit_unless_alike(other, flags_live, jumps);
    emit_from_context(&out, RCX, CTX_ORIGIN_OF(element));
    emit_from_context(&out, RDX, CTX_ORIGIN_OF(other));
    jumps[count++] = emit_if_differ();
    patch_jump(defined, out.at);
    return count;
}

/* C is asked where these jumps lead, with RCX and RDX spilled. */
static void ask_there(uint8_t **jumps, int count, uint32_t index) {
    for (int k = 0; k < count; k++) {
        struct cold *c = cold_add(COLD_TOUCH, jumps[k]);
        c->spilled = 1u << RCX | 1u << RDX;
        c->argument = index;
        c->resume = out.at;
    }
}

/* Where undefined bits are from goes along with them: of several inputs, from the first
   that is undefined now; what the output brought itself comes first. Where bytes do not stay
   in their place, all of the output gets one origin, and C finds it where there are several. */
static void emit_origin_along(const struct instruction *i, uint64_t inputs, uint64_t outputs,
                              bool flags_live) {
    enum { MOST = 4 };
    uint64_t halves = ~((1ULL << ELEMENT_UPPER) - 1);
    uint64_t registers = (inputs | (inputs & halves) >> 16) & ~halves & ~ELEMENTS_SHARED;
    uint8_t *found[MOST][4], *over[MOST], *asks[MOST * 4 + 2 * MOST * MOST];
    int tests[MOST], chosen[MOST], count = 0, done = 0, ask = 0;
    bool kept = registers & outputs;
    if (!registers || !outputs)
        return;
    for (int pass = 0; pass < 2; pass++)
        for (uint64_t r = registers; r && count < MOST; r &= r - 1)
            if (((outputs & r & -r) == 0) == pass)
                chosen[count++] = __builtin_ctzll(r);
    enum manner manner = count > 1 ? ALL_ALIKE : manner_of(i, chosen[0], outputs);
    if (kept && manner != IN_PLACE)
        manner = ALL_ALIKE;
    uint32_t index = 0;
    struct parts parts;
    bool asks_c = manner == ALL_ALIKE && (!(i->encoded >= 0 && i->memory[i->encoded].read) ||
                                          joins_bytes(i, &parts)); /* memory may be defined */
    if (kept && count == 1 && (!asks_c || manner == IN_PLACE))
        return;
    if (asks_c) {
        index = plan_make(i, now.possible, 0);
        cache_plans[index].rule = RULE_JOIN;
        cache_plans[index].parts.count = 0;
        cache_plans[index].parts.target = (int8_t)__builtin_ctzll(outputs);
    }
    emit_spill(&out, RCX);
    emit_spill(&out, RDX);
    for (int k = 0; k + 1 < count; k++) {
        uint64_t set = inputs & (bit(chosen[k]) | (chosen[k] >= ELEMENT_VECTOR ? bit(chosen[k] + 16) : 0));
        tests[k] = emit_test_words(set, found[k]);
    }
    for (int k = count - 1; k >= 0; k--) {
        if (k + 1 < count) {
            over[done++] = emit_long_jump();
            for (int t = 0; t < tests[k]; t++)
                patch_jump(found[k][t], out.at);
        }
        if (asks_c)
            ask += emit_unless_alike(chosen[k], flags_live, asks + ask);
        for (int other = k + 1; other < count && asks_c && count == 2; other++)
            ask += emit_unless_other(chosen[k], chosen[other], inputs, flags_live, asks + ask);
        if (k || !kept)
            emit_origin_from(chosen[k], outputs, manner);
    }
    for (int k = 0; k < done; k++)
        patch_jump(over[k], out.at);
    emit_unspill(&out, RDX);
    emit_unspill(&out, RCX);
    ask_there(asks, ask, index);
}

static uint64_t source_element(int source) {
    return source == PARTS_NONE || source == PARTS_MEMORY ? 0 : whole_element(source);
}

/* The same where parts are moved about; those of memory are left to whoever loads them. */
static bool emit_parts_along(const struct parts *p) {
    struct parts parts = *p;
    /* also what is said to be written only, of which a part stays */
    if (!((source_element(parts.first) | source_element(parts.second)) & now.possible))
        return false;
    enum { BESIDE = CTX_VALUE + 64 * VALUE_INDEX };
    int target = CTX_ORIGIN_OF(parts.target), from[PARTS], written = 0, pairs = 0;
    bool crosses = false; /* a word is read after it was written */
    for (int n = 0; n < parts.count; n++) {
        int part = parts.from[n], source = part < PARTS ? parts.first : parts.second;
        bool stays = part >= 2 * PARTS || source == PARTS_MEMORY;
        from[n] = stays ? target + 4 * n : CTX_ORIGIN_OF(source) + 4 * (part % PARTS);
        for (int w = 0; w < n; w++)
            crosses |= written >> w & 1 && from[n] == target + 4 * w;
        written |= from[n] != target + 4 * n ? 1 << n : 0;
        if (n % 2 && from[n] == from[n - 1] + 4 && from[n] / 4 % 2)
            pairs |= 1 << (n - 1);
    }
    emit_spill(&out, RCX);
    for (int pass = 0; pass < (crosses ? 2 : 1); pass++)
        for (int n = 0; n < parts.count; n++) {
            int to = pass || !crosses ? target : BESIDE, at = pass ? BESIDE + 4 * n : from[n];
            bool pair = pairs >> n & 1;
            if (from[n] == target + 4 * n)
                continue;
            if (pair)
                emit_from_context(&out, RCX, at);
            else
                emit_ecx_context(0x8b, at);
            if (pair)
                emit_to_context(&out, RCX, to + 4 * n++);
            else
                emit_ecx_context(0x89, to + 4 * n);
        }
    emit_unspill(&out, RCX);
    return true;
}

void emit_origins_along(const struct instruction *i, uint64_t inputs, uint64_t outputs,
                        bool flags_live) {
    struct parts parts;
    bool moves = parts_of(i, &parts);
    if (moves && (parts.first == PARTS_MEMORY || parts.second == PARTS_MEMORY))
        return; /* see emit_parts_beside */
    if (!moves || !emit_parts_along(&parts))
        emit_origin_along(i, inputs, outputs, flags_live);
}

void emit_parts_beside(const struct parts *parts, int first) {
    uint32_t kept = out.kept;
    if (emit_parts_along(parts)) {
        for (int k = first; k < cold_count; k++)
            colds[k].resume = out.at;
        out.kept = kept; /* C does not come by here */
    }
}

/* The three maps beside the guest's memory, in bulk: D (definedness, a byte for
   each byte), A (addressability, a bit for each byte) and origins (a word for each
   4 bytes, written only where undefined values were stored; halves of the address
   space share it: the guest's parts do not meet there). Single operands are
   handled by translated code; here are ranges, and what needs the call stack. What the
   codes of origins stand for is in origin_codes.c. */
#include "engine.h"

#include <asm/unistd.h>
#include <linux/mman.h>

#define FLAG_SHIFT 16           /* origins_used: one byte for each 64 KiB */

static void reserve(uint64_t at, uint64_t size, const char *what) {
    long p = system_call(__NR_mmap, at, size, PROT_READ | PROT_WRITE,
                         MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE | MAP_FIXED_NOREPLACE, -1, 0);
    if (p != (long)at)
        fail("cannot reserve %u GiB of address space for the %s: lift the limit on address "
             "space (ulimit -v unlimited) or allow overcommit (vm.overcommit_memory 0 or 1)",
             size >> 30, what);
    system_call(__NR_madvise, at, size, MADV_DONTDUMP);
    system_call(__NR_madvise, at, size, MADV_NOHUGEPAGE);
}

static uint8_t *origins_used; /* by 64 KiB of guest memory */

void shadow_start(void) {
    reserve(D_OFFSET, GUEST_END, "definedness shadow");
    reserve(A_BASE, A_SIZE, "addressability map");
    reserve(ORIGIN_BASE, ORIGIN_SIZE, "origins");
    origins_used = (uint8_t *)(uintptr_t)(ORIGIN_BASE + ORIGIN_SIZE);
    reserve((uint64_t)(uintptr_t)origins_used, GUEST_END >> FLAG_SHIFT, "origins");
    origin_codes_start();
}

void shadow_fill(gaddr start, uint64_t size, uint8_t byte) {
    fill_bytes(shadow_of(start), byte, size);
}

static void map_zero(uint64_t at, uint64_t size) {
    system_call(__NR_mmap, at, size, PROT_READ | PROT_WRITE,
                MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED | MAP_NORESERVE, -1, 0);
}

/* Whole pages of a map become 0xFF, without memory until they change. */
static void map_ones(uint64_t at, uint64_t size) {
    int fd = (int)system_call(__NR_open, ledger_path, 02000000 /* O_RDONLY | O_CLOEXEC */, 0);
    while (size) {
        uint64_t piece = size < sizeof ledger->untouchable ? size : sizeof ledger->untouchable;
        long p = -1;
        if (fd >= 0)
            p = system_call(__NR_mmap, at, piece, PROT_READ | PROT_WRITE,
                            MAP_PRIVATE | MAP_FIXED | MAP_NORESERVE, fd,
                            offsetof(struct ledger, untouchable));
        if (p < 0 && p > -4096) /* the ledger is out of reach: by hand */
            fill_bytes((void *)(uintptr_t)at, 0xff, piece);
        at += piece;
        size -= piece;
    }
    if (fd >= 0)
        system_call(__NR_close, fd);
}

void shadow_fresh(gaddr start, uint64_t size) { map_ones(start + D_OFFSET, size); }

void shadow_reset(gaddr start, uint64_t size) {
    if (size >= 65536) {
        map_zero(start + D_OFFSET, size);
        map_zero(ORIGIN_BASE + (start & (ORIGIN_SIZE - 1)), size);
        return;
    }
    uint8_t *d = shadow_of(start);
    for (uint64_t i = 0; i < size; i += 8) /* reading costs no memory */
        if (*(uint64_t *)(d + i))
            *(uint64_t *)(d + i) = 0;
    origin_clear(start, size);
}

static uint32_t *origin_slot(gaddr address) {
    return (uint32_t *)(uintptr_t)(ORIGIN_BASE + (address & (ORIGIN_SIZE - 4)));
}

/* Where origins are recorded: for what frees it, and for the return that ends a frame. */
static void origin_note(struct context *c, gaddr address, uint64_t size);

static uint64_t word_of(const uint8_t *p) {
    uint64_t w;
    __builtin_memcpy(&w, p, 8);
    return w;
}

/* So much of a range as is worth looking at: of sizes that a mistake has made, what is mapped. */
static uint64_t within_reach(gaddr address, uint64_t size) {
    enum { FAR = 1 << 20 }; /* bytes */
    return size <= FAR ? size : memory_reach(address, size);
}

gaddr shadow_first_undefined(gaddr address, uint64_t size) {
    size = within_reach(address, size);
    const uint8_t *d = shadow_of(address), *end = d + size;
    if (size >= 8) {
        const uint8_t *p = d;
        while (end - p >= 32 && !(word_of(p) | word_of(p + 8) | word_of(p + 16) | word_of(p + 24)))
            p += 32;
        while (end - p >= 8 && !word_of(p))
            p += 8;
        if (end - p < 8 && !word_of(end - 8))
            return 0;
        d = p;
    }
    for (; d < end; d++)
        if (*d)
            return address + (uint64_t)(d - shadow_of(address));
    return 0;
}

/* Whether it lies in a frame on a stack that the program made for itself, in a block or a mapping
   of its own, and runs on now: a coroutine's, or one for signals. */
static bool in_frame_elsewhere(struct context *c, gaddr address) {
    gaddr sp = c->registers[RSP];
    struct block_view block;
    struct mapping m;
    if ((sp >= c->stack_low && sp <= c->stack_high) || address < sp - RED_ZONE)
        return false;
    for (const struct shadow_entry *e = c->shadow; e-- > c->shadow_base;) {
        if (e->stack_pointer <= address)
            continue;
        if (heap_find(address, &block))
            return sp - block.start <= block.size && e->stack_pointer - block.start < block.size;
        return memory_lookup(address, &m) && sp >= m.start && e->stack_pointer < m.end;
    }
    return false;
}

/* Where undefined bytes are from is recorded for the source as well: next time
   glue_move_undefined finds it there. Of its own bytes in one word, the first of those
   from `start` to `end` stands for them. */
static uint32_t origin_of_source(struct context *c, gaddr address, gaddr start, gaddr end) {
    uint32_t old = *origin_slot(address);
    gaddr word = address & ~3ULL;
    if (start < word)
        start = word;
    if (end > word + 4)
        end = word + 4;
    if (old && !origin_is_own(old, address)) {
        uint32_t origin = origin_keep(c, origin_at(c, address));
        if (old >= ORIGIN_STACK_CODES)
            *origin_slot(address) = origin;
        return origin;
    }
    while (old && !origin_is_own(old, start))
        start++;
    uint32_t origin = origin_keep_byte(c, origin_at(c, start)), own[4];
    for (gaddr a = start; a < end; a++)
        own[a - start] = !old || origin_is_own(old, a) ? origin : origin_of_byte(old, a);
    if (origin && !in_frame_elsewhere(c, start))
        origin_set_bytes(c, start, (int)(end - start), own);
    return origin;
}

static bool may_go_elsewhere(uint32_t origin) {
    return origin >= ORIGIN_LEAST && origin < ORIGIN_STACK_CODES;
}

/* Of a word's undefined bytes, also where they are from several places; 0: it is defined. */
static uint32_t origin_of_whole(struct context *c, gaddr word) {
    uint32_t of[4], any = 0;
    for (unsigned k = 0; k < 4; k++) {
        if (may_go_elsewhere(*origin_slot(word)))
            return *(volatile uint32_t *)shadow_of(word) ? *origin_slot(word) : 0;
        of[k] = *shadow_of(word + k) ? origin_of_source(c, word + k, word, word + 4) : 0;
        any |= of[k];
    }
    return any ? origin_of_four(of) : 0;
}

static void move_origins(struct context *c, gaddr to, gaddr from, uint64_t size, bool forwards) {
    uint64_t first = to >> 2, last = (to + size - 1) >> 2;
    for (uint64_t k = 0; k <= last - first; k++) { /* word by word of the target */
        gaddr word = (forwards ? first + k : last - k) << 2;
        gaddr start = word > to ? word : to, end = word + 4 < to + size ? word + 4 : to + size;
        uint32_t origins[4], same = 0;
        if (((from + start - to) & 3) == 0 && end - start == 4) {
            uint32_t whole = origin_of_whole(c, from + (start - to));
            if (whole)
                origin_set(c, start, 4, whole);
            continue;
        }
        for (gaddr a = start; a < end; a++) {
            gaddr source = from + (a - to);
            origins[a - start] = *shadow_of(source) ? origin_of_source(c, source, from, from + size) : 0;
            same |= origins[a - start];
        }
        if (same)
            origin_set_bytes(c, start, (int)(end - start), origins);
    }
}

static void move_piece(struct context *c, gaddr to, gaddr from, uint64_t size, bool forwards) {
    uint8_t *d = shadow_of(to);
    const uint8_t *s = shadow_of(from);
    if (!size)
        return;
    move_origins(c, to, from, size, forwards); /* derived from what is there before */
    if (forwards)
        copy_bytes(d, s, size);
    else
        while (size--)
            *(volatile uint8_t *)(d + size) = s[size];
}

static bool origins_contiguous(gaddr start, uint64_t size) {
    return (start & (ORIGIN_SIZE - 1)) + size <= ORIGIN_SIZE;
}

uint64_t glue_move_undefined(uint8_t *d_to, const uint8_t *d_from, uint64_t size,
                             uint32_t *origins_to, const uint32_t *origins_from);

/* A few whole granules, forwards; returns how much of it was done. */
static uint64_t move_granules(gaddr to, gaddr from, uint64_t size) {
    uint64_t done = 0;
    for (; size - done >= 8; done += 8) {
        uint64_t bits = *(volatile uint64_t *)shadow_of(from + done);
        if (bits) {
            const uint32_t *origins = origin_slot(from + done);
            uint32_t *targets = origin_slot(to + done), low = (uint32_t)bits;
            if ((low && !may_go_elsewhere(origins[0])) ||
                (bits >> 32 && !may_go_elsewhere(origins[1])))
                break;
            if (low)
                targets[0] = origins[0];
            if (bits >> 32)
                targets[1] = origins[1];
        }
        *(volatile uint64_t *)shadow_of(to + done) = bits;
    }
    for (; size - done >= 4; done += 4) {
        uint32_t bits = *(volatile uint32_t *)shadow_of(from + done);
        if (bits) {
            uint32_t origin = *origin_slot(from + done);
            if (!may_go_elsewhere(origin))
                break;
            *origin_slot(to + done) = origin;
        }
        *(volatile uint32_t *)shadow_of(to + done) = bits;
    }
    return done;
}

void shadow_move_few(struct context *c, gaddr to, gaddr from, uint64_t size) {
    uint64_t done = (to | from) & 3 || to - from < size ? 0 : move_granules(to, from, size);
    if (done < size)
        shadow_move(c, to + done, from + done, size - done);
    if (done)
        origin_note(c, to, done);
}

void shadow_move(struct context *c, gaddr to, gaddr from, uint64_t size) {
    enum { PIECE = 64, GRANULE = 8 };
    uint64_t most = within_reach(to, size);
    size = most < size ? most : within_reach(from, size);
    if (to == from || !size)
        return;
    if (!shadow_first_undefined(from, size)) {
        if (shadow_first_undefined(to, size))
            shadow_fill(to, size, 0);
        return;
    }
    bool forwards = to - from >= size;
    if (forwards && ((to ^ from) & 3) == 0 && origins_contiguous(to, size) &&
        origins_contiguous(from, size)) {
        uint64_t head = -to & 3;
        move_piece(c, to, from, head < size ? head : size, true);
        for (uint64_t done = head; done < size;) {
            done += glue_move_undefined(shadow_of(to + done), shadow_of(from + done), size - done,
                                        origin_slot(to + done), origin_slot(from + done));
            uint64_t piece = size - done < PIECE ? size - done : PIECE;
            uint64_t quick = move_granules(to + done, from + done, piece);
            done += quick;
            if (quick < piece) {
                piece = piece - quick < GRANULE ? piece - quick : GRANULE;
                move_piece(c, to + done, from + done, piece, true);
                done += piece;
            }
        }
        origin_note(c, to, size);
        return;
    }
    move_piece(c, to, from, size, forwards);
}

/* --- A --- */

void touch_set(gaddr start, uint64_t size, bool forbidden) {
    if (!size)
        return;
    gaddr end = start + size;
    uint8_t *first = touch_of(start), *last = touch_of(end - 1);
    uint8_t head = (uint8_t)(0xff << (start & 7)), tail = (uint8_t)(0xff >> (7 - ((end - 1) & 7)));
    if (first == last) {
        head &= tail;
        *first = forbidden ? *first | head : *first & (uint8_t)~head;
        return;
    }
    *first = forbidden ? *first | head : *first & (uint8_t)~head;
    *last = forbidden ? *last | tail : *last & (uint8_t)~tail;
    first++;
    fill_bytes(first, forbidden ? 0xff : 0, (uint64_t)(last - first));
}

void touch_fresh(gaddr start, uint64_t size, bool forbidden) {
    if (forbidden)
        map_ones(A_BASE + (start >> 3), size >> 3);
    else
        map_zero(A_BASE + (start >> 3), size >> 3);
}

static bool on_own_stack(struct context *c, gaddr address) {
    gaddr sp = c->registers[RSP];
    return address >= c->stack_low && address < c->stack_high && sp >= c->stack_low &&
           sp <= c->stack_high;
}

/* The running function has called others, so nothing below its stack pointer is
   its own red zone (psABI 3.2.2: for leaf functions). The entry of its last call
   is still there; a call clears the one above its own. */
static bool has_called(struct context *c) {
    return c->shadow > c->shadow_base && c->mark >= c->registers[RSP] &&
           c->shadow->stack_pointer && c->shadow->stack_pointer < c->registers[RSP];
}

void stack_owes(struct context *c) {
    gaddr sp = c->registers[RSP], from = (sp - RED_ZONE) & ~7ULL; /* what is undone goes by words */
    if (!on_own_stack(c, sp))
        return;
    if (from < c->mark)
        c->mark = from;
    if (from < c->mark_origin)
        c->mark_origin = from;
}

void stack_written(struct context *c, gaddr address) {
    gaddr sp = c->registers[RSP];
    if (address < sp && address + RED_ZONE >= sp && address >= c->stack_low && address < c->mark)
        c->mark = address & ~7ULL;
}

bool touch_is_released(struct context *c, gaddr address) {
    return on_own_stack(c, address) && address < c->registers[RSP] - 128 &&
           *shadow_of(address) == 0xff;
}

/* Whether a call stands right before the address. */
static bool follows_call(gaddr pc) {
    struct mapping m;
    if (pc < 8 || pc >= GUEST_END || !memory_lookup(pc - 1, &m) || (m.protection & 5) != 5 ||
        pc - m.start < 8)
        return false;
    const uint8_t *end = guest(pc);
    if (end[-5] == 0xe8)
        return true;
    for (int length = 2; length <= 7; length++) /* ff /2, by its length */
        if (end[-length] == 0xff && (end[1 - length] >> 3 & 7) == 2)
            return true;
    return false;
}

/* The same on a stack that the program made for itself (coroutines, alternate stacks): calls
   there leave D of the slot as it was, and entries of a coroutine that sleeps are gone from the
   shadow call stack. */
static gaddr return_slot_elsewhere(struct context *c, gaddr address, uint64_t size) {
    enum { FRAMES = 4096, LARGE_STACK = 8 << 20 };
    gaddr sp = c->registers[RSP];
    bool own = address >= c->stack_low && address < c->stack_high; /* read by a signal's handler */
    if (on_own_stack(c, sp) || (!own && (address < sp || address - sp > LARGE_STACK)))
        return 0; /* not on the stack in use, or that is the thread's own */
    struct shadow_entry *e = c->shadow;
    for (int n = 0; n < FRAMES && e-- > c->shadow_base; n++)
        if (e->stack_pointer < address + size && e->stack_pointer + 8 > address &&
            *(gaddr *)guest(e->stack_pointer) == e->return_address)
            return e->stack_pointer;
    for (gaddr a = address & ~7ULL; a < address + size; a += 8)
        if (*(uint64_t *)shadow_of(a) == ~0ULL && follows_call(*(gaddr *)guest(a)))
            return a;
    return 0;
}

gaddr touch_return_slot(struct context *c, gaddr address, uint64_t size, bool write) {
    gaddr sp = c->registers[RSP];
    if (!on_own_stack(c, address))
        return write ? 0 : return_slot_elsewhere(c, address, size);
    for (struct shadow_entry *e = c->shadow; e-- > c->shadow_base;) {
        if (e->stack_pointer < sp || e->stack_pointer >= c->stack_high)
            continue;
        if (e->stack_pointer >= address + size)
            return 0;
        if (e->stack_pointer + 8 > address && *shadow_of(e->stack_pointer) &&
            *(gaddr *)guest(e->stack_pointer) == e->return_address)
            return e->stack_pointer;
        sp = e->stack_pointer;
    }
    return 0;
}

gaddr touch_first_bad(struct context *c, gaddr address, uint64_t size, bool write) {
    size = within_reach(address, size);
    if (!size)
        return 0;
    if (on_own_stack(c, address)) {
        gaddr low = c->registers[RSP] - 128;
        if (address >= low && address < low + 128 && has_called(c))
            low += 128;
        if (address < low)
            for (gaddr a = address; a < low && a < address + size; a++)
                if (*shadow_of(a) == 0xff)
                    return a;
        return write ? touch_return_slot(c, address, size, true) : 0;
    }
    const uint8_t *a = touch_of(address), *last = touch_of(address + size - 1);
    uint8_t head = (uint8_t)(0xff << (address & 7));
    uint8_t tail = (uint8_t)(0xff >> (7 - ((address + size - 1) & 7)));
    if (a == last) {
        uint8_t bits = *a & head & tail;
        return bits ? (address & ~7ULL) + (gaddr)__builtin_ctz(bits) : 0;
    }
    uint8_t bits = *a & head;
    while (!bits) {
        a++;
        while (last - a > 8 && !word_of(a))
            a += 8;
        bits = *a;
        if (a == last) {
            bits &= tail;
            break;
        }
    }
    if (!bits)
        return 0;
    return ((gaddr)(uintptr_t)a - A_BASE) * 8 + (gaddr)__builtin_ctz(bits);
}

void shadow_define(struct context *c, gaddr address, uint64_t size) {
    if (address >= GUEST_END || size > GUEST_END - address)
        return;
    size = within_reach(address, size);
    while (size) {
        gaddr bad = touch_first_bad(c, address, size, false);
        uint64_t n = bad ? bad - address : size;
        shadow_fill(address, n, 0);
        address += n;
        size -= n;
        while (size > 64 && !(address & 63) && !~word_of(touch_of(address)) &&
               !on_own_stack(c, address)) {
            address += 64;
            size -= 64;
        }
        while (size && touch_first_bad(c, address, 1, false)) {
            address++;
            size--;
        }
    }
}

/* --- origins --- */

uint32_t origin_of_word(struct context *c, gaddr address) {
    gaddr undefined = shadow_first_undefined(address, 4);
    if (!undefined)
        return 0;
    if (!(address & 3))
        return origin_is_by_byte(*origin_slot(address)) ? origin_of_whole(c, address)
                                              : origin_keep(c, origin_at(c, undefined));
    return origin_of_few(c, address, 4);
}

uint32_t origin_of_few(struct context *c, gaddr address, unsigned size) {
    uint32_t of[4];
    for (unsigned k = 0; k < 4; k++)
        of[k] = k >= size ? of[size - 1]
                : *shadow_of(address + k)
                    ? origin_of_source(c, address + k, address, address + size)
                    : 0;
    return origin_of_four(of);
}

/* For glue.S: the word gets `code` for bytes `stored`, `stays` are undefined besides (bits). Where
   nothing is recorded these stay where they are from. */
static void remember_four(struct context *c, uint32_t old, uint32_t code, unsigned stored,
                          unsigned stays) {
    uint32_t of[4] = {0}, which = FOURS_KNOWN | stays << 4 | stored;
    if (code < ORIGIN_LEAST || code >= ORIGIN_STACK_CODES || old >= ORIGIN_STACK_CODES ||
        origin_is_by_byte(code))
        return;
    for (unsigned k = 0; k < 4; k++) {
        if (stored >> k & 1)
            of[k] = code;
        else if (stays >> k & 1)
            of[k] = origin_part(old, k) ? origin_part(old, k) : ORIGIN_OWN;
    }
    uint32_t h = (code << FOURS_TURN | code >> (32 - FOURS_TURN)) ^ old ^ which;
    struct known_four *known = (struct known_four *)((char *)c + CTX_FOURS);
    known[h * FOURS_FACTOR >> (32 - FOURS_BITS)] =
        (struct known_four){.old = old, .code = code, .which = which, .now = origin_of_four(of)};
}

void origin_set_bytes(struct context *c, gaddr address, int size, const uint32_t *origins) {
    gaddr end = address + (uint64_t)size;
    for (gaddr word = address & ~3ULL; word < end; word += 4) {
        uint32_t old = *origin_slot(word), of[4] = {0}, one = 0;
        unsigned stored = 0, stays = 0;
        bool same = old, alike = true;
        for (gaddr a = word < address ? address : word; a < word + 4 && a < end; a++) {
            uint32_t given = of[a & 3] = origins[a - address];
            same = same && (!given || origin_part(old, a) == given);
            if (!given)
                continue;
            alike = alike && (!one || one == given);
            one = given;
            stored |= 1u << (a & 3);
        }
        if (!stored)
            continue;
        for (unsigned k = 0; k < 4; k++)
            if ((word + k < address || word + k >= end) && *shadow_of(word + k))
                stays |= 1u << k;
        if (alike && stays && size <= 8)
            remember_four(c, old, one, stored, stays);
        if (same)
            continue;
        for (unsigned k = 0; k < 4; k++) {
            if (!(stays >> k & 1))
                continue;
            of[k] = origin_part(old, k);
            if (!of[k])
                of[k] = origin_of_block(word + k);
            if (!of[k])
                of[k] = ORIGIN_OWN;
        }
        for (int k = 0; k < 4 && stays; k++) { /* names of slots stand for whole words only */
            uint32_t kept =
                of[k] == ORIGIN_OWN ? ORIGIN_OWN : origin_keep_few(c, of[k], (uint64_t)size);
            of[k] = kept < ORIGIN_STACK_CODES ? kept : ORIGIN_OWN;
        }
        *origin_slot(word) = origin_of_four(of);
    }
    origin_note(c, address, (uint64_t)size);
}

void origin_set(struct context *c, gaddr address, uint64_t size, uint32_t origin) {
    gaddr end = address + size;
    for (gaddr a = address; a < end;) {
        uint64_t piece = (a | 3) + 1 - a < end - a ? (a | 3) + 1 - a : end - a;
        if (piece == 4 || *origin_slot(a) == origin) {
            *origin_slot(a) = origin;
        } else {
            uint32_t origins[4] = {origin, origin, origin, origin};
            origin_set_bytes(c, a, (int)piece, origins);
        }
        a += piece;
    }
    origin_note(c, address, size);
}

static void origin_note(struct context *c, gaddr address, uint64_t size) {
    for (gaddr page = address >> FLAG_SHIFT; page <= (address + size - 1) >> FLAG_SHIFT; page++)
        if (!origins_used[page])
            origins_used[page] = 1;
    if (on_own_stack(c, address)) {
        if (address < c->mark)
            c->mark = address & ~7ULL;
        if (address < c->mark_origin)
            c->mark_origin = address & ~7ULL;
        if (address + size > c->mark_high)
            c->mark_high = address + size;
    }
}

void origin_clear(gaddr start, uint64_t size) {
    gaddr end = start + size;
    for (gaddr a = start & ~3ULL; a < end;) {
        gaddr next = ((a >> FLAG_SHIFT) + 1) << FLAG_SHIFT;
        if (next > end)
            next = end;
        if (origins_used[a >> FLAG_SHIFT])
            for (gaddr b = a; b < next; b += 4)
                if (*origin_slot(b))
                    *origin_slot(b) = 0;
        a = (next + 3) & ~3ULL;
    }
}

uint32_t origin_at(struct context *c, gaddr address) {
    uint32_t o = *origin_slot(address);
    o = origin_is_own(o, address) ? 0 : origin_of_byte(o, address);
    if (o)
        return o;
    if (in_frame_elsewhere(c, address)) {
        uint32_t record = origin_frame(c, address);
        if (record)
            return ORIGIN_RECORD_CODES + record;
    }
    if ((o = origin_of_block(address)))
        return o;
    if (on_own_stack(c, address)) {
        if (c->stack_high == STACK_TOP && STACK_TOP - address <= UINT32_MAX - ORIGIN_STACK_CODES)
            return ORIGIN_STACK_CODES + (uint32_t)(STACK_TOP - address);
        uint32_t record = origin_frame(c, address);
        return record ? ORIGIN_RECORD_CODES + record : 0;
    }
    return origin_elsewhere(c);
}

/* For glue.S: the innermost calls down to the frame of the slot, and one more. What the frame
   is called from is known by the node of the first of them that has one. */
static void remember_kept(struct context *c, uint32_t name, uint32_t code) {
    enum { LEVELS = 3 };
    gaddr slot = STACK_TOP - (name - ORIGIN_STACK_CODES);
    struct kept_name *k = (struct kept_name *)((char *)c + CTX_KEPT) +
                          ((name ^ name >> 6 ^ (uint32_t)c->pc) & (KEPT_COUNT - 1));
    fill_bytes(k, 0, sizeof *k);
    k->pc = c->pc;
    k->name = name;
    const struct shadow_entry *e = c->shadow;
    for (int n = 0; n < LEVELS && e-- > c->shadow_base; n++)
        k->levels[n] = (struct kept_level){.return_address = e->return_address,
                                           .stack_pointer = e->stack_pointer,
                                           .code = code,
                                           .node = e->stack_pointer > slot ? e->node : 0};
}

uint32_t origin_keep_few(struct context *c, uint32_t origin, uint64_t size) {
    if (origin < ORIGIN_LEAST)
        return origin_of_byte(origin, 0);
    if (origin < ORIGIN_STACK_CODES)
        return origin;
    uint32_t record = origin_record(c, origin);
    if (!record)
        return origin;
    remember_kept(c, origin, ORIGIN_RECORD_CODES + record);
    /* the next that is copied from the slot finds it there; its neighbours in the word may be
       other variables */
    gaddr slot = STACK_TOP - (origin - ORIGIN_STACK_CODES), rest = 4 - (slot & 3);
    uint32_t old = *origin_slot(slot);
    if (slot >= c->registers[RSP] && on_own_stack(c, slot) && *shadow_of(slot) &&
        (!old || (size < rest && origin_is_own(old, slot))))
        origin_set(c, slot, size < rest ? size : rest, ORIGIN_RECORD_CODES + record);
    return ORIGIN_RECORD_CODES + record;
}

uint32_t origin_keep(struct context *c, uint32_t origin) { return origin_keep_few(c, origin, 4); }

uint32_t origin_keep_byte(struct context *c, uint32_t origin) {
    return origin_keep_few(c, origin, 1);
}

uint32_t origin_recorded(gaddr address) { return *origin_slot(address); }

bool origin_is_all(gaddr address, uint64_t size, uint32_t origin) {
    gaddr end = address + size;
    if (!may_go_elsewhere(origin))
        return false;
    for (gaddr word = address & ~(gaddr)3; word < end; word += 4) {
        uint32_t bits = *(volatile uint32_t *)shadow_of(word);
        if (word < address)
            bits &= UINT32_MAX << 8 * (address - word);
        if (word + 4 > end)
            bits &= UINT32_MAX >> 8 * (word + 4 - end);
        if (bits && *origin_slot(word) != origin)
            return false;
    }
    return true;
}

void origin_settle(struct context *c, gaddr address, uint64_t size, uint32_t origin) {
    if (!heap_near(address) || !may_go_elsewhere(origin))
        return;
    for (gaddr word = address & ~3ULL; word < address + size; word += 4) {
        uint32_t old = *origin_slot(word), of[4], block = 0;
        if (!old && !*(volatile uint32_t *)shadow_of(word))
            origin_set(c, word, 4, origin);
        for (unsigned k = 0; k < 4 && origin_is_by_byte(old); k++) {
            of[k] = origin_part(old, k);
            if (of[k] == ORIGIN_OWN && !block && !(block = origin_of_block(word)))
                return;
            if (of[k] == ORIGIN_OWN)
                of[k] = block;
        }
        if (block)
            *origin_slot(word) = origin_of_four(of);
    }
}

bool origin_parts(struct context *c, gaddr address, uint64_t size, uint32_t *parts) {
    uint32_t first = 0;
    for (uint64_t at = 0; at < size; at += 4) {
        parts[at / 4] = origin_of_word(c, address + at);
        if (!first)
            first = parts[at / 4];
    }
    bool kept = !(address & 3) && !in_frame_elsewhere(c, address); /* there nothing is forgotten */
    for (uint64_t at = 0; at < size && first; at += 4) {
        if (!parts[at / 4])
            parts[at / 4] = first;
        if (kept)
            origin_set(c, address + at, 4, parts[at / 4]);
    }
    return first;
}

/* Whether a byte of the running frame goes by its own place: the code is not recorded, or a
   record of its word. */
static bool goes_by_its_place(struct context *c, gaddr address) {
    uint32_t origin = origin_part(*origin_slot(address), address);
    const struct shadow_entry *top = c->shadow - 1;
    if (!origin || origin == ORIGIN_OWN)
        return true;
    if (origin < ORIGIN_RECORD_CODES || origin >= ORIGIN_RECORD_CODES + LEDGER_ORIGINS)
        return false;
    const struct ledger_origin *o = &ledger->origins[origin - ORIGIN_RECORD_CODES];
    int64_t offset = (int64_t)(address - (top->stack_pointer + 8));
    return o->kind == ORIGIN_STACK && ledger->nodes[o->stack].parent == top->node &&
           o->offset <= offset && o->offset >= offset - (int64_t)(address & 3);
}

void origin_join(struct context *c, gaddr address, uint64_t size) {
    enum { MOST = 16 };
    gaddr first = shadow_first_undefined(address, size);
    uint32_t one, origins[MOST];
    bool differs = false;
    if (!first || size > MOST || c->shadow == c->shadow_base || !on_own_stack(c, address) ||
        address < c->registers[RSP] || address + size > c->shadow[-1].stack_pointer)
        return;
    for (gaddr a = first; a < address + size; a++)
        if (*shadow_of(a) && !goes_by_its_place(c, a))
            return;
    one = origin_keep(c, origin_at(c, first));
    for (gaddr a = first; a < address + size; a++) {
        origins[a - first] = *shadow_of(a) ? one : 0;
        differs |= *shadow_of(a) && origin_part(*origin_slot(a), a) != one;
    }
    if (one && differs)
        origin_set_bytes(c, first, (int)(address + size - first), origins);
}

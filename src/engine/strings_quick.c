/* The commonest calls of string functions are short and meet nothing but defined,
   touchable bytes: those are done here, everything else in strings.c. */
#include "strings.h"
#include "replaced_table.h"

enum { SHORT = 256 };

uint64_t guest_scan(gaddr address, uint64_t limit, uint8_t stop, bool want_zero) {
    uint64_t n = 0;
    uint64_t pattern = ONES * stop;
    if (limit >= 8 && (address & 4095) <= 4088) { /* one word as it stands */
        uint64_t w, x;
        __builtin_memcpy(&w, guest(address), 8);
        x = w ^ pattern;
        uint64_t hit = ((x - ONES) & ~x & HIGHS);
        if (want_zero)
            hit |= (w - ONES) & ~w & HIGHS;
        if (hit)
            return (uint64_t)__builtin_ctzll(hit) / 8;
        n = 8 - (address & 7);
    }
    while (n < limit && ((address + n) & 7)) {
        uint8_t b = byte_at(address + n);
        if (b == stop || (want_zero && !b))
            return n;
        n++;
    }
    while (limit - n >= 8) {
        uint64_t w = *(volatile uint64_t *)guest(address + n);
        uint64_t x = w ^ pattern;
        if (((x - ONES) & ~x & HIGHS) || (want_zero && ((w - ONES) & ~w & HIGHS)))
            break;
        n += 8;
    }
    while (n < limit) {
        uint8_t b = byte_at(address + n);
        if (b == stop || (want_zero && !b))
            return n;
        n++;
    }
    return limit;
}

uint64_t guest_difference(gaddr a, gaddr b, uint64_t limit, bool text, int64_t *result) {
    uint64_t n = 0;
    *result = 0;
    while (n < limit) {
        while (limit - n >= 8 && (!text || (word_in_page(a + n) && word_in_page(b + n)))) {
            uint64_t x = word_at(a + n), y = word_at(b + n);
            uint64_t stop = (x ^ y) | (text ? (x - ONES) & ~x & HIGHS : 0);
            if (stop) { /* the first byte in memory that differs or ends the text */
                int shift = __builtin_ctzll(stop) & ~7;
                *result = (int64_t)(x >> shift & 255) - (int64_t)(y >> shift & 255);
                return n + (uint64_t)shift / 8 + 1;
            }
            n += 8;
        }
        if (n == limit)
            break;
        uint8_t x = byte_at(a + n), y = byte_at(b + n);
        n++;
        if (x != y || (text && !x)) {
            *result = x - y;
            break;
        }
    }
    return n;
}

void guest_move(gaddr to, gaddr from, uint64_t size) {
    unsigned char *d = guest(to);
    const unsigned char *s = guest(from);
    bool absurd = size >= GUEST_END || to + size > GUEST_END || from + size > GUEST_END;
    if (to - from >= size || absurd) { /* forwards is safe, or faults within the program's memory */
        if (size >= 256) {
            copy_bytes(d, s, size);
            return;
        }
        for (; size >= 8; size -= 8, d += 8, s += 8)
            *(volatile uint64_t *)d = *(const volatile uint64_t *)s;
        if (size & 4) {
            *(volatile uint32_t *)d = *(const volatile uint32_t *)s;
            d += 4;
            s += 4;
        }
        if (size & 2) {
            *(volatile uint16_t *)d = *(const volatile uint16_t *)s;
            d += 2;
            s += 2;
        }
        if (size & 1)
            *(volatile unsigned char *)d = *(const volatile unsigned char *)s;
        return;
    }
    for (; size >= 8; size -= 8) {
        uint64_t w = *(const volatile uint64_t *)(s + size - 8);
        *(volatile uint64_t *)(d + size - 8) = w;
    }
    while (size--)
        *(volatile unsigned char *)(d + size) = *(const volatile unsigned char *)(s + size);
}

/* Whether every byte of a short range may be touched and is defined. */
static inline bool clean(gaddr address, uint64_t size) {
    if (address >= GUEST_END)
        return false;
    gaddr d = address + D_OFFSET;
    if (size >= 8) {
        uint64_t seen = word_at(d + size - 8);
        for (uint64_t i = 0; i + 8 < size; i += 8)
            seen |= word_at(d + i);
        return !seen;
    }
    if (size >= 4)
        return !(half_at(d) | half_at(d + size - 4));
    for (uint64_t i = 0; i < size; i++)
        if (*(volatile uint8_t *)guest(d + i))
            return false;
    return true;
}

static inline bool touchable(gaddr address, uint64_t size) {
    gaddr last = address + size - 1;
    for (gaddr a = address;;) {
        uint64_t bits = word_at(A_BASE + (a >> 3)) >> (a & 7);
        uint64_t left = last - a + 1;
        if (left <= 56)
            return !(bits & ((1ULL << left) - 1));
        if (bits & ((1ULL << 56) - 1))
            return false;
        a += 56;
    }
}

/* Whether a short range may be written; false also when that needs a closer look. */
static inline bool open_to_write(struct context *c, gaddr address, uint64_t size, int own) {
    if (address >= GUEST_END)
        return false;
    if (address >= c->stack_low && address < c->stack_high) /* below the caller's return address */
        return address >= c->registers[RSP] + 8 && c->shadow - c->shadow_base >= own &&
               address + size <= c->shadow[-own].stack_pointer;
    return touchable(address, size);
}

/* The same for reading, by a function that was called to do it. */
static inline bool open_to_read(struct context *c, gaddr address, uint64_t size) {
    if (address >= GUEST_END - SHORT)
        return false;
    if (address >= c->stack_low && address < c->stack_high)
        return address >= c->registers[RSP] + 8;
    return touchable(address, size);
}

static inline void set_defined(gaddr address, uint64_t size) {
    gaddr d = address + D_OFFSET;
    static const uint64_t zero = 0;
    if (size >= 8) {
        for (uint64_t i = 0; i + 8 < size; i += 8)
            __builtin_memcpy(guest(d + i), &zero, 8);
        __builtin_memcpy(guest(d + size - 8), &zero, 8);
    } else {
        for (uint64_t i = 0; i < size; i++)
            *(volatile uint8_t *)guest(d + i) = 0;
    }
}

/* `own`: which entry of the shadow call stack is the frame's that writes; 2 in a
   function that was called to do it, 1 for an instruction. */
static inline bool frame_becomes_defined(struct context *c, gaddr address, uint64_t size, int own) {
    if (clean(address, size))
        return true;
    if (!open_to_write(c, address, size, own))
        return false;
    set_defined(address, size);
    return true;
}

static inline bool becomes_defined(struct context *c, gaddr address, uint64_t size) {
    return frame_becomes_defined(c, address, size, 2);
}

bool string_quick(struct context *c, gaddr to, gaddr from, uint64_t size, bool reads) {
    enum { SHORT_STRING = 512 };
    return size && size <= SHORT_STRING && to < GUEST_END - SHORT_STRING &&
           (!reads || (from < GUEST_END - SHORT_STRING && clean(from, size))) &&
           frame_becomes_defined(c, to, size, 1);
}

static inline void move_short(gaddr to, gaddr from, uint64_t size) {
    if (size >= 8) {
        /* the last word is read first: source and target may overlap downwards */
        uint64_t last = word_at(from + size - 8);
        for (uint64_t i = 0; i + 8 < size; i += 8) {
            uint64_t w = word_at(from + i);
            __builtin_memcpy(guest(to + i), &w, 8);
        }
        __builtin_memcpy(guest(to + size - 8), &last, 8);
    } else if (size >= 4) {
        uint32_t first = half_at(from), last = half_at(from + size - 4);
        __builtin_memcpy(guest(to), &first, 4);
        __builtin_memcpy(guest(to + size - 4), &last, 4);
    } else {
        uint8_t bytes[3];
        for (uint64_t i = 0; i < size; i++)
            bytes[i] = byte_at(from + i);
        for (uint64_t i = 0; i < size; i++)
            *(volatile uint8_t *)guest(to + i) = bytes[i];
    }
}

static inline void set_short(gaddr to, uint8_t value, uint64_t size) {
    uint64_t w = ONES * value;
    if (size >= 8) {
        for (uint64_t i = 0; i + 8 < size; i += 8)
            __builtin_memcpy(guest(to + i), &w, 8);
        __builtin_memcpy(guest(to + size - 8), &w, 8);
    } else {
        for (uint64_t i = 0; i < size; i++)
            *(volatile uint8_t *)guest(to + i) = value;
    }
}

/* Short and clean calls of the commonest functions, by far the most of all. */
static const struct quick not_done = {0, false};
static inline struct quick done(uint64_t value) { return (struct quick){value, true}; }

/* Structures with undefined padding are copied as well. */
static struct quick copy_undefined(gaddr to, gaddr from, uint64_t n, struct context *c) {
    if (!open_to_read(c, from, n) || (!clean(to, n) && !open_to_write(c, to, n, 2)))
        return not_done;
    shadow_move_few(c, to, from, n);
    move_short(to, from, n);
    return done(to);
}

static struct quick quick_memcpy(gaddr to, gaddr from, uint64_t n, struct context *c) {
    if (n > SHORT || to - from < n || from - to < n)
        return not_done;
    if (!clean(from, n))
        return copy_undefined(to, from, n, c);
    if (!becomes_defined(c, to, n))
        return not_done;
    move_short(to, from, n);
    return done(to);
}

static struct quick quick_mempcpy(gaddr to, gaddr from, uint64_t n, struct context *c) {
    struct quick q = quick_memcpy(to, from, n, c);
    q.value += n;
    return q;
}

static struct quick quick_memmove(gaddr to, gaddr from, uint64_t n, struct context *c) {
    if (n > SHORT || to - from < n)
        return not_done;
    if (from - to >= n && !clean(from, n))
        return copy_undefined(to, from, n, c);
    if (!clean(from, n) || !becomes_defined(c, to, n))
        return not_done;
    if (from - to < n)
        guest_move(to, from, n);
    else
        move_short(to, from, n);
    return done(to);
}

static struct quick quick_memcmp(gaddr a, gaddr b, uint64_t n, struct context *c) {
    (void)c;
    if (n > SHORT || !clean(a, n) || !clean(b, n))
        return not_done;
    int64_t r;
    guest_difference(a, b, n, false, &r);
    return done((uint64_t)r);
}

static struct quick quick_strncmp(gaddr a, gaddr b, uint64_t n, struct context *c) {
    (void)c;
    int64_t r;
    uint64_t decided = guest_difference(a, b, n > SHORT ? SHORT : n, true, &r);
    if ((decided == SHORT && n != SHORT && !r) || !clean(a, decided) || !clean(b, decided))
        return not_done;
    return done((uint64_t)r);
}

static struct quick quick_strcmp(gaddr a, gaddr b, uint64_t n, struct context *c) {
    (void)n;
    return quick_strncmp(a, b, ~0ULL, c);
}

static struct quick quick_memchr(gaddr a, uint64_t byte, uint64_t n, struct context *c) {
    (void)c;
    uint64_t found = guest_scan(a, n, (uint8_t)byte, false);
    if (found >= SHORT || !clean(a, found < n ? found + 1 : n))
        return not_done;
    return done(found < n ? a + found : 0);
}

static struct quick quick_rawmemchr(gaddr a, uint64_t byte, uint64_t n, struct context *c) {
    (void)n;
    return quick_memchr(a, byte, ~0ULL >> 1, c);
}

static struct quick quick_strchr(gaddr a, uint64_t byte, uint64_t n, struct context *c) {
    (void)n;
    (void)c;
    uint64_t found = guest_scan(a, SHORT, (uint8_t)byte, true);
    if (found >= SHORT || !clean(a, found + 1))
        return not_done;
    return done(byte_at(a + found) == (uint8_t)byte ? a + found : 0);
}

static struct quick quick_strchrnul(gaddr a, uint64_t byte, uint64_t n, struct context *c) {
    (void)n;
    (void)c;
    uint64_t found = guest_scan(a, SHORT, (uint8_t)byte, true);
    return found < SHORT && clean(a, found + 1) ? done(a + found) : not_done;
}

static struct quick quick_strrchr(gaddr a, uint64_t byte, uint64_t n, struct context *c) {
    (void)c;
    n = guest_scan(a, SHORT, 0, false);
    if (n >= SHORT || !clean(a, n + 1))
        return not_done;
    for (uint64_t i = n + 1; i-- > 0;)
        if (byte_at(a + i) == (uint8_t)byte)
            return done(a + i);
    return done(0);
}

/* How many bytes at the beginning are (accept) or are not in the set; ~0: not known here. */
static uint64_t quick_span(gaddr a, gaddr set, bool accept) {
    enum { FEW = 64 };
    uint64_t in[4] = {0}, m = 0, n = 0;
    for (uint8_t b; (b = byte_at(set + m)); m++) {
        if (m == FEW)
            return ~0ULL;
        in[b >> 6] |= 1ULL << (b & 63);
    }
    for (uint8_t b; (b = byte_at(a + n)) && (in[b >> 6] >> (b & 63) & 1) == accept; n++)
        if (n == SHORT)
            return ~0ULL;
    return clean(set, m + 1) && clean(a, n + 1) ? n : ~0ULL;
}

static struct quick quick_strspn(gaddr a, gaddr set, uint64_t n, struct context *c) {
    (void)c;
    n = quick_span(a, set, true);
    return n != ~0ULL ? done(n) : not_done;
}

static struct quick quick_strcspn(gaddr a, gaddr set, uint64_t n, struct context *c) {
    (void)c;
    n = quick_span(a, set, false);
    return n != ~0ULL ? done(n) : not_done;
}

static struct quick quick_strpbrk(gaddr a, gaddr set, uint64_t n, struct context *c) {
    (void)c;
    n = quick_span(a, set, false);
    return n != ~0ULL ? done(byte_at(a + n) ? a + n : 0) : not_done;
}

static struct quick quick_memset(gaddr to, uint64_t byte, uint64_t n, struct context *c) {
    if (n > SHORT || !becomes_defined(c, to, n))
        return not_done;
    set_short(to, (uint8_t)byte, n);
    return done(to);
}

/* What decides how far is the text: that has to be defined, and to fit. */
static struct quick copy_text_quick(gaddr to, gaddr from, uint64_t room, bool end, struct context *c) {
    uint64_t n = guest_scan(from, SHORT, 0, false);
    if (n >= room || !clean(from, n + 1))
        return not_done;
    struct quick q = quick_memcpy(to, from, n + 1, c);
    q.value += end ? n : 0;
    return q;
}

static struct quick quick_strcpy(gaddr to, gaddr from, uint64_t n, struct context *c) {
    (void)n;
    return copy_text_quick(to, from, ~0ULL, false, c);
}

static struct quick quick_stpcpy(gaddr to, gaddr from, uint64_t n, struct context *c) {
    (void)n;
    return copy_text_quick(to, from, ~0ULL, true, c);
}

/* The third argument is the target's size. */
static struct quick quick_limited_strcpy(gaddr to, gaddr from, uint64_t room, struct context *c) {
    return copy_text_quick(to, from, room, false, c);
}

static struct quick quick_limited_stpcpy(gaddr to, gaddr from, uint64_t room, struct context *c) {
    return copy_text_quick(to, from, room, true, c);
}

static struct quick quick_strnlen(gaddr a, uint64_t most, uint64_t n, struct context *c) {
    (void)c;
    n = guest_scan(a, most < SHORT ? most : SHORT, 0, false);
    if (n == SHORT || !clean(a, n < most ? n + 1 : most))
        return not_done;
    return done(n);
}

static struct quick quick_strlen(gaddr a, uint64_t b, uint64_t n, struct context *c) {
    (void)b;
    (void)c;
    n = guest_length(a);
    return n < SHORT && clean(a, n + 1) ? done(n) : not_done;
}

quick_function *strings_quick(int action, bool limited) {
    if (limited)
        return action == DO_STRCPY   ? quick_limited_strcpy
               : action == DO_STPCPY ? quick_limited_stpcpy
                                     : NULL;
    switch (action) {
    case DO_MEMCPY: return quick_memcpy;
    case DO_MEMPCPY: return quick_mempcpy;
    case DO_MEMMOVE: return quick_memmove;
    case DO_MEMCMP: return quick_memcmp;
    case DO_STRCMP: return quick_strcmp;
    case DO_STRNCMP: return quick_strncmp;
    case DO_MEMCHR: return quick_memchr;
    case DO_RAWMEMCHR: return quick_rawmemchr;
    case DO_STRCHR: return quick_strchr;
    case DO_MEMSET: return quick_memset;
    case DO_STRCPY: return quick_strcpy;
    case DO_STRLEN: return quick_strlen;
    case DO_STRNLEN: return quick_strnlen;
    case DO_STPCPY: return quick_stpcpy;
    case DO_STRCHRNUL: return quick_strchrnul;
    case DO_STRRCHR: return quick_strrchr;
    case DO_STRSPN: return quick_strspn;
    case DO_STRCSPN: return quick_strcspn;
    case DO_STRPBRK: return quick_strpbrk;
    }
    return NULL;
}

/* The C library's memory and string functions (C11 7.24, 7.29.4; POSIX), done
   here so that a bad range is one finding at the caller and word-at-a-time
   overreads are none. Results follow the C library's: comparisons return the
   difference of the first bytes that differ. */
#include "engine.h"
#include "replaced_table.h"

#define ONES 0x0101010101010101ULL
#define HIGHS 0x8080808080808080ULL

struct call {
    struct context *c;
    gaddr pc;
    const char *name;
};

static bool readable(struct call *k, gaddr address, uint64_t size) {
    return check_range(k->c, k->pc, address, size, false, k->name);
}

/* The bytes decide what the function does. */
static bool decides(struct call *k, gaddr address, uint64_t size) {
    return readable(k, address, size) &&
           check_defined(k->c, k->pc, address, size, "decides what the function does", k->name);
}

static bool writable(struct call *k, gaddr address, uint64_t size) {
    if (!size)
        return true;
    bool ok = check_range(k->c, k->pc, address, size, true, k->name);
    if (address < GUEST_END && size < GUEST_END)
        shadow_define(k->c, address, size);
    return ok;
}

static uint8_t byte_at(gaddr a) { return *(volatile uint8_t *)guest(a); }
static uint32_t wide_at(gaddr a) { return *(volatile uint32_t *)guest(a); }

/* Bytes before the first one that is `stop` or 0 (want_zero), at most limit. */
static uint64_t scan(gaddr address, uint64_t limit, uint8_t stop, bool want_zero) {
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

static uint64_t length(gaddr address) { return scan(address, ~0ULL >> 1, 0, false); }

static uint64_t wide_length(gaddr address, uint64_t limit) {
    uint64_t n = 0;
    while (n < limit && wide_at(address + 4 * n))
        n++;
    return n;
}

static void move(gaddr to, gaddr from, uint64_t size) {
    unsigned char *d = guest(to);
    const unsigned char *s = guest(from);
    if (to - from >= size) { /* forwards is safe */
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

static void copy_checked(struct call *k, gaddr to, gaddr from, uint64_t size, bool may_overlap) {
    if (!may_overlap && size && to != from && (to - from < size || from - to < size)) {
        struct access a = {.kind = KIND_OVERLAPPING_COPY,
                           .address = to,
                           .size = size,
                           .bad = to,
                           .write = true,
                           .other = from,
                           .function = k->name};
        finding_report(k->c, k->pc, &a);
    }
    readable(k, from, size);
    uint64_t touchable = size;
    if (size && !check_range(k->c, k->pc, to, size, true, k->name))
        touchable = touch_first_bad(k->c, to, size, true) - to;
    shadow_move(k->c, to, from, touchable);
    move(to, from, size);
}

/* The same for a text, whose bytes decided how far it goes. */
static void copy_text_checked(struct call *k, gaddr to, gaddr from, uint64_t size) {
    if (!decides(k, from, size)) {
        copy_checked(k, to, from, size, false);
        shadow_define(k->c, to, size);
        return;
    }
    copy_checked(k, to, from, size, false);
}

static uint64_t word_at(gaddr a) {
    uint64_t w;
    __builtin_memcpy(&w, guest(a), 8);
    return w;
}

/* A word from here may be read without touching another page. */
static bool word_in_page(gaddr a) { return (a & 4095) <= 4088; }

static int64_t compare(struct call *k, gaddr a, gaddr b, uint64_t limit, bool text) {
    uint64_t n = 0;
    int64_t result = 0;
    for (;; n++) {
        if (n == limit)
            break;
        while (limit - n >= 8 && (!text || (word_in_page(a + n) && word_in_page(b + n)))) {
            uint64_t x = word_at(a + n);
            if (x != word_at(b + n) || (text && ((x - ONES) & ~x & HIGHS)))
                break;
            n += 8;
        }
        if (n == limit)
            break;
        if (!text && limit - n >= 8) { /* the words differ: the first byte in memory decides */
            uint64_t x = word_at(a + n), y = word_at(b + n);
            int shift = __builtin_ctzll(x ^ y) & ~7;
            result = (int64_t)(x >> shift & 255) - (int64_t)(y >> shift & 255);
            n += (uint64_t)shift / 8 + 1;
            break;
        }
        uint8_t x = byte_at(a + n), y = byte_at(b + n);
        if (x != y) {
            result = x - y;
            n++;
            break;
        }
        if (text && !x) {
            n++;
            break;
        }
    }
    if (!text) {
        readable(k, a, limit);
        readable(k, b, limit);
    }
    if (decides(k, a, n))
        decides(k, b, n);
    return result;
}

static int lower(int b) { return b >= 'A' && b <= 'Z' ? b + 32 : b; }

static int64_t compare_fold(struct call *k, gaddr a, gaddr b, uint64_t limit, gaddr locale) {
    /* struct __locale_struct: 13 category pointers, then the class table and
       the lower-case table of int32_t. */
    const int32_t *table = locale ? *(const int32_t **)guest(locale + 112) : NULL;
    uint64_t n = 0;
    int64_t result = 0;
    while (n < limit) {
        int x = byte_at(a + n), y = byte_at(b + n);
        n++;
        int fx = table ? table[x] : lower(x), fy = table ? table[y] : lower(y);
        result = fx - fy;
        if (result || !x)
            break;
    }
    decides(k, a, n);
    decides(k, b, n);
    return result;
}

static gaddr find_text(struct call *k, gaddr hay, gaddr needle) {
    uint64_t m = length(needle);
    decides(k, needle, m + 1);
    uint64_t n = length(hay);
    gaddr found = 0;
    if (m == 0) {
        found = hay;
        n = 0;
    } else {
        uint8_t first = byte_at(needle);
        /* Knuth-Morris-Pratt would be linear; library texts are short */
        for (uint64_t i = 0; m <= n && i <= n - m && !found;) {
            i += scan(hay + i, n - i, first, false);
            if (i > n - m)
                break;
            uint64_t j = 1;
            while (j < m && byte_at(hay + i + j) == byte_at(needle + j))
                j++;
            if (j == m)
                found = hay + i;
            i++;
        }
    }
    decides(k, hay, found ? found - hay + m : n + 1);
    return found;
}

static uint64_t span(struct call *k, gaddr text, gaddr set, bool accept) {
    uint8_t in[256];
    fill_bytes(in, 0, sizeof in);
    uint64_t m = length(set);
    decides(k, set, m + 1);
    for (uint64_t i = 0; i < m; i++)
        in[byte_at(set + i)] = 1;
    uint64_t n = 0;
    for (uint8_t b; (b = byte_at(text + n)) && in[b] == accept; n++)
        ;
    decides(k, text, n + 1);
    return n;
}

static inline uint32_t half_at(gaddr a) {
    uint32_t w;
    __builtin_memcpy(&w, guest(a), 4);
    return w;
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

/* Whether a short range may be written; false also when that needs a closer look. */
static inline bool open_to_write(struct context *c, gaddr address, uint64_t size) {
    if (address >= GUEST_END)
        return false;
    if (address >= c->stack_low && address < c->stack_high) /* below the caller's return address */
        return address >= c->registers[RSP] + 8 && c->shadow - c->shadow_base >= 2 &&
               address + size <= c->shadow[-2].stack_pointer;
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

static inline bool becomes_defined(struct context *c, gaddr address, uint64_t size) {
    if (clean(address, size))
        return true;
    if (!open_to_write(c, address, size))
        return false;
    set_defined(address, size);
    return true;
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

/* Short and clean calls of the commonest functions, by far the most of all. */
bool strings_quick(struct context *c, int action) {
    gaddr a = c->registers[RDI], b = c->registers[RSI];
    uint64_t n = c->registers[RDX];
    enum { SHORT = 256 };
    switch (action) {
    case DO_MEMCPY:
    case DO_MEMPCPY:
        if (n > SHORT || a - b < n || b - a < n || !clean(b, n) || !becomes_defined(c, a, n))
            return false;
        move_short(a, b, n);
        c->registers[RAX] = action == DO_MEMCPY ? a : a + n;
        return true;
    case DO_MEMMOVE:
        if (n > SHORT || a - b < n || !clean(b, n) || !becomes_defined(c, a, n))
            return false;
        if (b - a < n)
            move(a, b, n);
        else
            move_short(a, b, n);
        c->registers[RAX] = a;
        return true;
    case DO_MEMCMP: {
        if (n > SHORT || !clean(a, n) || !clean(b, n))
            return false;
        uint64_t i = 0;
        int64_t r = 0;
        for (; i + 8 <= n; i += 8) {
            uint64_t x = word_at(a + i), y = word_at(b + i);
            if (x != y) {
                int shift = __builtin_ctzll(x ^ y) & ~7;
                c->registers[RAX] = (x >> shift & 255) - (y >> shift & 255);
                return true;
            }
        }
        for (; i < n && !r; i++)
            r = (int64_t)byte_at(a + i) - byte_at(b + i);
        c->registers[RAX] = (uint64_t)r;
        return true;
    }
    case DO_MEMCHR:
    case DO_RAWMEMCHR: {
        uint64_t limit = action == DO_MEMCHR ? n : ~0ULL >> 1;
        uint64_t found = scan(a, limit, (uint8_t)b, false);
        if (found >= SHORT || !clean(a, found < limit ? found + 1 : limit))
            return false;
        c->registers[RAX] = found < limit ? a + found : 0;
        return true;
    }
    case DO_STRLEN:
        n = length(a);
        if (n >= SHORT || !clean(a, n + 1))
            return false;
        c->registers[RAX] = n;
        return true;
    }
    return false;
}

void strings_run(struct context *c, int action, const char *name) {
    struct call call = {c, c->pc, name}, *k = &call;
    gaddr a = c->registers[RDI], b = c->registers[RSI];
    uint64_t n = c->registers[RDX], r = a, m;
    switch (action) {
    case DO_MEMCPY:
        copy_checked(k, a, b, n, false);
        break;
    case DO_MEMPCPY:
        copy_checked(k, a, b, n, false);
        r = a + n;
        break;
    case DO_MEMMOVE:
        copy_checked(k, a, b, n, true);
        break;
    case DO_BCOPY:
        copy_checked(k, b, a, n, true);
        break;
    case DO_MEMSET:
        writable(k, a, n);
        if (n < 128) {
            uint64_t w = ONES * (uint8_t)b, done = 0;
            for (; n - done >= 8; done += 8)
                *(volatile uint64_t *)guest(a + done) = w;
            for (; done < n; done++)
                *(volatile uint8_t *)guest(a + done) = (uint8_t)b;
        } else {
            fill_bytes(guest(a), (int)b, n);
        }
        break;
    case DO_BZERO:
        writable(k, a, b);
        fill_bytes(guest(a), 0, b);
        break;
    case DO_MEMCMP:
        r = (uint64_t)compare(k, a, b, n, false);
        break;
    case DO_MEMCHR:
        m = scan(a, n, (uint8_t)b, false);
        decides(k, a, m < n ? m + 1 : n);
        r = m < n ? a + m : 0;
        break;
    case DO_MEMRCHR:
        decides(k, a, n);
        r = 0;
        while (n--)
            if (byte_at(a + n) == (uint8_t)b) {
                r = a + n;
                break;
            }
        break;
    case DO_RAWMEMCHR:
        m = scan(a, ~0ULL >> 1, (uint8_t)b, false);
        decides(k, a, m + 1);
        r = a + m;
        break;
    case DO_STRLEN:
        r = length(a);
        decides(k, a, r + 1);
        break;
    case DO_STRNLEN:
        r = scan(a, b, 0, false);
        decides(k, a, r < b ? r + 1 : b);
        break;
    case DO_STRCPY:
    case DO_STPCPY:
        m = length(b);
        copy_text_checked(k, a, b, m + 1);
        if (action == DO_STPCPY)
            r = a + m;
        break;
    case DO_STRNCPY:
    case DO_STPNCPY:
        m = scan(b, n, 0, false);
        if (m && (a - b < m || b - a < m))
            copy_checked(k, a, b, m, false);
        decides(k, b, m < n ? m + 1 : n);
        writable(k, a, n);
        move(a, b, m);
        fill_bytes(guest(a + m), 0, n - m);
        if (action == DO_STPNCPY)
            r = a + m;
        break;
    case DO_STRCAT: {
        uint64_t at = length(a);
        decides(k, a, at + 1);
        m = length(b);
        copy_text_checked(k, a + at, b, m + 1);
        break;
    }
    case DO_STRNCAT: {
        uint64_t at = length(a);
        decides(k, a, at + 1);
        m = scan(b, n, 0, false);
        decides(k, b, m < n ? m + 1 : m);
        writable(k, a + at, m + 1);
        move(a + at, b, m);
        *(volatile uint8_t *)guest(a + at + m) = 0;
        break;
    }
    case DO_STRCMP:
        r = (uint64_t)compare(k, a, b, ~0ULL, true);
        break;
    case DO_STRNCMP:
        r = (uint64_t)compare(k, a, b, n, true);
        break;
    case DO_STRCASECMP:
        r = (uint64_t)compare_fold(k, a, b, ~0ULL, 0);
        break;
    case DO_STRCASECMP_L:
        r = (uint64_t)compare_fold(k, a, b, ~0ULL, n);
        break;
    case DO_STRNCASECMP:
        r = (uint64_t)compare_fold(k, a, b, n, 0);
        break;
    case DO_STRNCASECMP_L:
        r = (uint64_t)compare_fold(k, a, b, n, c->registers[RCX]);
        break;
    case DO_STRCHR:
    case DO_STRCHRNUL:
        m = scan(a, ~0ULL >> 1, (uint8_t)b, true);
        decides(k, a, m + 1);
        r = byte_at(a + m) == (uint8_t)b || action == DO_STRCHRNUL ? a + m : 0;
        break;
    case DO_STRRCHR:
        m = length(a);
        decides(k, a, m + 1);
        r = 0;
        for (uint64_t i = m + 1; i-- > 0;)
            if (byte_at(a + i) == (uint8_t)b) {
                r = a + i;
                break;
            }
        break;
    case DO_STRSPN:
        r = span(k, a, b, true);
        break;
    case DO_STRCSPN:
        r = span(k, a, b, false);
        break;
    case DO_STRPBRK:
        m = span(k, a, b, false);
        r = byte_at(a + m) ? a + m : 0;
        break;
    case DO_STRSTR:
        r = find_text(k, a, b);
        break;
    case DO_WCSLEN:
        r = wide_length(a, ~0ULL >> 3);
        decides(k, a, 4 * (r + 1));
        break;
    case DO_WCSNLEN:
        r = wide_length(a, b);
        decides(k, a, 4 * (r < b ? r + 1 : b));
        break;
    case DO_WCSCPY:
    case DO_WCPCPY:
        m = wide_length(b, ~0ULL >> 3);
        copy_text_checked(k, a, b, 4 * (m + 1));
        if (action == DO_WCPCPY)
            r = a + 4 * m;
        break;
    case DO_WCSCAT: {
        uint64_t at = wide_length(a, ~0ULL >> 3);
        decides(k, a, 4 * (at + 1));
        m = wide_length(b, ~0ULL >> 3);
        copy_text_checked(k, a + 4 * at, b, 4 * (m + 1));
        break;
    }
    case DO_WCSNCPY:
        m = wide_length(b, n);
        decides(k, b, 4 * (m < n ? m + 1 : n));
        writable(k, a, 4 * n);
        move(a, b, 4 * m);
        fill_bytes(guest(a + 4 * m), 0, 4 * (n - m));
        break;
    case DO_WCSNCAT: {
        uint64_t at = wide_length(a, ~0ULL >> 3);
        decides(k, a, 4 * (at + 1));
        m = wide_length(b, n);
        decides(k, b, 4 * (m < n ? m + 1 : m));
        writable(k, a + 4 * at, 4 * (m + 1));
        move(a + 4 * at, b, 4 * m);
        *(volatile uint32_t *)guest(a + 4 * (at + m)) = 0;
        break;
    }
    case DO_MEMCCPY: {
        uint64_t limit = c->registers[RCX];
        m = scan(b, limit, (uint8_t)n, false);
        r = m < limit ? a + m + 1 : 0;
        m = m < limit ? m + 1 : limit;
        decides(k, b, m);
        writable(k, a, m);
        move(a, b, m);
        break;
    }
    case DO_WCSCMP:
    case DO_WCSNCMP:
    case DO_WMEMCMP: {
        uint64_t i = 0, limit = action == DO_WCSCMP ? ~0ULL >> 3 : n;
        r = 0;
        while (i < limit) {
            int32_t x = (int32_t)wide_at(a + 4 * i), y = (int32_t)wide_at(b + 4 * i);
            i++;
            if (x != y) {
                r = x < y ? (uint64_t)-1 : 1;
                break;
            }
            if (!x && action != DO_WMEMCMP)
                break;
        }
        decides(k, a, 4 * i);
        decides(k, b, 4 * i);
        break;
    }
    case DO_WCSCHR:
    case DO_WCSRCHR: {
        m = wide_length(a, ~0ULL >> 3);
        r = 0;
        for (uint64_t i = 0; i <= m; i++)
            if (wide_at(a + 4 * i) == (uint32_t)b) {
                r = a + 4 * i;
                if (action == DO_WCSCHR)
                    break;
            }
        decides(k, a, action == DO_WCSCHR && r ? r - a + 4 : 4 * (m + 1));
        break;
    }
    case DO_WMEMCHR: {
        uint64_t i = 0;
        while (i < n && wide_at(a + 4 * i) != (uint32_t)b)
            i++;
        decides(k, a, 4 * (i < n ? i + 1 : n));
        r = i < n ? a + 4 * i : 0;
        break;
    }
    case DO_WMEMSET:
        writable(k, a, 4 * n);
        for (uint64_t i = 0; i < n; i++)
            *(volatile uint32_t *)guest(a + 4 * i) = (uint32_t)b;
        break;
    }
    c->registers[RAX] = r;
}

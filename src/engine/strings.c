/* The C library's memory and string functions (C11 7.24, 7.29.4; POSIX), done
   here so that a bad range is one finding at the caller and word-at-a-time
   overreads are none. Results follow the C library's: comparisons return the
   difference of the first bytes that differ. */
#include "engine.h"
#include "replaced_table.h"
#include "strings.h"


struct call {
    struct context *c;
    gaddr pc;
    const char *name;
    uint64_t result_bits; /* undefined ones of the result, and where they are from */
    uint32_t result_origin;
};

static bool readable(struct call *k, gaddr address, uint64_t size) {
    return check_range(k->c, k->pc, address, size, false, k->name);
}

/* The bytes decide what the function does. */
static bool decides(struct call *k, gaddr address, uint64_t size) {
    return readable(k, address, size) &&
           check_defined(k->c, k->pc, address, size, "decides what the function does", k->name);
}

/* What a scan looks for: elements of 1 or 4 bytes, each compared with `stop`, and with 0 where
   `zero`. */
struct scan {
    unsigned width;
    uint32_t stop;
    bool zero;
};
static const struct scan text_end = {1, 0, true}, wide_end = {4, 0, true};

static uint32_t wide_at(gaddr a) { return *(volatile uint32_t *)guest(a); }
static uint32_t element_at(gaddr a, unsigned width) { return width == 1 ? byte_at(a) : wide_at(a); }
static uint32_t bits_at(gaddr a, unsigned width) {
    const uint8_t *d = shadow_of(a);
    return width == 1 ? *d : *(volatile const uint32_t *)d;
}

/* One that differs in a defined bit is no hit, whatever the others are. */
static bool may_hit(uint32_t x, uint32_t undefined, const struct scan *s) {
    return !((x ^ s->stop) & ~undefined) || (s->zero && !(x & ~undefined));
}

static bool tell_element(struct call *k, gaddr address, unsigned width) {
    return check_defined(k->c, k->pc, address, width, "decides what the function does", k->name);
}

/* A scan looked at n elements, of which the last was a hit where `hit`. True: nothing undefined
   decided how far it went. */
static bool scanned(struct call *k, gaddr address, uint64_t n, bool hit, const struct scan *s) {
    if (!readable(k, address, n * s->width))
        return false;
    if (!n || !shadow_first_undefined(address, n * s->width))
        return true;
    for (uint64_t i = 0; i < n; i++) {
        gaddr at = address + i * s->width;
        uint32_t undefined = bits_at(at, s->width);
        if (undefined &&
            ((hit && i == n - 1) || may_hit(element_at(at, s->width), undefined, s)))
            return tell_element(k, at, s->width);
    }
    return true;
}

/* The last of n elements that equals the scan's is its result: those behind that one decide. */
static void scanned_back(struct call *k, gaddr address, uint64_t n, const struct scan *s) {
    if (!n || !shadow_first_undefined(address, n * s->width))
        return;
    for (uint64_t i = n; i-- > 0;) {
        gaddr at = address + i * s->width;
        uint32_t undefined = bits_at(at, s->width), x = element_at(at, s->width);
        if (undefined && may_hit(x, undefined, s)) {
            tell_element(k, at, s->width);
            return;
        }
        if (x == s->stop)
            return;
    }
}

static bool writable(struct call *k, gaddr address, uint64_t size) {
    if (!size)
        return true;
    bool ok = check_range(k->c, k->pc, address, size, true, k->name);
    (void)*(volatile const uint8_t *)shadow_of(address); /* faults beyond the program's memory */
    if (address < GUEST_END && size < GUEST_END)
        shadow_define(k->c, address, size);
    return ok;
}

static uint64_t wide_length(gaddr address, uint64_t limit) {
    uint64_t n = 0;
    while (n < limit && wide_at(address + 4 * n))
        n++;
    return n;
}

static void check_apart(struct call *k, gaddr to, gaddr from, uint64_t size) {
    if (size && to != from && (to - from < size || from - to < size)) {
        struct access a = {.kind = KIND_OVERLAPPING_COPY,
                           .address = to,
                           .size = size,
                           .bad = to,
                           .write = true,
                           .other = from,
                           .function = k->name};
        finding_report(k->c, k->pc, &a);
    }
}

static void copy_checked(struct call *k, gaddr to, gaddr from, uint64_t size, bool may_overlap) {
    bool fine = readable(k, from, size);
    uint64_t touchable = size;
    if (size && !check_range(k->c, k->pc, to, size, true, k->name))
        touchable = touch_first_bad(k->c, to, size, true) - to;
    if (!may_overlap && fine && touchable == size)
        check_apart(k, to, from, size);
    shadow_move(k->c, to, from, touchable);
    guest_move(to, from, size);
}

/* The same for n elements of a text, the last of which ended it where `hit`. */
static void copy_text_checked(struct call *k, gaddr to, gaddr from, uint64_t n, bool hit,
                              const struct scan *s) {
    bool told = !scanned(k, from, n, hit, s);
    copy_checked(k, to, from, n * s->width, false);
    if (told)
        shadow_define(k->c, to, n * s->width);
}

/* The same into room that is filled up behind it. */
static void copy_filled(struct call *k, gaddr to, gaddr from, uint64_t n, uint64_t room,
                        const struct scan *s) {
    uint64_t size = n * s->width, all = room * s->width;
    check_apart(k, to, from, size);
    bool told = !scanned(k, from, n < room ? n + 1 : room, n < room, s);
    bool touchable = !all || check_range(k->c, k->pc, to, all, true, k->name);
    if (!told && touchable)
        shadow_move(k->c, to, from, size);
    else if (to < GUEST_END && all < GUEST_END)
        shadow_define(k->c, to, size);
    guest_move(to, from, size);
    if (to < GUEST_END && all < GUEST_END)
        shadow_define(k->c, to + size, all - size);
    fill_bytes(guest(to + size), 0, all - size);
}

/* As a text of n elements, and an end behind it. */
static void append(struct call *k, gaddr to, gaddr from, uint64_t n, bool ended,
                   const struct scan *s) {
    uint64_t size = n * s->width;
    bool told = !scanned(k, from, ended ? n + 1 : n, ended, s);
    bool touchable = check_range(k->c, k->pc, to, size + s->width, true, k->name);
    if (!told && touchable)
        shadow_move(k->c, to, from, size);
    else
        shadow_define(k->c, to, size);
    guest_move(to, from, size);
    shadow_define(k->c, to + size, s->width);
    fill_bytes(guest(to + size), 0, s->width);
}

/* The result is not 0 in any way, but its sign is undefined for what is at the address: all bits
   but one that is set. */
static void leave_sign(struct call *k, int64_t result, gaddr from) {
    k->result_bits = UINT32_MAX & ~((uint64_t)result & -(uint64_t)result);
    k->result_origin = origin_at(k->c, from);
}

static bool differs_surely(gaddr a, gaddr b, unsigned width) {
    uint32_t undefined = bits_at(a, width) | bits_at(b, width);
    return (element_at(a, width) ^ element_at(b, width)) & ~undefined;
}

/* Two ranges were compared up to the nth element, the first that differs if `result` is not 0.
   What differs in a defined bit does so in all ways; in which direction, undefined bits may
   decide, its own or those before it. `limit`: how many would have been compared. */
static void compared(struct call *k, gaddr a, gaddr b, uint64_t n, uint64_t limit, int64_t result,
                     unsigned width, bool text) {
    if (!readable(k, a, n * width) || !readable(k, b, n * width) || !n ||
        (!shadow_first_undefined(a, n * width) && !shadow_first_undefined(b, n * width)))
        return;
    for (uint64_t i = 0; i < n; i++) {
        gaddr p = a + i * width, q = b + i * width;
        uint32_t dx = bits_at(p, width), dy = bits_at(q, width);
        uint32_t x = element_at(p, width), y = element_at(q, width);
        if (!(dx | dy))
            continue;
        if (i < n - 1 || !result || !((x ^ y) & ~(dx | dy))) {
            for (uint64_t j = i; j < limit; j++) {
                gaddr u = a + j * width, v = b + j * width;
                if (differs_surely(u, v, width)) {
                    leave_sign(k, result, dx ? p : q);
                    return;
                }
                if (text && may_hit(element_at(u, width), bits_at(u, width), &text_end) &&
                    may_hit(element_at(v, width), bits_at(v, width), &text_end))
                    break;
            }
            if (tell_element(k, p, width))
                tell_element(k, q, width);
            return;
        }
        uint32_t sign = width == 4 ? 1u << 31 : 0; /* wide elements are signed */
        x ^= sign;
        y ^= sign;
        if ((x | dx) >= (y & ~dy) && (x & ~dx) <= (y | dy)) /* the least and the most */
            leave_sign(k, result, dx ? p : q);
    }
}

static int64_t compare(struct call *k, gaddr a, gaddr b, uint64_t limit, bool text) {
    int64_t result;
    uint64_t n = guest_difference(a, b, limit, text, &result);
    if (text)
        limit = n;
    else if (!readable(k, a, limit) || !readable(k, b, limit))
        return result;
    compared(k, a, b, n, limit, result, 1, text);
    return result;
}

static int lower(int b) { return b >= 'A' && b <= 'Z' ? b + 32 : b; }

/* What a byte may be in lower case: a set, the least and the most of it. */
struct folds {
    uint64_t seen[4];
    int least, most;
};
static struct folds folds_of(uint8_t x, uint8_t undefined, const int32_t *table) {
    struct folds f = {{0}, INT32_MAX, INT32_MIN};
    for (unsigned some = undefined;; some = (some - 1) & undefined) {
        int value = (x & ~undefined) | (int)some, folded = table ? table[value] : lower(value);
        f.seen[folded >> 6 & 3] |= 1ULL << (folded & 63);
        f.least = folded < f.least ? folded : f.least;
        f.most = folded > f.most ? folded : f.most;
        if (!some)
            return f;
    }
}

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
    if (!readable(k, a, n) || !readable(k, b, n) || !n)
        return result;
    for (uint64_t i = 0; i < n; i++) { /* as compared(), by all that each byte may be */
        uint8_t dx = *shadow_of(a + i), dy = *shadow_of(b + i);
        if (!(dx | dy))
            continue;
        struct folds fx = folds_of(byte_at(a + i), dx, table), fy = folds_of(byte_at(b + i), dy, table);
        bool apart = true, fixed = fx.least == fx.most && fy.least == fy.most;
        for (int w = 0; w < 4; w++)
            apart = apart && !(fx.seen[w] & fy.seen[w]);
        if (i < n - 1 ? fixed && fx.least : apart || fixed) {
            if (!fixed && fx.most >= fy.least && fx.least <= fy.most)
                leave_sign(k, result, dx ? a + i : b + i);
            continue;
        }
        if (tell_element(k, a + i, 1))
            tell_element(k, b + i, 1);
        break;
    }
    return result;
}

static gaddr find_text(struct call *k, gaddr hay, gaddr needle) {
    uint64_t m = guest_length(needle);
    decides(k, needle, m + 1);
    uint64_t n = guest_length(hay);
    gaddr found = 0;
    if (m == 0) {
        found = hay;
        n = 0;
    } else {
        uint8_t first = byte_at(needle);
        /* Knuth-Morris-Pratt would be linear; library texts are short */
        for (uint64_t i = 0; m <= n && i <= n - m && !found;) {
            i += guest_scan(hay + i, n - i, first, false);
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
    uint64_t m = guest_length(set);
    decides(k, set, m + 1);
    for (uint64_t i = 0; i < m; i++)
        in[byte_at(set + i)] = 1;
    uint64_t n = 0;
    for (uint8_t b; (b = byte_at(text + n)) && in[b] == accept; n++)
        ;
    decides(k, text, n + 1);
    return n;
}

uint64_t strings_run(struct context *c, int action, const char *name, uint32_t *origin) {
    struct call call = {c, c->pc, name, 0, 0}, *k = &call;
    gaddr a = c->registers[RDI], b = c->registers[RSI];
    uint64_t n = c->registers[RDX], r = a, m;
    struct scan byte = {1, (uint8_t)b, false}, wide = {4, (uint32_t)b, false};
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
        m = guest_scan(a, n, (uint8_t)b, false);
        scanned(k, a, m < n ? m + 1 : n, m < n, &byte);
        r = m < n ? a + m : 0;
        break;
    case DO_MEMRCHR:
        if (readable(k, a, n))
            scanned_back(k, a, n, &byte);
        r = 0;
        while (n--)
            if (byte_at(a + n) == (uint8_t)b) {
                r = a + n;
                break;
            }
        break;
    case DO_RAWMEMCHR:
        m = guest_scan(a, ~0ULL >> 1, (uint8_t)b, false);
        scanned(k, a, m + 1, true, &byte);
        r = a + m;
        break;
    case DO_STRLEN:
        r = guest_length(a);
        scanned(k, a, r + 1, true, &text_end);
        break;
    case DO_STRNLEN:
        r = guest_scan(a, b, 0, false);
        scanned(k, a, r < b ? r + 1 : b, r < b, &text_end);
        break;
    case DO_STRCPY:
    case DO_STPCPY:
        m = guest_length(b);
        copy_text_checked(k, a, b, m + 1, true, &text_end);
        if (action == DO_STPCPY)
            r = a + m;
        break;
    case DO_STRNCPY:
    case DO_STPNCPY:
        m = guest_scan(b, n, 0, false);
        if (m && (a - b < m || b - a < m))
            copy_checked(k, a, b, m, false);
        copy_filled(k, a, b, m, n, &text_end);
        if (action == DO_STPNCPY)
            r = a + m;
        break;
    case DO_STRCAT: {
        uint64_t at = guest_length(a);
        scanned(k, a, at + 1, true, &text_end);
        m = guest_length(b);
        copy_text_checked(k, a + at, b, m + 1, true, &text_end);
        break;
    }
    case DO_STRNCAT: {
        uint64_t at = guest_length(a);
        scanned(k, a, at + 1, true, &text_end);
        m = guest_scan(b, n, 0, false);
        append(k, a + at, b, m, m < n, &text_end);
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
        m = guest_scan(a, ~0ULL >> 1, (uint8_t)b, true);
        byte.zero = true;
        scanned(k, a, m + 1, true, &byte);
        r = byte_at(a + m) == (uint8_t)b || action == DO_STRCHRNUL ? a + m : 0;
        break;
    case DO_STRRCHR:
        m = guest_length(a);
        if (scanned(k, a, m + 1, true, &text_end))
            scanned_back(k, a, m + 1, &byte);
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
        scanned(k, a, r + 1, true, &wide_end);
        break;
    case DO_WCSNLEN:
        r = wide_length(a, b);
        scanned(k, a, r < b ? r + 1 : b, r < b, &wide_end);
        break;
    case DO_WCSCPY:
    case DO_WCPCPY:
        m = wide_length(b, ~0ULL >> 3);
        copy_text_checked(k, a, b, m + 1, true, &wide_end);
        if (action == DO_WCPCPY)
            r = a + 4 * m;
        break;
    case DO_WCSCAT: {
        uint64_t at = wide_length(a, ~0ULL >> 3);
        scanned(k, a, at + 1, true, &wide_end);
        m = wide_length(b, ~0ULL >> 3);
        copy_text_checked(k, a + 4 * at, b, m + 1, true, &wide_end);
        break;
    }
    case DO_WCSNCPY:
        m = wide_length(b, n);
        copy_filled(k, a, b, m, n, &wide_end);
        break;
    case DO_WCSNCAT: {
        uint64_t at = wide_length(a, ~0ULL >> 3);
        scanned(k, a, at + 1, true, &wide_end);
        m = wide_length(b, n);
        append(k, a + 4 * at, b, m, m < n, &wide_end);
        break;
    }
    case DO_MEMCCPY: {
        uint64_t limit = c->registers[RCX];
        m = guest_scan(b, limit, (uint8_t)n, false);
        bool hit = m < limit;
        r = hit ? a + m + 1 : 0;
        byte.stop = (uint8_t)n;
        copy_text_checked(k, a, b, hit ? m + 1 : limit, hit, &byte);
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
        bool text = action != DO_WMEMCMP;
        if (text || (readable(k, a, 4 * n) && readable(k, b, 4 * n)))
            compared(k, a, b, i, text ? i : n, (int64_t)r, 4, text);
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
        if (action == DO_WCSRCHR) {
            if (scanned(k, a, m + 1, true, &wide_end))
                scanned_back(k, a, m + 1, &wide);
        } else {
            wide.zero = true;
            scanned(k, a, r ? (r - a) / 4 + 1 : m + 1, true, &wide);
        }
        break;
    }
    case DO_WMEMCHR: {
        uint64_t i = 0;
        while (i < n && wide_at(a + 4 * i) != (uint32_t)b)
            i++;
        scanned(k, a, i < n ? i + 1 : n, i < n, &wide);
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
    *origin = k->result_origin;
    return k->result_bits;
}

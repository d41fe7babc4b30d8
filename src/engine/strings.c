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

static uint32_t wide_at(gaddr a) { return *(volatile uint32_t *)guest(a); }

static uint64_t wide_length(gaddr address, uint64_t limit) {
    uint64_t n = 0;
    while (n < limit && wide_at(address + 4 * n))
        n++;
    return n;
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
    guest_move(to, from, size);
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

static int64_t compare(struct call *k, gaddr a, gaddr b, uint64_t limit, bool text) {
    int64_t result;
    uint64_t n = guest_difference(a, b, limit, text, &result);
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
        m = guest_scan(a, n, (uint8_t)b, false);
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
        m = guest_scan(a, ~0ULL >> 1, (uint8_t)b, false);
        decides(k, a, m + 1);
        r = a + m;
        break;
    case DO_STRLEN:
        r = guest_length(a);
        decides(k, a, r + 1);
        break;
    case DO_STRNLEN:
        r = guest_scan(a, b, 0, false);
        decides(k, a, r < b ? r + 1 : b);
        break;
    case DO_STRCPY:
    case DO_STPCPY:
        m = guest_length(b);
        copy_text_checked(k, a, b, m + 1);
        if (action == DO_STPCPY)
            r = a + m;
        break;
    case DO_STRNCPY:
    case DO_STPNCPY:
        m = guest_scan(b, n, 0, false);
        if (m && (a - b < m || b - a < m))
            copy_checked(k, a, b, m, false);
        decides(k, b, m < n ? m + 1 : n);
        writable(k, a, n);
        guest_move(a, b, m);
        fill_bytes(guest(a + m), 0, n - m);
        if (action == DO_STPNCPY)
            r = a + m;
        break;
    case DO_STRCAT: {
        uint64_t at = guest_length(a);
        decides(k, a, at + 1);
        m = guest_length(b);
        copy_text_checked(k, a + at, b, m + 1);
        break;
    }
    case DO_STRNCAT: {
        uint64_t at = guest_length(a);
        decides(k, a, at + 1);
        m = guest_scan(b, n, 0, false);
        decides(k, b, m < n ? m + 1 : m);
        writable(k, a + at, m + 1);
        guest_move(a + at, b, m);
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
        m = guest_scan(a, ~0ULL >> 1, (uint8_t)b, true);
        decides(k, a, m + 1);
        r = byte_at(a + m) == (uint8_t)b || action == DO_STRCHRNUL ? a + m : 0;
        break;
    case DO_STRRCHR:
        m = guest_length(a);
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
        guest_move(a, b, 4 * m);
        fill_bytes(guest(a + 4 * m), 0, 4 * (n - m));
        break;
    case DO_WCSNCAT: {
        uint64_t at = wide_length(a, ~0ULL >> 3);
        decides(k, a, 4 * (at + 1));
        m = wide_length(b, n);
        decides(k, b, 4 * (m < n ? m + 1 : m));
        writable(k, a + 4 * at, 4 * (m + 1));
        guest_move(a + 4 * at, b, 4 * m);
        *(volatile uint32_t *)guest(a + 4 * (at + m)) = 0;
        break;
    }
    case DO_MEMCCPY: {
        uint64_t limit = c->registers[RCX];
        m = guest_scan(b, limit, (uint8_t)n, false);
        r = m < limit ? a + m + 1 : 0;
        m = m < limit ? m + 1 : limit;
        decides(k, b, m);
        writable(k, a, m);
        guest_move(a, b, m);
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

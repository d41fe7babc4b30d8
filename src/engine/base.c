/* Small things a freestanding program needs: copying, text, locks, memory, and
   the five functions the decoder library imports. */
#include "engine.h"

#include <asm/unistd.h>
#include <linux/futex.h>
#include <linux/mman.h>
#include <stdarg.h>

/* String instructions take a while to begin. The accesses are volatile, or the compiler would
   make a call of memcpy of them, which comes back here. */
#define FEW_TO_COPY 96
#define FEW_TO_FILL 256

void copy_bytes(void *to, const void *from, uint64_t size) {
    if (size > FEW_TO_COPY) {
        __asm__ volatile("rep movsb" : "+D"(to), "+S"(from), "+c"(size) : : "memory");
        return;
    }
    volatile uint8_t *d = to;
    const volatile uint8_t *s = from;
    for (; size >= 8; size -= 8, d += 8, s += 8)
        *(volatile uint64_t *)d = *(const volatile uint64_t *)s;
    while (size--)
        *d++ = *s++;
}

void fill_bytes(void *to, int byte, uint64_t size) {
    if (size > FEW_TO_FILL) {
        __asm__ volatile("rep stosb" : "+D"(to), "+c"(size) : "a"(byte) : "memory");
        return;
    }
    volatile uint8_t *d = to;
    uint64_t word = (uint8_t)byte * 0x0101010101010101ULL;
    if (size >= 8) { /* the last store may write some bytes twice */
        volatile uint8_t *last = d + size - 8;
        for (; d < last; d += 8)
            *(volatile uint64_t *)d = word;
        *(volatile uint64_t *)last = word;
        return;
    }
    while (size--)
        *d++ = (uint8_t)byte;
}

/* Imported by the decoder library; exported from here so that none of libc runs. */
__attribute__((visibility("default"))) void *memcpy(void *to, const void *from, size_t size) {
    copy_bytes(to, from, size);
    return to;
}
__attribute__((visibility("default"))) void *memset(void *to, int byte, size_t size) {
    fill_bytes(to, byte, size);
    return to;
}
__attribute__((visibility("default"))) size_t strlen(const char *s) { return text_length(s); }
__attribute__((visibility("default"), noreturn)) void __assert_fail(const char *what,
                                                                    const char *file,
                                                                    unsigned line,
                                                                    const char *function) {
    (void)function;
    fail("the instruction decoder failed: %s (%s:%u)", what, file, (uint64_t)line);
}
__attribute__((visibility("default"), noreturn)) void __stack_chk_fail(void) {
    fail("the instruction decoder overran its stack");
}

bool same_bytes(const void *a, const void *b, uint64_t size) {
    const unsigned char *x = a, *y = b;
    for (uint64_t i = 0; i < size; i++)
        if (x[i] != y[i])
            return false;
    return true;
}

bool same_text(const char *a, const char *b) {
    while (*a && *a == *b)
        a++, b++;
    return *a == *b;
}

uint64_t text_length(const char *s) {
    uint64_t n = 0;
    while (s[n] != 0) {
        n++;
        __asm__ volatile("" : "+r"(n)); /* keep the compiler from calling strlen */
    }
    return n;
}

bool has_prefix(const char *s, const char *prefix) {
    while (*prefix)
        if (*s++ != *prefix++)
            return false;
    return true;
}

void copy_text(char *to, const char *from, uint64_t size) {
    uint64_t i = 0;
    while (i + 1 < size && from[i]) {
        to[i] = from[i];
        i++;
    }
    if (size)
        to[i] = 0;
}

static int format_list(char *to, uint64_t size, const char *pattern, va_list list) {
    uint64_t at = 0;
#define PUT(ch) (at + 1 < size ? (void)(to[at++] = (ch)) : (void)0)
    for (; *pattern; pattern++) {
        if (*pattern != '%') {
            PUT(*pattern);
            continue;
        }
        char digits[24];
        int n = 0;
        switch (*++pattern) {
        case 's': {
            const char *s = va_arg(list, const char *);
            while (s && *s)
                PUT(*s++);
            break;
        }
        case 'x': {
            uint64_t v = va_arg(list, uint64_t);
            do
                digits[n++] = "0123456789abcdef"[v & 15];
            while (v >>= 4);
            while (n)
                PUT(digits[--n]);
            break;
        }
        case 'u':
        case 'd': {
            uint64_t v = va_arg(list, uint64_t);
            if (*pattern == 'd' && (int64_t)v < 0) {
                PUT('-');
                v = -v;
            }
            do
                digits[n++] = (char)('0' + v % 10);
            while (v /= 10);
            while (n)
                PUT(digits[--n]);
            break;
        }
        default:
            PUT(*pattern);
        }
    }
    if (size)
        to[at] = 0;
    return (int)at;
#undef PUT
}

int format(char *to, uint64_t size, const char *pattern, ...) {
    va_list list;
    va_start(list, pattern);
    int n = format_list(to, size, pattern, list);
    va_end(list);
    return n;
}

void debug(const char *pattern, ...) {
    char text[500];
    va_list list;
    va_start(list, pattern);
    int n = format_list(text, sizeof text, pattern, list);
    va_end(list);
    system_call(__NR_write, 2, text, n);
}

void fail(const char *pattern, ...) {
    char text[500];
    va_list list;
    va_start(list, pattern);
    int n = format_list(text, sizeof text - 1, pattern, list);
    va_end(list);
    if (ledger) {
        copy_text(ledger->failure_text, text, sizeof ledger->failure_text);
        __atomic_store_n(&ledger->failure, 1, __ATOMIC_RELEASE);
    } else {
        system_call(__NR_write, 2, "tondo-engine: ", 14);
        text[n] = '\n';
        system_call(__NR_write, 2, text, n + 1);
    }
    for (;;)
        system_call(__NR_exit_group, 125);
}

bool threaded;

void lock_take(struct lock *l) {
    if (!threaded) {
        l->word = 1;
        return;
    }
    for (int spin = 0; spin < 100; spin++) {
        uint32_t free = 0;
        if (__atomic_compare_exchange_n(&l->word, &free, 1, false, __ATOMIC_ACQUIRE,
                                        __ATOMIC_RELAXED))
            return;
        __builtin_ia32_pause();
    }
    while (__atomic_exchange_n(&l->word, 2, __ATOMIC_ACQUIRE))
        system_call(__NR_futex, &l->word, FUTEX_WAIT_PRIVATE, 2, 0, 0, 0);
}

void lock_drop(struct lock *l) {
    if (!threaded) {
        l->word = 0;
        return;
    }
    if (__atomic_exchange_n(&l->word, 0, __ATOMIC_RELEASE) == 2)
        system_call(__NR_futex, &l->word, FUTEX_WAKE_PRIVATE, 1, 0, 0, 0);
}

void *engine_alloc(uint64_t size) {
    long p = system_call(__NR_mmap, 0, (size + 4095) & ~4095ULL, PROT_READ | PROT_WRITE,
                         MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
    if (p < 0 && p > -4096)
        fail("no memory for the engine (%u bytes): raise the limit on address space (ulimit -v)",
             size);
    return (void *)p;
}

void engine_free(void *p, uint64_t size) {
    system_call(__NR_munmap, p, (size + 4095) & ~4095ULL);
}

int count_ones(uint64_t word) {
    int n = 0;
    for (; word; word &= word - 1)
        n++;
    return n;
}

/* What system calls do to guest memory, after the table: inputs are checked before
   the call, what it wrote is defined after it. */
#include "effects.h"
#include "syscall_table.h"

#include <asm/errno.h>
#include <asm/prctl.h>
#include <asm/unistd.h>
#include <linux/mman.h>
#include <linux/sched.h>

enum effect_kind {
    EFFECT_NONE, EFFECT_IN, EFFECT_OUT, EFFECT_FULL, EFFECT_INTO, EFFECT_FROM, EFFECT_BOTH,
    EFFECT_PART, EFFECT_ITEMS, EFFECT_COUNTED, EFFECT_TEXT, EFFECT_READV, EFFECT_WRITEV,
    EFFECT_FILLS, EFFECT_FOUND, EFFECT_LENGTH, EFFECT_OPENS, EFFECT_PAIR, EFFECT_CLOSES, EFFECT_CALL,
};

struct effect {
    uint8_t kind, parameter;
    uint16_t size, at; /* bytes, or the parameter that holds them */
    void (*function)(struct call *k);
};
#define IN(i, j) {EFFECT_IN, i, j, 0, 0}
#define OUT(i, j) {EFFECT_OUT, i, j, 0, 0}
#define FULL(i, j) {EFFECT_FULL, i, j, 0, 0}
#define INTO(i, n) {EFFECT_INTO, i, n, 0, 0}
#define FROM(i, n) {EFFECT_FROM, i, n, 0, 0}
#define BOTH(i, n) {EFFECT_BOTH, i, n, 0, 0}
#define PART(i, at, n) {EFFECT_PART, i, n, at, 0}
#define FILLS(i, at, n) {EFFECT_FILLS, i, n, at, 0}
#define FOUND(i, n) {EFFECT_FOUND, i, n, 0, 0}
#define ITEMS(i, n) {EFFECT_ITEMS, i, n, 0, 0}
#define COUNTED(i, j, n) {EFFECT_COUNTED, i, n, j, 0}
#define TEXT(i) {EFFECT_TEXT, i, 0, 0, 0}
#define READV(i, j) {EFFECT_READV, i, j, 0, 0}
#define WRITEV(i, j) {EFFECT_WRITEV, i, j, 0, 0}
#define LENGTH(i, j) {EFFECT_LENGTH, i, j, 0, 0}
#define OPENS() {EFFECT_OPENS, 0, 0, 0, 0}
#define PAIR(i) {EFFECT_PAIR, i, 0, 0, 0}
#define CLOSES(i, j) {EFFECT_CLOSES, i, j, 0, 0}
#define CALL(f) {EFFECT_CALL, 0, 0, 0, effect_##f}

/* The parameter's name, for messages; false when its register need not be defined. */
static bool parameter_name(const struct call *k, int index, char *to, uint64_t size) {
    const char *p = k->parameters;
    while (index-- > 0 && *p) {
        while (*p && *p != ' ')
            p++;
        if (*p)
            p++;
    }
    bool optional = *p == '(';
    p += optional;
    uint64_t n = 0;
    while (p[n] && p[n] != ' ' && p[n] != ')' && n + 1 < size) {
        to[n] = p[n];
        n++;
    }
    to[n] = 0;
    return !optional;
}

/* The kernel moves no more bytes at once, whatever it is asked for (read(2)). */
static uint64_t at_most(uint64_t size) {
    enum { MOST = 0x7ffff000 };
    return size < MOST ? size : MOST;
}

/* The kernel did not get at it: of whose making that is. Libraries of the system ask it whether
   memory is there. */
static void tell_nowhere(struct call *k, gaddr p, uint64_t size, bool write) {
    struct mapping m;
    gaddr pc = k->c->pc - 2; /* behind the instruction by now */
    bool mapped = memory_lookup(p, &m) && (m.protection & (write ? PROT_WRITE : PROT_READ));
    uint64_t reach = mapped || heap_near(p) ? memory_reach(p, size) : 0;
    if (k->told || reach == size || finding_is_installed(k->c, pc))
        return;
    struct access a = {.kind = p < 4096 ? KIND_NULL_DEREFERENCE : KIND_INVALID_ACCESS,
                       .address = p,
                       .size = size,
                       .bad = p + reach,
                       .write = write,
                       .function = k->name};
    finding_report(k->c, pc, &a);
    k->told = true;
}

/* An address that the kernel will use, or has used. */
static void reaches(struct call *k, gaddr p, uint64_t size, bool write) {
    if (!k->done)
        k->wild |= p >= GUEST_END;
    else if (k->result == -EFAULT)
        tell_nowhere(k, p, size, write);
}

void takes(struct call *k, int parameter, gaddr base, uint64_t at, uint64_t size) {
    if (!base || !size)
        return;
    size = at_most(size);
    struct context *c = k->c;
    gaddr p = base + at;
    reaches(k, p, size, false);
    if (k->done || k->wild)
        return;
    if (!check_range(c, c->pc, p, size, false, k->name) || p >= GUEST_END || size > GUEST_END - p)
        return;
    gaddr bad = shadow_first_undefined(p, size);
    if (!bad)
        return;
    gaddr last = bad;
    while (last + 1 < p + size && *shadow_of(last + 1))
        last++;
    char name[24], text[64];
    parameter_name(k, parameter, name, sizeof name);
    if (bad == last)
        format(text, sizeof text, "byte %u of %s goes to the kernel", bad - base, name);
    else
        format(text, sizeof text, "bytes %u..%u of %s go to the kernel", bad - base, last - base,
               name);
    finding_undefined(c, c->pc, origin_at(c, bad), text, bad, last - bad + 1, k->name);
}

void gives(struct call *k, gaddr p, uint64_t room, uint64_t size) {
    room = at_most(room);
    if (p && room)
        reaches(k, p, room, true);
    if (!p || k->wild || p >= GUEST_END || room > GUEST_END - p)
        return;
    if (!k->done) {
        if (room)
            check_range(k->c, k->c->pc, p, room, true, k->name);
        memory_kernel_writes(p, room);
        return;
    }
    if (size > room)
        size = room;
    shadow_define(k->c, p, size);
}

bool succeeded(const struct call *k) { return k->done && k->result >= 0; }

uint64_t text_size(gaddr p, uint64_t limit) {
    uint64_t n = 0;
    while (n < limit && !*shadow_of(p + n) && *(volatile char *)guest(p + n))
        n++;
    return n < limit ? n + 1 : limit;
}

void takes_text(struct call *k, int parameter, gaddr p) {
    if (!p)
        return;
    reaches(k, p, 1, false);
    if (!k->done && !k->wild)
        takes(k, parameter, p, 0, text_size(p, 4096));
}

/* What a socket says of itself, -1: it is none. */
static int socket_is(int fd, int option) {
    int value = 0, size = sizeof value;
    return system_call(__NR_getsockopt, fd, 1 /* SOL_SOCKET */, option, &value, &size) ? -1 : value;
}
static bool is_raw(int fd) { return socket_is(fd, 3 /* SO_TYPE */) == 3; /* SOCK_RAW */ }
static bool is_netlink(int fd) { return socket_is(fd, 39 /* SO_DOMAIN */) == 16; }

/* What is sent on a netlink socket (netlink(7)): behind the header are attributes, each
   filled up to 4 bytes with what the kernel ignores. */
static void takes_sent(struct call *k, int parameter, gaddr base, uint64_t size) {
    enum { HEADER = 16, ALIGNMENT = 4 };
    gaddr bad = size && base < GUEST_END && size <= GUEST_END - base
                    ? shadow_first_undefined(base, size) : 0;
    if (k->done || !bad || !is_netlink((int)k->a[0])) {
        takes(k, parameter, base, 0, size);
        return;
    }
    if (!check_range(k->c, k->c->pc, base, size, false, k->name))
        return;
    while (bad) {
        gaddr end = bad + 1;
        while (end < base + size && *shadow_of(end))
            end++;
        if (bad - base < HEADER || end - bad >= ALIGNMENT || (end - base) % ALIGNMENT) {
            takes(k, parameter, base, bad - base, size - (bad - base));
            return;
        }
        bad = end < base + size ? shadow_first_undefined(end, base + size - end) : 0;
    }
}

void takes_vector(struct call *k, int parameter, gaddr p, uint64_t n, bool given) {
    uint64_t left = k->done && k->result > 0 ? (uint64_t)k->result : 0;
    if (!p || n > 1024)
        return;
    takes(k, parameter, p, 0, n * 16);
    for (uint64_t i = 0; i < n && !k->wild && !k->told; i++) {
        const uint64_t *v = guest(p + 16 * i);
        if (!given) {
            takes_sent(k, parameter, v[0], v[1]);
            continue;
        }
        uint64_t size = v[1] < left ? v[1] : left;
        gives(k, v[0], v[1], size);
        left -= size;
    }
}

/* --- what no row can say --- */

static void effect_mode_of_open(struct call *k) {
    if (!k->done && (k->a[1] & 0x400040)) /* O_CREAT, O_TMPFILE */
        check_register(k, 2, "mode");
}
static void effect_mode_of_openat(struct call *k) {
    if (!k->done && (k->a[2] & 0x400040))
        check_register(k, 3, "mode");
}

static void effect_mmap(struct call *k) {
    if (k->done || (k->a[3] & 0x20)) /* MAP_ANONYMOUS */
        return;
    check_register(k, 4, "fd");
    check_register(k, 5, "offset");
}

static void effect_mq_open(struct call *k) {
    if (k->done || !(k->a[1] & 0x40)) /* O_CREAT */
        return;
    check_register(k, 2, "mode");
    if (k->a[3])
        takes(k, 3, k->a[3], 8, 16); /* how many messages, and how long */
}

static void effect_poll(struct call *k) {
    uint64_t n = k->a[1] < 65536 ? k->a[1] : 65536;
    for (uint64_t i = 0; i < n && k->a[0]; i++) {
        takes(k, 0, k->a[0], 8 * i, 4);
        if (*(int32_t *)guest(k->a[0] + 8 * i) >= 0) /* others are passed over */
            takes(k, 0, k->a[0], 8 * i + 4, 2);
        if (succeeded(k))
            gives(k, k->a[0] + 8 * i + 6, 2, 2);
    }
}

static void effect_epoll_ctl(struct call *k) {
    if (k->a[1] != 2) /* EPOLL_CTL_DEL looks at nothing */
        takes(k, 3, k->a[3], 0, 4);
}

static void effect_select(struct call *k) {
    uint64_t n = k->a[0] < 65536 ? (k->a[0] + 63) / 64 * 8 : 0;
    for (int i = 1; i <= 3; i++) {
        takes(k, i, k->a[i], 0, (k->a[0] + 7) / 8 < n ? (k->a[0] + 7) / 8 : n);
        if (succeeded(k))
            gives(k, k->a[i], n, n);
    }
    takes(k, 4, k->a[4], 0, 16);
}

static void effect_mask_of_select(struct call *k) { /* through a pair of address and size */
    gaddr pair = k->a[5];
    if (pair && !k->done)
        takes(k, 5, *(gaddr *)guest(pair), 0, 8);
}

static void effect_mincore(struct call *k) {
    uint64_t n = (k->a[1] + 4095) / 4096;
    gives(k, k->a[2], n, succeeded(k) ? n : 0);
}

/* waitid(2): 0 also where no child had anything to tell; si_signo says so. */
static void effect_usage_of_found(struct call *k) {
    gaddr told = k->a[2];
    enum { SIZE = 144 };
    gives(k, k->a[4], SIZE, succeeded(k) && (!told || *(int32_t *)guest(told)) ? SIZE : 0);
}

/* Entries of a directory end with their name's terminator; a gap follows up to the next. */
static void gives_entries(struct call *k, uint64_t header, bool kind_at_end) {
    gaddr p = k->a[1], end = p + (succeeded(k) ? (uint64_t)k->result : 0);
    enum { LENGTH = 16 };
    gives(k, p, k->a[2], 0);
    while (k->done && p < end) {
        uint64_t length = *(uint16_t *)guest(p + LENGTH), text = 1;
        if (length <= header || length > end - p)
            break;
        while (text < length - header && *(char *)guest(p + header + text - 1))
            text++;
        gives(k, p, header + text, header + text);
        if (kind_at_end)
            gives(k, p + length - 1, 1, 1);
        p += length;
    }
}
static void effect_entries(struct call *k) { gives_entries(k, 18, true); }
static void effect_entries_64(struct call *k) { gives_entries(k, 19, false); }

static void effect_file_times(struct call *k) { /* utimensat(2) */
    enum { NOW = 0x3fffffff, OMIT = 0x3ffffffe };
    for (gaddr at = 0; k->a[2] && at < 32; at += 16) {
        takes(k, 2, k->a[2], at + 8, 8);
        uint64_t rest = *(uint64_t *)guest(k->a[2] + at + 8);
        if (rest != NOW && rest != OMIT) /* else the seconds do not count */
            takes(k, 2, k->a[2], at, 8);
    }
}

/* struct timex: what `modes` asks to be set is read; all is written but the gaps. */
static void clock_adjusted(struct call *k, int parameter) {
    static const struct {
        uint16_t modes;
        uint8_t at, size;
    } set[] = {{0x1, 8, 8},   {0x2, 16, 8},  {0x4, 24, 8},    {0x8, 32, 8},
               {0x10, 40, 4}, {0xa0, 48, 8}, {0x100, 72, 16}, {0x4000, 88, 8}};
    static const uint8_t filled[][2] = {{8, 44}, {48, 116}, {120, 164}};
    gaddr p = k->a[parameter];
    uint32_t modes = p && !k->done ? *(uint32_t *)guest(p) : 0;
    for (unsigned i = 0; i < sizeof set / sizeof set[0]; i++)
        if (modes & set[i].modes)
            takes(k, parameter, p, set[i].at, set[i].size);
    for (int i = 0; p && i < 3; i++) {
        uint64_t size = (uint64_t)(filled[i][1] - filled[i][0]);
        gives(k, p + filled[i][0], size, succeeded(k) ? size : 0);
    }
}
static void effect_clock_0(struct call *k) { clock_adjusted(k, 0); }
static void effect_clock_1(struct call *k) { clock_adjusted(k, 1); }

static void effect_attribute(struct call *k) { /* struct xattr_args: value, size, flags */
    bool given = k->name[0] == 'g';
    gaddr p = k->a[4];
    if (!p)
        return;
    takes(k, 4, p, 0, given ? 12 : 16);
    gaddr value = *(gaddr *)guest(p);
    uint64_t size = *(uint32_t *)guest(p + 8);
    if (given)
        gives(k, value, size, succeeded(k) ? (uint64_t)k->result : 0);
    else
        takes(k, 4, value, 0, size);
}

static void effect_msgsnd(struct call *k) { takes(k, 1, k->a[1], 0, k->a[2] + 8); }
static void effect_msgrcv(struct call *k) {
    gives(k, k->a[1], k->a[2] + 8, succeeded(k) ? (uint64_t)k->result + 8 : 0);
}

static void effect_remaining(struct call *k) {
    gives(k, k->a[1], 16, k->done && k->result == -EINTR ? 16 : 0);
}
static void effect_remaining_3(struct call *k) {
    gives(k, k->a[3], 16, k->done && k->result == -EINTR ? 16 : 0);
}

/* Of a socket address the kernel looks at what its family has. */
void takes_address(struct call *k, int parameter, gaddr p, uint64_t size) {
    if (k->done || !p || size < 2)
        return;
    takes(k, parameter, p, 0, 2);
    uint16_t family = *(uint16_t *)guest(p);
    uint64_t from = 2, to = 2;
    switch (family) {
    case 1: /* AF_UNIX: a text, or a name in the abstract space */
        if (size > 2)
            to = 2 + (*(char *)guest(p + 2) ? text_size(p + 2, size - 2) : size - 2);
        break;
    case 2: /* AF_INET: the rest is padding, and so is the port of raw sockets (raw(7)) */
        to = 8;
        if ((*shadow_of(p + 2) | *shadow_of(p + 3)) && is_raw((int)k->a[0]))
            from = 4;
        break;
    case 17: /* AF_PACKET: protocol and interface */
        to = 8;
        break;
    case 10: /* AF_INET6: not the flow; the scope of local addresses alone */
        takes(k, parameter, p, 2, size < 4 ? size - 2 : 2);
        from = 8;
        to = 24;
        if (size >= 28 && !*shadow_of(p + 8) && !*shadow_of(p + 9)) {
            const uint8_t *a = guest(p + 8);
            if ((a[0] == 0xfe && (a[1] & 0xc0) == 0x80) || (a[0] == 0xff && (a[1] & 15) <= 2))
                to = 28;
        }
        break;
    case 29: /* AF_CAN: an interface */
        from = 4;
        to = 8;
        break;
    case 38: { /* AF_ALG: texts and numbers */
        enum { KIND = 2, NUMBERS = 16, NAME = 24, END = 88 };
        if (size < END)
            break;
        takes(k, parameter, p, KIND, text_size(p + KIND, NUMBERS - KIND));
        takes(k, parameter, p, NUMBERS, NAME - NUMBERS);
        takes(k, parameter, p, NAME, text_size(p + NAME, END - NAME));
        break;
    }
    case 16: /* AF_NETLINK: two bytes of padding */
        from = 4;
        to = 12;
        break;
    case 40: /* AF_VSOCK */
        from = 4;
        to = 13;
        break;
    }
    if (to > size)
        to = size;
    if (from < to)
        takes(k, parameter, p, from, to - from);
}
static void effect_address_1(struct call *k) { takes_address(k, 1, k->a[1], k->a[2]); }
static void effect_address_4(struct call *k) { takes_address(k, 4, k->a[4], k->a[5]); }
static void effect_sendto(struct call *k) {
    takes_sent(k, 1, k->a[1], k->a[2]);
    effect_address_4(k);
}

/* The kernel looks at the name's length where there is a name. */
static void takes_header(struct call *k, gaddr m) {
    takes(k, 1, m, 0, 8);
    if (*(gaddr *)guest(m))
        takes(k, 1, m, 8, 4);
    takes(k, 1, m, 16, 32);
}

void takes_message(struct call *k, gaddr m) {
    if (k->done || !m)
        return;
    takes_header(k, m);
    const uint64_t *h = guest(m);
    if (h[0])
        takes_address(k, 1, h[0], (uint32_t)h[1]);
    takes_vector(k, 1, h[2], h[3], false);
    for (uint64_t at = 0; h[4] && at + 16 <= h[5];) { /* headers and data, no padding */
        takes(k, 1, h[4] + at, 0, 16);
        uint64_t size = *(uint64_t *)guest(h[4] + at);
        if (size < 16 || size > h[5] - at)
            break;
        takes(k, 1, h[4] + at, 16, size - 16);
        at += (size + 7) & ~7ULL;
    }
}

void gives_message(struct call *k, gaddr m, long received) {
    if (!m)
        return;
    const uint64_t *h = guest(m);
    if (!k->done) {
        takes_header(k, m);
        takes_vector(k, 1, h[2], h[3], true);
        if (!shadow_first_undefined(m, 16)) {
            k->room = h[0] ? (uint32_t)h[1] : 0;
            gives(k, h[0], k->room, 0);
        }
        if (!shadow_first_undefined(m + 32, 16))
            gives(k, h[4], h[5], 0);
        return;
    }
    if (received < 0)
        return;
    struct call part = *k;
    part.result = received;
    takes_vector(&part, 1, h[2], h[3], true);
    gives(k, h[0], k->room, (uint32_t)h[1]); /* the name's whole length, also where cut off */
    for (uint64_t at = 0; h[4] && at + 16 <= h[5];) { /* headers and data, no padding */
        uint64_t size = *(uint64_t *)guest(h[4] + at);
        if (size < 16 || size > h[5] - at)
            break;
        gives(k, h[4] + at, size, size);
        at += (size + 7) & ~7ULL;
    }
    gives(k, m + 8, 4, 4);
    gives(k, m + 40, 12, 12);
}
static void effect_sendmsg(struct call *k) { takes_message(k, k->a[1]); }
static void effect_recvmsg(struct call *k) { gives_message(k, k->a[1], k->result); }
static void effect_sendmmsg(struct call *k) {
    uint64_t n = k->a[2] < 1024 ? k->a[2] : 1024;
    for (uint64_t i = 0; i < n; i++) {
        takes_message(k, k->a[1] + 64 * i);
        if (k->done && k->result > (long)i)
            gives(k, k->a[1] + 64 * i + 56, 4, 4);
    }
}
static void effect_recvmmsg(struct call *k) { /* cut off names are looked at for one alone */
    uint64_t n = k->a[2] < 1024 ? k->a[2] : 1024;
    for (uint64_t i = 0; i < n; i++) {
        if (k->done && k->result <= (long)i)
            break;
        if (k->done)
            gives(k, k->a[1] + 64 * i + 56, 4, 4);
        gives_message(k, k->a[1] + 64 * i,
                      k->done ? (long)*(uint32_t *)guest(k->a[1] + 64 * i + 56) : 0);
    }
    if (n > 1)
        k->room = UINT32_MAX;
}

static void effect_clone(struct call *k) {
    if (k->a[0] & CLONE_PIDFD)
        gives(k, k->a[2], 4, succeeded(k) ? 4 : 0);
    if (k->a[0] & CLONE_PARENT_SETTID)
        gives(k, k->a[2], 4, succeeded(k) ? 4 : 0);
    if (k->a[0] & CLONE_CHILD_SETTID)
        gives(k, k->a[3], 4, succeeded(k) ? 4 : 0);
}

static void effect_clone3(struct call *k) {
    gaddr p = k->a[0];
    if (k->a[1] < 64)
        return;
    if (!k->done) {
        takes(k, 0, p, 0, 8);
        takes(k, 0, p, 32, 24);
    }
    const uint64_t *a = guest(p);
    uint64_t flags = a[0];
    if (flags & CLONE_SETTLS)
        takes(k, 0, p, 56, 8);
    if (flags & CLONE_PIDFD)
        gives(k, a[1], 4, succeeded(k) ? 4 : 0);
    if (flags & CLONE_CHILD_SETTID)
        gives(k, a[2], 4, succeeded(k) ? 4 : 0);
    if (flags & CLONE_PARENT_SETTID)
        gives(k, a[3], 4, succeeded(k) ? 4 : 0);
}

static void takes_texts(struct call *k, int parameter, gaddr list) {
    if (k->done || !list)
        return;
    for (uint64_t i = 0; i < 4096; i++) {
        takes(k, parameter, list, 8 * i, 8);
        gaddr p = *(gaddr *)guest(list + 8 * i);
        if (!p)
            break;
        takes_text(k, parameter, p);
    }
}
static void effect_texts_1(struct call *k) { takes_texts(k, 1, k->a[1]); }
static void effect_texts_2(struct call *k) { takes_texts(k, 2, k->a[2]); }
static void effect_texts_3(struct call *k) { takes_texts(k, 3, k->a[3]); }

static void effect_close_range(struct call *k) {
    if (succeeded(k) && !(k->a[2] & 4)) /* CLOSE_RANGE_CLOEXEC closes nothing yet */
        descriptors_closed(k->c, k->c->pc - 2, k->a[0], k->a[1]);
}

/* Version 1 of the header has one set, later ones two. */
static uint64_t capabilities_size(const struct call *k) {
    return *(uint32_t *)guest(k->a[0]) == 0x19980330 ? 12 : 24;
}
static void effect_capget(struct call *k) {
    if (k->a[1])
        takes(k, 0, k->a[0], 4, 4);
    uint64_t size = k->a[0] && k->a[1] ? capabilities_size(k) : 0;
    gives(k, k->a[1], size, succeeded(k) ? size : 0);
}
static void effect_capset(struct call *k) {
    if (k->a[0])
        takes(k, 1, k->a[1], 0, capabilities_size(k));
}

static void effect_name_to_handle(struct call *k) {
    takes(k, 2, k->a[2], 0, 4);
    if (succeeded(k))
        gives(k, k->a[2], 8 + *(uint32_t *)guest(k->a[2]), 8 + *(uint32_t *)guest(k->a[2]));
}

static void effect_keyctl(struct call *k) {
    uint64_t room = k->a[3], done = succeeded(k) ? (uint64_t)k->result : 0;
    switch (k->a[0]) {
    case 1: /* join a session by its name */
        takes_text(k, 1, k->a[1]);
        break;
    case 2: case 12: /* update, instantiate */
        if (k->a[2])
            takes(k, 2, k->a[2], 0, k->a[3]);
        break;
    case 10: /* search: type and description */
        takes_text(k, 2, k->a[2]);
        takes_text(k, 3, k->a[3]);
        break;
    case 6: case 11: case 17: /* describe, read, get the label */
        gives(k, k->a[2], room, done < room ? done : room);
        break;
    }
}

/* Sets of memory nodes: the kernel looks at one bit less than it is told. */
static uint64_t node_bytes(uint64_t most) {
    enum { MOST = 1 << 15 };
    return most > 1 && most <= MOST ? (most - 1 + 7) / 8 : 0;
}
static void effect_set_mempolicy(struct call *k) { takes(k, 1, k->a[1], 0, node_bytes(k->a[2])); }
static void effect_mbind(struct call *k) { takes(k, 3, k->a[3], 0, node_bytes(k->a[4])); }
static void effect_migrate_pages(struct call *k) {
    takes(k, 2, k->a[2], 0, node_bytes(k->a[1]));
    takes(k, 3, k->a[3], 0, node_bytes(k->a[1]));
}
static void effect_get_mempolicy(struct call *k) {
    uint64_t size = (node_bytes(k->a[2]) + 7) & ~7ULL;
    gives(k, k->a[1], size, succeeded(k) ? size : 0);
}
static void effect_move_pages(struct call *k) {
    uint64_t size = 4 * k->a[1];
    gives(k, k->a[4], size, succeeded(k) ? size : 0);
}

static void effect_modify_ldt(struct call *k) {
    if (k->a[0] == 0 || k->a[0] == 2) /* read */
        gives(k, k->a[1], k->a[2], succeeded(k) ? (uint64_t)k->result : 0);
    else
        takes(k, 1, k->a[1], 0, k->a[2]);
}

static void effect_arch_prctl(struct call *k) {
    if (k->a[0] == ARCH_GET_FS || k->a[0] == ARCH_GET_GS)
        gives(k, k->a[1], 8, succeeded(k) ? 8 : 0);
    else if (!k->done)
        check_register(k, 1, "addr");
}

static void effect_futex(struct call *k) {
    uint64_t op = k->a[1] & 127;
    if (k->done)
        return;
    if (op <= 5 || op == 9 || op == 10)
        check_register(k, 2, "val");
    if ((op == 0 || op == 9 || op == 6 || op == 11 || op == 13) && k->a[3]) {
        check_register(k, 3, "timeout");
        takes(k, 3, k->a[3], 0, 16);
    }
    if (op == 0 || op == 9 || op == 4 || op == 11 || op == 12) /* the kernel compares it */
        takes(k, 0, k->a[0], 0, 4);
    if (op >= 3 && op <= 5) /* to another, or with it */
        check_register(k, 4, "uaddr2");
    if (op == 4 || op == 5 || op == 9)
        check_register(k, 5, "val3");
}

static const struct {
    const char *name, *parameters;
    struct effect effects[5];
} effects[512] = {
#define X(name, parameters, ...) [__NR_##name] = {#name, parameters, {__VA_ARGS__}},
    SYSTEM_CALLS(X)
#undef X
};

static const uint8_t argument_registers[] = {RDI, RSI, RDX, 10, 8, 9};

/* Parameters of which the kernel looks at the lower half only, by their names in syscall_table.h:
   an int's register may hold anything above it (psABI 3.2.3). The few of the same name that are
   pointers are hardly ever undefined in their upper half alone. */
static const char *const halves[] = {
    "addrlen", "advice", "arg", "at_flags", "backlog", "clockid", "cmd", "cpu", "dev", "dirfd",
    "domain", "egid", "entries", "epfd", "euid", "event_f_flags", "fd", "fd_in", "fd_out",
    "first", "flags", "func", "gid", "group", "group_fd", "how", "id", "idtype", "in_fd",
    "initval", "ioprio", "key", "keyring", "last", "level", "mask", "maxevents", "min_complete",
    "mode", "mount_fd", "mqdes", "msgflg", "msqid", "newdirfd", "newfd", "nfds", "niceval",
    "nr_args", "nr_events", "nr_futexes", "nsems", "nsops", "nstype", "oflag", "olddirfd",
    "oldfd", "op", "opcode", "operation", "option", "options", "optlen", "optname", "out_fd",
    "owner", "persona", "pgid", "pid", "pid1", "pid2", "pidfd", "pkey", "policy", "prio",
    "protocol", "request", "requeue", "resource", "rgid", "ruid", "rule_type", "ruleset_fd",
    "seconds", "semflg", "semid", "semnum", "sgid", "shmflg", "shmid", "sig", "signum", "sockfd",
    "status", "suid", "targetfd", "tgid", "tid", "timeout", "timerid", "to_submit", "type", "uid",
    "usig", "val", "vlen", "waiters", "wake", "wd", "whence", "which", "who",
};

static uint64_t bits_that_count(const char *name) {
    for (size_t i = 0; i < sizeof halves / sizeof halves[0]; i++)
        if (same_text(halves[i], name))
            return 0xffffffff;
    return ~0ULL;
}

void check_register(struct call *k, int parameter, const char *name) {
    struct context *c = k->c;
    int reg = argument_registers[parameter];
    if (!c->dirty || !dirty_words(c)[reg] || !(dirty_words(c)[reg] & bits_that_count(name)))
        return;
    char text[64];
    format(text, sizeof text, "%s goes to the kernel", name);
    finding_undefined(c, c->pc, dirty_origin(c, reg), text, 0, 0, k->name);
    dirty_words(c)[reg] = 0;
}

static void check_registers(struct call *k) {
    char name[24];
    for (int i = 0; i < 6; i++) {
        bool wanted = parameter_name(k, i, name, sizeof name);
        if (!name[0])
            return;
        if (wanted)
            check_register(k, i, name);
    }
}

static void apply(struct call *k, const struct effect *e) {
    gaddr p = k->a[e->parameter];
    uint64_t done = succeeded(k) ? (uint64_t)k->result : 0;
    switch (e->kind) {
    case EFFECT_CALL:
        e->function(k);
        return;
    case EFFECT_OPENS:
        if (succeeded(k))
            descriptor_opened(k->c, k->c->pc - 2, (uint64_t)k->result);
        return;
    case EFFECT_CLOSES:
        if (k->done && k->result == -EBADF)
            descriptor_not_open(k->c, k->c->pc - 2, p);
        else if (k->done) /* also when it failed: the number is free (Linux close(2)) */
            descriptors_closed(k->c, k->c->pc - 2, p, k->a[e->size]);
        return;
    }
    if (!p)
        return;
    switch (e->kind) {
    case EFFECT_IN:
        takes(k, e->parameter, p, 0, k->a[e->size]);
        break;
    case EFFECT_OUT:
        gives(k, p, k->a[e->size], done);
        break;
    case EFFECT_FULL:
        gives(k, p, k->a[e->size], succeeded(k) ? k->a[e->size] : 0);
        break;
    case EFFECT_INTO:
        takes(k, e->parameter, p, 0, e->size);
        break;
    case EFFECT_FROM:
        gives(k, p, e->size, succeeded(k) ? e->size : 0);
        break;
    case EFFECT_BOTH:
        takes(k, e->parameter, p, 0, e->size);
        gives(k, p, e->size, succeeded(k) ? e->size : 0);
        break;
    case EFFECT_PART:
        takes(k, e->parameter, p, e->at, e->size);
        break;
    case EFFECT_FILLS:
        gives(k, p + e->at, e->size, succeeded(k) ? e->size : 0);
        break;
    case EFFECT_FOUND:
        gives(k, p, e->size, done ? e->size : 0);
        break;
    case EFFECT_ITEMS:
        reaches(k, p, 1, true);
        gives(k, p, done * e->size, done * e->size);
        break;
    case EFFECT_PAIR:
        for (int i = 0; i < 2 && succeeded(k); i++)
            descriptor_opened(k->c, k->c->pc - 2, *(uint32_t *)guest(p + 4 * (gaddr)i));
        break;
    case EFFECT_COUNTED:
        takes(k, e->parameter, p, 0, k->a[e->at] * e->size);
        break;
    case EFFECT_TEXT:
        takes_text(k, e->parameter, p);
        break;
    case EFFECT_READV:
        takes_vector(k, e->parameter, p, k->a[e->size], true);
        break;
    case EFFECT_WRITEV:
        takes_vector(k, e->parameter, p, k->a[e->size], false);
        break;
    case EFFECT_LENGTH: {
        gaddr length = k->a[e->size];
        if (!length)
            break;
        takes(k, e->size, length, 0, 4);
        if (!k->done && !shadow_first_undefined(length, 4)) {
            k->room = *(uint32_t *)guest(length);
            gives(k, p, k->room & 0xffff, 0);
        }
        if (succeeded(k)) { /* told is the whole length, also where it was cut off */
            gives(k, p, k->room < 65536 ? k->room : 65536, *(uint32_t *)guest(length));
            gives(k, length, 4, 4);
        }
        break;
    }
    }
}

/* Where a call that was given no address at all failed for that. */
static void tell_null(struct call *k, const struct effect *e) {
    bool sized = (e->kind == EFFECT_IN || e->kind == EFFECT_OUT) && k->a[e->size];
    if ((sized || e->kind == EFFECT_TEXT) && !k->a[e->parameter])
        tell_nowhere(k, 0, sized ? at_most(k->a[e->size]) : 1, e->kind == EFFECT_OUT);
}

bool syscall_effects(struct context *c, uint64_t number, const uint64_t *a, bool done,
                     long result) {
    if (number >= 512 || !effects[number].name)
        return true;
    struct call k = {c, effects[number].name, effects[number].parameters, a, done, result,
                     done ? c->call_room : UINT32_MAX, false, false};
    if (!done && c->dirty)
        check_registers(&k);
    if (recover_enter(c))
        return true; /* the kernel answers EFAULT */
    for (int i = 0; i < 5 && effects[number].effects[i].kind && !k.told; i++)
        apply(&k, &effects[number].effects[i]);
    for (int i = 0; i < 5 && done && result == -EFAULT; i++)
        tell_null(&k, &effects[number].effects[i]);
    c->recover = 0;
    c->call_room = k.room;
    return !k.wild;
}


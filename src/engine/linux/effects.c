/* What system calls do to guest memory, after the table: inputs are checked before
   the call, what it wrote is defined after it. */
#include "../engine.h"
#include "syscall_table.h"

#include <asm/errno.h>
#include <asm/prctl.h>
#include <asm/unistd.h>
#include <linux/sched.h>

enum effect_kind {
    EFFECT_NONE, EFFECT_IN, EFFECT_OUT, EFFECT_FULL, EFFECT_INTO, EFFECT_FROM, EFFECT_BOTH,
    EFFECT_PART, EFFECT_ITEMS, EFFECT_COUNTED, EFFECT_TEXT, EFFECT_READV, EFFECT_WRITEV,
    EFFECT_LENGTH, EFFECT_OPENS, EFFECT_PAIR, EFFECT_CLOSES, EFFECT_CALL,
};

/* One call under way; `done` when it has returned, with its result. */
struct call {
    struct context *c;
    const char *name, *parameters;
    const uint64_t *a;
    bool done;
    long result;
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

/* The parameter's name, for messages. */
static void parameter_name(const struct call *k, int index, char *to, uint64_t size) {
    const char *p = k->parameters;
    while (index-- > 0 && *p) {
        while (*p && *p != ' ')
            p++;
        if (*p)
            p++;
    }
    uint64_t n = 0;
    while (p[n] && p[n] != ' ' && n + 1 < size) {
        to[n] = p[n];
        n++;
    }
    to[n] = 0;
}

/* The kernel reads these bytes, which belong to the parameter from `base` on. */
static void takes(struct call *k, int parameter, gaddr base, uint64_t at, uint64_t size) {
    if (k->done || !base || !size)
        return;
    struct context *c = k->c;
    gaddr p = base + at;
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

/* The kernel may write `room` bytes; `size` of them it wrote. */
static void gives(struct call *k, gaddr p, uint64_t room, uint64_t size) {
    if (!p || p >= GUEST_END || room > GUEST_END - p)
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

static bool succeeded(const struct call *k) { return k->done && k->result >= 0; }

static uint64_t text_size(gaddr p, uint64_t limit) {
    uint64_t n = 0;
    while (n < limit && !*shadow_of(p + n) && *(volatile char *)guest(p + n))
        n++;
    return n < limit ? n + 1 : limit;
}

static void takes_text(struct call *k, int parameter, gaddr p) {
    if (!k->done && p)
        takes(k, parameter, p, 0, text_size(p, 4096));
}

static void takes_vector(struct call *k, int parameter, gaddr p, uint64_t n, bool given) {
    uint64_t left = k->done && k->result > 0 ? (uint64_t)k->result : 0;
    if (!p || n > 1024)
        return;
    takes(k, parameter, p, 0, n * 16);
    for (uint64_t i = 0; i < n; i++) {
        const uint64_t *v = guest(p + 16 * i);
        if (!given) {
            takes(k, parameter, v[0], 0, v[1]);
            continue;
        }
        uint64_t size = v[1] < left ? v[1] : left;
        gives(k, v[0], v[1], size);
        left -= size;
    }
}

/* --- what no row can say --- */

static void check_register(struct call *k, int parameter, const char *name);

static void effect_mode_of_open(struct call *k) {
    if (!k->done && (k->a[1] & 0x400040)) /* O_CREAT, O_TMPFILE */
        check_register(k, 2, "mode");
}
static void effect_mode_of_openat(struct call *k) {
    if (!k->done && (k->a[2] & 0x400040))
        check_register(k, 3, "mode");
}

static void effect_poll(struct call *k) {
    uint64_t n = k->a[1] < 65536 ? k->a[1] : 65536;
    for (uint64_t i = 0; i < n && k->a[0]; i++) {
        takes(k, 0, k->a[0], 8 * i, 6);
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

static void effect_mincore(struct call *k) {
    uint64_t n = (k->a[1] + 4095) / 4096;
    gives(k, k->a[2], n, succeeded(k) ? n : 0);
}

static void effect_shmctl(struct call *k) {
    if ((k->a[1] & 0xff) == 2 || (k->a[1] & 0xff) == 13)
        gives(k, k->a[2], 112, succeeded(k) ? 112 : 0);
}
static void effect_msgctl(struct call *k) {
    if ((k->a[1] & 0xff) == 2 || (k->a[1] & 0xff) == 11)
        gives(k, k->a[2], 120, succeeded(k) ? 120 : 0);
}
static void effect_semctl(struct call *k) {
    uint64_t command = k->a[2] & 0xff;
    if (command == 2 || command == 18)
        gives(k, k->a[3], 104, succeeded(k) ? 104 : 0);
    if (command == 13 && succeeded(k)) /* GETALL */
        gives(k, k->a[3], 2 * 1024, 0);
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
static void takes_address(struct call *k, int parameter, gaddr p, uint64_t size) {
    if (k->done || !p || size < 2)
        return;
    takes(k, parameter, p, 0, 2);
    uint16_t family = *(uint16_t *)guest(p);
    uint64_t wanted = 2;
    switch (family) {
    case 1: /* AF_UNIX: a text, or a name in the abstract space */
        if (size > 2)
            wanted = 2 + (*(char *)guest(p + 2) ? text_size(p + 2, size - 2) : size - 2);
        break;
    case 2: /* AF_INET: the rest is padding */
        wanted = 8;
        break;
    case 10:
        wanted = 28;
        break;
    case 16: /* AF_NETLINK: two bytes of padding */
        takes(k, parameter, p, 4, size < 12 ? size - 4 : 8);
        return;
    }
    takes(k, parameter, p, 2, (size < wanted ? size : wanted) - 2);
}
static void effect_address_1(struct call *k) { takes_address(k, 1, k->a[1], k->a[2]); }
static void effect_address_4(struct call *k) { takes_address(k, 4, k->a[4], k->a[5]); }

static void takes_message(struct call *k, gaddr m) {
    if (k->done || !m)
        return;
    takes(k, 1, m, 0, 12);
    takes(k, 1, m, 16, 32);
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

static void gives_message(struct call *k, gaddr m, long received) {
    if (!m)
        return;
    const uint64_t *h = guest(m);
    if (!k->done) {
        takes(k, 1, m, 0, 12);
        takes(k, 1, m, 16, 32);
        takes_vector(k, 1, h[2], h[3], true);
        return;
    }
    if (received < 0)
        return;
    struct call part = *k;
    part.result = received;
    takes_vector(&part, 1, h[2], h[3], true);
    gives(k, h[0], (uint32_t)h[1], (uint32_t)h[1]);
    gives(k, h[4], h[5], h[5]);
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
static void effect_recvmmsg(struct call *k) {
    uint64_t n = k->a[2] < 1024 ? k->a[2] : 1024;
    for (uint64_t i = 0; i < n; i++) {
        if (k->done && k->result <= (long)i)
            break;
        if (k->done)
            gives(k, k->a[1] + 64 * i + 56, 4, 4);
        gives_message(k, k->a[1] + 64 * i,
                      k->done ? (long)*(uint32_t *)guest(k->a[1] + 64 * i + 56) : 0);
    }
}

/* Most structures have parts that the kernel ignores: only what is undefined as
   a whole is told. */
static void takes_some(struct call *k, int parameter, gaddr p, uint64_t size) {
    bool any_defined = false;
    if (k->done || !p || p >= GUEST_END)
        return;
    for (uint64_t i = 0; i < size && size > 8; i++)
        any_defined |= !*shadow_of(p + i);
    if (any_defined)
        check_range(k->c, k->c->pc, p, size, false, k->name);
    else
        takes(k, parameter, p, 0, size);
}

static const struct {
    uint32_t request;
    uint8_t in, out; /* bytes */
} old_requests[] = {
    {0x5401, 0, 36}, {0x5402, 36, 0}, {0x5403, 36, 0}, {0x5404, 36, 0}, /* TCGETS, TCSETS */
    {0x5405, 0, 18}, {0x5406, 18, 0}, {0x5407, 18, 0}, {0x5408, 18, 0}, /* TCGETA, TCSETA */
    {0x540f, 0, 4},  {0x5410, 4, 0},  {0x5411, 0, 4},                   /* groups, TIOCOUTQ */
    {0x5413, 0, 8},  {0x5414, 8, 0},                                    /* window size */
    {0x5415, 0, 4},  {0x5416, 4, 0},  {0x5417, 4, 0},  {0x5418, 4, 0},  /* modem lines */
    {0x541b, 0, 4},  {0x5421, 4, 0},  {0x5423, 4, 0},  {0x5424, 0, 4},  /* FIONREAD, FIONBIO */
    {0x5429, 0, 4},  {0x5452, 4, 0},  {0x5420, 4, 0},
};

static void effect_ioctl(struct call *k) {
    uint32_t request = (uint32_t)k->a[1], size = request >> 16 & 0x3fff;
    gaddr p = k->a[2];
    for (unsigned i = 0; i < sizeof old_requests / sizeof old_requests[0]; i++)
        if (old_requests[i].request == request) {
            takes_some(k, 2, p, old_requests[i].in);
            if (old_requests[i].out)
                gives(k, p, old_requests[i].out, succeeded(k) ? old_requests[i].out : 0);
            return;
        }
    if (request >> 8 == 0x89) { /* SIOC: a name, and room for the answer */
        if (request == 0x8912)
            takes(k, 2, p, 0, 16);
        else
            gives(k, p, 40, succeeded(k) ? 40 : 0);
        return;
    }
    if (!size || !p || p >= GUEST_END)
        return;
    if (request >> 30 & 1)
        takes_some(k, 2, p, size);
    if (request >> 31)
        gives(k, p, size, succeeded(k) ? size : 0);
}

static void effect_clone(struct call *k) {
    if (k->a[0] & CLONE_PARENT_SETTID)
        gives(k, k->a[2], 4, succeeded(k) ? 4 : 0);
    if (k->a[0] & CLONE_CHILD_SETTID)
        gives(k, k->a[3], 4, succeeded(k) ? 4 : 0);
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

static void effect_fcntl(struct call *k) {
    switch (k->a[1]) {
    case 5: case 36: /* F_GETLK */
        takes(k, 2, k->a[2], 0, 4);
        takes(k, 2, k->a[2], 8, 16);
        gives(k, k->a[2], 32, succeeded(k) ? 32 : 0);
        break;
    case 6: case 7: case 37: case 38: /* F_SETLK, F_SETLKW */
        takes(k, 2, k->a[2], 0, 4);
        takes(k, 2, k->a[2], 8, 16);
        break;
    case 15: /* F_SETOWN_EX */
        takes(k, 2, k->a[2], 0, 8);
        break;
    case 16: /* F_GETOWN_EX */
        gives(k, k->a[2], 8, succeeded(k) ? 8 : 0);
        break;
    case 0: case 1030: /* F_DUPFD, F_DUPFD_CLOEXEC */
    case 2: case 4: case 8: case 10: case 1031: case 1033:
        if (!k->done)
            check_register(k, 2, "arg");
        if (succeeded(k) && (k->a[1] == 0 || k->a[1] == 1030))
            descriptor_opened(k->c, k->c->pc - 2, (uint64_t)k->result);
        break;
    }
}

static void effect_close_range(struct call *k) {
    if (succeeded(k) && !(k->a[2] & 4)) /* CLOSE_RANGE_CLOEXEC closes nothing yet */
        descriptors_closed(k->c, k->a[0], k->a[1]);
}

static void effect_capget(struct call *k) { gives(k, k->a[1], 24, succeeded(k) ? 24 : 0); }

static void effect_prctl(struct call *k) {
    switch (k->a[0]) {
    case 15: /* PR_SET_NAME */
        if (!k->done && k->a[1])
            takes(k, 1, k->a[1], 0, text_size(k->a[1], 16));
        break;
    case 16:
        gives(k, k->a[1], 16, succeeded(k) ? 16 : 0);
        break;
    case 2: case 5: case 9: case 11: case 19: case 25: case 37:
        gives(k, k->a[1], 4, succeeded(k) ? 4 : 0);
        break;
    case 40: /* PR_GET_TID_ADDRESS */
        gives(k, k->a[1], 8, succeeded(k) ? 8 : 0);
        break;
    }
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
    if ((op == 0 || op == 9 || op == 6) && k->a[3]) {
        check_register(k, 3, "timeout");
        takes(k, 3, k->a[3], 0, 16);
    }
    if (op == 0 || op == 9) /* the kernel compares it */
        takes(k, 0, k->a[0], 0, 4);
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

static void check_register(struct call *k, int parameter, const char *name) {
    struct context *c = k->c;
    int reg = argument_registers[parameter];
    if (!c->dirty || !dirty_words(c)[reg])
        return;
    char text[64];
    format(text, sizeof text, "%s goes to the kernel", name);
    finding_undefined(c, c->pc, dirty_origin(c, reg), text, 0, 0, k->name);
    dirty_words(c)[reg] = 0;
}

static void check_registers(struct call *k) {
    char name[24];
    for (int i = 0; i < 6; i++) {
        parameter_name(k, i, name, sizeof name);
        if (!name[0])
            return;
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
        if (k->done) /* also when it failed: the number is free (Linux close(2)) */
            descriptors_closed(k->c, p, k->a[e->size]);
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
    case EFFECT_ITEMS:
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
        if (succeeded(k)) {
            uint32_t n = *(uint32_t *)guest(length);
            gives(k, p, n < 65536 ? n : 65536, n);
            gives(k, length, 4, 4);
        }
        break;
    }
    }
}

void syscall_effects(struct context *c, uint64_t number, const uint64_t *a, bool done,
                        long result) {
    if (number >= 512 || !effects[number].name)
        return;
    struct call k = {c, effects[number].name, effects[number].parameters, a, done, result};
    if (!done && c->dirty)
        check_registers(&k);
    if (recover_enter(c))
        return; /* the kernel answers EFAULT */
    for (int i = 0; i < 5 && effects[number].effects[i].kind; i++)
        apply(&k, &effects[number].effects[i]);
    c->recover = 0;
}


/* Requests that lie in memory when the call is made: the queues of io_uring (io_uring(7)) and
   the control blocks of io_submit(2). Their buffers are looked at when they are submitted;
   what the kernel will write to counts as written then, since nothing tells when it is. */
#include "effects.h"

#include <asm/unistd.h>

enum operand {
    NOTHING,
    TAKES,      /* `len` bytes at `addr` are read */
    GIVES,      /* and written */
    TAKES_MANY, /* the same of `len` iovecs */
    GIVES_MANY,
    TAKES_MESSAGE,
    GIVES_MESSAGE,
    TAKES_TIME,
    TAKES_PATH,
    TAKES_PATHS,   /* at `addr` and at `off` */
    TAKES_ADDRESS, /* of `off` bytes */
    GIVES_ADDRESS, /* its size lies at `off` */
    GIVES_STATX,   /* at `off`, of the path at `addr` */
    TAKES_HOW,     /* `len` bytes at `off`, with the path at `addr` */
    TAKES_EVENT,   /* of epoll */
    GIVES_POOL,    /* `fd` buffers of `len` bytes */
};

/* What an operation's addr, len and off stand for: one row each (io_uring_enter(2)). */
static const uint8_t operands[] = {
    [1] = GIVES_MANY,     /* READV */
    [2] = TAKES_MANY,     /* WRITEV */
    [4] = GIVES,          /* READ_FIXED */
    [5] = TAKES,          /* WRITE_FIXED */
    [9] = TAKES_MESSAGE,
    [10] = GIVES_MESSAGE,
    [11] = TAKES_TIME,    /* TIMEOUT */
    [13] = GIVES_ADDRESS, /* ACCEPT */
    [15] = TAKES_TIME,    /* LINK_TIMEOUT */
    [16] = TAKES_ADDRESS, /* CONNECT */
    [18] = TAKES_PATH,    /* OPENAT */
    [21] = GIVES_STATX,
    [22] = GIVES,         /* READ */
    [23] = TAKES,         /* WRITE */
    [26] = TAKES,         /* SEND */
    [27] = GIVES,         /* RECV */
    [28] = TAKES_HOW,     /* OPENAT2 */
    [29] = TAKES_EVENT,   /* EPOLL_CTL */
    [31] = GIVES_POOL,    /* PROVIDE_BUFFERS */
    [35] = TAKES_PATHS,   /* RENAMEAT */
    [36] = TAKES_PATH,    /* UNLINKAT */
    [37] = TAKES_PATH,    /* MKDIRAT */
    [38] = TAKES_PATHS,   /* SYMLINKAT */
    [39] = TAKES_PATHS,   /* LINKAT */
    [47] = TAKES,         /* SEND_ZC */
    [48] = TAKES_MESSAGE, /* SENDMSG_ZC */
};

struct submission {
    uint8_t opcode, flags;
    uint16_t priority;
    int32_t fd;
    uint64_t off, addr;
    uint32_t len, request_flags;
    uint64_t rest[4];
};
#define BUFFER_SELECT 0x20 /* the kernel picks one of a pool: addr means nothing */

/* The rings of this process, by their descriptors. */
#define RINGS 32
#define POOLS 8
static struct ring {
    bool used;
    int fd;
    uint32_t setup_flags, head, tail, entries, array; /* offsets in the ring, but for entries */
    gaddr queue, submissions;                         /* where they are mapped; 0: not yet */
    struct pool {
        gaddr at; /* of its ring */
        uint16_t group, seen;
        uint32_t entries;
    } pools[POOLS];
} rings[RINGS];
enum { SETUP_BIG = 1 << 10, SETUP_NO_MMAP = 1 << 14, SETUP_NO_ARRAY = 1 << 16 };
enum { AT_QUEUE = 0, AT_QUEUE_TOO = 0x8000000, AT_SUBMISSIONS = 0x10000000 };
#define AT_POOL 0x80000000u

static struct ring *ring_of(int fd) {
    for (int i = 0; i < RINGS; i++)
        if (rings[i].used && rings[i].fd == fd)
            return &rings[i];
    return NULL;
}

void effect_io_uring_setup(struct call *k) {
    if (!succeeded(k))
        return;
    const uint32_t *p = guest(k->a[1]);
    const uint64_t *wide = guest(k->a[1]);
    static unsigned next;
    struct ring *r = ring_of((int)k->result);
    if (!r) /* or that of the oldest, which is likely to be closed by now */
        r = &rings[next++ % RINGS];
    *r = (struct ring){.used = true, .fd = (int)k->result, .setup_flags = p[2], .entries = p[0],
                       .head = p[10], .tail = p[11], .array = p[16]};
    if (p[2] & SETUP_NO_MMAP) {
        r->submissions = wide[9];
        r->queue = wide[14];
    }
}

void uring_mapped(int fd, uint64_t offset, gaddr at) {
    struct ring *r = ring_of(fd);
    if (!r)
        return;
    if (offset == AT_QUEUE || offset == AT_QUEUE_TOO)
        r->queue = offset == AT_QUEUE || !r->queue ? at : r->queue;
    else if (offset == AT_SUBMISSIONS)
        r->submissions = at;
    for (int i = 0; i < POOLS; i++)
        if (!r->pools[i].at && r->pools[i].entries && offset == AT_POOL + (r->pools[i].group << 16))
            r->pools[i].at = at;
}

/* Once to check what is read and may be written, once for what has been. */
static void operate(struct call *k, int operand, gaddr addr, uint64_t len, gaddr off, int fd) {
    enum { TIME = 16, STATX = 256, EVENT = 12, POOL_MOST = 65536 };
    switch (operand) {
    case TAKES: takes(k, 1, addr, 0, len); break;
    case GIVES: gives(k, addr, len, len); break;
    case TAKES_MANY:
    case GIVES_MANY: takes_vector(k, 1, addr, len, operand == GIVES_MANY); break;
    case TAKES_MESSAGE: takes_message(k, addr); break;
    case GIVES_MESSAGE: gives_message(k, addr, k->result); break;
    case TAKES_TIME: takes(k, 1, addr, 0, TIME); break;
    case TAKES_PATHS: takes_text(k, 1, off); /* fallthrough */
    case TAKES_PATH: takes_text(k, 1, addr); break;
    case TAKES_ADDRESS: takes_address(k, 1, addr, off); break;
    case GIVES_ADDRESS:
        if (!addr || !off)
            break;
        takes(k, 1, off, 0, 4);
        gives(k, addr, *(uint32_t *)guest(off), *(uint32_t *)guest(off));
        break;
    case GIVES_STATX:
        takes_text(k, 1, addr);
        gives(k, off, STATX, STATX);
        break;
    case TAKES_HOW:
        takes_text(k, 1, addr);
        takes(k, 1, off, 0, len);
        break;
    case TAKES_EVENT:
        if (addr)
            takes(k, 1, addr, 0, EVENT);
        break;
    case GIVES_POOL:
        if (fd > 0 && fd <= POOL_MOST)
            gives(k, addr, len * (uint64_t)fd, len * (uint64_t)fd);
        break;
    }
}

static void submit(struct call *k, int operand, gaddr addr, uint64_t len, gaddr off, int fd) {
    struct call part = *k;
    part.parameters = "queue buffer";
    operate(&part, operand, addr, len, off, fd);
    part.done = true;
    part.result = (long)(~0ULL >> 1); /* all there is room for */
    operate(&part, operand, addr, len, off, fd);
}

/* Buffers put into a pool since the last look. */
static void fill_pool(struct call *k, struct pool *p) {
    if (!p->at)
        return;
    const struct {
        uint64_t addr;
        uint32_t len;
        uint16_t id, tail;
    } *entry = guest(p->at);
    uint16_t tail = *(volatile const uint16_t *)&entry[0].tail;
    for (uint32_t n = 0; p->seen != tail && n < p->entries; n++, p->seen++)
        submit(k, GIVES, entry[p->seen & (p->entries - 1)].addr,
               entry[p->seen & (p->entries - 1)].len, 0, 0);
    p->seen = tail;
}

static void look_at_ring(struct call *k, struct ring *r) {
    for (int i = 0; i < POOLS; i++)
        fill_pool(k, &r->pools[i]);
    if (!r->queue || !r->submissions || !r->entries)
        return;
    const char *queue = guest(r->queue);
    uint32_t head = *(volatile const uint32_t *)(queue + r->head);
    uint32_t tail = *(volatile const uint32_t *)(queue + r->tail);
    uint32_t size = r->setup_flags & SETUP_BIG ? 2 * sizeof(struct submission)
                                               : sizeof(struct submission);
    for (uint32_t n = 0; head != tail && n < r->entries; n++, head++) {
        uint32_t at = head & (r->entries - 1);
        if (!(r->setup_flags & SETUP_NO_ARRAY))
            at = ((volatile const uint32_t *)(queue + r->array))[at];
        if (at >= r->entries)
            continue;
        const struct submission *s = guest(r->submissions + (uint64_t)at * size);
        int operand = s->opcode < sizeof operands ? operands[s->opcode] : NOTHING;
        if (!(s->flags & BUFFER_SELECT) || operand == GIVES_POOL)
            submit(k, operand, s->addr, s->len, s->off, s->fd);
    }
}

/* A ring may be named by a number of its own instead of a descriptor: then all are meant. */
void effect_io_uring_enter(struct call *k) {
    enum { REGISTERED = 1 << 4 };
    for (int i = 0; !k->done && i < RINGS; i++)
        if (rings[i].used && (rings[i].fd == (int)k->a[0] || (k->a[3] & REGISTERED)))
            look_at_ring(k, &rings[i]);
}

void effect_io_uring_register(struct call *k) {
    enum { BUFFERS, FILES = 2, EVENTS = 4, PROBE = 8, EVENTS_ASYNC = 7, POOL = 22, POOL_GONE = 23,
           POOL_MAPPED = 1, PROBE_HEAD = 16, PROBE_ROW = 8, POOL_SIZE = 16 };
    gaddr arg = k->a[2];
    uint64_t n = (uint32_t)k->a[3];
    struct ring *r = ring_of((int)k->a[0]);
    switch ((uint32_t)k->a[1]) {
    case BUFFERS: takes(k, 2, arg, 0, 16 * n); break;
    case FILES: takes(k, 2, arg, 0, 4 * n); break;
    case EVENTS:
    case EVENTS_ASYNC: takes(k, 2, arg, 0, 4); break;
    case PROBE:
        gives(k, arg, PROBE_HEAD + PROBE_ROW * n, succeeded(k) ? PROBE_HEAD + PROBE_ROW * n : 0);
        break;
    case POOL:
        takes(k, 2, arg, 0, POOL_SIZE);
        for (int i = 0; succeeded(k) && r && i < POOLS; i++) {
            const uint32_t *w = guest(arg);
            if (r->pools[i].entries)
                continue;
            r->pools[i] = (struct pool){.entries = w[2], .group = (uint16_t)w[3],
                                        .at = w[3] >> 16 & POOL_MAPPED ? 0 : *(gaddr *)guest(arg)};
            break;
        }
        break;
    case POOL_GONE:
        for (int i = 0; succeeded(k) && r && i < POOLS; i++)
            if (r->pools[i].entries && r->pools[i].group == (uint16_t)((uint32_t *)guest(arg))[3])
                r->pools[i].entries = 0, r->pools[i].at = 0;
        break;
    }
}

/* --- the older way: control blocks (io_submit(2)) --- */

/* A context is the address of a ring that libaio looks into before it asks the kernel. The
   kernel goes along when the ring is moved (aio_ring_mremap in its fs/aio.c). */
static uint64_t context_size(gaddr context) {
    enum { HEAD = 32, EVENT = 32 };
    uint64_t events = ((const uint32_t *)guest(context))[1];
    return (HEAD + EVENT * events + 4095) & ~4095ULL;
}

long uring_context(uint64_t number, const uint64_t *a) {
    struct mapping m;
    if (number == __NR_io_setup) {
        long r = system_call((long)number, a[0], a[1]);
        if (r)
            return r;
        gaddr *context = guest(a[1]);
        long moved = memory_move_in(*context, context_size(*context));
        if (moved > 0)
            *context = (gaddr)moved;
        return r;
    }
    bool known = memory_lookup(a[0], &m) && m.start == a[0];
    long r = system_call((long)number, a[0]);
    if (r == 0 && known)
        memory_munmap(m.start, m.end - m.start);
    return r;
}

void effect_io_submit(struct call *k) {
    enum { READ, WRITE, READ_MANY = 7, WRITE_MANY, MOST = 65536 };
    struct block {
        uint64_t data;
        uint32_t key, flags;
        uint16_t opcode, priority;
        int32_t fd;
        uint64_t buffer, bytes, offset, reserved; /* the last must be 0 */
        uint32_t more_flags, event;
    };
    gaddr list = k->a[2];
    if (k->done || k->a[1] > MOST)
        return;
    takes(k, 2, list, 0, 8 * k->a[1]);
    for (uint64_t i = 0; i < k->a[1]; i++) {
        gaddr at = *(gaddr *)guest(list + 8 * i);
        takes(k, 2, at, offsetof(struct block, flags), 12);
        const struct block *b = guest(at);
        int operand = b->opcode == READ         ? GIVES
                      : b->opcode == WRITE      ? TAKES
                      : b->opcode == READ_MANY  ? GIVES_MANY
                      : b->opcode == WRITE_MANY ? TAKES_MANY
                                                : NOTHING;
        if (operand == NOTHING)
            continue;
        takes(k, 2, at, offsetof(struct block, buffer), 36);
        submit(k, operand, b->buffer, b->bytes, 0, 0);
    }
}

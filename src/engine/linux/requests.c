/* Calls whose effect on memory depends on a request among their parameters: what
   each request reads and writes, by table. */
#include "effects.h"

#include <asm/sembuf.h>
#include <asm/unistd.h>

enum request_kind {
    REQUEST_PLAIN, /* `in` bytes are read, `out` are written */
    REQUEST_NAMED, /* an interface's name, `in` bytes behind it are read, `out` written */
    REQUEST_EACH,  /* every one of the `in` bytes counts, `out` are written */
};

struct request {
    uint32_t request;
    uint16_t in, out; /* bytes */
    uint8_t kind;
};

#define GET(request, size) {request, 0, size, REQUEST_NAMED}
#define SET(request, size) {request, size, 0, REQUEST_NAMED}

/* Requests that do not tell their size, or tell a wrong one. */
static const struct request requests[] = {
    /* terminals */
    {0x5401, 0, 36, 0}, {0x5402, 17, 0, REQUEST_EACH}, {0x5403, 17, 0, REQUEST_EACH},
    {0x5404, 17, 0, REQUEST_EACH}, /* but for the characters behind */
    {0x5405, 0, 18, 0}, {0x5406, 18, 0, 0}, {0x5407, 18, 0, 0}, {0x5408, 18, 0, 0},
    {0x540f, 0, 4, 0},  {0x5410, 4, 0, 0},  {0x5411, 0, 4, 0},  {0x5412, 1, 0, 0},
    {0x5413, 0, 8, 0},  {0x5414, 8, 0, 0},  {0x5415, 0, 4, 0},  {0x5416, 4, 0, 0},
    {0x5417, 4, 0, 0},  {0x5418, 4, 0, 0},  {0x5419, 0, 4, 0},  {0x541a, 4, 0, 0},
    {0x541b, 0, 4, 0},  {0x541c, 1, 0, 0},  {0x541e, 0, 72, 0}, {0x5420, 4, 0, 0},
    {0x5421, 4, 0, 0},  {0x5423, 4, 0, 0},  {0x5424, 0, 4, 0},  {0x5429, 0, 4, 0},
    {0x5452, 4, 0, 0},  {0x5456, 0, 36, 0}, {0x545d, 0, 80, 0}, {0x5460, 0, 8, 0},
    {0x4b31, 0, 1, 0},  {0x4b33, 0, 1, 0},  {0x4b3b, 0, 4, 0},  {0x4b44, 0, 4, 0},
    {0x4b64, 0, 1, 0},  {0x5600, 0, 4, 0},  {0x5601, 0, 8, 0},  {0x5602, 8, 0, 0},
    {0x5603, 0, 6, 0},
    /* sockets and interfaces */
    {0x8901, 4, 0, 0},  {0x8902, 4, 0, 0},  {0x8903, 0, 4, 0},  {0x8904, 0, 4, 0},
    {0x8905, 0, 4, 0},  {0x8906, 0, 16, 0}, {0x8907, 0, 16, 0}, {0x8911, 0, 0, 0},
    GET(0x8913, 2),     SET(0x8914, 2),     GET(0x8915, 16),    SET(0x8916, 8),
    GET(0x8917, 16),    SET(0x8918, 8),     GET(0x8919, 16),    SET(0x891a, 8),
    GET(0x891b, 16),    SET(0x891c, 8),     GET(0x891d, 4),     SET(0x891e, 4),
    GET(0x8921, 4),     SET(0x8922, 4),     SET(0x8923, 1),     SET(0x8924, 2),
    GET(0x8927, 16),    GET(0x8933, 4),     GET(0x8942, 4),     SET(0x8943, 4),
    GET(0x8947, 8),     {0x8948, 4, 8, REQUEST_NAMED},
    SET(0x8949, 8),     GET(0x8970, 21),    SET(0x8971, 21),
    /* files and block devices */
    {0x80086601, 0, 4, 0}, {0x40086602, 4, 0, 0}, {0x80087601, 0, 4, 0}, {0x40087602, 4, 0, 0},
    {0x40049409, 0, 0, 0}, {0x1, 0, 4, 0},     {0x125d, 4, 0, 0},  {0x125e, 0, 4, 0},
    {0x1260, 0, 8, 0},     {0x1263, 0, 8, 0},  {0x1267, 0, 2, 0},  {0x1268, 0, 4, 0},
    {0x80081270, 0, 4, 0}, {0x40081271, 4, 0, 0}, {0x1277, 16, 0, 0}, {0x1278, 0, 4, 0},
    {0x1279, 0, 4, 0},     {0x127a, 0, 4, 0},  {0x127b, 0, 4, 0},  {0x127c, 0, 4, 0},
    {0x127e, 0, 2, 0},     {0x301, 0, 16, 0},  {0x30d, 0, 512, 0}, 
    {0x4c04, 232, 0, 0},   {0x4c05, 0, 232, 0},
};
#undef GET
#undef SET

#define TUNSETIFF 0x400454ca
#define SIOCGIFNAME 0x8910
#define SIOCETHTOOL 0x8946
#define SG_IO 0x2285
#define SIOCGIFCONF 0x8912
#define FS_IOC_FIEMAP 0xc020660bu

/* A pointer, or a small number that some requests take instead. */
static bool is_pointer(gaddr p) { return p >= 65536 && p < GUEST_END; }

void takes_some(struct call *k, int parameter, gaddr p, uint64_t size) {
    bool any_defined = false;
    if (k->done || !is_pointer(p))
        return;
    for (uint64_t i = 0; i < size && size > 8; i++)
        any_defined |= !*shadow_of(p + i);
    if (any_defined)
        check_range(k->c, k->c->pc, p, size, false, k->name);
    else
        takes(k, parameter, p, 0, size);
}

static void gives_all(struct call *k, gaddr p, uint64_t size) {
    if (size && is_pointer(p))
        gives(k, p, size, succeeded(k) ? size : 0);
}

static void list_interfaces(struct call *k, gaddr p) { /* struct ifconf */
    takes(k, 2, p, 0, 4);
    takes(k, 2, p, 8, 8);
    uint32_t size = *(uint32_t *)guest(p);
    gaddr to = *(gaddr *)guest(p + 8);
    if (to && !shadow_first_undefined(p, 4) && !shadow_first_undefined(p + 8, 8))
        gives(k, to, size, succeeded(k) ? size : 0);
    gives_all(k, p, 4);
}

static void list_extents(struct call *k, gaddr p) { /* struct fiemap */
    takes(k, 2, p, 0, 20);
    takes(k, 2, p, 24, 4);
    uint32_t room = *(uint32_t *)guest(p + 24);
    if (room && !shadow_first_undefined(p + 24, 4))
        gives(k, p + 32, 56 * (uint64_t)room,
              succeeded(k) ? 56 * (uint64_t) * (uint32_t *)guest(p + 20) : 0);
    gives_all(k, p, 32);
}

/* ethtool's commands (linux/ethtool.h): the size of what they hand back; 0x1b, 0x1d and 0x3a tell
   how many items of that size follow a header. */
static const struct {
    uint32_t command;
    uint16_t size, items;
} ethtool[] = {
    {0x01, 44, 0},  {0x03, 196, 0}, {0x05, 20, 0},  {0x07, 8, 0},   {0x0a, 8, 0},  {0x0b, 12, 0},
    {0x0e, 92, 0},  {0x10, 36, 0},  {0x12, 16, 0},  {0x14, 8, 0},   {0x16, 8, 0},  {0x18, 8, 0},
    {0x1b, 12, 32}, {0x1d, 8, 8},   {0x1e, 8, 0},   {0x21, 8, 0},   {0x23, 8, 0},  {0x25, 8, 0},
    {0x27, 8, 0},   {0x2b, 8, 0},   {0x3a, 8, 16},  {0x3c, 36, 0},  {0x41, 44, 0}, {0x42, 20, 0},
    {0x44, 40, 0},  {0x4c, 48, 0},
};

static void ask_ethtool(struct call *k, gaddr p) { /* through a pointer behind the name */
    takes(k, 2, p, 0, text_size(p, 16));
    takes(k, 2, p, 16, 8);
    gaddr data = *(gaddr *)guest(p + 16);
    if (shadow_first_undefined(p + 16, 8) || !is_pointer(data))
        return;
    takes(k, 2, data, 0, 4);
    for (unsigned i = 0; i < sizeof ethtool / sizeof ethtool[0]; i++)
        if (ethtool[i].command == *(uint32_t *)guest(data)) {
            uint64_t size = ethtool[i].size; /* the count is the header's last number */
            if (ethtool[i].items && succeeded(k))
                size += ethtool[i].items * (uint64_t) * (uint32_t *)guest(data + size - 4);
            gives_all(k, data, size);
        }
}

static void pass_command(struct call *k, gaddr p) { /* struct sg_io_hdr */
    enum { SIZE = 88, DIRECTION = 4, COMMAND_SIZE = 8, SENSE_ROOM = 9, VECTORS = 10, LENGTH = 12,
           DATA = 16, COMMAND = 24, SENSE = 32, TO_DEVICE = -2, FROM_DEVICE = -3, BOTH_WAYS = -4 };
    takes_some(k, 2, p, SIZE);
    if (shadow_first_undefined(p, SENSE + 8))
        return;
    int direction = *(int32_t *)guest(p + DIRECTION);
    uint64_t length = *(uint32_t *)guest(p + LENGTH), room = *(uint8_t *)guest(p + SENSE_ROOM);
    gaddr data = *(gaddr *)guest(p + DATA), sense = *(gaddr *)guest(p + SENSE);
    takes(k, 2, *(gaddr *)guest(p + COMMAND), 0, *(uint8_t *)guest(p + COMMAND_SIZE));
    if (!*(uint16_t *)guest(p + VECTORS) && is_pointer(data)) {
        if (direction == TO_DEVICE || direction == BOTH_WAYS)
            takes(k, 2, data, 0, length);
        if (direction == FROM_DEVICE || direction == BOTH_WAYS)
            gives_all(k, data, length);
    }
    gives_all(k, sense, room);
    gives_all(k, p, SIZE);
}

void effect_ioctl(struct call *k) {
    uint32_t request = (uint32_t)k->a[1], size = request >> 16 & 0x3fff;
    gaddr p = k->a[2];
    if (!is_pointer(p))
        return;
    for (unsigned i = 0; i < sizeof requests / sizeof requests[0]; i++) {
        const struct request *r = &requests[i];
        if (r->request != request)
            continue;
        if (r->kind == REQUEST_NAMED) {
            takes(k, 2, p, 0, text_size(p, 16));
            if (r->in)
                takes(k, 2, p, 16, r->in);
            gives_all(k, p + 16, r->out);
            return;
        } else if (r->kind == REQUEST_EACH) {
            takes(k, 2, p, 0, r->in);
        } else {
            takes_some(k, 2, p, r->in);
        }
        gives_all(k, p, r->out);
        return;
    }
    switch (request) {
    case SIOCGIFNAME: /* by its number */
        takes(k, 2, p, 16, 4);
        if (succeeded(k)) {
            uint64_t size = 1;
            while (size < 16 && ((const char *)guest(p))[size - 1])
                size++;
            gives(k, p, 16, size);
        }
        return;
    case TUNSETIFF: /* the name may be a pattern: the one that was given is written back */
        takes(k, 2, p, 0, text_size(p, 16));
        takes(k, 2, p, 16, 2);
        gives_all(k, p, 16);
        return;
    case SIOCGIFCONF:
        list_interfaces(k, p);
        return;
    case SIOCETHTOOL:
        ask_ethtool(k, p);
        return;
    case SG_IO:
        pass_command(k, p);
        return;
    case FS_IOC_FIEMAP:
        list_extents(k, p);
        return;
    }
    if (request >> 8 == 0x89) { /* others of the interfaces */
        gives_all(k, p, 40);
        return;
    }
    if (request >> 30 & 1)
        takes_some(k, 2, p, size);
    if (request >> 31)
        gives_all(k, p, size);
}

enum option_kind { OPTION_TEXT, OPTION_PROGRAM, OPTION_GROUP, OPTION_MEMBER };

static const struct {
    uint16_t level, first, last;
    uint8_t kind;
} options[] = {
    {1, 25, 25, OPTION_TEXT},    /* an interface */
    {1, 26, 26, OPTION_PROGRAM}, /* filters */
    {1, 51, 51, OPTION_PROGRAM},
    {6, 13, 13, OPTION_TEXT},    /* congestion control, upper layer */
    {6, 31, 31, OPTION_TEXT},
    {0, 42, 47, OPTION_GROUP},   /* multicast, RFC 3678 */
    {41, 42, 47, OPTION_GROUP},
    {263, 1, 2, OPTION_MEMBER},  /* packet(7) */
};

static void takes_program(struct call *k, int parameter, gaddr p) { /* struct sock_fprog */
    takes(k, parameter, p, 0, 2);
    takes(k, parameter, p, 8, 8);
    if (!shadow_first_undefined(p, 2) && !shadow_first_undefined(p + 8, 8))
        takes(k, parameter, *(gaddr *)guest(p + 8), 0, 8 * (uint64_t) * (uint16_t *)guest(p));
}

void effect_seccomp(struct call *k) {
    gaddr p = k->a[2];
    switch (k->a[0]) {
    case 1: /* SECCOMP_SET_MODE_FILTER */
        if (!k->done && is_pointer(p))
            takes_program(k, 2, p);
        break;
    case 2: /* SECCOMP_GET_ACTION_AVAIL */
        if (is_pointer(p))
            takes(k, 2, p, 0, 4);
        break;
    case 3: /* SECCOMP_GET_NOTIF_SIZES */
        gives_all(k, p, 6);
        break;
    }
}

void effect_setsockopt(struct call *k) {
    gaddr p = k->a[3];
    uint64_t size = (uint32_t)k->a[4];
    if (k->done || !p)
        return;
    for (unsigned i = 0; i < sizeof options / sizeof options[0]; i++) {
        if (k->a[1] != options[i].level || k->a[2] < options[i].first ||
            k->a[2] > options[i].last)
            continue;
        switch (options[i].kind) {
        case OPTION_TEXT:
            takes(k, 3, p, 0, text_size(p, size < 16 ? size : 16));
            return;
        case OPTION_PROGRAM:
            takes_program(k, 3, p);
            return;
        case OPTION_GROUP:
            takes(k, 3, p, 0, 4);
            takes_address(k, 3, p + 8, 128);
            if (size >= 264)
                takes_address(k, 3, p + 136, 128);
            return;
        case OPTION_MEMBER:
            takes(k, 3, p, 0, 8);
            if (*(uint16_t *)guest(p + 6) <= 8)
                takes(k, 3, p, 8, *(uint16_t *)guest(p + 6));
            return;
        }
    }
    if (size <= 32)
        takes(k, 3, p, 0, size);
    else
        takes_some(k, 3, p, size);
}

void effect_fcntl(struct call *k) {
    switch (k->a[1]) {
    case 5: case 36: /* F_GETLK */
        takes(k, 2, k->a[2], 0, 4);
        takes(k, 2, k->a[2], 8, k->a[1] == 36 ? 20 : 16); /* no process may own an open file's */
        gives(k, k->a[2], 32, succeeded(k) ? 32 : 0);
        break;
    case 6: case 7: case 37: case 38: /* F_SETLK, F_SETLKW */
        takes(k, 2, k->a[2], 0, 4);
        takes(k, 2, k->a[2], 8, k->a[1] > 7 ? 20 : 16);
        break;
    case 15: /* F_SETOWN_EX */
    case 1036: case 1038: /* hints */
        takes(k, 2, k->a[2], 0, 8);
        break;
    case 16: /* F_GETOWN_EX */
    case 1035: case 1037:
        gives(k, k->a[2], 8, succeeded(k) ? 8 : 0);
        break;
    case 0: case 1030: /* F_DUPFD, F_DUPFD_CLOEXEC */
    case 2: case 4: case 8: case 10: case 1024: case 1026: case 1031: case 1033:
        if (!k->done)
            check_register(k, 2, "arg");
        if (succeeded(k) && (k->a[1] == 0 || k->a[1] == 1030))
            descriptor_opened(k->c, k->c->pc - 2, (uint64_t)k->result);
        break;
    }
}

void effect_prctl(struct call *k) {
    switch (k->a[0]) {
    case 1: case 4: case 8: case 23: case 24: case 28: case 36: case 38: /* a number */
        if (!k->done)
            check_register(k, 1, "arg2");
        break;
    case 22: /* PR_SET_SECCOMP */
        if (!k->done)
            check_register(k, 1, "arg2");
        if (!k->done && k->a[1] == 2 && is_pointer(k->a[2]))
            takes_program(k, 2, k->a[2]);
        break;
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
    case 0x41555856: /* PR_GET_AUXV: told is the whole length */
        gives(k, k->a[1], k->a[2], succeeded(k) ? (uint64_t)k->result : 0);
        break;
    case 40: /* PR_GET_TID_ADDRESS */
        gives(k, k->a[1], 8, succeeded(k) ? 8 : 0);
        break;
    }
}

/* ptrace(2): words of memory, the message of an event, registers, signals. */
static const struct request traces[] = {
    {1, 0, 8, 0},    {2, 0, 8, 0},   {3, 0, 8, 0},        {0x4201, 0, 8, 0},  {12, 0, 216, 0},
    {13, 216, 0, 0}, {14, 0, 512, 0}, {15, 512, 0, 0}, {0x4202, 0, 128, 0}, {0x4203, 12, 0, 0},
};

void effect_ptrace(struct call *k) {
    gaddr data = k->a[3];
    for (unsigned i = 0; i < sizeof traces / sizeof traces[0]; i++)
        if (traces[i].request == k->a[0]) {
            takes_some(k, 3, data, traces[i].in);
            gives_all(k, data, traces[i].out);
        }
    if (succeeded(k))
        tracee_registers(k->a[0], k->a[1], k->a[2], data);
    switch (k->a[0]) {
    case 0x4204: /* PTRACE_GETREGSET: through an iovec */
        takes(k, 3, data, 0, 16);
        gives(k, *(gaddr *)guest(data), *(uint64_t *)guest(data + 8),
              succeeded(k) ? *(uint64_t *)guest(data + 8) : 0);
        break;
    case 0x4205:
        takes(k, 3, data, 0, 16);
        takes_some(k, 3, *(gaddr *)guest(data), *(uint64_t *)guest(data + 8));
        break;
    case 0x4209: /* PTRACE_PEEKSIGINFO */
        if (succeeded(k))
            gives(k, data, 128 * (uint64_t)k->result, 128 * (uint64_t)k->result);
        break;
    case 0x420a: case 0x420e: /* as much as there is room for */
        gives(k, data, k->a[2], succeeded(k) ? k->a[2] : 0);
        break;
    }
}

/* System V: what the commands write; one of them reads what it sets. */
static void control(struct call *k, uint64_t command, gaddr p, uint64_t state, uint64_t limits,
                    uint64_t totals) {
    switch (command & 0xff) {
    case 1: { /* IPC_SET: owner and mode; how much a queue holds */
        int parameter = k->name[0] == 's' && k->name[1] == 'e' ? 3 : 2;
        takes(k, parameter, p, 4, 8);
        takes(k, parameter, p, 20, 2);
        if (k->name[0] == 'm')
            takes(k, parameter, p, 88, 8);
        break;
    }
    case 2: case 11: case 13: case 15: case 18: case 20: /* IPC_STAT and its like */
        gives_all(k, p, state);
        break;
    case 3: /* IPC_INFO */
        gives_all(k, p, limits);
        break;
    case 12: case 14: case 19: /* MSG_INFO, SHM_INFO, SEM_INFO */
        gives_all(k, p, totals);
        break;
    }
}

void effect_shmctl(struct call *k) { control(k, k->a[1], k->a[2], 112, 72, 48); }
void effect_msgctl(struct call *k) {
    if ((k->a[1] & 0xff) == 13) /* MSG_STAT_ANY; 13 stands for others elsewhere */
        gives_all(k, k->a[2], 120);
    else
        control(k, k->a[1], k->a[2], 120, 32, 32);
}

void effect_semctl(struct call *k) {
    struct semid64_ds set;
    switch (k->a[2] & 0xff) {
    case 13: case 17: /* GETALL, SETALL: as many as the set has */
        if (system_call(__NR_semctl, k->a[0], 0, 2, &set) < 0)
            return;
        if ((k->a[2] & 0xff) == 13)
            gives_all(k, k->a[3], 2 * set.sem_nsems);
        else
            takes(k, 3, k->a[3], 0, 2 * set.sem_nsems);
        break;
    case 16: /* SETVAL */
        if (!k->done)
            check_register(k, 3, "arg");
        break;
    case 11: case 12: case 14: case 15: /* values that it returns */
        break;
    default:
        control(k, k->a[2], k->a[3], 104, 40, 40);
    }
}

/* What is thrown away reads as 0, or as the file again: in both cases defined. */
void effect_madvise(struct call *k) {
    if (succeeded(k) && (k->a[2] == 4 || k->a[2] == 9 || k->a[2] == 24))
        memory_discarded(k->c, k->a[0], k->a[1]);
}

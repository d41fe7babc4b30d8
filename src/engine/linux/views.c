/* What /proc shows a process of itself. Files that tell of its address space, its start
   or its signal handlers are made anew when they are opened, without what the engine has
   there: readers of them find what they would find natively. One row for each. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/fcntl.h>
#include <linux/memfd.h>

struct text {
    char *at;
    uint64_t size, room; /* bytes */
};

static void add(struct text *t, const char *from, uint64_t size) {
    if (t->size + size > t->room) {
        uint64_t room = (t->size + size) * 2 + 4096;
        char *more = engine_alloc(room);
        if (t->at) {
            copy_bytes(more, t->at, t->size);
            engine_free(t->at, t->room);
        }
        t->at = more;
        t->room = room;
    }
    copy_bytes(t->at + t->size, from, size);
    t->size += size;
}

static uint64_t line_length(const char *line, const char *end) {
    const char *p = line;
    while (p < end && *p++ != '\n')
        ;
    return (uint64_t)(p - line);
}

/* Hexadecimal digits from *p on; *p goes behind them. */
static uint64_t hexadecimal(const char **p, const char *end) {
    uint64_t value = 0;
    for (; *p < end; ++*p) {
        int digit = **p >= '0' && **p <= '9'   ? **p - '0'
                    : **p >= 'a' && **p <= 'f' ? **p - 'a' + 10
                                               : -1;
        if (digit < 0)
            break;
        value = value << 4 | (uint64_t)digit;
    }
    return value;
}

enum { NAME_COLUMN = 73 }; /* proc_pid_maps(5), as the kernel sets it */

/* maps and smaps: a line for each mapping, others about it behind that. */
static void make_maps(struct text *out, const char *line, const char *end) {
    gaddr brk_end = (gaddr)memory_brk(0);
    bool keep = false;
    for (uint64_t n; line < end; line += n) {
        n = line_length(line, end);
        const char *p = line;
        uint64_t from = hexadecimal(&p, end), to = 0;
        bool about = p == line || p == end || *p != '-';
        if (!about) {
            p++;
            to = hexadecimal(&p, end);
            keep = from < GUEST_END && !(from >= THUNKS && from < THUNKS + THUNKS_SIZE);
        }
        if (!keep)
            continue;
        const char *name = from <= STACK_TOP - 1 && to > STACK_TOP - 1 ? "[stack]\n"
                           : from >= BRK_BASE && from < brk_end        ? "[heap]\n"
                                                                       : NULL;
        if (about || !name || n > NAME_COLUMN) {
            add(out, line, n);
            continue;
        }
        add(out, line, n - 1);
        for (uint64_t at = n - 1; at < NAME_COLUMN; at++)
            add(out, " ", 1);
        add(out, name, text_length(name));
    }
}

static void make_auxv(struct text *out, const char *line, const char *end) {
    (void)line, (void)end;
    uint64_t size;
    const void *words = start_auxiliary(&size);
    add(out, words, size);
}

static void add_number(struct text *out, uint64_t value, uint64_t width) {
    char digits[24];
    uint64_t n = (uint64_t)format(digits, sizeof digits, "%d", value);
    for (; width > n; width--)
        add(out, " ", 1);
    add(out, digits, n);
}

static void make_status(struct text *out, const char *line, const char *end) {
    for (uint64_t n; line < end; line += n) {
        n = line_length(line, end);
        bool data = has_prefix(line, "VmData:");
        if (data || has_prefix(line, "VmSize:") || has_prefix(line, "VmPeak:")) {
            add(out, line, 8);
            add_number(out, memory_in_use(data) >> 10, 8);
            add(out, " kB\n", 4);
        } else if (has_prefix(line, "SigCgt:")) {
            uint64_t caught = signals_caught();
            add(out, line, 8);
            for (int shift = 60; shift >= 0; shift -= 4)
                add(out, &"0123456789abcdef"[caught >> shift & 15], 1);
            add(out, "\n", 1);
        } else {
            add(out, line, n);
        }
    }
}

static void make_statm(struct text *out, const char *line, const char *end) {
    int field = 0;
    for (const char *p = line; p < end; field++) {
        const char *from = p;
        while (p < end && *p != ' ' && *p != '\n')
            p++;
        if (field == 0 || field == 5)
            add_number(out, memory_in_use(field == 5) >> 12, 0);
        else
            add(out, from, (uint64_t)(p - from));
        if (p < end)
            add(out, p++, 1);
    }
}

static const struct view {
    const char *name;
    void (*make)(struct text *out, const char *from, const char *end);
} views[] = {
    {"/maps", make_maps},     {"/smaps", make_maps}, {"/auxv", make_auxv},
    {"/status", make_status}, {"/statm", make_statm},
};

static bool ends_with(const char *text, uint64_t size, const char *end) {
    uint64_t n = text_length(end);
    return size >= n && same_bytes(text + size - n, end, n);
}

/* The descriptor is of one of the process's own files in /proc. */
static bool is_own(int fd, const char *name) {
    char link[64], path[128], own[64];
    format(link, sizeof link, "/proc/self/fd/%d", (uint64_t)fd);
    long n = system_call(__NR_readlink, link, path, sizeof path - 1);
    if (n <= 0)
        return false;
    path[n] = 0;
    format(own, sizeof own, "/proc/%d/", (uint64_t)system_call(__NR_getpid));
    return has_prefix(path, own) && ends_with(path, (uint64_t)n, name);
}

static void replace(int fd, const struct view *view) {
    struct text in = {0}, out = {0};
    char piece[4096];
    for (long n; (n = system_call(__NR_read, fd, piece, sizeof piece)) > 0;)
        add(&in, piece, (uint64_t)n);
    view->make(&out, in.at, in.at + in.size);
    long flags = system_call(__NR_fcntl, fd, F_GETFD, 0);
    int made = (int)system_call(__NR_memfd_create, view->name + 1, MFD_CLOEXEC);
    if (made >= 0 && system_call(__NR_write, made, out.at, out.size) == (long)out.size &&
        system_call(__NR_lseek, made, 0, 0) == 0)
        system_call(__NR_dup3, made, fd, flags & FD_CLOEXEC ? O_CLOEXEC : 0);
    else
        system_call(__NR_lseek, fd, 0, 0);
    if (made >= 0)
        system_call(__NR_close, made);
    if (in.at)
        engine_free(in.at, in.room);
    if (out.at)
        engine_free(out.at, out.room);
}

long view_opened(const char *path, long fd) {
    if (fd < 0)
        return fd;
    uint64_t n = text_length(path);
    for (uint64_t i = 0; i < sizeof views / sizeof *views; i++)
        if (ends_with(path, n, views[i].name) ||
            (n == text_length(views[i].name) - 1 && same_bytes(path, views[i].name + 1, n))) {
            if (is_own((int)fd, views[i].name))
                replace((int)fd, &views[i]);
            break;
        }
    return fd;
}

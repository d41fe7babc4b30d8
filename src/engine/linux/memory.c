/* The guest's mappings: a sorted table of what is mapped where, choosing
   places for new mappings below GUEST_END, and keeping translated code and
   shadow in step when something is unmapped or changed. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/mman.h>

#define MAPPINGS 131072u
#define LOW_FLAG 0x40 /* MAP_32BIT */
#define DENY_WRITE 0x800

static struct mapping *mappings;
static uint32_t count;
static struct lock lock;
static gaddr brk_end;

/* What the program itself may have (RLIMIT_AS, RLIMIT_DATA): bytes. */
static uint64_t limits[2] = {~0ULL, ~0ULL};
static struct {
    uint64_t bytes[2]; /* of all mappings, of private ones that may be written */
    bool known;
} mapped;

static uint64_t page_up(uint64_t n) { return (n + 4095) & ~4095ULL; }

void memory_start(void) {
    mappings = engine_alloc(MAPPINGS * sizeof *mappings);
    brk_end = BRK_BASE;
    shadow_start();
}

/* First mapping that ends after the address. */
static uint32_t first_after(gaddr address) {
    uint32_t low = 0, high = count;
    while (low < high) {
        uint32_t middle = (low + high) / 2;
        if (mappings[middle].end <= address)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

static void open_gap(uint32_t at, uint32_t by) {
    mapped.known = false;
    if (count + by > MAPPINGS)
        fail("the guest has more than %u mappings", (uint64_t)MAPPINGS);
    for (uint32_t i = count; i > at; i--)
        mappings[i - 1 + by] = mappings[i - 1];
    count += by;
}

static void close_gap(uint32_t at, uint32_t by) {
    for (uint32_t i = at; i + by < count; i++)
        mappings[i] = mappings[i + by];
    count -= by;
}

/* Cuts the range out of the table; true when code was translated from it. */
static bool cut(gaddr start, gaddr end) {
    bool code = false;
    mapped.known = false;
    uint32_t i = first_after(start);
    while (i < count && mappings[i].start < end) {
        struct mapping *m = &mappings[i];
        code |= m->code;
        if (m->start < start && m->end > end) {
            open_gap(i + 1, 1);
            mappings[i + 1] = mappings[i];
            mappings[i].end = start;
            mappings[i + 1].start = end;
            return code;
        }
        if (m->start < start) {
            m->end = start;
            i++;
        } else if (m->end > end) {
            m->start = end;
            return code;
        } else {
            close_gap(i, 1);
        }
    }
    return code;
}

static void drop_code(gaddr start, gaddr end) {
    cache_invalidate(start, end);
    symbols_unmapped(start, end - start);
}

/* --- the same memory mapped twice --- */

/* Code generators write through one mapping of a file and execute through another. */
#define ALIASES 8
struct aliases {
    uint32_t count;
    struct {
        gaddr start, end;
    } at[ALIASES];
};

static void add_alias(struct aliases *list, gaddr start, gaddr end) {
    if (list->count < ALIASES) {
        list->at[list->count].start = start;
        list->at[list->count++].end = end;
    }
}

/* Calls `each` for the parts of other mappings, with these protections, that show the
   same bytes of the file; `lock` is held. */
static void for_aliases(const struct mapping *m, gaddr start, gaddr end, uint32_t protection,
                        void (*each)(struct mapping *other, gaddr from, gaddr to, void *data),
                        void *data) {
    for (uint32_t i = 0; i < count; i++) {
        struct mapping *n = &mappings[i];
        if (n->file != m->file || !(n->protection & protection))
            continue;
        gaddr from = start - m->origin + n->origin, to = end - m->origin + n->origin;
        from = from > n->start ? from : n->start;
        to = to < n->end ? to : n->end;
        if (from < to && !(from >= start && from < end))
            each(n, from, to, data);
    }
}

static void note_if_code(struct mapping *n, gaddr from, gaddr to, void *list) {
    if (n->code)
        add_alias(list, from, to);
}

/* Where code was translated from the bytes that this range shows; `lock` is held. */
static void aliases_with_code(struct aliases *list, gaddr start, gaddr end) {
    list->count = 0;
    for (uint32_t i = first_after(start); i < count && mappings[i].start < end; i++) {
        struct mapping m = mappings[i];
        if (m.file)
            for_aliases(&m, m.start > start ? m.start : start, m.end < end ? m.end : end, PROT_EXEC,
                        note_if_code, list);
    }
}

static void drop_aliases(const struct aliases *list) {
    for (uint32_t i = 0; i < list->count; i++)
        cache_invalidate(list->at[i].start, list->at[i].end);
}

static bool any_watched; /* pages were write-protected because of code in them */

static void watch(struct mapping *n, gaddr from, gaddr to, void *unused) {
    (void)unused;
    from &= ~4095ULL;
    system_call(__NR_mprotect, from, page_up(to) - from, n->protection & ~(uint32_t)PROT_WRITE);
    any_watched = true;
}

/* A number for the file, never 0. */
static uint64_t file_of(int fd) {
    struct {
        uint64_t device, inode, rest[16];
    } status;
    if (fd < 0 || system_call(__NR_fstat, fd, &status) < 0)
        return 0;
    return ((status.inode ^ status.device << 40) * 0x9e3779b97f4a7c15ULL) | 1;
}

static void note(struct mapping new) {
    struct aliases aliases = {0};
    gaddr start = new.start, end = new.end;
    lock_take(&lock);
    bool code = cut(start, end);
    uint32_t i = first_after(start);
    struct mapping *before = i ? &mappings[i - 1] : NULL;
    if (before && before->end == start && before->protection == new.protection &&
        before->flags == new.flags && !before->code && before->file == new.file &&
        (!new.file || before->origin == new.origin)) {
        before->end = end;
        mapped.known = false;
    } else {
        open_gap(i, 1);
        mappings[i] = new;
    }
    if (new.file && (new.protection & PROT_WRITE))
        aliases_with_code(&aliases, start, end);
    lock_drop(&lock);
    if (code)
        drop_code(start, end);
    drop_aliases(&aliases);
}

/* In one step, so that no other thread finds the place free in between. */
void memory_note(gaddr start, uint64_t size, int protection, int flags) {
    note((struct mapping){.start = start, .end = start + page_up(size),
                          .protection = (uint32_t)protection, .flags = (uint32_t)flags});
}

/* The same mapping elsewhere, or more of it: `shift` is how far it moved. */
static void note_moved(const struct mapping *m, gaddr start, uint64_t size, gaddr shift) {
    note((struct mapping){.start = start, .end = start + size, .protection = m->protection,
                          .flags = m->flags, .file = m->file, .origin = m->origin + shift});
}

void memory_forget(gaddr start, uint64_t size) {
    lock_take(&lock);
    bool code = cut(start, start + page_up(size));
    lock_drop(&lock);
    if (code)
        drop_code(start, start + page_up(size));
}

bool memory_lookup(gaddr address, struct mapping *out) {
    lock_take(&lock);
    uint32_t i = first_after(address);
    bool found = i < count && mappings[i].start <= address;
    if (found)
        *out = mappings[i];
    lock_drop(&lock);
    return found;
}

uint64_t memory_reach(gaddr address, uint64_t size) {
    enum { PAGE = 4096 };
    gaddr at = address, end = size < GUEST_END - address ? address + size : GUEST_END;
    struct mapping m;
    if (address >= GUEST_END)
        return 0;
    while (at < end)
        if (memory_lookup(at, &m))
            at = m.end;
        else if (heap_near(at))
            at = (at & ~(gaddr)(PAGE - 1)) + PAGE;
        else
            break;
    return (at < end ? at : end) - address;
}

uint64_t memory_in_use(bool data) {
    enum { FIRST_STACK = 132 << 10 }; /* what the kernel begins with; it grows by use */
    lock_take(&lock);
    for (uint32_t i = 0; !mapped.known && i < count; i++) {
        const struct mapping *m = &mappings[i];
        if (!i)
            mapped.bytes[0] = mapped.bytes[1] = FIRST_STACK;
        if (m->end == STACK_TOP)
            continue;
        mapped.bytes[0] += m->end - m->start;
        if ((m->flags & MAP_PRIVATE) && (m->protection & PROT_WRITE))
            mapped.bytes[1] += m->end - m->start;
    }
    mapped.known = true;
    uint64_t bytes = mapped.bytes[data];
    lock_drop(&lock);
    return bytes + ledger->processes[process_index].live_bytes;
}

void memory_limit(bool data, uint64_t bytes) { limits[data] = bytes; }

bool memory_allows(uint64_t more, bool data) {
    return (limits[0] == ~0ULL || memory_in_use(false) + more <= limits[0]) &&
           (limits[1] == ~0ULL || !data || memory_in_use(true) + more <= limits[1]);
}

void memory_note_code(gaddr start, uint64_t size, bool watch_it) {
    lock_take(&lock);
    for (uint32_t i = first_after(start); i < count && mappings[i].start < start + size; i++) {
        struct mapping *m = &mappings[i];
        m->code = true;
        if (m->file)
            for_aliases(m, start, start + size, PROT_WRITE, watch, NULL);
        if ((m->protection & (PROT_WRITE | PROT_EXEC)) != (PROT_WRITE | PROT_EXEC) || !watch_it)
            continue;
        m->watched = true;
        /* code that may be rewritten at any time: the first write is noticed */
        gaddr from = start & ~4095ULL, to = page_up(start + size);
        from = from > m->start ? from : m->start;
        to = to < m->end ? to : m->end;
        system_call(__NR_mprotect, from, to - from, m->protection & ~(uint32_t)PROT_WRITE);
        any_watched = true;
    }
    lock_drop(&lock);
}

void memory_kernel_writes(gaddr start, uint64_t size) {
    bool code = false;
    struct aliases aliases;
    if (!any_watched || !size)
        return;
    lock_take(&lock);
    for (uint32_t i = first_after(start); i < count && mappings[i].start < start + size; i++) {
        struct mapping *m = &mappings[i];
        bool rewritten = m->watched && (m->protection & PROT_EXEC);
        if (!(m->protection & PROT_WRITE) || (!rewritten && !m->file))
            continue;
        gaddr from = start & ~4095ULL, to = page_up(start + size);
        from = from > m->start ? from : m->start;
        to = to < m->end ? to : m->end;
        system_call(__NR_mprotect, from, to - from, m->protection);
        code |= rewritten;
    }
    aliases_with_code(&aliases, start & ~4095ULL, page_up(start + size));
    lock_drop(&lock);
    if (code)
        cache_invalidate(start & ~4095ULL, page_up(start + size));
    drop_aliases(&aliases);
}

void memory_discarded(struct context *c, gaddr start, uint64_t size) {
    if (start >= GUEST_END || size > GUEST_END - start)
        return;
    if (heap_near(start)) /* beside other blocks */
        shadow_define(c, start, size);
    else /* back to what the mapping began with: stacks undefined, others defined */
        system_call(__NR_madvise, start + D_OFFSET, page_up(size), MADV_DONTNEED);
}

bool memory_code_written(gaddr address) {
    struct mapping m;
    struct aliases aliases;
    if (!any_watched || address >= GUEST_END || !memory_lookup(address, &m) ||
        !(m.protection & PROT_WRITE))
        return false;
    gaddr page = address & ~4095ULL;
    bool code = m.watched && (m.protection & PROT_EXEC);
    if ((!code && !m.file) || system_call(__NR_mprotect, page, 4096, m.protection) != 0)
        return false;
    lock_take(&lock);
    aliases_with_code(&aliases, page, page + 4096);
    lock_drop(&lock);
    if (code)
        cache_invalidate(page, page + 4096);
    drop_aliases(&aliases);
    return true;
}

gaddr memory_find_gap(uint64_t size, uint64_t alignment, bool low) {
    size = page_up(size);
    if (low) {
        gaddr at = LOW_START;
        for (uint32_t i = first_after(at); at + size <= LOW_END; i++) {
            if (i >= count || mappings[i].start >= at + size)
                return at;
            at = (mappings[i].end + alignment - 1) & ~(alignment - 1);
        }
        return 0;
    }
    gaddr top = MMAP_TOP;
    uint32_t i = first_after(top);
    while (i < count && mappings[i].start < top) /* one that has grown beyond the top */
        i++;
    for (;;) {
        gaddr at = (top - size) & ~(alignment - 1);
        if (at > MMAP_TOP || at < BRK_BASE)
            return 0;
        while (i > 0 && mappings[i - 1].start >= top)
            i--;
        if (i == 0 || mappings[i - 1].end <= at) {
            if (at < HEAP_BASE + ((uint64_t)HEAP_CHUNKS << HEAP_CHUNK_SHIFT))
                return 0;
            return at;
        }
        top = mappings[i - 1].start;
    }
}

/* Holds a free place against other threads until it is mapped; `lock` is held. */
static void hold(gaddr start, uint64_t size) {
    uint32_t i = first_after(start);
    open_gap(i, 1);
    mappings[i] = (struct mapping){.start = start, .end = start + size};
}

/* The same for a wanted place; false: it is not free. */
static bool hold_if_free(gaddr start, uint64_t size) {
    lock_take(&lock);
    uint32_t i = first_after(start);
    bool free = i >= count || mappings[i].start >= start + size;
    if (free)
        hold(start, size);
    lock_drop(&lock);
    return free;
}

static bool in_heap_arena(gaddr start, uint64_t size) {
    return start < HEAP_BASE + ((uint64_t)HEAP_CHUNKS << HEAP_CHUNK_SHIFT) &&
           start + size > HEAP_BASE;
}

static bool is_elf(int fd) {
    char magic[4] = {0};
    return system_call(__NR_pread64, fd, magic, 4, 0) == 4 && same_bytes(magic, "\177ELF", 4);
}

/* Some files, the rings of io_uring among them, are mapped where the kernel likes, and nowhere
   else. With MAP_32BIT that is in the guest's part. */
static long map_where_allowed(uint64_t size, int protection, int flags, int fd, uint64_t offset) {
    long p = system_call(__NR_mmap, 0, size, protection, flags | LOW_FLAG, fd, offset);
    if (p < 0 && p > -4096)
        return p;
    if ((gaddr)p + size <= GUEST_END && hold_if_free((gaddr)p, page_up(size)))
        return p;
    system_call(__NR_munmap, p, size); /* another thread is about to map something there */
    return -ENOMEM;
}

long memory_mmap(gaddr hint, uint64_t size, int protection, int flags, int fd, uint64_t offset) {
    if (size == 0)
        return -EINVAL;
    if ((flags & MAP_HUGETLB) && size < GUEST_END) { /* the kernel takes whole pages of that kind */
        uint64_t page = 1ULL << ((flags >> MAP_HUGE_SHIFT & 63) ? flags >> MAP_HUGE_SHIFT & 63 : 21);
        size = (size + page - 1) & ~(page - 1);
    }
    if (size >= GUEST_END)
        return -ENOMEM;
    if (!memory_allows(page_up(size), (flags & MAP_PRIVATE) && (protection & PROT_WRITE)))
        return -ENOMEM;
    bool module = fd >= 0 && (flags & (DENY_WRITE | MAP_PRIVATE)) && offset == 0 &&
                  !(flags & MAP_ANONYMOUS) && !(flags & MAP_SHARED) &&
                  ((flags & DENY_WRITE) || (protection & PROT_EXEC)) && is_elf(fd);
    bool fixed = flags & (MAP_FIXED | MAP_FIXED_NOREPLACE);
    gaddr at = hint;
    if (fixed) {
        if (at >= GUEST_END || at + size > GUEST_END || in_heap_arena(at, size))
            return -ENOMEM;
    } else {
        at &= ~4095ULL;
        if (!at || at + page_up(size) > GUEST_END || at < 65536 || in_heap_arena(at, size) ||
            !hold_if_free(at, page_up(size)))
            at = 0;
        if (!at) {
            lock_take(&lock);
            uint64_t alignment = flags & MAP_HUGETLB ? size & -size : 4096;
            if (module || (flags & LOW_FLAG))
                at = memory_find_gap(size, alignment, true);
            if (!at && !(flags & LOW_FLAG))
                at = memory_find_gap(size, alignment, false);
            if (at)
                hold(at, page_up(size));
            lock_drop(&lock);
            if (!at)
                return -ENOMEM;
        }
        flags |= MAP_FIXED;
    }
    long p = system_call(__NR_mmap, at, size, protection, flags & ~LOW_FLAG, fd, offset);
    if (p < 0 && p > -4096 && !fixed)
        memory_forget(at, size);
    if (p == -EINVAL && !fixed && fd >= 0 && !(flags & MAP_ANONYMOUS))
        p = map_where_allowed(size, protection, flags & ~(MAP_FIXED | LOW_FLAG), fd, offset);
    if (p < 0 && p > -4096)
        return p;
    if (fd >= 0 && !(flags & MAP_ANONYMOUS) && (flags & MAP_SHARED))
        uring_mapped(fd, offset, (gaddr)p);
    if (fixed)
        shadow_reset(at, page_up(size));
    note((struct mapping){.start = (gaddr)p, .end = (gaddr)p + page_up(size),
                          .protection = (uint32_t)protection,
                          .flags = (uint32_t)flags & (0xf | MAP_STACK),
                          .file = flags & MAP_SHARED && !(flags & MAP_ANONYMOUS) ? file_of(fd) : 0,
                          .origin = (gaddr)p - offset});
    if (module)
        symbols_mapped((gaddr)p, size, fd, offset);
    return p;
}

long memory_munmap(gaddr start, uint64_t size) {
    if (start & 4095 || size == 0)
        return -EINVAL;
    size = page_up(size);
    if (start >= GUEST_END || size > GUEST_END - start)
        return -EINVAL;
    if (in_heap_arena(start, size))
        return 0;
    long r = system_call(__NR_munmap, start, size);
    if (r == 0) { /* the place is free for others last of all */
        shadow_reset(start, size);
        memory_forget(start, size);
    }
    return r;
}

long memory_mremap(gaddr old, uint64_t old_size, uint64_t size, int flags, gaddr wanted) {
    if (old >= GUEST_END || size >= GUEST_END || size == 0 ||
        ((flags & MREMAP_DONTUNMAP) && (wanted & 4095)))
        return -EINVAL;
    struct mapping m;
    if (!memory_lookup(old, &m))
        return -EFAULT;
    uint64_t old_pages = page_up(old_size), pages = page_up(size);
    if (pages > old_pages && !memory_allows(pages - old_pages, m.flags & MAP_PRIVATE))
        return -ENOMEM;
    if (flags & MREMAP_FIXED) {
        if (wanted >= GUEST_END || wanted + size > GUEST_END)
            return -ENOMEM;
        long p = system_call(__NR_mremap, old, old_size, size, flags, wanted);
        if (p >= 0 || p < -4095) {
            shadow_reset(wanted, pages);
            shadow_move(current(), wanted, old, pages < old_pages ? pages : old_pages);
            shadow_reset(old, old_pages);
            if (!(flags & MREMAP_DONTUNMAP))
                memory_forget(old, old_pages);
            note_moved(&m, wanted, pages, wanted - old);
        }
        return p;
    }
    if (!(flags & MREMAP_DONTUNMAP) &&
        (pages <= old_pages || hold_if_free(old + old_pages, pages - old_pages))) {
        long p = system_call(__NR_mremap, old, old_size, size, 0, 0);
        if (p != (long)old && pages > old_pages)
            memory_forget(old + old_pages, pages - old_pages);
        if (p == (long)old) {
            if (pages < old_pages) {
                shadow_reset(old + pages, old_pages - pages);
                memory_forget(old + pages, old_pages - pages);
            } else if (pages > old_pages)
                note_moved(&m, old + old_pages, pages - old_pages, 0);
            return p;
        }
    }
    if (!(flags & MREMAP_MAYMOVE))
        return -ENOMEM;
    gaddr at = 0;
    if ((flags & MREMAP_DONTUNMAP) && wanted && wanted < GUEST_END && wanted + pages <= GUEST_END &&
        hold_if_free(wanted, pages))
        at = wanted; /* a hint */
    lock_take(&lock);
    if (!at && (at = memory_find_gap(pages, 4096, false)))
        hold(at, pages);
    lock_drop(&lock);
    if (!at)
        return -ENOMEM;
    long p = system_call(__NR_mremap, old, old_size, size, flags | MREMAP_FIXED, at);
    if (p != (long)at)
        memory_forget(at, pages);
    if (p == (long)at) {
        shadow_move(current(), at, old, pages < old_pages ? pages : old_pages);
        shadow_reset(old, old_pages);
        if (!(flags & MREMAP_DONTUNMAP))
            memory_forget(old, old_pages);
        note_moved(&m, at, pages, at - old);
    }
    return p;
}

long memory_move_in(gaddr from, uint64_t size) {
    lock_take(&lock);
    gaddr at = memory_find_gap(size, 4096, false);
    if (at)
        hold(at, size);
    lock_drop(&lock);
    if (!at)
        return -ENOMEM;
    long p = system_call(__NR_mremap, from, size, size, MREMAP_MAYMOVE | MREMAP_FIXED, at);
    if (p != (long)at) {
        memory_forget(at, size);
        return -ENOMEM;
    }
    note((struct mapping){.start = at, .end = at + size, .protection = PROT_READ | PROT_WRITE,
                          .flags = MAP_SHARED});
    return p;
}

void memory_protect(gaddr start, uint64_t size, int protection) {
    gaddr end = start + page_up(size);
    bool code = false;
    struct aliases aliases = {0};
    lock_take(&lock);
    for (uint32_t i = first_after(start); i < count && mappings[i].start < end; i++) {
        struct mapping m = mappings[i];
        gaddr from = m.start > start ? m.start : start, to = m.end < end ? m.end : end;
        if (m.protection == (uint32_t)protection)
            continue;
        if (m.code && ((protection & PROT_WRITE) || !(protection & PROT_EXEC)))
            code = true;
        if (from > m.start) {
            open_gap(i, 1);
            mappings[i].end = from;
            mappings[++i].start = from;
        }
        if (to < m.end) {
            open_gap(i, 1);
            mappings[i].end = to;
            mappings[i + 1].start = to;
        }
        mappings[i].protection = (uint32_t)protection;
    }
    if (protection & PROT_WRITE)
        aliases_with_code(&aliases, start, end);
    lock_drop(&lock);
    if (code)
        cache_invalidate(start, end);
    drop_aliases(&aliases);
}

long memory_mprotect(gaddr start, uint64_t size, int protection) {
    if (start >= GUEST_END || size > GUEST_END - start)
        return -ENOMEM;
    if (protection & PROT_GROWSDOWN) { /* asked of stacks: from their lowest page on */
        struct mapping m;
        if (!memory_lookup(start, &m) || (m.flags & MAP_SHARED))
            return -EINVAL;
        size += start - m.start;
        start = m.start;
        protection &= ~PROT_GROWSDOWN;
    }
    long r = system_call(__NR_mprotect, start, size, protection);
    if (r == 0)
        memory_protect(start, size, protection & 7);
    return r;
}

long memory_brk(gaddr wanted) {
    lock_take(&lock);
    gaddr end = brk_end;
    lock_drop(&lock);
    if (wanted < BRK_BASE || wanted > BRK_BASE + (1ULL << 36))
        return (long)end;
    gaddr old_page = page_up(end), new_page = page_up(wanted);
    if (new_page > old_page) {
        if (!memory_allows(new_page - old_page, true))
            return (long)end;
        long p = system_call(__NR_mmap, old_page, new_page - old_page, PROT_READ | PROT_WRITE,
                             MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0);
        if (p != (long)old_page)
            return (long)end;
        memory_note(old_page, new_page - old_page, PROT_READ | PROT_WRITE, MAP_PRIVATE);
    } else if (new_page < old_page) {
        system_call(__NR_munmap, new_page, old_page - new_page);
        memory_forget(new_page, old_page - new_page);
        shadow_reset(new_page, old_page - new_page);
    }
    brk_end = wanted;
    return (long)wanted;
}

/* Around a fork: no other thread may be in the middle of a change. */
void memory_fork(bool before) {
    if (before)
        lock_take(&lock);
    else
        lock_drop(&lock);
}

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

/* In one step, so that no other thread finds the place free in between. */
void memory_note(gaddr start, uint64_t size, int protection, int flags) {
    gaddr end = start + page_up(size);
    lock_take(&lock);
    bool code = cut(start, end);
    uint32_t i = first_after(start);
    struct mapping *before = i ? &mappings[i - 1] : NULL;
    if (before && before->end == start && before->protection == (uint32_t)protection &&
        before->flags == (uint32_t)flags && !before->code) {
        before->end = end;
    } else {
        open_gap(i, 1);
        mappings[i] = (struct mapping){start, end, (uint32_t)protection, (uint32_t)flags, false};
    }
    lock_drop(&lock);
    if (code)
        drop_code(start, end);
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

static bool any_watched; /* pages were write-protected because of code in them */

void memory_note_code(gaddr start, uint64_t size) {
    lock_take(&lock);
    for (uint32_t i = first_after(start); i < count && mappings[i].start < start + size; i++) {
        struct mapping *m = &mappings[i];
        m->code = true;
        if ((m->protection & (PROT_WRITE | PROT_EXEC)) != (PROT_WRITE | PROT_EXEC))
            continue;
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
    if (!any_watched || !size)
        return;
    lock_take(&lock);
    for (uint32_t i = first_after(start); i < count && mappings[i].start < start + size; i++) {
        struct mapping *m = &mappings[i];
        if (!m->code || (m->protection & (PROT_WRITE | PROT_EXEC)) != (PROT_WRITE | PROT_EXEC))
            continue;
        gaddr from = start & ~4095ULL, to = page_up(start + size);
        from = from > m->start ? from : m->start;
        to = to < m->end ? to : m->end;
        system_call(__NR_mprotect, from, to - from, m->protection);
        code = true;
    }
    lock_drop(&lock);
    if (code)
        cache_invalidate(start & ~4095ULL, page_up(start + size));
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
    if (address >= GUEST_END || !memory_lookup(address, &m) || !m.code ||
        (m.protection & (PROT_WRITE | PROT_EXEC)) != (PROT_WRITE | PROT_EXEC))
        return false;
    gaddr page = address & ~4095ULL;
    if (system_call(__NR_mprotect, page, 4096, m.protection) != 0)
        return false;
    cache_invalidate(page, page + 4096);
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
    mappings[i] = (struct mapping){start, start + size, 0, 0, false};
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

long memory_mmap(gaddr hint, uint64_t size, int protection, int flags, int fd, uint64_t offset) {
    if (size == 0)
        return -EINVAL;
    if (size >= GUEST_END)
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
            uint64_t alignment = flags & MAP_HUGETLB ? 2u << 20 : 4096;
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
    if (p < 0 && p > -4096) {
        if (!fixed)
            memory_forget(at, size);
        return p;
    }
    if (fixed)
        shadow_reset(at, page_up(size));
    memory_note((gaddr)p, size, protection, flags & (0xf | MAP_STACK));
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
    if (old >= GUEST_END || size >= GUEST_END || size == 0)
        return -EINVAL;
    struct mapping m;
    if (!memory_lookup(old, &m))
        return -EFAULT;
    uint64_t old_pages = page_up(old_size), pages = page_up(size);
    if (flags & MREMAP_FIXED) {
        if (wanted >= GUEST_END || wanted + size > GUEST_END)
            return -ENOMEM;
        long p = system_call(__NR_mremap, old, old_size, size, flags, wanted);
        if (p >= 0 || p < -4095) {
            shadow_reset(wanted, pages);
            shadow_move(current(), wanted, old, pages < old_pages ? pages : old_pages);
            if (!(flags & MREMAP_DONTUNMAP)) {
                shadow_reset(old, old_pages);
                memory_forget(old, old_pages);
            }
            memory_note(wanted, pages, (int)m.protection, (int)m.flags);
        }
        return p;
    }
    if (pages <= old_pages || hold_if_free(old + old_pages, pages - old_pages)) {
        long p = system_call(__NR_mremap, old, old_size, size, 0, 0);
        if (p != (long)old && pages > old_pages)
            memory_forget(old + old_pages, pages - old_pages);
        if (p == (long)old) {
            if (pages < old_pages) {
                shadow_reset(old + pages, old_pages - pages);
                memory_forget(old + pages, old_pages - pages);
            } else if (pages > old_pages)
                memory_note(old + old_pages, pages - old_pages, (int)m.protection, (int)m.flags);
            return p;
        }
    }
    if (!(flags & MREMAP_MAYMOVE))
        return -ENOMEM;
    lock_take(&lock);
    gaddr at = memory_find_gap(pages, 4096, false);
    if (at)
        hold(at, pages);
    lock_drop(&lock);
    if (!at)
        return -ENOMEM;
    long p = system_call(__NR_mremap, old, old_size, size, flags | MREMAP_FIXED, at);
    if (p != (long)at)
        memory_forget(at, pages);
    if (p == (long)at) {
        shadow_move(current(), at, old, pages < old_pages ? pages : old_pages);
        if (!(flags & MREMAP_DONTUNMAP)) {
            shadow_reset(old, old_pages);
            memory_forget(old, old_pages);
        }
        memory_note(at, pages, (int)m.protection, (int)m.flags);
    }
    return p;
}

void memory_protect(gaddr start, uint64_t size, int protection) {
    gaddr end = start + page_up(size);
    bool code = false;
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
    lock_drop(&lock);
    if (code)
        cache_invalidate(start, end);
}

long memory_mprotect(gaddr start, uint64_t size, int protection) {
    if (start >= GUEST_END || size > GUEST_END - start)
        return -ENOMEM;
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

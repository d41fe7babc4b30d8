/* Turns a bad access into a raw finding in the ledger: which block, where it
   was allocated and freed, and whether the same was seen before. */
#include "engine.h"


static uint32_t key_of(const struct ledger_finding *f) {
    uint64_t h = f->kind * 0x9e3779b97f4a7c15ULL ^ ((uint64_t)f->caller << 17) ^
                 ((uint64_t)f->block_allocated << 40) ^ f->block_freed ^ f->origin;
    return (uint32_t)((h * 0x9e3779b97f4a7c15ULL) >> 52) & 4095;
}

static bool same_finding(const struct ledger_finding *a, const struct ledger_finding *b) {
    return a->kind == b->kind && a->caller == b->caller &&
           a->block_allocated == b->block_allocated && a->block_freed == b->block_freed &&
           a->origin == b->origin && same_text(a->what, b->what) &&
           a->process == b->process;
}

static long times_found;
long findings_times(void) { return __atomic_load_n(&times_found, __ATOMIC_RELAXED); }

enum { PART = 1u << 31 }; /* with a finding's number: it was told as part of that */

/* Counts the finding in, or adds it. */
static uint32_t record(const struct ledger_finding *wanted) {
    if (ledger->processes[process_index].silent)
        return 0;
    __atomic_add_fetch(&times_found, 1, __ATOMIC_RELAXED);
    uint32_t *bucket = &ledger->finding_buckets[key_of(wanted)];
    uint32_t head = __atomic_load_n(bucket, __ATOMIC_ACQUIRE);
    for (uint32_t i = head; i; i = ledger->findings[i].key)
        if (same_finding(&ledger->findings[i], wanted)) {
            struct ledger_finding *f = &ledger->findings[i];
            bool same = f->stack == wanted->stack;
            if (wanted->caller != wanted->stack && wanted->access_size &&
                wanted->access_address == f->access_address + f->access_size)
                f->access_size += wanted->access_size; /* a loop in the C library goes on */
            else if (same)
                __atomic_add_fetch(&f->count, 1, __ATOMIC_RELAXED);
            /* else: the same call reached the same block, or met the same undefined value,
               by another way inside the library, which is the same mistake */
            return same ? i : i | PART;
        }
    uint32_t i = __atomic_add_fetch(&ledger->next_finding, 1, __ATOMIC_RELAXED);
    if (i >= LEDGER_FINDINGS) {
        ledger->next_finding = LEDGER_FINDINGS;
        ledger->overflow = 1;
        return 0;
    }
    struct ledger_finding *f = &ledger->findings[i];
    *f = *wanted;
    do
        f->key = head;
    while (!__atomic_compare_exchange_n(bucket, &head, i, false, __ATOMIC_RELEASE,
                                        __ATOMIC_ACQUIRE));
    __atomic_store_n(&f->ready, 1, __ATOMIC_RELEASE);
    return i;
}

static bool in_use(const struct block_view *view) {
    return view->state == HEAP_LIVE || view->state == HEAP_RETIRED;
}

static bool is_freed(const struct block_view *view) {
    return view->state == HEAP_RETIRED || view->state == HEAP_FREE;
}

/* The block a bad byte belongs to: the one it lies in, the one the access began
   in, or else the nearest; of two equally near ones the one before it, since
   overruns are commoner than underruns. */
static bool owner_of(gaddr bad, gaddr begin, struct block_view *view) {
    struct block_view here, first;
    if (!heap_find(bad, &here) && !heap_near(bad))
        return false;
    if (begin < bad && heap_find(begin, &first) && in_use(&first) && begin >= first.start &&
        begin < first.start + first.size) {
        *view = first;
        return true;
    }
    if (heap_find(bad, &here) && here.state != HEAP_NOTHING && bad >= here.start &&
        bad < here.start + here.size) {
        *view = here;
        return true;
    }
    struct block_view before, after;
    bool has_before = heap_neighbour(bad, -1, &before);
    bool has_after = heap_neighbour(bad, 1, &after);
    if (has_before && has_after) {
        uint64_t behind = bad - (before.start + before.size), ahead = after.start - bad;
        enum { LIKELIER = 3 }; /* to go too far than to begin too early */
        has_before = behind < LIKELIER * ahead || (before.state == HEAP_LIVE && after.state != HEAP_LIVE);
    }
    *view = has_before ? before : after;
    return has_before || has_after;
}

static void describe_block(struct ledger_finding *f, const struct access *a) {
    struct block_view view;
    if (!owner_of(a->bad, a->address, &view))
        return;
    f->block_known = 1;
    f->block_start = view.start;
    f->block_size = view.size;
    f->block_allocated = view.block->allocated;
    f->block_freed = is_freed(&view) ? view.block->freed : 0;
    f->block_family = view.block->family;
    f->block_offset = (int64_t)(a->bad - view.start);
    f->block_where = a->bad < view.start                ? LEDGER_BEFORE
                     : a->bad >= view.start + view.size ? LEDGER_AFTER
                                                        : LEDGER_INSIDE;
    if (f->kind == KIND_OUT_OF_BOUNDS_READ || f->kind == KIND_OUT_OF_BOUNDS_WRITE) {
        if (is_freed(&view))
            f->kind = KIND_USE_AFTER_FREE;
    }
}

/* The stack from where a library was called, if the leaf is in one; or else the whole. */
static uint32_t called_from(uint32_t stack, gaddr pc, bool replaced, bool in_library(gaddr)) {
    if (!replaced && !in_library(pc))
        return stack;
    uint32_t n = replaced ? ledger->nodes[stack].parent : stack;
    while (in_library(ledger->nodes[n].pc) && ledger->nodes[n].parent)
        n = ledger->nodes[n].parent;
    bool known = ledger->nodes[n].parent && n != stack &&
                 (!replaced || n != ledger->nodes[stack].parent);
    return known ? n : stack;
}

bool finding_is_installed(struct context *c, gaddr pc) {
    uint32_t n = stack_capture(c, pc);
    while (symbols_in_library_c(ledger->nodes[n].pc) && ledger->nodes[n].parent)
        n = ledger->nodes[n].parent;
    return symbols_installed(ledger->nodes[n].pc);
}

void finding_report(struct context *c, gaddr pc, const struct access *access) {
    struct ledger_finding f;
    fill_bytes(&f, 0, sizeof f);
    f.kind = access->kind;
    f.process = process_index;
    f.thread = c->number;
    f.count = 1;
    f.access_address = access->address;
    f.access_size = access->size;
    f.access_write = access->write;
    f.used_family = (uint32_t)access->used_family;
    f.other_address = access->other;
    f.signal = (uint32_t)access->signal;
    f.origin = access->origin;
    if (access->function)
        copy_text(f.function, access->function, sizeof f.function);
    if (access->what)
        copy_text(f.what, access->what, sizeof f.what);
    f.stack = stack_capture(c, pc);
    f.caller = called_from(f.stack, pc, access->function != NULL, symbols_in_library_c);
    if (f.kind != KIND_NULL_DEREFERENCE && f.kind != KIND_INVALID_SIZE)
        describe_block(&f, access);
    record(&f);
}

/* The value lies on the way of a scan by whole words, which cannot fault: the
   bytes beyond the block are undefined rather than forbidden (no finding unless
   they decide something). */
static bool is_scan(gaddr pc, gaddr address, uint64_t size, gaddr bad) {
    if (size < 8 || size > 64 || (address & (size - 1)))
        return false;
    if (bad == address) { /* some byte of it must be the program's */
        bool any = false;
        for (uint64_t i = 0; i < size; i++)
            any |= *shadow_of(address + i) != 0xff;
        if (!any)
            return false;
    }
    return symbols_in_loader(pc) || symbols_in_library_c(pc) || looks_like_scan(pc);
}

bool code_is_generated(gaddr pc) {
    if (pc >= THUNKS && pc < THUNKS + THUNKS_SIZE)
        return false; /* stands for a function of the C library */
    return !symbols_in_module(pc);
}

bool code_is_managed(gaddr pc) { return symbols_is_go(pc) || code_is_generated(pc); }

/* Code written by hand makes room for arguments by moving its return address down. */
static bool was_moved(struct context *c, gaddr slot) {
    enum { FAR = 1024 };
    gaddr to = *(gaddr *)guest(slot), from = c->registers[RSP];
    for (gaddr a = from > slot - FAR ? from : slot - FAR; a < slot; a += 8)
        if (*(gaddr *)guest(a) == to && !*(uint64_t *)shadow_of(a))
            return true;
    return false;
}

/* A vector that cannot fault, since it is aligned, and that holds the first or last bytes
   of what may be read. Libraries of the system do so on purpose; of the user's code it is
   not believed. */
static bool is_whole_vector(struct context *c, gaddr pc, gaddr address, uint64_t size,
                            gaddr bad) {
    return (size == 16 || size == 32 || size == 64) && !(address & (size - 1)) &&
           symbols_installed(pc) &&
           (bad > address || !touch_first_bad(c, address + size - 1, 1, false));
}

bool check_range(struct context *c, gaddr pc, gaddr address, uint64_t size, bool write,
                 const char *function) {
    if (size == 0)
        return true;
    if (address >= GUEST_END)
        return true; /* the access itself will fault and be told as that */
    gaddr bad = touch_first_bad(c, address, size, write);
    if (!bad)
        return true;
    if (!write && !function && size >= 8 && symbols_in_loader(pc))
        return true; /* its text functions read whole cache lines */
    if (!write && !function && is_scan(pc, address, size, bad))
        return true;
    if (!write && !function && (size == 4 || size == 8) && !(address & (size - 1)) &&
        bad > address && drops_beyond(pc, bad - address))
        return true; /* hashes of text go by words, which cannot fault */
    if (!write && !function && is_whole_vector(c, pc, address, size, bad))
        return true; /* check sums go by vectors: what lies beyond counts as undefined */
    struct access a = {.kind = write ? KIND_OUT_OF_BOUNDS_WRITE : KIND_OUT_OF_BOUNDS_READ,
                       .address = address,
                       .size = size,
                       .bad = bad,
                       .write = write,
                       .function = function};
    if (bad >= c->stack_low && bad < c->stack_high) {
        if (code_is_managed(pc))
            return true;
        if (!write && !function && bad >= c->old_sp && bad < c->registers[RSP] &&
            room_was_given_back(pc))
            return false; /* moved there by the compiler; it counts as defined */
        if (!function && red_zone_was_taken(c, pc, bad)) {
            c->shadow->stack_pointer = 0;
            return true;
        }
        a.kind = KIND_USE_AFTER_RETURN;
        if (bad < c->registers[RSP])
            a.origin = origin_released(c, bad);
        if (bad >= c->registers[RSP]) {
            a.kind = KIND_RETURN_ADDRESS_OVERWRITE;
            gaddr slot = touch_return_slot(c, address, size, true);
            if (symbols_is_system(pc) ||
                (slot && (code_is_managed(*(gaddr *)guest(slot)) || was_moved(c, slot))))
                return true; /* the business of an unwinder, of a run-time system */
            if (address < bad)
                a.origin = origin_frame(c, address);
            c->overwrite_told = true;
        }
    }
    finding_report(c, pc, &a);
    return false;
}

uint32_t finding_undefined(struct context *c, gaddr pc, uint32_t origin, const char *what,
                           gaddr address, uint64_t size, const char *function) {
    struct ledger_finding f;
    if (code_is_managed(pc))
        return 0;
    uint32_t from = origin_record(c, origin);
    const struct ledger_origin *o = &ledger->origins[from];
    if (from && o->kind == ORIGIN_STACK && code_is_managed(ledger->nodes[o->stack].pc))
        return 0; /* of a frame that only its own run-time system can read */
    fill_bytes(&f, 0, sizeof f);
    f.kind = KIND_UNINITIALIZED_VALUE;
    f.process = process_index;
    f.thread = c->number;
    f.count = 1;
    f.access_address = address;
    f.access_size = size;
    f.origin = from;
    copy_text(f.what, what, sizeof f.what);
    if (function)
        copy_text(f.function, function, sizeof f.function);
    f.stack = stack_capture(c, pc);
    f.caller = called_from(f.stack, pc, function != NULL, symbols_installed);
    return record(&f);
}

void finding_again(uint32_t finding) {
    __atomic_add_fetch(&times_found, 1, __ATOMIC_RELAXED);
    if (!(finding & PART))
        __atomic_add_fetch(&ledger->findings[finding].count, 1, __ATOMIC_RELAXED);
}

bool check_defined(struct context *c, gaddr pc, gaddr address, uint64_t size, const char *what,
                   const char *function) {
    if (!size || address >= GUEST_END)
        return true;
    gaddr bad = shadow_first_undefined(address, size);
    if (!bad)
        return true;
    gaddr last = bad;
    while (last + 1 < address + size && *shadow_of(last + 1))
        last++;
    char text[64];
    format(text, sizeof text, what, bad - address, last - address);
    finding_undefined(c, pc, origin_at(c, bad), text, bad, last - bad + 1, function);
    return false;
}

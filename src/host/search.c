/* Reading a stopped guest: heap directory, blocks, root ranges, memory. */
#define _GNU_SOURCE
#include "search.h"
#include "progress.h"
#include "symbol_file.h"

#include "../core/reach.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <inttypes.h>
#include <linux/futex.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

#define CHUNK (1ull << HEAP_CHUNK_SHIFT)
#define GUEST_END (1ull << 45)

struct range {
    uint64_t start, end;
};

enum { ANSWERS = 1024, PAGE_STATES = 1 << 15, PAGE = 4096 };

struct guest {
    const struct ledger *ledger;
    uint32_t process;
    pid_t pid;
    struct heap_chunk *chunks;
    uint32_t chunk_count;
    unsigned char *copy; /* of the arena, filled chunk by chunk */
    unsigned char *filled;
    struct range *images;
    size_t image_count;
    struct range *plain; /* anonymous private memory: what was never touched there holds 0 */
    size_t plain_count;
    int pages; /* pagemap (proc(5)), -1: it cannot be read */
    uint64_t page_states[PAGE_STATES]; /* of as many pages from the one numbered here on */
    uint64_t first_page;
    const uint32_t *stacks; /* by block */
    struct symbols *symbols;
    struct answer { /* which functions allocate, by stack */
        uint32_t stack;
        unsigned row;
    } answers[ANSWERS];
};

/* The run that is searched; whether its processes must be asked for their memory. */
static struct ledger *run_ledger;
static uint32_t run_process;
static bool must_ask;

static bool ask_for_piece(uint64_t address, void *to, uint64_t size) {
    enum { TURNS = 100 }; /* of 50 ms: a stopped process answers at once, a dead one never */
    struct ledger_hand_over *h = &run_ledger->hand_over;
    struct ledger_process *p = &run_ledger->processes[run_process];
    struct timespec turn = {0, 50 * 1000 * 1000};
    h->process = run_process;
    h->address = address;
    h->size = size;
    __atomic_store_n(&h->state, HAND_OVER_ASKED, __ATOMIC_RELEASE);
    for (int n = 0; n < TURNS; n++) {
        uint32_t state = __atomic_load_n(&h->state, __ATOMIC_ACQUIRE);
        if (state == HAND_OVER_DONE)
            memcpy(to, run_ledger->piece, size);
        if (state != HAND_OVER_ASKED && state != HAND_OVER_TAKEN)
            return state == HAND_OVER_DONE;
        syscall(SYS_futex, &p->state, FUTEX_WAKE, 64, NULL, NULL, 0);
        syscall(SYS_futex, &h->state, FUTEX_WAIT, state, &turn, NULL, 0);
    }
    h->state = HAND_OVER_NOTHING;
    return false;
}

static bool fetch(pid_t pid, uint64_t address, void *to, uint64_t size) {
    struct iovec local = {to, size}, remote = {(void *)(uintptr_t)address, size};
    if (!must_ask) {
        if (process_vm_readv(pid, &local, 1, &remote, 1, 0) == (ssize_t)size)
            return true;
        if (errno != EPERM && errno != ENOSYS)
            return false;
        must_ask = true;
    }
    for (uint64_t done = 0; done < size; done += LEDGER_PIECE) {
        uint64_t n = size - done < LEDGER_PIECE ? size - done : LEDGER_PIECE;
        if (!ask_for_piece(address + done, (char *)to + done, n))
            return false;
    }
    return true;
}

/* Page by page, for ranges with holes. */
static void fetch_some(pid_t pid, uint64_t address, void *to, uint64_t size) {
    if (fetch(pid, address, to, size))
        return;
    unsigned char *at = to;
    while (size) {
        uint64_t n = 4096 - (address & 4095);
        if (n > size)
            n = size;
        if (!fetch(pid, address, at, n))
            memset(at, 0, n);
        address += n;
        at += n;
        size -= n;
    }
}

#define D_OFFSET (1ull << 45)

/* The same without words that were never set: they point nowhere. */
static void fetch_defined(pid_t pid, uint64_t address, void *to, uint64_t size) {
    enum { PIECE = 65536 };
    static unsigned char shadow[PIECE];
    progress_step(0, 0);
    fetch_some(pid, address, to, size);
    for (uint64_t done = 0; done < size; done += PIECE) {
        uint64_t n = size - done < PIECE ? size - done : PIECE;
        memset(shadow, 0, n);
        fetch_some(pid, address + done + D_OFFSET, shadow, n);
        uint64_t *words = (uint64_t *)((char *)to + done), bits;
        for (uint64_t i = 0; i + 8 <= n; i += 8) {
            memcpy(&bits, shadow + i, 8);
            if (bits == ~0ull)
                words[i / 8] = 0;
        }
    }
}

static void read_guest(void *self, uint64_t address, void *to, uint64_t size) {
    struct guest *g = self;
    unsigned char *at = to;
    while (size) {
        uint64_t chunk = (address - HEAP_BASE) >> HEAP_CHUNK_SHIFT;
        if (address < HEAP_BASE || chunk >= g->chunk_count) {
            fetch_defined(g->pid, address, at, size);
            return;
        }
        uint64_t base = HEAP_BASE + chunk * CHUNK;
        if (!g->chunks[chunk].slot_size) { /* of a large block, which is gone through in turn */
            uint64_t n = base + CHUNK - address;
            n = n < size ? n : size;
            fetch_defined(g->pid, address, at, n);
            at += n;
            address += n;
            size -= n;
            continue;
        }
        unsigned char *copy = g->copy + chunk * CHUNK;
        if (!g->filled[chunk]) {
            const struct heap_chunk *c = &g->chunks[chunk];
            uint64_t used = (uint64_t)c->slot_size * c->count;
            fetch_defined(g->pid, base, copy, used < CHUNK ? used : CHUNK);
            g->filled[chunk] = 1;
        }
        uint64_t n = base + CHUNK - address;
        if (n > size)
            n = size;
        memcpy(at, copy + (address - base), n);
        at += n;
        address += n;
        size -= n;
    }
}

static const struct range *range_of(const struct range *list, size_t count, uint64_t address) {
    for (size_t i = 0; i < count; i++)
        if (address >= list[i].start && address < list[i].end)
            return &list[i];
    return NULL;
}

static uint64_t untouched(void *self, uint64_t address, uint64_t size) {
    struct guest *g = self;
    const uint64_t held = 3ull << 62; /* in memory, or swapped out */
    const struct range *plain = range_of(g->plain, g->plain_count, address);
    if (!plain || g->pages < 0 || address % 8)
        return 0;
    uint64_t end = plain->end - address < size ? plain->end : address + size, page = address / PAGE;
    for (; page * PAGE < end; page++) {
        if (page < g->first_page || page - g->first_page >= PAGE_STATES) {
            g->first_page = page;
            ssize_t n = pread(g->pages, g->page_states, sizeof g->page_states, (off_t)(page * 8));
            if (n < (ssize_t)sizeof g->page_states) /* the rest counts as held */
                memset((char *)g->page_states + (n > 0 ? n : 0), 0xff,
                       sizeof g->page_states - (size_t)(n > 0 ? n : 0));
            progress_step(0, 0);
        }
        if (g->page_states[page - g->first_page] & held)
            break;
    }
    uint64_t to = page * PAGE < end ? page * PAGE : end;
    return to > address ? (to - address) & ~7ull : 0;
}

static bool is_static(void *self, uint64_t address) {
    const struct guest *g = self;
    return range_of(g->images, g->image_count, address) != NULL;
}

/* The module with the frame of the stack that is so many calls away from the allocator (1:
   its caller), the frame's return address in *pc. */
static const struct ledger_module *module_of_caller(const struct guest *g, uint32_t stack,
                                                    unsigned away, uint64_t *pc) {
    const struct ledger *l = g->ledger;
    while (stack && stack < LEDGER_NODES && away--)
        stack = l->nodes[stack].parent;
    if (!stack || stack >= LEDGER_NODES)
        return NULL;
    *pc = l->nodes[stack].pc;
    uint32_t count = l->next_module < LEDGER_MODULES ? l->next_module : LEDGER_MODULES;
    for (uint32_t i = count; i-- > 0;) {
        const struct ledger_module *m = &l->modules[i];
        if (m->ready && *pc >= m->start && *pc < m->end)
            return m;
    }
    return NULL;
}

/* Functions that hand out pointers into the middle of their blocks, by a part of their
   name; ANYWHERE: several parts of it are pointed to. */
enum { ANYWHERE = -1 };
static const struct handing {
    const char *function;
    int offset; /* bytes */
} handing[] = {
    {"tsearch", 1},                          /* search trees: the lowest bit is a node's colour */
    {"__cxa_allocate_exception", ANYWHERE},  /* the object behind its header, and the header */
    {"_Rep::_S_create", 24},                 /* the text of a string behind its counts */
    {"4_Rep9_S_create", 24},
    {"monotonic_buffer_resource", ANYWHERE}, /* its chunks are linked at their ends */
};
enum { NOT_HANDING = sizeof handing / sizeof *handing };

/* The row of the function that called the allocator, perhaps by way of others. */
static unsigned handing_of(struct guest *g, uint32_t stack) {
    enum { FARTHEST = 3 };
    uint64_t pc;
    for (unsigned away = 1; away <= FARTHEST; away++) {
        const struct ledger_module *m = module_of_caller(g, stack, away, &pc);
        if (!m)
            return NOT_HANDING;
        char path[LEDGER_PATH];
        snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, m->path);
        if (!g->symbols)
            g->symbols = symbols_new();
        struct symbol_file *f = symbol_file_open(g->symbols, path);
        struct symbol_range range;
        if (!f->module || !symbol_file_range(f, pc - 1 - m->bias, &range))
            continue;
        for (unsigned row = 0; row < NOT_HANDING; row++)
            if (strstr(range.name, handing[row].function))
                return row;
    }
    return NOT_HANDING;
}

static bool hands_out(void *self, uint32_t block, uint64_t offset) {
    struct guest *g = self;
    uint32_t stack = g->stacks[block];
    if (!stack)
        return false;
    struct answer *a = &g->answers[stack % ANSWERS];
    if (a->stack != stack)
        *a = (struct answer){stack, handing_of(g, stack)};
    return a->row < NOT_HANDING && (handing[a->row].offset == ANYWHERE ||
                                    (uint64_t)handing[a->row].offset == offset);
}

struct found {
    struct reach_region *regions;
    struct reach_block *blocks;
    uint32_t *stacks;
    uint32_t *sequences;
    uint32_t region_count, block_count;
};

static bool read_blocks(struct guest *g, struct found *found) {
    uint64_t total = 0;
    for (uint32_t i = 1; i < g->chunk_count; i++)
        if (g->chunks[i].span)
            total += g->chunks[i].count;
    if (total > 200000000u)
        return false;
    found->regions = calloc(g->chunk_count + 1, sizeof *found->regions);
    found->blocks = calloc(total + 1, sizeof *found->blocks);
    found->stacks = calloc(total + 1, sizeof *found->stacks);
    found->sequences = calloc(total + 1, sizeof *found->sequences);
    struct heap_block *raw = malloc((CHUNK / 32 + 1) * sizeof *raw);
    for (uint32_t i = 1; i < g->chunk_count; i++) {
        const struct heap_chunk *c = &g->chunks[i];
        if (!c->span || !c->blocks || !c->count || c->count > CHUNK / 32)
            continue;
        if (!fetch(g->pid, c->blocks, raw, c->count * sizeof *raw))
            continue;
        uint64_t base = HEAP_BASE + (uint64_t)i * CHUNK;
        struct reach_region *region = &found->regions[found->region_count++];
        region->base = base;
        region->slot_size = c->slot_size ? c->slot_size : (uint64_t)c->span * CHUNK;
        region->first = found->block_count;
        region->count = c->count;
        for (uint32_t k = 0; k < c->count; k++) {
            struct reach_block *b = &found->blocks[found->block_count];
            b->start = base + (uint64_t)k * c->slot_size + raw[k].lead;
            b->size = c->slot_size ? raw[k].size : c->size;
            b->live = raw[k].state == BLOCK_LIVE;
            found->stacks[found->block_count] = raw[k].allocated;
            found->sequences[found->block_count] = raw[k].sequence;
            found->block_count++;
        }
    }
    free(raw);
    return true;
}

static void scan_mapping(struct reach *r, struct guest *g, uint64_t start, uint64_t end) {
    const struct ledger_process *p = &g->ledger->processes[g->process];
    /* below a thread's stack pointer nothing is alive, but for the red zone */
    for (uint32_t t = 0; t < p->thread_count && t < LEDGER_THREADS; t++) {
        uint64_t sp = p->threads[t].stack_pointer;
        if (sp >= start && sp < end)
            start = sp >= start + 128 ? sp - 128 : start;
    }
    uint32_t dead = p->dead_stack_count < LEDGER_DEAD_STACKS ? p->dead_stack_count
                                                             : LEDGER_DEAD_STACKS;
    for (uint32_t d = 0; d < dead; d++) {
        uint64_t low = p->dead_stacks[d][0], high = p->dead_stacks[d][1];
        if (low >= start && high <= end && low < high) {
            if (low > start)
                scan_mapping(r, g, start, low);
            start = high;
        }
    }
    if (start < end)
        reach_root(r, start, end - start);
}

/* Data that is read-only only after relocation may hold pointers to the heap. */
static bool in_module(const struct guest *g, uint64_t address) {
    const struct ledger *l = g->ledger;
    uint32_t count = l->next_module < LEDGER_MODULES ? l->next_module : LEDGER_MODULES;
    for (uint32_t i = 0; i < count; i++)
        if (l->modules[i].ready && address >= l->modules[i].start && address < l->modules[i].end)
            return true;
    return false;
}

/* Words that the kernel keeps for the program and gives back: data of epoll sets
   (proc(5), fdinfo) and of timers (timers: "signal: NUMBER/VALUE"). */
static void scan_kernel(struct reach *r, const struct guest *g) {
    char path[600], line[256];
    uint64_t word;
    snprintf(path, sizeof path, "/proc/%d/timers", (int)g->pid);
    FILE *f = fopen(path, "re");
    while (f && fgets(line, sizeof line, f))
        if (sscanf(line, "signal: %*d/%" SCNx64, &word) == 1)
            reach_words(r, &word, 1);
    if (f)
        fclose(f);
    snprintf(path, sizeof path, "/proc/%d/fd", (int)g->pid);
    DIR *folder = opendir(path);
    for (struct dirent *e; folder && (e = readdir(folder));) {
        char what[64];
        snprintf(path, sizeof path, "/proc/%d/fd/%s", (int)g->pid, e->d_name);
        ssize_t n = readlink(path, what, sizeof what - 1);
        what[n > 0 ? n : 0] = 0;
        if (strcmp(what, "anon_inode:[eventpoll]") != 0)
            continue;
        snprintf(path, sizeof path, "/proc/%d/fdinfo/%s", (int)g->pid, e->d_name);
        f = fopen(path, "re");
        while (f && fgets(line, sizeof line, f))
            if (sscanf(line, "tfd: %*d events: %*x data: %" SCNx64, &word) == 1)
                reach_words(r, &word, 1);
        if (f)
            fclose(f);
    }
    if (folder)
        closedir(folder);
}

/* A line of maps (proc(5)); without sscanf, since forks by the thousand are searched. */
struct mapped {
    uint64_t start, end, inode;
    char protection[5];
};

static bool parse_mapped(const char *line, struct mapped *m) {
    char *at;
    m->start = strtoull(line, &at, 16);
    if (*at != '-')
        return false;
    m->end = strtoull(at + 1, &at, 16);
    if (strlen(at) < 6)
        return false;
    memcpy(m->protection, at + 1, 4);
    m->protection[4] = 0;
    at = strchr(at + 6, ' '); /* behind the offset, then the device */
    at = at ? strchr(at + 1, ' ') : NULL;
    m->inode = at ? strtoull(at, NULL, 10) : 1;
    return true;
}

static void scan_roots(struct reach *r, struct guest *g) {
    char path[64], line[4400];
    snprintf(path, sizeof path, "/proc/%d/maps", (int)g->pid);
    FILE *maps = fopen(path, "re");
    if (!maps)
        return;
    size_t count = 0, room = 0;
    struct mapped *list = NULL, m;
    while (fgets(line, sizeof line, maps) && parse_mapped(line, &m) && m.start < GUEST_END) {
        if (count == room) {
            room = room ? room * 2 : 64;
            list = realloc(list, room * sizeof *list);
            g->images = realloc(g->images, room * sizeof *g->images);
            g->plain = realloc(g->plain, room * sizeof *g->plain);
        }
        list[count++] = m;
        if (m.inode)
            g->images[g->image_count++] = (struct range){m.start, m.end};
        else if (m.protection[3] == 'p')
            g->plain[g->plain_count++] = (struct range){m.start, m.end};
    }
    fclose(maps);
    uint64_t heap_end = HEAP_BASE + (uint64_t)HEAP_CHUNKS * CHUNK;
    for (size_t i = 0; i < count; i++) {
        m = list[i];
        /* what can no longer be written may have been: relocated data, what the program
           protected, generated code */
        bool written = m.protection[1] == 'w' || !m.inode ||
                       (m.protection[2] == '-' && m.protection[3] == 'p' && in_module(g, m.start));
        if (m.protection[0] == 'r' && written && (m.start >= heap_end || m.end <= HEAP_BASE))
            scan_mapping(r, g, m.start, m.end);
    }
    free(list);
    const struct ledger_process *p = &g->ledger->processes[g->process];
    for (uint32_t t = 0; t < p->thread_count && t < LEDGER_THREADS; t++) {
        reach_words(r, p->threads[t].registers, 16);
        reach_words(r, &p->threads[t].fs_base, 1);
        reach_words(r, &p->threads[t].alternate_stack, 1);
    }
}

static void add_loss(struct losses *losses, const struct loss *loss, size_t *index, size_t mask) {
    uint64_t h = ((uint64_t)loss->stack * 4 + loss->leak) * 0x9e3779b97f4a7c15ULL;
    size_t at = (size_t)(h >> 20) & mask;
    while (index[at]) {
        struct loss *l = &losses->list[index[at] - 1];
        if (l->stack == loss->stack && l->leak == loss->leak && l->process == loss->process) {
            l->blocks += loss->blocks;
            l->bytes += loss->bytes;
            l->dependent_blocks += loss->dependent_blocks;
            l->dependent_bytes += loss->dependent_bytes;
            return;
        }
        at = (at + 1) & mask;
    }
    if (losses->count == losses->capacity) {
        losses->capacity = losses->capacity ? losses->capacity * 2 : 256;
        losses->list = realloc(losses->list, losses->capacity * sizeof *losses->list);
    }
    losses->list[losses->count++] = *loss;
    index[at] = losses->count;
}

/* The dynamic loader asked for it: its tables are nobody's leak. */
static bool is_loaders(const struct guest *g, uint32_t stack) {
    uint64_t pc;
    const struct ledger_module *m = module_of_caller(g, stack, 1, &pc);
    if (!m)
        return false;
    char path[LEDGER_PATH];
    snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, m->path);
    const char *slash = strrchr(path, '/');
    return strncmp(slash ? slash + 1 : path, "ld-", 3) == 0;
}

/* Many blocks have few stacks. */
struct loaders_memo {
    uint32_t stack[256];
    bool answer[256];
};

static bool is_loaders_again(struct loaders_memo *memo, const struct guest *g, uint32_t stack) {
    uint32_t at = stack & 255;
    if (!stack || memo->stack[at] != stack) {
        memo->answer[at] = is_loaders(g, stack);
        memo->stack[at] = stack;
    }
    return memo->answer[at];
}

static void total_up(const struct guest *g, const struct found *found, struct losses *losses) {
    size_t mask = 1023;
    while (mask < (size_t)found->block_count * 2)
        mask = mask * 2 + 1;
    size_t *index = calloc(mask + 1, sizeof *index);
    uint32_t first = g->ledger->processes[g->process].first_sequence;
    struct loaders_memo memo = {0};
    for (uint32_t i = 0; i < found->block_count; i++) {
        const struct reach_block *b = &found->blocks[i];
        if (!b->live || b->leak >= LEAK_CLASSES || found->sequences[i] <= first)
            continue; /* blocks from before a fork are the parent's */
        enum leak_class leak = b->leak;
        if (leak != LEAK_REACHABLE && is_loaders_again(&memo, g, found->stacks[i]))
            leak = LEAK_REACHABLE;
        losses->classes[leak].blocks++;
        losses->classes[leak].bytes += b->size;
        struct loss loss = {.process = g->process, .stack = found->stacks[i], .leak = leak};
        if (leak == LEAK_DEPENDENT) {
            if (b->owner >= found->block_count)
                continue;
            loss.stack = found->stacks[b->owner];
            loss.leak = found->blocks[b->owner].leak;
            loss.dependent_blocks = 1;
            loss.dependent_bytes = b->size;
        } else {
            loss.blocks = 1;
            loss.bytes = b->size;
        }
        add_loss(losses, &loss, index, mask);
    }
    free(index);
}

bool search_process(struct ledger *ledger, uint32_t process, pid_t pid,
                    struct losses *losses) {
    const struct ledger_process *p = &ledger->processes[process];
    run_ledger = ledger;
    run_process = process;
    static struct guest g;
    char path[64];
    g = (struct guest){.ledger = ledger, .process = process, .pid = pid, .first_page = UINT64_MAX};
    struct heap_directory head;
    if (!fetch(g.pid, p->heap_directory, &head, sizeof head) || head.chunk_count > HEAP_CHUNKS)
        return false;
    snprintf(path, sizeof path, "/proc/%d/pagemap", (int)pid);
    g.pages = open(path, O_RDONLY | O_CLOEXEC);
    g.chunk_count = head.chunk_count;
    g.chunks = calloc(g.chunk_count + 1, sizeof *g.chunks);
    struct found found = {0};
    bool ok = fetch(g.pid, p->heap_directory + sizeof head, g.chunks,
                    g.chunk_count * sizeof *g.chunks) &&
              read_blocks(&g, &found);
    if (ok) {
        uint64_t bytes = (uint64_t)g.chunk_count * CHUNK;
        g.copy = mmap(NULL, bytes, PROT_READ | PROT_WRITE,
                      MAP_PRIVATE | MAP_ANONYMOUS | MAP_NORESERVE, -1, 0);
        g.filled = calloc(g.chunk_count + 1, 1);
        struct reach reach = {.regions = found.regions,
                              .region_count = found.region_count,
                              .blocks = found.blocks,
                              .block_count = found.block_count,
                              .read = read_guest,
                              .untouched = untouched,
                              .is_static = is_static,
                              .hands_out = hands_out,
                              .self = &g};
        g.stacks = found.stacks;
        progress_begin("searching the heap for leaks");
        reach_begin(&reach);
        scan_roots(&reach, &g);
        scan_kernel(&reach, &g);
        reach_finish(&reach);
        progress_end();
        total_up(&g, &found, losses);
        losses->done = true;
        munmap(g.copy, bytes);
        free(g.filled);
    }
    free(found.regions);
    free(found.blocks);
    free(found.stacks);
    free(found.sequences);
    free(g.chunks);
    free(g.images);
    free(g.plain);
    if (g.pages >= 0)
        close(g.pages);
    if (g.symbols)
        symbols_free(g.symbols);
    return ok;
}

/* Reads the ledger (untrusted: the guest may have scribbled on it) and builds
   the run. Every stack node is resolved once. */
#define _GNU_SOURCE
#include "collect.h"

#include "by_value.h"
#include "progress.h"
#include "tail_calls.h"

#include <signal.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>
#include <uthash.h>

#define DEEPEST 2000
#define INLINED 24

struct resolved {
    uint64_t key; /* image << 48 ^ pc, with the exactness in the top bit */
    struct frame frames[INLINED];
    int count;
    uint64_t link_address;
    UT_hash_handle hh;
};

/* Frames between a call and what ran under it, where tail calls left some out. */
struct passed {
    struct {
        const struct resolved *callee, *caller;
    } key;
    struct frame frames[INLINED];
    int count;
    UT_hash_handle hh;
};

struct collector {
    const struct ledger *ledger;
    struct symbols *symbols;
    struct run *run;
    struct resolved *cache;
    struct passed *passed;
    uint32_t nodes, names, processes;
};

static uint32_t bounded(uint32_t n, uint32_t limit) { return n < limit ? n : limit; }

static const struct ledger_name *name_at(const struct collector *c, uint32_t image, uint64_t pc) {
    for (uint32_t i = c->names; i-- > 0;) { /* the latest */
        const struct ledger_name *n = &c->ledger->names[i];
        if (n->ready && n->pc == pc && n->process < c->processes &&
            c->ledger->processes[n->process].image == image)
            return n;
    }
    return NULL;
}

const struct ledger_module *ledger_module_at(const struct ledger *ledger, uint32_t image,
                                             uint64_t pc) {
    for (uint32_t i = bounded(ledger->next_module, LEDGER_MODULES); i-- > 0;) {
        const struct ledger_module *m = &ledger->modules[i];
        if (m->ready && pc >= m->start && pc < m->end && m->process < LEDGER_PROCESSES &&
            ledger->processes[m->process].image == image)
            return m;
    }
    return NULL;
}

static const struct ledger_module *module_at(const struct collector *c, uint32_t image,
                                             uint64_t pc) {
    return ledger_module_at(c->ledger, image, pc);
}

static struct resolved *resolve(struct collector *c, uint32_t image, uint64_t pc, bool exact) {
    uint64_t key = (uint64_t)image << 48 ^ pc ^ (exact ? 1ull << 63 : 0);
    struct resolved *r;
    HASH_FIND(hh, c->cache, &key, sizeof key, r);
    if (r)
        return r;
    progress_step(HASH_COUNT(c->cache), 0);
    r = calloc(1, sizeof *r);
    r->key = key;
    const struct ledger_name *name = exact ? name_at(c, image, pc) : NULL;
    uint64_t real = name ? name->real : pc;
    const struct ledger_module *m = module_at(c, image, real);
    char path[LEDGER_PATH] = "";
    if (m)
        snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, m->path);
    const char *module = m ? pool_text(c->run->pool, path) : NULL;
    if (name) {
        char text[sizeof name->name + 1];
        snprintf(text, sizeof text, "%.*s", (int)sizeof name->name - 1, name->name);
        r->count = 1;
        r->frames[0].function = pool_text(c->run->pool, text);
        r->frames[0].module = module;
    } else if (m) {
        r->link_address = real - m->bias;
        r->count = symbols_resolve(c->symbols, c->run->pool, module, real - m->bias, exact,
                                   r->frames, INLINED);
    } else {
        r->count = 1;
    }
    for (int i = 0; i < r->count; i++)
        r->frames[i].address = pc;
    HASH_ADD(hh, c->cache, key, sizeof r->key, r);
    return r;
}

static const struct ledger_process *process_of(const struct collector *c, uint32_t i) {
    return i < c->processes ? &c->ledger->processes[i] : NULL;
}

/* Thread number of the stack, or 0. */
static uint32_t thread_of(const struct collector *c, uint32_t node) {
    for (int depth = 0; node && node < c->nodes && depth < 100000; depth++) {
        const struct ledger_node *n = &c->ledger->nodes[node];
        if (!n->parent)
            return (uint32_t)n->pc;
        node = n->parent;
    }
    return 0;
}

/* What tail calls left out between the two. */
static const struct passed *passed_between(struct collector *c, const struct resolved *callee,
                                           const struct resolved *caller) {
    const struct frame *inner = &callee->frames[callee->count - 1];
    const char *module = caller->frames[0].module;
    if (!caller->link_address || !module || path_is_system(module))
        return NULL;
    struct passed *p, wanted = {.key = {callee, caller}};
    HASH_FIND(hh, c->passed, &wanted.key, sizeof wanted.key, p);
    if (p)
        return p;
    p = calloc(1, sizeof *p);
    p->key = wanted.key;
    struct callee to = {inner->module, callee->link_address, inner->function};
    p->count = tail_calls_between(c->symbols, c->run->pool, module, caller->link_address, &to,
                                  p->frames, INLINED);
    for (int i = 0; i < p->count; i++)
        p->frames[i].address += caller->frames[0].address - caller->link_address;
    HASH_ADD(hh, c->passed, key, sizeof p->key, p);
    return p;
}

static struct stack stack_of(struct collector *c, uint32_t node, uint32_t image, bool exact) {
    struct stack stack = {0};
    struct frame *frames = malloc(DEEPEST * sizeof *frames);
    bool leaf = exact;
    const struct resolved *callee = NULL;
    while (node && node < c->nodes && stack.count < DEEPEST - 2 * INLINED) {
        const struct ledger_node *n = &c->ledger->nodes[node];
        if (!n->parent)
            break;
        struct resolved *r = resolve(c, image, n->pc, leaf);
        leaf = false;
        const struct passed *passed = callee ? passed_between(c, callee, r) : NULL;
        if (passed) {
            memcpy(frames + stack.count, passed->frames, (size_t)passed->count * sizeof *frames);
            stack.count += passed->count;
        }
        callee = r;
        memcpy(frames + stack.count, r->frames, (size_t)r->count * sizeof *frames);
        stack.count += r->count;
        node = n->parent;
    }
    /* what calls main belongs to the C library's start-up and tells nothing */
    for (int i = 0; i < stack.count; i++)
        if (frames[i].function && strcmp(frames[i].function, "main") == 0) {
            stack.count = i + 1;
            break;
        }
    stack.frames = pool_take(c->run->pool, (size_t)(stack.count + 1) * sizeof *frames);
    memcpy(stack.frames, frames, (size_t)stack.count * sizeof *frames);
    free(frames);
    return stack;
}

/* The innermost own frame first: what stands inside is the C library's business. */
static void add_origin(struct collector *c, struct finding *f, uint32_t index, uint32_t image) {
    if (!index || index >= LEDGER_ORIGINS || !c->ledger->origins[index].ready)
        return;
    const struct ledger_origin *o = &c->ledger->origins[index];
    f->origin = o->kind == ORIGIN_HEAP                                    ? FROM_HEAP
                : o->kind == ORIGIN_STACK || o->kind == ORIGIN_REGISTER ? FROM_STACK
                                                                        : FROM_OTHER;
    f->origin_size = o->block_size;
    f->origin_stack = stack_of(c, o->stack, image, !o->behind_call);
    if (f->origin != FROM_STACK || !o->stack || o->stack >= c->nodes)
        return;
    uint64_t pc = c->ledger->nodes[o->stack].pc;
    const struct ledger_module *m = module_at(c, image, pc);
    char path[LEDGER_PATH];
    if (!m)
        return;
    snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, m->path);
    struct pool *pool = c->run->pool;
    f->variable = o->kind == ORIGIN_REGISTER
                      ? symbols_register_variable(c->symbols, pool, path, pc - m->bias,
                                                  (unsigned)o->frame)
                      : symbols_variable(c->symbols, pool, path, pc - m->bias - o->behind_call,
                                         o->offset, o->pointer, o->frame);
    if (f->variable.outward < f->origin_stack.count) {
        f->origin_stack.frames += f->variable.outward;
        f->origin_stack.count -= f->variable.outward;
    }
}

/* A structure passed by value, read with what lies behind its block in one aligned word
   that cannot fault. */
static bool passes_structure(struct collector *c, const struct ledger_finding *raw,
                             uint32_t image) {
    uint64_t end = raw->block_start + raw->block_size, inside = end - raw->access_address;
    if (raw->kind != KIND_OUT_OF_BOUNDS_READ || !raw->block_known ||
        (raw->access_size != 4 && raw->access_size != 8) ||
        raw->access_address % raw->access_size || raw->access_address < raw->block_start ||
        inside >= raw->access_size || !raw->stack || raw->stack >= c->nodes)
        return false;
    uint64_t pc = c->ledger->nodes[raw->stack].pc;
    const struct ledger_module *m = module_at(c, image, pc);
    char path[LEDGER_PATH];
    if (!m)
        return false;
    snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, m->path);
    return by_value_at(c->symbols, path, pc - m->bias, (unsigned)inside, (unsigned)(end % 8));
}

/* A register that is said to hold nothing at the entry of a function, which may follow other
   conventions than those of C. */
static bool is_of_another_language(struct collector *c, const struct ledger_finding *raw,
                                   uint32_t image) {
    if (!raw->origin || raw->origin >= LEDGER_ORIGINS)
        return false;
    const struct ledger_origin *o = &c->ledger->origins[raw->origin];
    if (!o->ready || o->kind != ORIGIN_REGISTER)
        return false;
    uint64_t entry = (uint64_t)o->offset;
    const struct ledger_module *m = module_at(c, image, entry);
    char path[LEDGER_PATH];
    if (!m)
        return true;
    snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, m->path);
    return !symbols_begins_c(c->symbols, path, entry - m->bias);
}

static void add_finding(struct collector *c, const struct ledger_finding *raw) {
    const struct ledger_process *p = process_of(c, raw->process);
    if (!raw->ready || raw->kind >= KIND_COUNT || !p || passes_structure(c, raw, p->image) ||
        is_of_another_language(c, raw, p->image))
        return;
    struct finding *f = run_add(c->run);
    f->kind = (enum finding_kind)raw->kind;
    f->count = raw->count;
    f->pid = p->pid;
    f->thread = raw->thread;
    f->has_access = true;
    f->write = raw->access_write;
    f->address = raw->access_address;
    f->size = raw->access_size;
    f->other_address = raw->other_address;
    if (raw->function[0]) {
        char text[sizeof raw->function];
        snprintf(text, sizeof text, "%.*s", (int)sizeof text - 1, raw->function);
        f->function = pool_text(c->run->pool, text);
    }
    f->stack = stack_of(c, raw->stack, p->image, true);
    if (raw->what[0]) {
        char text[sizeof raw->what];
        snprintf(text, sizeof text, "%.*s", (int)sizeof text - 1, raw->what);
        f->what = pool_text(c->run->pool, text);
        f->has_access = raw->access_address != 0;
    }
    add_origin(c, f, raw->origin, p->image);
    if (raw->block_known) {
        f->has_block = true;
        f->block_start = raw->block_start;
        f->block_size = raw->block_size;
        f->block_offset = raw->block_offset;
        f->where = raw->block_where <= LEDGER_AFTER ? (enum where)raw->block_where : WHERE_UNKNOWN;
        f->allocated = stack_of(c, raw->block_allocated, p->image, true);
        f->has_freed = raw->block_freed != 0;
        if (f->has_freed)
            f->freed = stack_of(c, raw->block_freed, p->image, true);
    }
}

static void add_loss(struct collector *c, const struct loss *loss) {
    const struct ledger_process *p = process_of(c, loss->process);
    if (!p || !loss->blocks)
        return;
    struct finding *f = run_add(c->run);
    f->kind = KIND_LEAK;
    f->count = loss->blocks;
    f->pid = p->pid;
    f->leak = loss->leak;
    f->blocks = loss->blocks;
    f->bytes = loss->bytes;
    f->dependent_blocks = loss->dependent_blocks;
    f->dependent_bytes = loss->dependent_bytes;
    f->thread = thread_of(c, loss->stack);
    f->stack = stack_of(c, loss->stack, p->image, true);
    /* In a static program the loader's functions are the program's: by name. */
    const char *caller = f->stack.count > 1 ? f->stack.frames[1].function : NULL;
    if (f->leak != LEAK_REACHABLE && caller && strncmp(caller, "_dl_", 4) == 0) {
        struct tally *from = &c->run->leaks[f->leak], *to = &c->run->leaks[LEAK_REACHABLE];
        from->blocks -= f->blocks;
        from->bytes -= f->bytes;
        to->blocks += f->blocks;
        to->bytes += f->bytes;
        f->leak = LEAK_REACHABLE;
    }
}

/* The language's run-time libraries open for whoever called them. */
static bool is_runtime(const struct frame *f) {
    static const char *const names[] = {"libc.so", "libc-", "ld-linux", "libpthread", "libstdc++",
                                        "libc++", "libgcc_s"};
    const char *base = f->module ? strrchr(f->module, '/') : NULL;
    for (size_t i = 0; base && i < sizeof names / sizeof *names; i++)
        if (strncmp(base + 1, names[i], strlen(names[i])) == 0)
            return true;
    return false;
}

/* Functions of the C library that keep what they open, by design. */
static bool keeps_open(const struct frame *f) {
    static const char *const names[] = {"openlog", "syslog", "vsyslog", "__syslog_chk",
                                        "__vsyslog_chk", "__vsyslog_internal", "iconv_open",
                                        "setpwent", "setgrent", "sethostent", "setutxent"};
    for (size_t i = 0; f->function && i < sizeof names / sizeof *names; i++)
        if (strcmp(f->function, names[i]) == 0)
            return true;
    return false;
}

/* What the user's own code opened; what libraries and system programs open is
   their business. */
static void add_descriptor(struct collector *c, const struct ledger_descriptor *raw) {
    const struct ledger_process *p = process_of(c, raw->process);
    if (!raw->ready || !p)
        return;
    uint32_t node = raw->again ? raw->again : raw->stack;
    struct stack stack = stack_of(c, node, p->image, true);
    int at = 0;
    for (; at < stack.count && is_runtime(&stack.frames[at]); at++)
        if (keeps_open(&stack.frames[at]))
            return;
    if (at == stack.count || !stack.frames[at].own)
        return;
    struct finding *f = run_add(c->run);
    char path[LEDGER_PATH];
    snprintf(path, sizeof path, "%.*s", LEDGER_PATH - 1, raw->path);
    f->kind = raw->again ? KIND_DOUBLE_CLOSE : KIND_DESCRIPTOR_LEAK;
    f->count = raw->again ? raw->count : 1;
    f->pid = p->pid;
    f->thread = thread_of(c, node);
    f->has_descriptor = true;
    f->descriptor = (int)raw->number;
    f->path = path[0] ? pool_text(c->run->pool, path) : NULL;
    f->stack = stack;
    if (raw->again) {
        f->allocated = stack_of(c, raw->stack, p->image, true);
        f->freed = stack_of(c, raw->closed, p->image, true);
    }
}

static void add_processes(struct collector *c, const struct launch *launch) {
    struct run *run = c->run;
    run->processes = pool_take(run->pool, (c->processes + 1) * sizeof *run->processes);
    for (uint32_t i = 0; i < c->processes; i++) {
        const struct ledger_process *p = &c->ledger->processes[i];
        struct process *to = &run->processes[run->process_count++];
        char program[LEDGER_PATH], command[LEDGER_COMMAND];
        snprintf(program, sizeof program, "%.*s", LEDGER_PATH - 1, p->program);
        snprintf(command, sizeof command, "%.*s", LEDGER_COMMAND - 1, p->command);
        *to = (struct process){.pid = p->pid,
                               .parent = p->parent && p->parent <= i ? (int)p->parent - 1 : -1,
                               .program = pool_text(run->pool, program),
                               .command = pool_text(run->pool, command),
                               .status = p->exit_status,
                               .signal = p->exit_signal,
                               .forked = p->forked};
        bool first = i == 0 && p->pid == launch->pid && p->state != LEDGER_REPLACED;
        if (first) {
            to->status = launch->status;
            to->signal = launch->signal;
        }
        to->end = p->state == LEDGER_REPLACED ? END_REPLACED
                  : first || p->finished      ? to->signal ? END_SIGNAL : END_EXIT
                  : p->pid && kill((pid_t)p->pid, 0) == 0 ? END_RUNNING
                                                          : END_LOST;
    }
}

enum { KEPT_STACKS = 500 };

static int larger(const void *a, const void *b) {
    const struct loss *x = *(const struct loss *const *)a, *y = *(const struct loss *const *)b;
    return (x->bytes < y->bytes) - (x->bytes > y->bytes);
}

/* All that was lost; of what is still pointed to, the stacks that hold most. */
static void add_losses(struct collector *c, const struct losses *losses) {
    const struct loss **kept = calloc(losses->count + 1, sizeof *kept);
    size_t count = 0;
    for (size_t i = 0; i < losses->count; i++)
        if (losses->list[i].leak == LEAK_REACHABLE)
            kept[count++] = &losses->list[i];
        else
            add_loss(c, &losses->list[i]);
    qsort(kept, count, sizeof *kept, larger);
    for (size_t i = 0; i < count && i < KEPT_STACKS; i++)
        add_loss(c, kept[i]);
    free(kept);
}

enum { PEAK_STACKS = 12, GROWING_STACKS = 8 };

static int more_held(const void *a, const void *b) {
    const struct holding *x = a, *y = b;
    uint64_t gx = x->bytes - x->from, gy = y->bytes - y->from;
    return (gx < gy) - (gx > gy);
}

static struct stack site_stack(struct collector *c, uint32_t site) {
    const struct ledger_site *s = &c->ledger->sites[site];
    const struct ledger_process *p = process_of(c, s->process);
    return stack_of(c, s->node, p ? p->image : 0, true);
}

/* Sites by number first; only the largest get their stacks resolved. */
static struct holding *settle(struct collector *c, struct holding *list, uint32_t *sites,
                              size_t *count, size_t limit) {
    for (size_t i = 0; i < *count; i++)
        list[i].stack.count = (int)sites[i];
    qsort(list, *count, sizeof *list, more_held);
    *count = *count < limit ? *count : limit;
    struct holding *kept = pool_take(c->run->pool, (*count + 1) * sizeof *kept);
    for (size_t i = 0; i < *count; i++) {
        kept[i] = list[i];
        kept[i].stack = site_stack(c, (uint32_t)list[i].stack.count);
    }
    return kept;
}

static void add_history(struct collector *c, const struct history *h) {
    struct run *run = c->run;
    run->samples = pool_take(run->pool, (h->count + 1) * sizeof *run->samples);
    memcpy(run->samples, h->samples, h->count * sizeof *run->samples);
    run->sample_count = h->count;
    run->peak_at = h->peak.at;
    run->peak_seen = h->peak.bytes;
    uint32_t total = bounded(c->ledger->next_site + 1, LEDGER_SITES);
    struct holding *list = calloc(total + 1, sizeof *list);
    uint32_t *sites = calloc(total + 1, sizeof *sites);
    for (uint32_t i = 1; i < total && i < h->peak.count; i++)
        if (h->peak.sites[i]) {
            sites[run->peak_count] = i;
            list[run->peak_count++] = (struct holding){.bytes = h->peak.sites[i]};
        }
    run->peak = settle(c, list, sites, &run->peak_count, PEAK_STACKS);
    for (uint32_t i = 1; i < total; i++) {
        uint64_t from;
        if (!history_grows(h, i, &from))
            continue;
        const struct snapshot *end = &h->points[h->point_count - 1];
        sites[run->growing_count] = i;
        list[run->growing_count++] = (struct holding){.from = from, .bytes = end->sites[i]};
    }
    run->growing = settle(c, list, sites, &run->growing_count, GROWING_STACKS);
    free(list);
    free(sites);
}

struct run *collect(const struct launch *launch, struct symbols *symbols) {
    const struct ledger *l = launch->ledger;
    struct collector c = {.ledger = l, .symbols = symbols, .run = run_new()};
    struct run *run = c.run;
    c.nodes = bounded(l->next_node + 1, LEDGER_NODES);
    c.names = bounded(l->next_name, LEDGER_NAMES);
    c.processes = bounded(l->next_process, LEDGER_PROCESSES);
    char folder[4096];
    run->directory = pool_text(run->pool, getcwd(folder, sizeof folder) ? folder : "");
    run->program = pool_text(run->pool, launch->path);
    while (launch->arguments[run->argument_count + 1])
        run->argument_count++;
    run->arguments = pool_take(run->pool, sizeof(char *) * (size_t)(run->argument_count + 1));
    for (int i = 0; i < run->argument_count; i++)
        run->arguments[i] = pool_text(run->pool, launch->arguments[i + 1]);
    run->pid = launch->pid;
    run->seconds = launch->seconds;
    run->status = launch->status;
    run->signal = launch->signal;
    char now[40];
    time_t t = time(NULL) - (time_t)launch->seconds;
    struct tm tm;
    strftime(now, sizeof now, "%Y-%m-%dT%H:%M:%SZ", gmtime_r(&t, &tm));
    run->started = pool_text(run->pool, now);
    for (uint32_t i = 0; i < c.processes; i++) {
        const struct ledger_process *p = &l->processes[i];
        if (p->silent)
            continue;
        run->allocations += p->allocations;
        run->frees += p->frees;
        run->allocated_bytes += p->allocated_bytes;
        if (p->peak_bytes > run->peak_bytes)
            run->peak_bytes = p->peak_bytes;
        if (p->pid == launch->pid) {
            run->live.blocks = p->live_blocks;
            run->live.bytes = p->live_bytes;
        }
    }
    memcpy(run->leaks, launch->losses.classes, sizeof run->leaks);
    run->searched = launch->losses.done;
    run->incomplete = l->overflow != 0;
    progress_begin("looking up source lines");
    for (uint32_t i = 1; i <= l->next_finding && i < LEDGER_FINDINGS; i++)
        add_finding(&c, &l->findings[i]);
    for (uint32_t i = 0; i < l->next_descriptor && i < LEDGER_DESCRIPTORS; i++)
        add_descriptor(&c, &l->descriptors[i]);
    add_losses(&c, &launch->losses);
    add_processes(&c, launch);
    add_history(&c, &launch->history);
    progress_end();
    struct resolved *r, *next;
    run_settle(run);
    HASH_ITER(hh, c.cache, r, next) {
        HASH_DEL(c.cache, r);
        free(r);
    }
    struct passed *p, *following;
    HASH_ITER(hh, c.passed, p, following) {
        HASH_DEL(c.passed, p);
        free(p);
    }
    return run;
}

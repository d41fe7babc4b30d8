/* Sessions as JSON (jansson), optionally compressed (zstd). The text is read as
   untrusted input: anything missing or of another type is an error or empty. */
#define _GNU_SOURCE
#include "session.h"

#include <dirent.h>
#include <errno.h>
#include <inttypes.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>
#include <zstd.h>

enum { KEEP = 40 };

/* --- writing --- */

static json_t *text_or_null(const char *text) {
    if (!text)
        return json_null();
    json_t *value = json_string(text);
    return value ? value : json_string_nocheck("?"); /* not UTF-8 */
}

static json_t *hex(uint64_t value) {
    char text[24];
    snprintf(text, sizeof text, "0x%" PRIx64, value);
    return json_string(text);
}

static json_t *number_or_null(int n) { return n ? json_integer(n) : json_null(); }

static json_t *from_stack(const struct stack *stack) {
    json_t *list = json_array();
    for (int i = 0; i < stack->count; i++) {
        const struct frame *f = &stack->frames[i];
        json_array_append_new(
            list, json_pack("{s:o,s:o,s:o,s:o,s:o,s:o,s:b,s:b}", "function",
                            text_or_null(f->function), "file", text_or_null(f->file), "line",
                            number_or_null(f->line), "column", number_or_null(f->column), "module",
                            text_or_null(f->module), "address", hex(f->address), "inlined",
                            f->inlined, "own", f->own));
    }
    return list;
}

static const char *where_name(enum where where) {
    static const char *const names[] = {"unknown", "before", "inside", "after"};
    return names[where];
}

static json_t *from_finding(const struct finding *f) {
    json_t *o = json_pack("{s:s,s:s,s:i,s:I,s:i,s:i,s:o,s:o,s:o}", "id", f->id, "kind",
                          kind_name(f->kind), "cwe", kind_cwe(f->kind), "count",
                          (json_int_t)f->count, "pid", (int)f->pid, "thread", (int)f->thread,
                          "message", text_or_null(f->message), "suppressed_by",
                          text_or_null(f->suppressed_by), "stack", from_stack(&f->stack));
    if (f->function)
        json_object_set_new(o, "called", text_or_null(f->function));
    if (f->has_access)
        json_object_set_new(o, "access",
                            json_pack("{s:o,s:I,s:b}", "address", hex(f->address), "size",
                                      (json_int_t)f->size, "write", f->write));
    if (f->kind == KIND_OVERLAPPING_COPY)
        json_object_set_new(o, "source", hex(f->other_address));
    if (f->has_block)
        json_object_set_new(
            o, "block",
            json_pack("{s:o,s:I,s:I,s:s,s:o,s:o}", "address", hex(f->block_start), "size",
                      (json_int_t)f->block_size, "offset", (json_int_t)f->block_offset, "where",
                      where_name(f->where), "allocated", from_stack(&f->allocated), "freed",
                      f->has_freed ? from_stack(&f->freed) : json_null()));
    if (f->what)
        json_object_set_new(o, "use", text_or_null(f->what));
    if (f->origin) {
        json_t *origin = json_pack("{s:s,s:o,s:o}", "from", origin_name(f->origin), "variable",
                                   text_or_null(f->variable.name), "stack",
                                   from_stack(&f->origin_stack));
        if (f->origin == FROM_HEAP)
            json_object_set_new(origin, "size", json_integer((json_int_t)f->origin_size));
        if (f->variable.name)
            json_object_set_new(origin, "declared",
                                json_pack("{s:o,s:o}", "file", text_or_null(f->variable.file),
                                          "line", number_or_null(f->variable.line)));
        json_object_set_new(o, "origin", origin);
    }
    if (f->has_descriptor)
        json_object_set_new(o, "descriptor",
                            json_pack("{s:i,s:o}", "number", f->descriptor, "path",
                                      text_or_null(f->path)));
    if (f->share_count) {
        json_t *list = json_array();
        for (size_t i = 0; i < f->share_count; i++)
            json_array_append_new(list, json_pack("{s:i,s:I}", "pid", (int)f->shares[i].pid,
                                                  "count", (json_int_t)f->shares[i].count));
        json_object_set_new(o, "processes", list);
    }
    if (f->kind == KIND_LEAK) {
        json_object_set_new(
            o, "leak",
            json_pack("{s:s,s:I,s:I,s:I,s:I}", "class", leak_class_name(f->leak), "blocks",
                      (json_int_t)f->blocks, "bytes", (json_int_t)f->bytes, "dependent_blocks",
                      (json_int_t)f->dependent_blocks, "dependent_bytes",
                      (json_int_t)f->dependent_bytes));
        json_object_set_new(o, "allocated", from_stack(&f->stack));
    }
    return o;
}

static json_t *from_end(enum process_end end, int status, int number) {
    return end == END_SIGNAL ? json_pack("{s:i}", "signal", number)
           : end == END_EXIT ? json_pack("{s:i}", "status", status)
                             : json_null();
}

static json_t *from_processes(const struct run *run) {
    json_t *list = json_array();
    for (size_t i = 0; i < run->process_count; i++) {
        const struct process *p = &run->processes[i];
        json_array_append_new(
            list, json_pack("{s:i,s:o,s:o,s:o,s:b,s:s,s:o}", "pid", (int)p->pid, "parent",
                            p->parent >= 0 ? json_integer(p->parent) : json_null(), "program",
                            text_or_null(p->program), "command", text_or_null(p->command),
                            "forked", p->forked, "state", end_name(p->end), "exit",
                            from_end(p->end, p->status, p->signal)));
    }
    return list;
}

static json_t *from_holdings(const struct holding *list, size_t count, bool growing) {
    json_t *array = json_array();
    for (size_t i = 0; i < count; i++) {
        json_t *o = json_pack("{s:I,s:o}", "bytes", (json_int_t)list[i].bytes, "stack",
                              from_stack(&list[i].stack));
        if (growing)
            json_object_set_new(o, "from", json_integer((json_int_t)list[i].from));
        json_array_append_new(array, o);
    }
    return array;
}

static json_t *from_history(const struct run *run) {
    json_t *samples = json_array();
    for (size_t i = 0; i < run->sample_count; i++)
        json_array_append_new(samples, json_pack("[f,I,I]", run->samples[i].at,
                                                 (json_int_t)run->samples[i].bytes,
                                                 (json_int_t)run->samples[i].blocks));
    return json_pack("{s:o,s:{s:f,s:I,s:o},s:o}", "samples", samples, "peak", "at", run->peak_at,
                     "bytes", (json_int_t)run->peak_seen, "stacks",
                     from_holdings(run->peak, run->peak_count, false), "growing",
                     from_holdings(run->growing, run->growing_count, true));
}

static json_t *from_run(const struct run *run) {
    json_t *arguments = json_array(), *findings = json_array(), *kept = json_array();
    for (int i = 0; i < run->argument_count; i++)
        json_array_append_new(arguments, text_or_null(run->arguments[i]));
    for (size_t i = 0; i < run->count; i++)
        json_array_append_new(findings, from_finding(&run->findings[i]));
    for (size_t i = 0; i < run->kept; i++)
        json_array_append_new(kept, from_finding(&run->findings[run->count + i]));
    json_t *leaks = json_object();
    for (int c = 0; c < LEAK_CLASSES; c++)
        json_object_set_new(leaks, leak_class_name((enum leak_class)c),
                            json_pack("{s:I,s:I}", "blocks", (json_int_t)run->leaks[c].blocks,
                                      "bytes", (json_int_t)run->leaks[c].bytes));
    json_t *end = from_end(run->signal ? END_SIGNAL : END_EXIT, run->status, run->signal);
    json_t *heap = json_pack(
        "{s:I,s:I,s:I,s:I,s:I,s:I}", "allocations", (json_int_t)run->allocations, "frees",
        (json_int_t)run->frees, "allocated_bytes", (json_int_t)run->allocated_bytes, "peak_bytes",
        (json_int_t)run->peak_bytes, "live_blocks", (json_int_t)run->live.blocks, "live_bytes",
        (json_int_t)run->live.bytes);
    return json_pack(
        "{s:{s:s,s:i},s:{s:o,s:o,s:o,s:i,s:o,s:f,s:o,s:o},s:{s:I,s:I,s:I,s:b,s:o,s:o},s:o,s:o,s:o}",
        "tondo", "version", TONDO_VERSION, "schema", 1, "run", "program",
        text_or_null(run->program), "args", arguments, "directory", text_or_null(run->directory),
        "pid", (int)run->pid, "started", text_or_null(run->started), "seconds", run->seconds,
        "exit", end, "processes", from_processes(run), "summary", "findings", (json_int_t)run_open(run), "occurrences",
        (json_int_t)run_occurrences(run), "suppressed", (json_int_t)run_suppressed(run),
        "searched", run->searched, "heap", heap, "leaks", leaks, "findings", findings, "reachable",
        kept, "history", from_history(run));
}

char *session_text(const struct run *run) {
    json_t *root = from_run(run);
    char *text = json_dumps(root, JSON_INDENT(1) | JSON_PRESERVE_ORDER);
    json_decref(root);
    return text;
}

static bool ends_with(const char *text, const char *end) {
    size_t n = strlen(text), m = strlen(end);
    return n >= m && strcmp(text + n - m, end) == 0;
}

static int write_file(const char *path, const void *bytes, size_t size, struct error *error) {
    FILE *file = fopen(path, "we");
    if (!file)
        return error_set(error, "cannot write %s: %s", path, strerror(errno));
    bool ok = fwrite(bytes, 1, size, file) == size;
    ok = fclose(file) == 0 && ok;
    return ok ? 0 : error_set(error, "cannot write all of %s: %s", path, strerror(errno));
}

int session_save(const struct run *run, const char *path, struct error *error) {
    json_t *root = from_run(run);
    char *text = json_dumps(root, JSON_COMPACT | JSON_PRESERVE_ORDER);
    json_decref(root);
    size_t size = strlen(text);
    int result;
    if (ends_with(path, ".zst")) {
        size_t room = ZSTD_compressBound(size);
        char *packed = malloc(room);
        size_t n = ZSTD_compress(packed, room, text, size, 3);
        result = write_file(path, packed, n, error);
        free(packed);
    } else {
        result = write_file(path, text, size, error);
    }
    free(text);
    return result;
}

/* $XDG_STATE_HOME/tondo (XDG Base Directory Specification). */
char *session_folder(void) {
    char *folder = NULL;
    const char *state = getenv("XDG_STATE_HOME"), *home = getenv("HOME");
    int n = -1;
    if (state && state[0] == '/')
        n = asprintf(&folder, "%s/tondo", state);
    else if (home && home[0] == '/')
        n = asprintf(&folder, "%s/.local/state/tondo", home);
    return n < 0 ? NULL : folder;
}

static void make_folders(char *path) {
    for (char *at = path + 1; *at; at++)
        if (*at == '/') {
            *at = 0;
            mkdir(path, 0700);
            *at = '/';
        }
    mkdir(path, 0700);
}

static int is_session(const struct dirent *entry) {
    return strncmp(entry->d_name, "run-", 4) == 0 && ends_with(entry->d_name, ".json.zst");
}

int session_keep(const struct run *run, struct error *error) {
    char *folder = session_folder();
    if (!folder)
        return error_set(error, "the run is not kept: neither XDG_STATE_HOME nor HOME is set");
    make_folders(folder);
    struct timespec now;
    clock_gettime(CLOCK_REALTIME, &now);
    char *path = NULL;
    int result = -1;
    if (asprintf(&path, "%s/run-%012lld%03ld-%u.json.zst", folder, (long long)now.tv_sec,
                 now.tv_nsec / 1000000, run->pid) > 0)
        result = session_save(run, path, error);
    free(path);
    struct dirent **entries;
    int count = scandir(folder, &entries, is_session, alphasort);
    for (int i = 0; i < count; i++) {
        if (i < count - KEEP && asprintf(&path, "%s/%s", folder, entries[i]->d_name) > 0) {
            unlink(path);
            free(path);
        }
        free(entries[i]);
    }
    if (count >= 0)
        free(entries);
    free(folder);
    return result;
}

char *session_last(void) {
    char *folder = session_folder(), *path = NULL;
    struct dirent **entries;
    int count = folder ? scandir(folder, &entries, is_session, alphasort) : -1;
    for (int i = 0; i < count; i++) {
        if (i == count - 1 && asprintf(&path, "%s/%s", folder, entries[i]->d_name) < 0)
            path = NULL;
        free(entries[i]);
    }
    if (count >= 0)
        free(entries);
    free(folder);
    return path;
}

/* --- reading --- */

static char *read_file(const char *path, size_t *size, struct error *error) {
    FILE *file = fopen(path, "re");
    if (!file) {
        error_set(error, "cannot read %s: %s", path, strerror(errno));
        return NULL;
    }
    size_t room = 1 << 16, n = 0, got;
    char *bytes = malloc(room);
    while ((got = fread(bytes + n, 1, room - n, file)) > 0) {
        n += got;
        if (n == room)
            bytes = realloc(bytes, room *= 2);
    }
    fclose(file);
    *size = n;
    if (n >= 4 && memcmp(bytes, "\x28\xb5\x2f\xfd", 4) == 0) {
        unsigned long long whole = ZSTD_getFrameContentSize(bytes, n);
        if (whole > (1ull << 34)) {
            free(bytes);
            error_set(error, "%s: not a session: its compressed form is damaged", path);
            return NULL;
        }
        char *plain = malloc(whole + 1);
        size_t m = ZSTD_decompress(plain, whole, bytes, n);
        free(bytes);
        if (ZSTD_isError(m)) {
            free(plain);
            error_set(error, "%s: not a session: its compressed form is damaged", path);
            return NULL;
        }
        *size = m;
        return plain;
    }
    return bytes;
}

static const char *get_text(struct run *run, const json_t *o, const char *key) {
    return pool_text(run->pool, json_string_value(json_object_get(o, key)));
}
static uint64_t get_number(const json_t *o, const char *key) {
    return (uint64_t)json_integer_value(json_object_get(o, key));
}
static uint64_t get_hex(const json_t *o, const char *key) {
    const char *text = json_string_value(json_object_get(o, key));
    return text ? strtoull(text, NULL, 16) : 0;
}

static struct stack to_stack(struct run *run, const json_t *list) {
    struct stack stack = {0};
    size_t n = json_array_size(list);
    stack.frames = pool_take(run->pool, (n + 1) * sizeof *stack.frames);
    for (size_t i = 0; i < n; i++) {
        const json_t *o = json_array_get(list, i);
        struct frame *f = &stack.frames[stack.count++];
        f->function = get_text(run, o, "function");
        f->file = get_text(run, o, "file");
        f->module = get_text(run, o, "module");
        f->line = (int)get_number(o, "line");
        f->column = (int)get_number(o, "column");
        f->address = get_hex(o, "address");
        f->inlined = json_is_true(json_object_get(o, "inlined"));
        f->own = json_is_true(json_object_get(o, "own"));
    }
    return stack;
}

static void to_finding(struct run *run, const json_t *o, struct finding *f) {
    const char *kind = json_string_value(json_object_get(o, "kind"));
    const char *id = json_string_value(json_object_get(o, "id"));
    f->kind = kind_from_name(kind ? kind : "");
    snprintf(f->id, sizeof f->id, "%s", id ? id : "");
    f->count = get_number(o, "count");
    f->pid = (uint32_t)get_number(o, "pid");
    f->thread = (uint32_t)get_number(o, "thread");
    f->message = get_text(run, o, "message");
    if (!f->message)
        f->message = "";
    f->function = get_text(run, o, "called");
    f->suppressed_by = get_text(run, o, "suppressed_by");
    f->stack = to_stack(run, json_object_get(o, "stack"));
    f->other_address = get_hex(o, "source");
    const json_t *access = json_object_get(o, "access");
    if (access) {
        f->has_access = true;
        f->address = get_hex(access, "address");
        f->size = get_number(access, "size");
        f->write = json_is_true(json_object_get(access, "write"));
    }
    const json_t *block = json_object_get(o, "block");
    if (block) {
        f->has_block = true;
        f->block_start = get_hex(block, "address");
        f->block_size = get_number(block, "size");
        f->block_offset = (int64_t)get_number(block, "offset");
        const char *where = json_string_value(json_object_get(block, "where"));
        for (int w = WHERE_BEFORE; w <= WHERE_AFTER; w++)
            if (where && strcmp(where, where_name((enum where)w)) == 0)
                f->where = (enum where)w;
        f->allocated = to_stack(run, json_object_get(block, "allocated"));
        const json_t *freed = json_object_get(block, "freed");
        f->has_freed = json_is_array(freed);
        f->freed = to_stack(run, freed);
    }
    f->what = get_text(run, o, "use");
    const json_t *origin = json_object_get(o, "origin");
    if (origin) {
        const char *from = json_string_value(json_object_get(origin, "from"));
        for (int k = FROM_HEAP; k <= FROM_OTHER; k++)
            if (from && strcmp(from, origin_name((enum origin_from)k)) == 0)
                f->origin = (enum origin_from)k;
        f->variable.name = get_text(run, origin, "variable");
        f->origin_size = get_number(origin, "size");
        f->origin_stack = to_stack(run, json_object_get(origin, "stack"));
        const json_t *declared = json_object_get(origin, "declared");
        f->variable.file = get_text(run, declared, "file");
        f->variable.line = (int)get_number(declared, "line");
    }
    const json_t *descriptor = json_object_get(o, "descriptor");
    if (descriptor) {
        f->has_descriptor = true;
        f->descriptor = (int)get_number(descriptor, "number");
        f->path = get_text(run, descriptor, "path");
    }
    const json_t *shares = json_object_get(o, "processes");
    f->shares = pool_take(run->pool, (json_array_size(shares) + 1) * sizeof *f->shares);
    for (size_t i = 0; i < json_array_size(shares); i++) {
        const json_t *s = json_array_get(shares, i);
        f->shares[f->share_count++] =
            (struct share){(uint32_t)get_number(s, "pid"), get_number(s, "count")};
    }
    const json_t *leak = json_object_get(o, "leak");
    if (leak) {
        const char *name = json_string_value(json_object_get(leak, "class"));
        for (int c = 0; c < LEAK_CLASSES; c++)
            if (name && strcmp(name, leak_class_name((enum leak_class)c)) == 0)
                f->leak = (enum leak_class)c;
        f->blocks = get_number(leak, "blocks");
        f->bytes = get_number(leak, "bytes");
        f->dependent_blocks = get_number(leak, "dependent_blocks");
        f->dependent_bytes = get_number(leak, "dependent_bytes");
    }
}

static void take_findings(struct run *run, const json_t *list) {
    size_t i;
    json_t *o;
    json_array_foreach(list, i, o) {
        struct finding *f = run_add(run);
        to_finding(run, o, f);
        if (f->kind == KIND_COUNT)
            run->count--;
    }
}

static void take_processes(struct run *run, const json_t *list) {
    size_t i;
    json_t *o;
    run->processes = pool_take(run->pool, (json_array_size(list) + 1) * sizeof *run->processes);
    json_array_foreach(list, i, o) {
        struct process *p = &run->processes[run->process_count++];
        const json_t *parent = json_object_get(o, "parent"), *end = json_object_get(o, "exit");
        const char *state = json_string_value(json_object_get(o, "state"));
        json_int_t at = json_is_integer(parent) ? json_integer_value(parent) : -1;
        *p = (struct process){.pid = (uint32_t)get_number(o, "pid"),
                              .parent = at >= 0 && at < (json_int_t)i ? (int)at : -1,
                              .program = get_text(run, o, "program"),
                              .command = get_text(run, o, "command"),
                              .end = END_LOST,
                              .status = (int)get_number(end, "status"),
                              .signal = (int)get_number(end, "signal"),
                              .forked = json_is_true(json_object_get(o, "forked"))};
        for (int e = END_EXIT; e <= END_LOST; e++)
            if (state && strcmp(state, end_name((enum process_end)e)) == 0)
                p->end = (enum process_end)e;
    }
}

int session_last_two(char **before, char **last, struct error *error) {
    char *folder = session_folder();
    struct dirent **entries;
    int count = folder ? scandir(folder, &entries, is_session, alphasort) : -1;
    const char *program = NULL;
    struct run *newest = NULL;
    for (int i = count; i-- > 0;) {
        char *path = NULL;
        struct run *run = NULL;
        struct error ignored;
        if (!*before && asprintf(&path, "%s/%s", folder, entries[i]->d_name) > 0)
            run = session_load(path, &ignored);
        if (run && !newest) {
            newest = run;
            program = run->program;
            *last = path;
        } else if (run && program && run->program && strcmp(run->program, program) == 0) {
            *before = path;
            run_free(run);
        } else {
            free(path);
            run_free(run);
        }
        free(entries[i]);
    }
    if (count >= 0)
        free(entries);
    free(folder);
    int result = 0;
    if (!newest)
        result = error_set(error, "no run is kept yet; start with: tondo run PROGRAM");
    else if (!*before)
        result = error_set(error, "only one run of %s is kept; run it again, or name two sessions",
                           program ? program : "the program");
    run_free(newest);
    return result;
}

static struct holding *to_holdings(struct run *run, const json_t *list, size_t *count) {
    size_t i;
    json_t *o;
    struct holding *h = pool_take(run->pool, (json_array_size(list) + 1) * sizeof *h);
    json_array_foreach(list, i, o)
        h[(*count)++] = (struct holding){to_stack(run, json_object_get(o, "stack")),
                                         get_number(o, "from"), get_number(o, "bytes")};
    return h;
}

static void take_history(struct run *run, const json_t *o) {
    const json_t *samples = json_object_get(o, "samples"), *peak = json_object_get(o, "peak");
    size_t i;
    json_t *s;
    run->samples = pool_take(run->pool, (json_array_size(samples) + 1) * sizeof *run->samples);
    json_array_foreach(samples, i, s)
        run->samples[run->sample_count++] = (struct sample){
            json_number_value(json_array_get(s, 0)),
            (uint64_t)json_integer_value(json_array_get(s, 1)),
            (uint64_t)json_integer_value(json_array_get(s, 2))};
    run->peak_at = json_number_value(json_object_get(peak, "at"));
    run->peak_seen = get_number(peak, "bytes");
    run->peak = to_holdings(run, json_object_get(peak, "stacks"), &run->peak_count);
    run->growing = to_holdings(run, json_object_get(o, "growing"), &run->growing_count);
}

struct run *session_load(const char *path, struct error *error) {
    size_t size;
    char *text = read_file(path, &size, error);
    if (!text)
        return NULL;
    json_error_t problem;
    json_t *root = json_loadb(text, size, 0, &problem);
    free(text);
    const json_t *tondo = json_object_get(root, "tondo"), *o = json_object_get(root, "run");
    if (!tondo || !o || !json_is_array(json_object_get(root, "findings"))) {
        if (root)
            error_set(error, "%s: not a session of Tondo", path);
        else
            error_set(error, "%s:%d: not a session: %s", path, problem.line, problem.text);
        json_decref(root);
        return NULL;
    }
    struct run *run = run_new();
    run->program = get_text(run, o, "program");
    run->directory = get_text(run, o, "directory");
    run->started = get_text(run, o, "started");
    run->pid = (uint32_t)get_number(o, "pid");
    run->seconds = json_number_value(json_object_get(o, "seconds"));
    const json_t *end = json_object_get(o, "exit"), *args = json_object_get(o, "args");
    run->status = (int)get_number(end, "status");
    run->signal = (int)get_number(end, "signal");
    run->argument_count = (int)json_array_size(args);
    run->arguments = pool_take(run->pool, sizeof(char *) * (size_t)(run->argument_count + 1));
    for (int i = 0; i < run->argument_count; i++) {
        const char *text_value = json_string_value(json_array_get(args, (size_t)i));
        run->arguments[i] = pool_text(run->pool, text_value ? text_value : "");
    }
    take_processes(run, json_object_get(o, "processes"));
    const json_t *summary = json_object_get(root, "summary");
    const json_t *heap = json_object_get(summary, "heap");
    const json_t *leaks = json_object_get(summary, "leaks");
    run->searched = json_is_true(json_object_get(summary, "searched"));
    run->allocations = get_number(heap, "allocations");
    run->frees = get_number(heap, "frees");
    run->allocated_bytes = get_number(heap, "allocated_bytes");
    run->peak_bytes = get_number(heap, "peak_bytes");
    run->live.blocks = get_number(heap, "live_blocks");
    run->live.bytes = get_number(heap, "live_bytes");
    for (int c = 0; c < LEAK_CLASSES; c++) {
        const json_t *l = json_object_get(leaks, leak_class_name((enum leak_class)c));
        run->leaks[c].blocks = get_number(l, "blocks");
        run->leaks[c].bytes = get_number(l, "bytes");
    }
    take_history(run, json_object_get(root, "history"));
    take_findings(run, json_object_get(root, "findings"));
    size_t count = run->count;
    take_findings(run, json_object_get(root, "reachable"));
    run->kept = run->count - count;
    run->count = count;
    json_decref(root);
    return run;
}

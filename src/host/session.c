/* Writing sessions as JSON (jansson), optionally compressed (zstd), and the folder
   they are kept in. */
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

/* The variable that an access met: for a write that was stopped, the first byte that it would have
   reached beyond its target's end. */
static json_t *from_variable(const struct finding *f) {
    uint64_t room = 0;
    finding_stopped(f, &room);
    int64_t offset = f->variable.offset + (int64_t)room;
    bool after = room && offset >= (int64_t)f->variable.size;
    return json_pack("{s:o,s:I,s:I,s:s,s:[],s:n}", "variable", text_or_null(f->variable.name), "size",
                     (json_int_t)f->variable.size, "offset", (json_int_t)offset, "where",
                     after ? "after" : "inside", "allocated", "freed");
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
    else if (f->kind != KIND_UNINITIALIZED_VALUE && f->variable.name)
        json_object_set_new(o, "block", from_variable(f));
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
    if (f->has_descriptor) {
        json_t *d = json_pack("{s:i,s:o}", "number", f->descriptor, "path", text_or_null(f->path));
        if (f->kind == KIND_DOUBLE_CLOSE) {
            json_object_set_new(d, "opened", from_stack(&f->allocated));
            json_object_set_new(d, "closed", from_stack(&f->freed));
        }
        json_object_set_new(o, "descriptor", d);
    }
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
        "{s:{s:s,s:i},s:{s:o,s:o,s:o,s:i,s:o,s:f,s:o,s:o},s:{s:I,s:I,s:I,s:b,s:b,s:o,s:o},s:o,s:o,s:o}",
        "tondo", "version", TONDO_VERSION, "schema", 1, "run", "program",
        text_or_null(run->program), "args", arguments, "directory", text_or_null(run->directory),
        "pid", (int)run->pid, "started", text_or_null(run->started), "seconds", run->seconds,
        "exit", end, "processes", from_processes(run), "summary", "findings", (json_int_t)run_open(run), "occurrences",
        (json_int_t)run_occurrences(run), "suppressed", (json_int_t)run_suppressed(run),
        "searched", run->searched, "incomplete", run->incomplete, "heap", heap, "leaks", leaks, "findings", findings, "reachable",
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

/* tondo diff: two runs side by side, by finding id, and their heaps. */
#include "cli.h"

#include "../core/compare.h"
#include "../host/session.h"

#include <inttypes.h>
#include <popt.h>
#include <stdlib.h>
#include <string.h>

static void put_place(const struct finding *f) {
    const struct frame *site = stack_site(&f->stack);
    if (!site && f->stack.count)
        site = &f->stack.frames[0];
    if (site && site->function)
        printf(" in %s", site->function);
    if (site && site->file && site->line)
        printf(", %s:%d", site->file, site->line);
}

static void put_change(const struct pair *p) {
    const struct finding *a = p->before, *b = p->after;
    char was[48], now[48];
    if (a->kind == KIND_LEAK && a->bytes != b->bytes)
        printf("    %s: %s, before %s\n", b->bytes > a->bytes ? "grown" : "shrunk",
               quantity(now, sizeof now, b->bytes, "byte"),
               quantity(was, sizeof was, a->bytes, "byte"));
    else if (a->kind != KIND_LEAK && a->count != b->count)
        printf("    %s, before %s\n", quantity(now, sizeof now, b->count, "time"),
               quantity(was, sizeof was, a->count, "time"));
}

static void put_list(const struct comparison *c, enum change change, const char *title) {
    bool any = false;
    for (size_t i = 0; i < c->count; i++) {
        const struct pair *p = &c->pairs[i];
        const struct finding *f = p->after ? p->after : p->before;
        if (p->change != change)
            continue;
        if (!any)
            printf("\n%s\n", title);
        any = true;
        printf("  %s", kind_heading(f->kind));
        if (f->kind == KIND_LEAK)
            printf(" (%s)", leak_class_name(f->leak));
        put_place(f);
        printf("  [%s]\n    %s\n", f->id, f->message);
        if (p->before && p->after)
            put_change(p);
    }
}

static void put_row(const char *name, uint64_t a, uint64_t b) {
    int64_t change = (int64_t)(b - a);
    printf("  %-18s %14" PRIu64 " %14" PRIu64 " %+15" PRId64 "\n", name, a, b, change);
}

static void put_heaps(const struct run *a, const struct run *b) {
    printf("\nHeap                        old            new          change\n");
    put_row("allocations", a->allocations, b->allocations);
    put_row("allocated bytes", a->allocated_bytes, b->allocated_bytes);
    put_row("peak bytes", a->peak_bytes, b->peak_bytes);
    for (int c = 0; c < LEAK_CLASSES; c++) {
        char name[40];
        snprintf(name, sizeof name, "%s bytes", leak_class_name((enum leak_class)c));
        if (a->leaks[c].bytes || b->leaks[c].bytes)
            put_row(name, a->leaks[c].bytes, b->leaks[c].bytes);
    }
}

static void put_run(const char *which, const struct run *run) {
    printf("%s  %s, %s", which, run->program ? run->program : "?", run->started ? run->started : "?");
    if (run->signal)
        printf(", died of signal %d\n", run->signal);
    else
        printf(", exit status %d\n", run->status);
}

static int compare(const char *old_path, const char *new_path) {
    struct error error;
    struct run *before = session_load(old_path, &error);
    if (!before)
        return complain(STATUS_FAILED, "%s", error.text);
    struct run *after = session_load(new_path, &error);
    if (!after) {
        run_free(before);
        return complain(STATUS_FAILED, "%s", error.text);
    }
    struct comparison *c = compare_runs(before, after);
    printf("%zu new, %zu gone, %zu still there\n\n", c->added, c->gone, c->still);
    put_run("old", before);
    put_run("new", after);
    put_list(c, CHANGE_NEW, "New");
    put_list(c, CHANGE_GONE, "Gone");
    put_list(c, CHANGE_STILL, "Still there");
    put_heaps(before, after);
    int status = c->added ? STATUS_FINDINGS : 0;
    comparison_free(c);
    run_free(before);
    run_free(after);
    return status;
}

int command_diff(int argc, const char **argv) {
    struct poptOption table[] = {POPT_AUTOHELP POPT_TABLEEND};
    poptContext context = poptGetContext("tondo diff", argc, argv, table, 0);
    poptSetOtherOptionHelp(context, "[OLD NEW]   (the last two runs of the last program)");
    int option = poptGetNextOpt(context), status = -1;
    if (option < -1)
        status = complain(STATUS_USAGE, "%s: %s; see tondo diff --help",
                          poptBadOption(context, POPT_BADOPTION_NOALIAS), poptStrerror(option));
    const char **rest = poptGetArgs(context);
    size_t given = 0;
    while (rest && rest[given])
        given++;
    if (status < 0 && given == 0) {
        char *old_path = NULL, *new_path = NULL;
        struct error error;
        if (session_last_two(&old_path, &new_path, &error) != 0)
            status = complain(STATUS_FAILED, "%s", error.text);
        else
            status = compare(old_path, new_path);
        free(old_path);
        free(new_path);
    } else if (status < 0 && given != 2) {
        status = complain(STATUS_USAGE, "which runs? tondo diff OLD NEW (two saved sessions), or "
                                        "tondo diff for the last two of the same program");
    } else if (status < 0) {
        status = compare(rest[0], rest[1]);
    }
    poptFreeContext(context);
    return status;
}

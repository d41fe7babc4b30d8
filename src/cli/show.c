/* tondo show: a kept run in any form, grouping and choice. */
#define _GNU_SOURCE
#include "cli.h"

#include "../core/filter.h"
#include "../host/rules_file.h"
#include "../host/session.h"

#include <popt.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { REPORT = 300, RULES, KIND };

struct options {
    struct texts reports, rules;
    struct filter filter;
    int reachable, tree, no_pager, no_known, process, thread;
    long long size, top;
    char *by, *baseline;
};

/* Long text on a terminal goes through a pager as the user chose it, or less, which
   ends by itself when all fits on the screen. */
static FILE *open_pager(const struct options *o, struct view_options *view) {
    const char *pager = getenv("PAGER"), *term = getenv("TERM");
    if (o->no_pager || !isatty(STDOUT_FILENO) || !isatty(STDIN_FILENO) ||
        (pager && (!*pager || strcmp(pager, "cat") == 0)) || (term && strcmp(term, "dumb") == 0))
        return NULL;
    view_detect(view, stdout);
    setenv("LESS", "FRX", 0);
    fflush(stdout);
    return popen(pager ? pager : "less", "w");
}

static int put(const struct options *o, struct run *run, struct view_options *view) {
    struct error error;
    int status = 0;
    FILE *pager = NULL, *to = stdout;
    for (int i = 0; i < o->reports.count; i++)
        if (!pager && strcmp(o->reports.list[i], "text") == 0 && (pager = open_pager(o, view)))
            to = pager;
    if (o->tree) {
        if (!view->width)
            view_detect(view, to);
        view_tree(to, tree_build(run, o->reachable), o->reachable, view);
    } else {
        for (int i = 0; i < o->reports.count; i++)
            if (report_write(o->reports.list[i], run, view, to, &error) != 0)
                status = complain(STATUS_FAILED, "%s", error.text);
    }
    if (pager)
        pclose(pager);
    return status;
}

static int parse(poptContext context, struct options *o) {
    struct error error;
    int option;
    while ((option = poptGetNextOpt(context)) >= 0) {
        const char *value = poptGetOptArg(context);
        if (option == RULES)
            texts_add(&o->rules, value);
        else if (option == KIND ? filter_kind(&o->filter, value, &error) != 0
                                : report_check(value, &error) != 0)
            return complain(STATUS_USAGE, "%s", error.text);
        else if (option == REPORT)
            texts_add(&o->reports, value);
    }
    if (option < -1)
        return complain(STATUS_USAGE, "%s: %s; see tondo show --help",
                        poptBadOption(context, POPT_BADOPTION_NOALIAS), poptStrerror(option));
    if (o->process < 0 || o->thread < 0 || o->size < 0 || o->top < 0)
        return complain(STATUS_USAGE, "--process, --thread, --min-size and --top want numbers, "
                                      "0 or more");
    o->filter.process = (uint32_t)o->process;
    o->filter.thread = (uint32_t)o->thread;
    o->filter.size = (uint64_t)o->size;
    o->filter.top = (uint64_t)o->top;
    if (!o->reports.count)
        texts_add(&o->reports, "text");
    return 0;
}

static int show(struct options *o, const char *path, struct view_options *view) {
    struct error error;
    struct run *run = session_load(path, &error);
    if (!run)
        return complain(STATUS_FAILED, "%s", error.text);
    int status = 0;
    struct rules *rules = rules_gather(&o->rules, !o->no_known, &error);
    if (!rules || (o->baseline && baseline_apply(run, o->baseline, &error) != 0)) {
        status = complain(STATUS_USAGE, "%s", error.text);
    } else {
        if (o->reachable)
            run_count_reachable(run);
        rules_apply(rules, run, rules_today());
        run_number(run);
        if (view->by != BY_STACK) { /* of groups, whatever findings they have */
            view->top = o->filter.top;
            o->filter.top = 0;
        }
        filter_apply(&o->filter, run);
        status = put(o, run, view);
    }
    rules_free(rules);
    run_free(run);
    return status;
}

int command_show(int argc, const char **argv) {
    struct options o = {0};
    struct poptOption table[] = {
        {"report", 'r', POPT_ARG_STRING, NULL, REPORT,
         "text, html, json, line, sarif or junit, to stdout or to a file; repeatable",
         "FORM[:FILE]"},
        {"rules", 's', POPT_ARG_STRING, NULL, RULES, "suppression rules; repeatable", "FILE"},
        {"no-known", 0, POPT_ARG_NONE, &o.no_known, 0,
         "without the rules that come with tondo (see: tondo rules known)", NULL},
        {"baseline", 0, POPT_ARG_STRING, &o.baseline, 0,
         "a session whose findings are known: they are suppressed", "FILE"},
        {"by", 0, POPT_ARG_STRING, &o.by, 0,
         "stack (default), site, function, file, module, kind, process", "WHAT"},
        {"tree", 0, POPT_ARG_NONE, &o.tree, 0,
         "lost memory as a tree of callers (with --reachable: all that was left)", NULL},
        {"reachable", 0, POPT_ARG_NONE, &o.reachable, 0,
         "count blocks that are pointed to at exit as findings", NULL},
        {"kind", 0, POPT_ARG_STRING, NULL, KIND, "only findings of this kind; repeatable", "KIND"},
        {"file", 0, POPT_ARG_STRING, &o.filter.file, 0, "only with this source file in a stack",
         "PATTERN"},
        {"function", 0, POPT_ARG_STRING, &o.filter.function, 0,
         "only with this function in a stack", "PATTERN"},
        {"module", 0, POPT_ARG_STRING, &o.filter.module, 0,
         "only with this program or library in a stack", "PATTERN"},
        {"process", 0, POPT_ARG_INT, &o.process, 0, "only of this process", "PID"},
        {"thread", 0, POPT_ARG_INT, &o.thread, 0, "only of this thread, counted from 1", "N"},
        {"min-size", 0, POPT_ARG_LONGLONG, &o.size, 0, "only of at least so many bytes", "BYTES"},
        {"top", 0, POPT_ARG_LONGLONG, &o.top, 0, "only the first N findings, or groups", "N"},
        {"no-pager", 0, POPT_ARG_NONE, &o.no_pager, 0, "straight to the terminal", NULL},
        POPT_AUTOHELP POPT_TABLEEND};
    poptContext context = poptGetContext("tondo show", argc, argv, table, 0);
    poptSetOtherOptionHelp(context, "[options] [SESSION]");
    struct view_options view = {0};
    int status = parse(context, &o);
    if (!status && o.by && (view.by = view_grouping(o.by)) == GROUPINGS)
        status = complain(STATUS_USAGE,
                          "--by wants stack, site, function, file, module, kind or process");
    const char *given = status ? NULL : poptGetArg(context);
    char *path = given || status ? NULL : session_last();
    if (!status && !given && !path)
        status = complain(STATUS_FAILED, "no run is kept yet; start with: tondo run PROGRAM");
    if (!status)
        status = show(&o, given ? given : path, &view);
    free(path);
    poptFreeContext(context);
    return status;
}

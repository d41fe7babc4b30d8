/* tondo run */
#include "cli.h"

#include "../host/collect.h"
#include "../host/launch.h"
#include "../host/rules_file.h"
#include "../host/session.h"

#include <popt.h>
#include <stdlib.h>
#include <string.h>

struct options {
    struct texts saves, reports, rules;
    int findings_status;
    bool status_given;
    int reachable, quiet, no_known;
    char *follow, *baseline;
    long long retirement;
};

static int write_reports(const struct options *o, const struct run *run,
                         const struct view_options *view, bool nothing) {
    struct error error;
    int failed = 0;
    bool text_shown = false;
    for (int i = 0; i < o->reports.count; i++) {
        if (o->quiet && nothing && !strchr(o->reports.list[i], ':'))
            continue;
        if (report_write(o->reports.list[i], run, view, stderr, &error) != 0) {
            failed = complain(STATUS_FAILED, "%s", error.text);
            if (!text_shown)
                report_write("text", run, view, stderr, &error);
            text_shown = true;
        }
    }
    for (int i = 0; i < o->saves.count; i++)
        if (session_save(run, o->saves.list[i], &error) != 0) {
            failed = complain(STATUS_FAILED, "the session: %s", error.text);
            if (!text_shown && !o->reports.count)
                report_write("text", run, view, stderr, &error);
        }
    return failed;
}

static int finish(const struct options *o, const struct launch *launch, struct rules *rules) {
    struct error error;
    struct symbols *symbols = symbols_new();
    struct run *run = collect(launch, symbols);
    if (o->reachable)
        run_count_reachable(run);
    rules_apply(rules, run, rules_today());
    if (o->baseline && baseline_apply(run, o->baseline, &error) != 0)
        complain(0, "%s: the baseline is left out", error.text);
    run_number(run);
    if (session_keep(run, &error) != 0)
        complain(0, "%s", error.text);
    struct view_options view = {0};
    bool nothing = run_open(run) == 0;
    int status = write_reports(o, run, &view, nothing);
    if (!status) {
        status = run->signal ? 128 + run->signal : run->status;
        if (!nothing && o->status_given)
            status = o->findings_status ? o->findings_status : status;
        else if (!nothing && !run->signal)
            status = STATUS_FINDINGS;
    }
    run_free(run);
    symbols_free(symbols);
    return status;
}

enum { SAVE = 's' + 256, REPORT, RULES, STATUS };

static int parse(poptContext context, struct options *o) {
    struct error error;
    int option;
    while ((option = poptGetNextOpt(context)) >= 0) {
        char *value = poptGetOptArg(context);
        switch (option) {
        case SAVE:
            texts_add(&o->saves, value);
            break;
        case REPORT:
            if (report_check(value, &error) != 0)
                return complain(STATUS_USAGE, "%s", error.text);
            texts_add(&o->reports, value);
            break;
        case RULES:
            texts_add(&o->rules, value);
            break;
        case STATUS: {
            char *end;
            long n = strtol(value, &end, 10);
            if (*end || n < 0 || n > 255)
                return complain(STATUS_USAGE, "--findings-status wants a number from 0 to 255");
            o->findings_status = (int)n;
            o->status_given = true;
            break;
        }
        }
    }
    if (option < -1)
        return complain(STATUS_USAGE, "%s: %s; see tondo run --help",
                        poptBadOption(context, POPT_BADOPTION_NOALIAS), poptStrerror(option));
    return 0;
}

int command_run(int argc, const char **argv) {
    struct options o = {.retirement = 64, .follow = "own"};
    struct poptOption table[] = {
        {"save", 'o', POPT_ARG_STRING, NULL, SAVE, "also save the session in FILE (.zst: compressed)",
         "FILE"},
        {"report", 'r', POPT_ARG_STRING, NULL, REPORT,
         "text, html, json, line, sarif or junit, to stderr or to a file; repeatable", "FORM[:FILE]"},
        {"rules", 's', POPT_ARG_STRING, NULL, RULES, "suppression rules; repeatable", "FILE"},
        {"no-known", 0, POPT_ARG_NONE, &o.no_known, 0,
         "without the rules that come with tondo (see: tondo rules known)", NULL},
        {"baseline", 0, POPT_ARG_STRING, &o.baseline, 0,
         "a session whose findings are known: they are suppressed", "FILE"},
        {"findings-status", 0, POPT_ARG_STRING, NULL, STATUS,
         "exit status when something is found (100; 0: the program's own)", "N"},
        {"reachable", 0, POPT_ARG_NONE, &o.reachable, 0,
         "count blocks that are pointed to at exit as findings", NULL},
        {"follow", 0, POPT_ARG_STRING, &o.follow, 0,
         "executed programs to instrument: own (default), all, none", "WHICH"},
        {"retirement", 0, POPT_ARG_LONGLONG, &o.retirement, 0,
         "memory for freed blocks held back from reuse, in MiB (64)", "MIB"},
        {"quiet", 'q', POPT_ARG_NONE, &o.quiet, 0, "say nothing when nothing is found", NULL},
        POPT_AUTOHELP POPT_TABLEEND};
    poptContext context = poptGetContext("tondo run", argc, argv, table, POPT_CONTEXT_POSIXMEHARDER);
    poptSetOtherOptionHelp(context, "[options] [--] PROGRAM [ARGUMENTS]");
    int status = parse(context, &o);
    const char **rest = status ? NULL : poptGetArgs(context);
    struct launch launch = {0};
    if (!status && (!rest || !rest[0]))
        status = complain(STATUS_USAGE, "which program? tondo run [options] PROGRAM [ARGUMENTS]");
    if (!status && o.retirement < 0)
        status = complain(STATUS_USAGE, "--retirement wants a number of MiB, 0 or more");
    launch.follow = strcmp(o.follow, "all") == 0    ? FOLLOW_ALL
                    : strcmp(o.follow, "none") == 0 ? FOLLOW_NONE
                                                    : FOLLOW_OWN;
    if (!status && launch.follow == FOLLOW_OWN && strcmp(o.follow, "own") != 0)
        status = complain(STATUS_USAGE, "--follow wants own, all or none, not '%s'", o.follow);
    if (!o.reports.count)
        texts_add(&o.reports, "text");
    struct error error;
    struct rules *rules = NULL;
    struct run *known = NULL;
    if (!status && o.baseline && !(known = session_load(o.baseline, &error)))
        status = complain(STATUS_USAGE, "%s", error.text);
    run_free(known);
    if (!status && !(rules = rules_gather(&o.rules, !o.no_known, &error)))
        status = complain(STATUS_USAGE, "%s", error.text);
    if (!status) {
        launch.program = rest[0];
        launch.arguments = (char **)rest;
        launch.retirement_bytes = (uint64_t)o.retirement << 20;
        status = launch_prepare(&launch, &error);
        if (!status)
            status = launch_run(&launch, &error);
        if (status)
            complain(status, "%s", error.text);
        else
            status = finish(&o, &launch, rules);
    }
    launch_free(&launch);
    rules_free(rules);
    poptFreeContext(context);
    return status;
}

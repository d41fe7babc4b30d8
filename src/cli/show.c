/* tondo show */
#include "cli.h"

#include "../host/rules_file.h"
#include "../host/session.h"

#include <popt.h>
#include <stdlib.h>

enum { REPORT = 300, RULES };

static int show(const struct texts *reports, struct run *run, const struct view_options *view) {
    struct error error;
    int status = 0;
    for (int i = 0; i < reports->count; i++)
        if (report_write(reports->list[i], run, view, stdout, &error) != 0)
            status = complain(STATUS_FAILED, "%s", error.text);
    return status;
}

int command_show(int argc, const char **argv) {
    struct texts reports = {0}, files = {0};
    int reachable = 0;
    char *by = NULL;
    struct poptOption table[] = {
        {"report", 'r', POPT_ARG_STRING, NULL, REPORT,
         "text, html, json, line, sarif or junit, to stdout or to a file; repeatable", "FORM[:FILE]"},
        {"rules", 's', POPT_ARG_STRING, NULL, RULES, "suppression rules; repeatable", "FILE"},
        {"by", 0, POPT_ARG_STRING, &by, 0, "stack (default), site, function, file, module, kind",
         "WHAT"},
        {"reachable", 0, POPT_ARG_NONE, &reachable, 0,
         "count blocks that are pointed to at exit as findings", NULL},
        POPT_AUTOHELP POPT_TABLEEND};
    poptContext context = poptGetContext("tondo show", argc, argv, table, 0);
    poptSetOtherOptionHelp(context, "[options] [SESSION]");
    struct error error;
    int option, status = 0;
    while ((option = poptGetNextOpt(context)) >= 0) {
        const char *value = poptGetOptArg(context);
        if (option == RULES)
            texts_add(&files, value);
        else if (report_check(value, &error) == 0)
            texts_add(&reports, value);
        else
            status = complain(STATUS_USAGE, "%s", error.text);
    }
    if (option < -1)
        status = complain(STATUS_USAGE, "%s: %s; see tondo show --help",
                          poptBadOption(context, POPT_BADOPTION_NOALIAS), poptStrerror(option));
    struct view_options view = {0};
    if (!status && by && (view.by = view_grouping(by)) == GROUPINGS)
        status = complain(STATUS_USAGE, "--by wants stack, site, function, file, module or kind");
    if (!reports.count)
        texts_add(&reports, "text");
    const char *given = poptGetArg(context);
    char *path = given ? NULL : session_last();
    if (!status && !given && !path)
        status = complain(STATUS_FAILED, "no run is kept yet; start with: tondo run PROGRAM");
    struct run *run = NULL;
    struct rules *rules = NULL;
    if (!status && !(run = session_load(given ? given : path, &error)))
        status = complain(STATUS_FAILED, "%s", error.text);
    if (!status && !(rules = rules_gather(&files, &error)))
        status = complain(STATUS_USAGE, "%s", error.text);
    if (!status) {
        if (reachable)
            run_count_reachable(run);
        rules_apply(rules, run, rules_today());
        status = show(&reports, run, &view);
    }
    rules_free(rules);
    run_free(run);
    free(path);
    poptFreeContext(context);
    return status;
}

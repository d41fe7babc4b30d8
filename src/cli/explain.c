/* tondo explain: a kind of finding, or one finding of a run, in plain words. */
#include "cli.h"

#include "../core/explain.h"
#include "../host/session.h"

#include <popt.h>
#include <stdlib.h>
#include <string.h>

static void put(const char *label, const char *text) {
    enum { WIDTH = 88, INDENT = 4 };
    if (label)
        printf("%s\n", label);
    int column = WIDTH;
    for (const char *word = text; *word;) {
        int length = (int)strcspn(word, " ");
        if (column + 1 + length > WIDTH) {
            printf("%s%*s", word == text ? "" : "\n", INDENT, "");
            column = INDENT;
        } else {
            putchar(' ');
            column++;
        }
        printf("%.*s", length, word);
        column += length;
        word += length;
        word += strspn(word, " ");
    }
    puts("\n");
}

static void explain_kind(enum finding_kind kind) {
    put("What it means", kind_meaning(kind));
    put("How it usually arises", kind_causes(kind));
    put("What to look at", kind_advice(kind));
}

static int explain_finding(const char *number, const char *session) {
    struct error error;
    char *last = session ? NULL : session_last();
    if (!session && !last)
        return complain(STATUS_FAILED, "no run is kept yet; start with: tondo run PROGRAM");
    struct run *run = session_load(session ? session : last, &error);
    free(last);
    if (!run)
        return complain(STATUS_FAILED, "%s", error.text);
    const struct finding *f = run_finding(run, number);
    if (!f) {
        run_free(run);
        return complain(STATUS_USAGE,
                        "there is no finding %s in this run; tondo show lists them by number",
                        number);
    }
    printf("%s%s (CWE-%d)%s\n\n", kind_heading(f->kind),
           f->suppressed_by ? ", suppressed" : "", kind_cwe(f->kind), "");
    const char *sentences[16];
    int n = finding_story(run, f, sentences, 16);
    for (int i = 0; i < n; i++)
        put(i ? NULL : "What happened", sentences[i]);
    explain_kind(f->kind);
    run_free(run);
    return 0;
}

int command_explain(int argc, const char **argv) {
    struct poptOption table[] = {POPT_AUTOHELP POPT_TABLEEND};
    poptContext context = poptGetContext("tondo explain", argc, argv, table, 0);
    poptSetOtherOptionHelp(context, "KIND | NUMBER | ID [SESSION]");
    int status = 0, option = poptGetNextOpt(context);
    if (option < -1)
        status = complain(STATUS_USAGE, "%s: %s; see tondo explain --help",
                          poptBadOption(context, POPT_BADOPTION_NOALIAS), poptStrerror(option));
    const char *what = poptGetArg(context), *session = what ? poptGetArg(context) : NULL;
    if (!status && !what) {
        puts("tondo explain KIND    what such a finding means\n"
             "tondo explain NUMBER  the finding of that number in the last run, or in SESSION\n\n"
             "Kinds:");
        for (int k = 0; k < KIND_COUNT; k++)
            printf("  %-26s CWE-%-4d %s\n", kind_name((enum finding_kind)k),
                   kind_cwe((enum finding_kind)k), kind_heading((enum finding_kind)k));
    } else if (!status) {
        enum finding_kind kind = kind_from_name(what);
        if (kind != KIND_COUNT) {
            printf("%s (%s, CWE-%d)\n\n", kind_heading(kind), kind_name(kind), kind_cwe(kind));
            explain_kind(kind);
        } else {
            size_t digits = strspn(what, "0123456789abcdef");
            if (what[digits])
                status = complain(STATUS_USAGE,
                                  "'%s' is no kind and no number of a finding; tondo explain "
                                  "lists the kinds",
                                  what);
            else
                status = explain_finding(what, session);
        }
    }
    poptFreeContext(context);
    return status;
}

/* The commands. Only this folder prints errors and exits. */
#ifndef TONDO_CLI_H
#define TONDO_CLI_H

#include "../core/error.h"
#include "../core/model.h"
#include "../core/rules.h"
#include "../view/view.h"

enum status { STATUS_USAGE = 2, STATUS_FINDINGS = 100, STATUS_FAILED = 125 };

int command_run(int argc, const char **argv);
int command_show(int argc, const char **argv);
int command_diff(int argc, const char **argv);
int command_rules(int argc, const char **argv);
int command_explain(int argc, const char **argv);
int command_doctor(int argc, const char **argv);
int command_demo(int argc, const char **argv);

/* Says what is wrong on stderr in one line and returns the status. */
int complain(int status, const char *pattern, ...) __attribute__((format(printf, 2, 3)));

/* A list of texts given by a repeatable option. */
struct texts {
    const char *list[64];
    int count;
};
void texts_add(struct texts *texts, const char *text);

/* --report FORM[:FILE] checked; 0 or -1. */
int report_check(const char *report, struct error *error);
/* Writes one report; text without a file goes to `standard`. 0 or -1. */
int report_write(const char *report, const struct run *run, const struct view_options *options,
                 FILE *standard, struct error *error);
/* What the session at the path found already is suppressed. 0 or -1. */
int baseline_apply(struct run *run, const char *path, struct error *error);
/* Reads the files, .tondo.rules and the user's own when there are, and with `known` those
   that come with the program. Null on error. */
struct rules *rules_gather(const struct texts *files, bool known, struct error *error);

#endif

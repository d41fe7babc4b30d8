/* What several commands share. */
#define _GNU_SOURCE
#include "cli.h"

#include "../core/compare.h"
#include "../host/rules_file.h"
#include "../host/session.h"

#include <errno.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

int complain(int status, const char *pattern, ...) {
    va_list list;
    va_start(list, pattern);
    fputs("tondo: ", stderr);
    vfprintf(stderr, pattern, list);
    fputc('\n', stderr);
    va_end(list);
    return status;
}

void texts_add(struct texts *texts, const char *text) {
    if (texts->count < (int)(sizeof texts->list / sizeof texts->list[0]))
        texts->list[texts->count++] = text;
}

static void write_text(FILE *to, const struct run *run, const struct view_options *options) {
    struct view_options own = *options;
    if (!own.width)
        view_detect(&own, to);
    view_text(to, run, &own);
}

static void write_json(FILE *to, const struct run *run, const struct view_options *options) {
    (void)options;
    char *text = session_text(run);
    fputs(text, to);
    fputc('\n', to);
    free(text);
}

static void write_line(FILE *to, const struct run *run, const struct view_options *options) {
    (void)options;
    view_line(to, run);
}

static void write_sarif(FILE *to, const struct run *run, const struct view_options *options) {
    (void)options;
    view_sarif(to, run);
}

/* The tree of callers is laid out in the run's own pool. */
static void write_html(FILE *to, const struct run *run, const struct view_options *options) {
    (void)options;
    view_html(to, (struct run *)(uintptr_t)run);
}

static void write_junit(FILE *to, const struct run *run, const struct view_options *options) {
    (void)options;
    view_junit(to, run);
}

static const struct form {
    const char *name;
    void (*write)(FILE *to, const struct run *run, const struct view_options *options);
} forms[] = {{"text", write_text}, {"json", write_json}, {"line", write_line},
             {"html", write_html}, {"sarif", write_sarif}, {"junit", write_junit}};

static const struct form *find_form(const char *report) {
    size_t n = strcspn(report, ":");
    for (size_t i = 0; i < sizeof forms / sizeof forms[0]; i++)
        if (strlen(forms[i].name) == n && strncmp(forms[i].name, report, n) == 0)
            return &forms[i];
    return NULL;
}

int report_check(const char *report, struct error *error) {
    if (find_form(report))
        return 0;
    return error_set(error, "there is no report form '%.*s': use text, html, json, line, sarif or junit",
                     (int)strcspn(report, ":"), report);
}

int report_write(const char *report, const struct run *run, const struct view_options *options,
                 FILE *standard, struct error *error) {
    const struct form *form = find_form(report);
    const char *file = strchr(report, ':');
    if (!file || !file[1]) {
        form->write(standard, run, options);
        fflush(standard);
        return 0;
    }
    FILE *to = fopen(file + 1, "we");
    if (!to)
        return error_set(error, "the report cannot be written to %s: %s", file + 1,
                         strerror(errno));
    form->write(to, run, options);
    bool bad = ferror(to);
    if (fclose(to) != 0 || bad)
        return error_set(error, "the report cannot be written to %s: %s", file + 1,
                         strerror(errno));
    return 0;
}

int baseline_apply(struct run *run, const char *path, struct error *error) {
    struct run *known = session_load(path, error);
    char name[300];
    if (!known)
        return -1;
    snprintf(name, sizeof name, "baseline %.280s", path);
    compare_baseline(run, known, name);
    run_free(known);
    return 0;
}

struct rules *rules_gather(const struct texts *files, bool known, struct error *error) {
    struct rules *rules = rules_new();
    char *found = rules_find();
    int result = 0;
    for (int i = 0; i < files->count && result == 0; i++)
        result = rules_read(rules, files->list[i], error);
    if (found && result == 0)
        result = rules_read(rules, found, error);
    char *user = rules_of_user();
    if (user && result == 0)
        result = rules_read(rules, user, error);
    free(user);
    free(found);
    if (known && result == 0)
        result = rules_read_known(rules, error);
    if (result == 0)
        return rules;
    rules_free(rules);
    return NULL;
}

/* expect TONDO COMPILER SOURCE [FLAGS...]
   Builds the program, runs it under `tondo run` and compares the findings with
   the expectations written in its source:

       code;  // expect: KIND [size=N] [offset=N] [where=W] [count=N] [access=N] [by=read|write]
                         [blocks=N] [bytes=N] [class=C] [dependent=N] [allocated=LINE]
                         [from=F] [variable=NAME] [origin=LINE] [through=FUNCTION]
                         [of=FUNCTION: the variable's]
                         [unlike=NAME: of a variable with another name, or with none]

   An expectation belongs to the line it stands on: some finding of that kind must
   have its innermost frame of the source there. Several on a line are separated
   by ";". `// exit: N` anywhere gives the status wanted (0 if absent, where
   findings do not count). Findings nobody expected fail the test, and so do
   expectations nobody met. The program's own output is thrown away. */
#define _GNU_SOURCE
#include <jansson.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

struct expectation {
    int line;
    char kind[64];
    char conditions[300];
    bool met;
};

static struct expectation expectations[200];
static int count, wanted_status;

static void read_source(const char *path) {
    FILE *file = fopen(path, "r");
    char text[1000];
    for (int line = 1; file && fgets(text, sizeof text, file); line++) {
        char *at = strstr(text, "// exit: ");
        if (at)
            wanted_status = atoi(at + 9);
        at = strstr(text, "// expect: ");
        if (!at)
            continue;
        at[strcspn(at, "\n")] = 0;
        for (char *part = strtok(at + 11, ";"); part; part = strtok(NULL, ";")) {
            struct expectation *e = &expectations[count++];
            e->line = line;
            part += strspn(part, " ");
            size_t n = strcspn(part, " ");
            snprintf(e->kind, sizeof e->kind, "%.*s", (int)n, part);
            snprintf(e->conditions, sizeof e->conditions, "%s ", part + n);
        }
    }
    if (file)
        fclose(file);
}

/* Line of the innermost frame in the source, 0: none. */
static int line_in(const json_t *stack, const char *source) {
    size_t i;
    json_t *frame;
    json_array_foreach(stack, i, frame) {
        const char *file = json_string_value(json_object_get(frame, "file"));
        const char *base = file ? strrchr(file, '/') : NULL;
        const char *wanted = strrchr(source, '/');
        if (file && strcmp(base ? base + 1 : file, wanted ? wanted + 1 : source) == 0)
            return (int)json_integer_value(json_object_get(frame, "line"));
    }
    return 0;
}

static bool has_function(const json_t *stack, const char *name) {
    size_t i;
    json_t *frame;
    json_array_foreach(stack, i, frame) {
        const char *function = json_string_value(json_object_get(frame, "function"));
        if (function && strcmp(function, name) == 0)
            return true;
    }
    return false;
}

static long long number(const json_t *finding, const char *object, const char *key) {
    const json_t *o = object ? json_object_get(finding, object) : finding;
    const json_t *value = json_object_get(o, key);
    return value ? json_integer_value(value) : -999999;
}

static bool holds(const json_t *finding, const char *name, const char *value,
                  const char *source) {
    const json_t *block = json_object_get(finding, "block"), *leak = json_object_get(finding, "leak");
    static const struct {
        const char *name, *object, *key;
    } numbers[] = {{"size", "block", "size"},     {"offset", "block", "offset"},
                   {"count", NULL, "count"},      {"access", "access", "size"},
                   {"blocks", "leak", "blocks"},  {"bytes", "leak", "bytes"},
                   {"dependent", "leak", "dependent_blocks"}, {"thread", NULL, "thread"}};
    for (size_t i = 0; i < sizeof numbers / sizeof numbers[0]; i++)
        if (strcmp(name, numbers[i].name) == 0)
            return number(finding, numbers[i].object, numbers[i].key) == atoll(value);
    const char *text = NULL;
    if (strcmp(name, "where") == 0)
        text = json_string_value(json_object_get(block, "where"));
    else if (strcmp(name, "by") == 0)
        text = json_is_true(json_object_get(json_object_get(finding, "access"), "write")) ? "write"
                                                                                          : "read";
    else if (strcmp(name, "class") == 0)
        text = json_string_value(json_object_get(leak, "class"));
    else if (strcmp(name, "allocated") == 0)
        return line_in(json_object_get(block, "allocated"), source) == atoi(value);
    else if (strcmp(name, "from") == 0)
        text = json_string_value(json_object_get(json_object_get(finding, "origin"), "from"));
    else if (strcmp(name, "variable") == 0)
        text = json_string_value(json_object_get(json_object_get(finding, "origin"), "variable"));
    else if (strcmp(name, "of") == 0)
        text = json_string_value(json_object_get(
            json_array_get(json_object_get(json_object_get(finding, "origin"), "stack"), 0),
            "function"));
    else if (strcmp(name, "unlike") == 0) {
        text = json_string_value(json_object_get(json_object_get(finding, "origin"), "variable"));
        return !text || strcmp(text, value) != 0;
    } else if (strcmp(name, "declared") == 0)
        return number(json_object_get(json_object_get(finding, "origin"), "declared"), NULL,
                      "line") == atoll(value);
    else if (strcmp(name, "origin") == 0)
        return line_in(json_object_get(json_object_get(finding, "origin"), "stack"), source) ==
               atoi(value);
    else if (strcmp(name, "through") == 0)
        return has_function(json_object_get(json_object_get(finding, "origin"), "stack"), value);
    else if (strcmp(name, "freed") == 0)
        return line_in(json_object_get(block, "freed"), source) == atoi(value);
    return text && strcmp(text, value) == 0;
}

static bool meets(const json_t *finding, const struct expectation *e, const char *source,
                  bool explain) {
    char conditions[300];
    snprintf(conditions, sizeof conditions, "%s", e->conditions);
    for (char *save, *c = strtok_r(conditions, " ", &save); c; c = strtok_r(NULL, " ", &save)) {
        char *equals = strchr(c, '=');
        if (!equals)
            continue;
        *equals = 0;
        if (!holds(finding, c, equals + 1, source)) {
            if (explain)
                fprintf(stderr, "  %s is not %s\n", c, equals + 1);
            return false;
        }
    }
    return true;
}

static int compare(const json_t *root, const char *source) {
    int wrong = 0;
    size_t i;
    json_t *finding;
    json_array_foreach(json_object_get(root, "findings"), i, finding) {
        const char *kind = json_string_value(json_object_get(finding, "kind"));
        int line = line_in(json_object_get(finding, "stack"), source);
        bool known = false;
        struct expectation *near = NULL;
        for (int k = 0; k < count && !known; k++) {
            struct expectation *e = &expectations[k];
            if (e->line != line || strcmp(e->kind, kind) != 0)
                continue;
            near = e;
            if (meets(finding, e, source, false))
                known = e->met = true;
        }
        if (known)
            continue;
        wrong++;
        fprintf(stderr, "%s:%d: unexpected %s: %s\n", source, line, kind,
                json_string_value(json_object_get(finding, "message")));
        if (near)
            meets(finding, near, source, true);
    }
    for (int k = 0; k < count; k++)
        if (!expectations[k].met) {
            wrong++;
            fprintf(stderr, "%s:%d: missed %s%s\n", source, expectations[k].line,
                    expectations[k].kind, expectations[k].conditions);
        }
    return wrong;
}

int main(int argc, char **argv) {
    char folder[] = "/tmp/tondo-expect-XXXXXX", command[8000], flags[2000] = "";
    if (argc < 4 || !mkdtemp(folder))
        return 2;
    for (int i = 4; i < argc; i++) {
        strcat(flags, " ");
        strcat(flags, argv[i]);
    }
    read_source(argv[3]);
    snprintf(command, sizeof command, "%s -g -w -pthread%s -o %s/program %s", argv[2], flags, folder,
             argv[3]);
    if (system(command) != 0)
        return 2;
    snprintf(command, sizeof command,
             "cd %s && XDG_STATE_HOME=%s timeout 60 %s run -q --findings-status 0 -r json:%s/report "
             "./program >/dev/null 2>%s/errors",
             folder, folder, argv[1], folder, folder);
    int status = system(command);
    status = WIFEXITED(status) ? WEXITSTATUS(status) : 255;
    char report[200];
    snprintf(report, sizeof report, "%s/report", folder);
    json_error_t problem;
    json_t *root = json_load_file(report, 0, &problem);
    int wrong = 0;
    if (!root) {
        fprintf(stderr, "%s: no report (%s), status %d\n", argv[3], problem.text, status);
        snprintf(command, sizeof command, "cat %s/errors >&2", folder);
        system(command);
        wrong = 1;
    } else {
        wrong = compare(root, argv[3]);
        if (status != wanted_status) {
            fprintf(stderr, "%s: status %d, not %d\n", argv[3], status, wanted_status);
            wrong++;
        }
    }
    json_decref(root);
    snprintf(command, sizeof command, "rm -rf %s", folder);
    system(command);
    printf("%d passed, %d failed\n", wrong ? 0 : 1, wrong);
    return wrong != 0;
}

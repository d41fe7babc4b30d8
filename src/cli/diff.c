/* tondo diff: two sessions side by side, by finding id. */
#include "cli.h"

#include "../host/session.h"

#include <inttypes.h>
#include <string.h>

static const struct finding *find(const struct run *run, const char *id) {
    for (size_t i = 0; i < run->count; i++)
        if (strcmp(run->findings[i].id, id) == 0 && !run->findings[i].suppressed_by)
            return &run->findings[i];
    return NULL;
}

static void put(const char *what, const struct finding *f) {
    const struct frame *site = stack_site(&f->stack);
    printf("%-6s %s", what, kind_heading(f->kind));
    if (site && site->function)
        printf(" in %s", site->function);
    if (site && site->file)
        printf(", %s:%d", site->file, site->line);
    printf("\n       %s\n", f->message);
}

int command_diff(int argc, const char **argv) {
    struct error error;
    if (argc != 3)
        return complain(STATUS_USAGE, "which runs? tondo diff OLD NEW (two saved sessions)");
    struct run *before = session_load(argv[1], &error);
    if (!before)
        return complain(STATUS_FAILED, "%s", error.text);
    struct run *after = session_load(argv[2], &error);
    if (!after) {
        run_free(before);
        return complain(STATUS_FAILED, "%s", error.text);
    }
    uint64_t gone = 0, added = 0, still = 0;
    for (size_t i = 0; i < after->count; i++) {
        const struct finding *f = &after->findings[i];
        if (f->suppressed_by)
            continue;
        if (find(before, f->id)) {
            still++;
            continue;
        }
        put("new", f);
        added++;
    }
    for (size_t i = 0; i < before->count; i++)
        if (!before->findings[i].suppressed_by && !find(after, before->findings[i].id)) {
            put("gone", &before->findings[i]);
            gone++;
        }
    for (size_t i = 0; i < after->count; i++)
        if (!after->findings[i].suppressed_by && find(before, after->findings[i].id))
            put("still", &after->findings[i]);
    printf("%" PRIu64 " new, %" PRIu64 " gone, %" PRIu64 " still there\n", added, gone, still);
    run_free(before);
    run_free(after);
    return added ? STATUS_FINDINGS : 0;
}

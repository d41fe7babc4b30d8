/* Findings added up by place or kind: one line per group, the largest loss first. */
#define _GNU_SOURCE
#include "view.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>
#include <uthash.h>

enum grouping view_grouping(const char *name) {
    static const char *const names[] = {"stack", "site", "function", "file", "module", "kind", "process"};
    for (int i = 0; i < GROUPINGS; i++)
        if (strcmp(name, names[i]) == 0)
            return (enum grouping)i;
    return GROUPINGS;
}

struct group {
    char *key;
    uint64_t findings, count, blocks, bytes;
    UT_hash_handle hh;
};

static void key_of(const struct run *run, const struct finding *f, enum grouping by, char *key,
                   size_t size) {
    const struct frame *s = stack_site(&f->stack);
    if (!s && f->stack.count)
        s = &f->stack.frames[0];
    const char *name = NULL;
    char plain[400];
    plain_name(s && s->function ? s->function : "?", "", plain, sizeof plain);
    switch (by) {
    case BY_SITE:
        if (s && s->file && s->line) {
            snprintf(key, size, "%s:%d  %s", short_path(run, s->file), s->line, plain);
            return;
        }
        name = s && s->function ? plain : NULL;
        break;
    case BY_FUNCTION:
        name = s && s->function ? plain : NULL;
        break;
    case BY_FILE:
        name = s && s->file ? short_path(run, s->file) : s ? s->module : NULL;
        break;
    case BY_MODULE:
        name = s ? s->module : NULL;
        break;
    default:
        name = kind_name(f->kind);
    }
    snprintf(key, size, "%s", name ? name : "unknown");
}

static int larger(const struct group *x, const struct group *y) {
    if (x->bytes != y->bytes)
        return x->bytes < y->bytes ? 1 : -1;
    return (x->count < y->count) - (x->count > y->count);
}

static void put_group(FILE *to, const struct group *g, uint64_t all_bytes) {
    fprintf(to, "%8" PRIu64 " %8" PRIu64 " %10" PRIu64 " %12" PRIu64, g->findings, g->count,
            g->blocks, g->bytes);
    if (all_bytes && g->bytes)
        fprintf(to, " %5.1f%%", 100.0 * (double)g->bytes / (double)all_bytes);
    else
        fprintf(to, " %6s", "");
    fprintf(to, "  %s\n", g->key);
}

void view_groups(FILE *to, const struct run *run, const struct view_options *options) {
    struct group *groups = NULL, *g, *next;
    uint64_t all_bytes = 0;
    for (size_t i = 0; i < run->count; i++) {
        const struct finding *f = &run->findings[i];
        char key[512];
        if (f->suppressed_by)
            continue;
        key_of(run, f, options->by, key, sizeof key);
        HASH_FIND_STR(groups, key, g);
        if (!g) {
            g = calloc(1, sizeof *g);
            g->key = strdup(key);
            HASH_ADD_KEYPTR(hh, groups, g->key, strlen(g->key), g);
        }
        g->findings++;
        g->count += f->kind == KIND_LEAK ? 0 : f->count;
        g->blocks += f->blocks + f->dependent_blocks;
        g->bytes += f->bytes + f->dependent_bytes;
        all_bytes += f->bytes + f->dependent_bytes;
    }
    HASH_SORT(groups, larger);
    if (groups)
        fprintf(to, "%8s %8s %10s %12s %6s\n", "findings", "accesses", "blocks", "bytes", "share");
    uint64_t shown = 0, left = HASH_COUNT(groups);
    if (options->top && options->top < left)
        left -= options->top;
    else
        left = 0;
    HASH_ITER(hh, groups, g, next) {
        if (!options->top || shown++ < options->top)
            put_group(to, g, all_bytes);
        HASH_DEL(groups, g);
        free(g->key);
        free(g);
    }
    if (left)
        fprintf(to, "%8" PRIu64 " further group%s\n", left, left == 1 ? "" : "s");
    fputc('\n', to);
}

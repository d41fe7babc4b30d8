/* Comparing runs; ids are looked up in a sorted list. */
#include "compare.h"

#include <stdlib.h>
#include <string.h>

struct index {
    const struct finding **list;
    size_t count;
};

static int by_id(const void *a, const void *b) {
    return strcmp((*(const struct finding *const *)a)->id, (*(const struct finding *const *)b)->id);
}

static struct index index_of(const struct run *run, bool open_only) {
    struct index index = {calloc(run->count + 1, sizeof *index.list), 0};
    for (size_t i = 0; i < run->count; i++)
        if (!open_only || !run->findings[i].suppressed_by)
            index.list[index.count++] = &run->findings[i];
    qsort(index.list, index.count, sizeof *index.list, by_id);
    return index;
}

static const struct finding *find(const struct index *index, const struct finding *f) {
    const struct finding **found =
        bsearch(&f, index->list, index->count, sizeof *index->list, by_id);
    return found ? *found : NULL;
}

struct comparison *compare_runs(const struct run *before, const struct run *after) {
    struct comparison *c = calloc(1, sizeof *c);
    struct index old = index_of(before, true), new = index_of(after, true);
    c->pairs = calloc(before->count + after->count + 1, sizeof *c->pairs);
    for (size_t i = 0; i < after->count; i++) {
        const struct finding *f = &after->findings[i];
        if (f->suppressed_by)
            continue;
        const struct finding *was = find(&old, f);
        c->pairs[c->count++] = (struct pair){was ? CHANGE_STILL : CHANGE_NEW, was, f};
        c->still += was != NULL;
        c->added += was == NULL;
    }
    for (size_t i = 0; i < before->count; i++) {
        const struct finding *f = &before->findings[i];
        if (f->suppressed_by || find(&new, f))
            continue;
        c->pairs[c->count++] = (struct pair){CHANGE_GONE, f, NULL};
        c->gone++;
    }
    free(old.list);
    free(new.list);
    return c;
}

void comparison_free(struct comparison *c) {
    if (!c)
        return;
    free(c->pairs);
    free(c);
}

size_t compare_baseline(struct run *run, const struct run *baseline, const char *name) {
    struct index known = index_of(baseline, false);
    size_t count = 0;
    for (size_t i = 0; i < run->count; i++) {
        struct finding *f = &run->findings[i];
        if (!f->suppressed_by && find(&known, f)) {
            f->suppressed_by = pool_text(run->pool, name);
            count++;
        }
    }
    free(known.list);
    return count;
}

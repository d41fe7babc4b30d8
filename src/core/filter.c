/* Choosing findings by kind, place, process and size. */
#include "filter.h"
#include "rules.h"

#include <string.h>

int filter_kind(struct filter *filter, const char *name, struct error *error) {
    enum finding_kind kind = kind_from_name(name);
    if (kind == KIND_COUNT)
        return error_set(error, "there is no finding kind '%s'; tondo explain lists them", name);
    filter->kinds |= 1u << kind;
    return 0;
}

/* A pattern without a slash is held against the last part of a path. */
static bool matches(const char *pattern, const char *text) {
    if (!text)
        return false;
    const char *slash = strchr(pattern, '/') ? NULL : strrchr(text, '/');
    return text_matches(pattern, slash ? slash + 1 : text);
}

static bool somewhere(const struct filter *f, const struct stack *stack) {
    for (int i = 0; i < stack->count; i++) {
        const struct frame *x = &stack->frames[i];
        if ((!f->file || matches(f->file, x->file)) &&
            (!f->function || (x->function && text_matches(f->function, x->function))) &&
            (!f->module || matches(f->module, x->module)))
            return true;
    }
    return false;
}

static bool in_process(const struct finding *f, uint32_t pid) {
    for (size_t i = 0; i < f->share_count; i++)
        if (f->shares[i].pid == pid)
            return true;
    return f->pid == pid;
}

bool filter_passes(const struct filter *filter, const struct finding *f) {
    uint64_t size = f->kind == KIND_LEAK ? f->bytes + f->dependent_bytes
                    : f->block_size > f->size ? f->block_size
                                              : f->size;
    return (!filter->kinds || filter->kinds & 1u << f->kind) && size >= filter->size &&
           (!filter->thread || f->thread == filter->thread) &&
           (!filter->process || in_process(f, filter->process)) &&
           ((!filter->file && !filter->function && !filter->module) ||
            somewhere(filter, &f->stack) ||
            (f->has_block && somewhere(filter, &f->allocated)));
}

void filter_apply(const struct filter *filter, struct run *run) {
    size_t total = run->count + run->kept, kept = 0, open = 0, count = 0;
    for (size_t i = 0; i < total; i++) {
        struct finding *f = &run->findings[i];
        bool counts = i < run->count;
        if (!filter_passes(filter, f) ||
            (filter->top && counts && !f->suppressed_by && open == filter->top))
            continue;
        open += counts && !f->suppressed_by;
        count += counts;
        run->findings[kept++] = *f;
    }
    run->count = count;
    run->kept = kept - count;
}

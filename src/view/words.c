/* Paths and sizes as every form of report writes them. */
#include "view.h"

#include <string.h>

const char *short_path(const struct run *run, const char *path) {
    size_t n = strlen(run->directory ? run->directory : "");
    if (n > 1 && strncmp(path, run->directory, n) == 0 && path[n] == '/')
        return path + n + 1;
    return path;
}

const char *base_of(const char *path) {
    const char *slash = path ? strrchr(path, '/') : NULL;
    return slash ? slash + 1 : path ? path : "unknown code";
}

void plain_name(const char *name, const char *instead, char *to, size_t size) {
    size_t at = 0, arguments = strlen(instead);
    int depth = 0;
    for (const char *c = name; *c && at + arguments + 1 < size; c++) {
        if (!depth && strncmp(c, "operator", 8) == 0) {
            size_t n = 8 + strspn(c + 8, "<>=-");
            for (size_t i = 0; i < n && at + 1 < size; i++)
                to[at++] = c[i];
            c += n - 1;
        } else if (*c == '<') {
            if (!depth++) {
                memcpy(to + at, instead, arguments);
                at += arguments;
            }
        } else if (*c == '>' && depth) {
            depth--;
        } else if (!depth) {
            to[at++] = *c;
        }
    }
    to[at] = 0;
}

const char *short_name(const struct frame *f, char *to, size_t size) {
    enum { LONG = 40 };
    if (!f->function || strlen(f->function) <= LONG)
        return f->function ? f->function : "?";
    plain_name(f->function, "<...>", to, size);
    return to;
}

const char *human(char *to, size_t size, uint64_t bytes) {
    static const char *const units[] = {"bytes", "KiB", "MiB", "GiB", "TiB"};
    double value = (double)bytes;
    int unit = 0;
    for (; value >= 1024 && unit < 4; unit++)
        value /= 1024;
    if (!unit)
        return quantity(to, size, bytes, "byte");
    snprintf(to, size, "%.1f %s", value, units[unit]);
    return to;
}

const char *finding_label(const struct finding *f) {
    switch (f->kind) {
    case KIND_LEAK:
        return "allocated by";
    case KIND_DOUBLE_FREE:
    case KIND_INVALID_FREE:
    case KIND_MISMATCHED_DEALLOCATION:
        return "freed by";
    case KIND_INVALID_SIZE:
        return "asked by";
    case KIND_OVERLAPPING_COPY:
        return "copied by";
    case KIND_DOUBLE_CLOSE:
        return "closed by";
    case KIND_DESCRIPTOR_LEAK:
        return "opened by";
    case KIND_UNINITIALIZED_VALUE:
        return "used by";
    case KIND_OUT_OF_BOUNDS_WRITE:
        if (finding_stopped(f, NULL) > STOPPED_BEFORE)
            return "noticed by";
        /* fall through */
    default: /* a block of no size was given to a function, not touched */
        return f->has_access && f->size == 0 ? "used by" : f->write ? "written by" : "read by";
    }
}

int repeats(const struct stack *stack, int i) {
    const struct frame *f = &stack->frames[i];
    int same = 0;
    while (i + same + 1 < stack->count && f->function && f[same + 1].function &&
           strcmp(f[same + 1].function, f->function) == 0 && f[same + 1].line == f->line)
        same++;
    return same;
}

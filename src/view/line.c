/* The line form: for editors and scripts. */
#include "view.h"

void view_line(FILE *to, const struct run *run) {
    for (size_t i = 0; i < run->count; i++) {
        const struct finding *f = &run->findings[i];
        if (f->suppressed_by)
            continue;
        const struct frame *site = stack_site(&f->stack);
        if (!site && f->stack.count)
            site = &f->stack.frames[0];
        const char *file = site && site->file ? site->file : site && site->module ? site->module : "?";
        fprintf(to, "%s:%d:%d: %s: %s\n", file, site ? site->line : 0, site ? site->column : 0,
                kind_name(f->kind), f->message);
    }
}

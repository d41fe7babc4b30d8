/* The tree of allocation stacks as text: bytes with everything below, who called
   whom indented. Runs of single callers are one line each; small parts are left
   out and counted. */
#include "view.h"

#include <inttypes.h>
#include <string.h>

struct drawing {
    FILE *to;
    const struct view_options *options;
    uint64_t all, least; /* bytes */
    int left_out;
};

static void put_node(struct drawing *d, const struct tree_node *n, int depth) {
    char bytes[48];
    const struct frame *f = n->frame;
    if (n->bytes < d->least) {
        d->left_out++;
        return;
    }
    double share = d->all ? 100.0 * (double)n->bytes / (double)d->all : 0;
    char name[256];
    const char *slash = f->file && f->line ? strrchr(f->file, '/')
                        : f->module        ? strrchr(f->module, '/')
                                           : NULL;
    fprintf(d->to, "%6.1f%% %20s  %*s%s%s%s", share,
            quantity(bytes, sizeof bytes, n->bytes, "byte"), depth < 40 ? 2 * depth : 80, "",
            d->options->colour && !f->own ? "\033[2m" : "", short_name(f, name, sizeof name),
            d->options->colour && !f->own ? "\033[0m" : "");
    if (slash)
        fprintf(d->to, "  %s", slash + 1);
    if (f->file && f->line)
        fprintf(d->to, ":%d", f->line);
    fputc('\n', d->to);
    for (const struct tree_node *c = n->child; c; c = c->next)
        put_node(d, c, depth + 1);
}

void view_tree(FILE *to, const struct tree_node *root, bool whole,
               const struct view_options *options) {
    struct drawing d = {to, options, root->bytes, root->bytes / 200, 0};
    char bytes[48], blocks[48];
    if (!root->child) {
        fprintf(to, "%s\n", whole ? "Nothing was left on the heap." : "Nothing was lost.");
        return;
    }
    fprintf(to, "%s: %s in %s, by the functions that asked for it and their callers\n\n",
            whole ? "Left on the heap at exit" : "Lost memory",
            quantity(bytes, sizeof bytes, root->bytes, "byte"),
            quantity(blocks, sizeof blocks, root->blocks, "block"));
    for (const struct tree_node *c = root->child; c; c = c->next)
        put_node(&d, c, 0);
    if (d.left_out)
        fprintf(to, "\n%d parts of less than half a per cent are left out\n", d.left_out);
}

/* Building the tree of allocation stacks; calls of one function from one function
   are one node, recursion is folded into its first call. */
#include "tree.h"

#include <stdlib.h>
#include <string.h>

static int differ(const char *a, const char *b) {
    return a == b ? 0 : !a || !b ? 1 : strcmp(a, b);
}

static bool same(const struct frame *a, const struct frame *b) {
    if (!a->function && !b->function)
        return a->address == b->address && !differ(a->module, b->module);
    return !differ(a->function, b->function) && !differ(a->module, b->module);
}

static struct tree_node *below(struct run *run, struct tree_node *at, const struct frame *frame) {
    for (struct tree_node *n = at->child; n; n = n->next)
        if (same(n->frame, frame))
            return n;
    struct tree_node *n = pool_take(run->pool, sizeof *n);
    *n = (struct tree_node){.frame = frame, .next = at->child};
    at->child = n;
    return n;
}

static void add(struct run *run, struct tree_node *root, const struct finding *f) {
    struct tree_node *at = root;
    uint64_t bytes = f->bytes + f->dependent_bytes, blocks = f->blocks + f->dependent_blocks;
    root->bytes += bytes;
    root->blocks += blocks;
    for (int i = f->stack.count; i-- > 0;) {
        const struct frame *frame = &f->stack.frames[i];
        if (at != root && same(at->frame, frame))
            continue;
        at = below(run, at, frame);
        at->bytes += bytes;
        at->blocks += blocks;
    }
}

static int larger(const void *a, const void *b) {
    const struct tree_node *x = *(struct tree_node *const *)a, *y = *(struct tree_node *const *)b;
    return (x->bytes < y->bytes) - (x->bytes > y->bytes);
}

static void sort(struct tree_node *at) {
    size_t n = 0;
    for (struct tree_node *c = at->child; c; c = c->next)
        n++;
    struct tree_node **list = calloc(n + 1, sizeof *list);
    n = 0;
    for (struct tree_node *c = at->child; c; c = c->next)
        list[n++] = c;
    qsort(list, n, sizeof *list, larger);
    at->child = n ? list[0] : NULL;
    for (size_t i = 0; i < n; i++) {
        list[i]->next = list[i + 1];
        sort(list[i]);
    }
    free(list);
}

struct tree_node *tree_build(struct run *run, bool whole) {
    struct tree_node *root = pool_take(run->pool, sizeof *root);
    *root = (struct tree_node){0};
    for (size_t i = 0; i < run->count + (whole ? run->kept : 0); i++)
        if (run->findings[i].kind == KIND_LEAK && !run->findings[i].suppressed_by)
            add(run, root, &run->findings[i]);
    sort(root);
    return root;
}

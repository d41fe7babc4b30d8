/* Allocation stacks as a tree of callers: who asked for the memory, with what all
   that it called asked for as well. */
#ifndef TONDO_TREE_H
#define TONDO_TREE_H

#include "model.h"

struct tree_node {
    const struct frame *frame; /* of the caller; null for the root */
    uint64_t bytes, blocks;    /* with everything below */
    struct tree_node *child, *next; /* the largest first */
};

/* From the outermost frame inwards; leaks alone, or all that was left on the heap
   (whole). It lives as long as the run. */
struct tree_node *tree_build(struct run *run, bool whole);

#endif

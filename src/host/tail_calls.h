/* Functions that left by a tail call: a jump took the place of call and return, so no
   call stack has them. What the code can do tells where that must have been. */
#ifndef TONDO_TAIL_CALLS_H
#define TONDO_TAIL_CALLS_H

#include "symbols.h"

/* A function as the stack has it. */
struct callee {
    const char *path;      /* of its file */
    uint64_t link_address; /* somewhere in it; 0: not known */
    const char *name;      /* as people read it */
};

/* Frames, innermost first, between the call before a return address (link-time, in the
   file) and the function that ran under it in the end. 0: the call went there itself, or
   in a way that cannot be told. Addresses in them are link-time. Where several jumps of the same functions lead there,
   their frames have no line. */
int tail_calls_between(struct symbols *symbols, struct pool *pool, const char *path,
                       uint64_t return_address, const struct callee *callee,
                       struct frame *frames, int room);

#endif

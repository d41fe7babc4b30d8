/* Which findings a report is to show. */
#ifndef TONDO_FILTER_H
#define TONDO_FILTER_H

#include "error.h"
#include "model.h"

struct filter {
    uint32_t kinds;  /* bit by finding kind, 0: any */
    const char *file, *function, *module; /* patterns with "*" and "?", null: any */
    uint32_t process, thread;             /* 0: any */
    uint64_t size;  /* least bytes of a leak, of an access or of its block */
    uint64_t top;   /* how many at most, 0: all */
};

/* Adds a kind by its name. 0 or -1. */
int filter_kind(struct filter *filter, const char *name, struct error *error);
bool filter_passes(const struct filter *filter, const struct finding *finding);
/* Takes out of the run what does not pass; numbers stay. */
void filter_apply(const struct filter *filter, struct run *run);

#endif

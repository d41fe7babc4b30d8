/* Two runs of a program: what is new, gone and still there, by finding id. */
#ifndef TONDO_COMPARE_H
#define TONDO_COMPARE_H

#include "model.h"

enum change { CHANGE_NEW, CHANGE_GONE, CHANGE_STILL };

struct pair {
    enum change change;
    const struct finding *before, *after; /* null where it was not found */
};

struct comparison {
    struct pair *pairs; /* in the order of the new run, then those gone */
    size_t count, added, gone, still;
};

/* Open findings only; the runs must outlive the comparison. */
struct comparison *compare_runs(const struct run *before, const struct run *after);
void comparison_free(struct comparison *comparison);
/* Marks as suppressed by `name` what the earlier run found, open or not: a baseline
   stands in for rules. Returns how many. */
size_t compare_baseline(struct run *run, const struct run *baseline, const char *name);

#endif

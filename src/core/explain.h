/* What a kind of finding means in plain words, how such mistakes usually arise and
   what to look at next; and the same for one finding in terms of its own block,
   lines and variables. */
#ifndef TONDO_EXPLAIN_H
#define TONDO_EXPLAIN_H

#include "model.h"

/* One or two sentences. */
const char *kind_meaning(enum finding_kind kind);
/* How such mistakes usually arise. */
const char *kind_causes(enum finding_kind kind);
/* What to look at next. */
const char *kind_advice(enum finding_kind kind);
/* Sentences about this very finding, one paragraph each, in the run's pool.
   Returns how many of `room` were filled. */
int finding_story(struct run *run, const struct finding *f, const char **sentences, int room);

#endif

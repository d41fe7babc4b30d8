/* The live heap over time. While the program runs the host looks at the counters
   in the ledger, often at first and ever less often; the program pays nothing for
   it but the counters. */
#ifndef TONDO_HISTORY_H
#define TONDO_HISTORY_H

#include "../core/ledger_format.h"
#include "../core/model.h"

enum { HISTORY_SAMPLES = 400, HISTORY_POINTS = 16 };

/* Live bytes by site at one moment. */
struct snapshot {
    double at; /* seconds since the start */
    uint64_t bytes, blocks, *sites;
    uint32_t count;
};

struct history {
    struct sample samples[HISTORY_SAMPLES];
    size_t count;
    double interval, next; /* seconds */
    struct snapshot peak, points[HISTORY_POINTS];
    size_t point_count;
    double point_interval, next_point;
};

void history_start(struct history *history);
/* To be called now and then; looks when it is time to. `now` in seconds since the
   start. `last`: the program has ended. */
void history_look(struct history *history, const struct ledger *ledger, double now, bool last);
void history_free(struct history *history);
/* Growth of one site over the points: whether it kept growing, and from what. */
bool history_grows(const struct history *history, uint32_t site, uint64_t *from);

#endif

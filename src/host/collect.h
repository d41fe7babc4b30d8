/* From raw numbers in the ledger to findings with names. */
#ifndef TONDO_COLLECT_H
#define TONDO_COLLECT_H

#include "../core/model.h"
#include "launch.h"
#include "symbols.h"

/* A settled run. */
struct run *collect(const struct launch *launch, struct symbols *symbols);

#endif

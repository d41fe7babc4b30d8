/* From raw numbers in the ledger to findings with names. */
#ifndef TONDO_COLLECT_H
#define TONDO_COLLECT_H

#include "../core/model.h"
#include "launch.h"
#include "symbols.h"

/* The newest file mapped over the guest address in that image, or null. */
const struct ledger_module *ledger_module_at(const struct ledger *ledger, uint32_t image,
                                             uint64_t pc);
/* A settled run. */
struct run *collect(const struct launch *launch, struct symbols *symbols);

#endif

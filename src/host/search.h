/* The heap search at a process's end: reads the stopped guest's memory, finds
   which blocks are still reached, and adds leak findings to a collection. */
#ifndef TONDO_SEARCH_H
#define TONDO_SEARCH_H

#include "../core/ledger_format.h"
#include "../core/model.h"

#include <sys/types.h>

/* What was lost at one allocation stack, by class. */
struct loss {
    uint32_t process, stack; /* stack: ledger node */
    enum leak_class leak;
    uint64_t blocks, bytes, dependent_blocks, dependent_bytes;
};

struct losses {
    struct loss *list;
    size_t count, capacity;
    struct tally classes[LEAK_CLASSES], live;
    bool done;
};

/* Reads the memory through `pid`, which shares it. False when it cannot be read. */
bool search_process(struct ledger *ledger, uint32_t process, pid_t pid,
                    struct losses *losses);

#endif

/* Structures passed or returned by value in registers. */
#ifndef TONDO_BY_VALUE_H
#define TONDO_BY_VALUE_H

#include "symbols.h"

/* Whether the instruction (link-time address in the file) loads 4 or 8 bytes, of which only
   the first `inside` belong to what was meant, into a register in which a structure is
   passed to the function called next, or returned, so that its last word has `bytes` bytes.
   Compilers read whole words where they know that these are aligned and cannot fault. Debug
   information tells what is passed. */
bool by_value_at(struct symbols *symbols, const char *path, uint64_t link_address,
                 unsigned inside, unsigned bytes);

#endif

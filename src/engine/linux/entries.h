/* Where functions begin: of the files that debug information describes (see symbols_is_entry). */
#ifndef TONDO_ENGINE_ENTRIES_H
#define TONDO_ENGINE_ENTRIES_H

#include "../engine.h"

#include <linux/elf.h>

/* Takes the functions of a symbol table in a file's content of `size` bytes, which is or will be
   mapped at start; hash: ledger_file_hash. */
void entries_add(const char *content, uint64_t size, const Elf64_Shdr *table,
                 const Elf64_Shdr *strings, gaddr bias, gaddr start, gaddr end,
                 uint64_t hash);

#endif

/* Names and source lines for guest addresses, through elfutils: functions,
   files, lines, columns, inlined calls; separate debug files by build-id. */
#ifndef TONDO_SYMBOLS_H
#define TONDO_SYMBOLS_H

#include "../core/model.h"

struct symbols;
struct symbols *symbols_new(void);
void symbols_free(struct symbols *symbols);
/* Frames (innermost first, several where calls were inlined) for a link-time
   address of the file. `exact`: the address is an instruction, not a return
   address. Returns how many, at least 1; strings live in the pool. */
int symbols_resolve(struct symbols *symbols, struct pool *pool, const char *path,
                    uint64_t link_address, bool exact, struct frame *frames, int room);
/* The variable of the function at the address that covers a place in its frame:
   bytes from the canonical frame address (DWARF 5, 6.4), the stack pointer given
   likewise or LEDGER_NO_POINTER, the frame pointer likewise, 0: not known. Its name stays null where none is known. */
struct variable symbols_variable(struct symbols *symbols, struct pool *pool, const char *path,
                                 uint64_t link_address, int64_t offset, int64_t pointer,
                                 int64_t frame);
/* Whether a function of C or C++ that is called as the psABI has it begins at the link-time
   address. */
bool symbols_begins_c(struct symbols *symbols, const char *path, uint64_t link_address);
/* Of the same: which registers hold arguments, and whether RAX holds its result (see
   ledger_question); 0: not known. */
uint64_t symbols_passed(struct symbols *symbols, const char *path, uint64_t link_address);
/* Where a scope begins whose variable shares its place in the frame with those of others: from there
   on it holds nothing. */
struct fresh_room {
    uint64_t address; /* link-time */
    int64_t offset;   /* from the canonical frame address */
    uint64_t size;    /* bytes */
    bool by_pointer;  /* from the frame pointer instead */
};
/* Those of a function of C or C++ that begins at the link-time address, at most so many. */
int symbols_fresh_rooms(struct symbols *symbols, const char *path, uint64_t link_address,
                        struct fresh_room *rooms, int most);
/* Calls for each function of the unit whose code is at the address. */
void symbols_each_neighbour(struct symbols *symbols, const char *path, uint64_t link_address,
                            void (*take)(uint64_t link_address, void *argument), void *argument);
/* The local variable that is in a register, by its DWARF number (psABI 3.6.2), where the
   instruction at the address is; its name stays null where none is known. */
struct variable symbols_register_variable(struct symbols *symbols, struct pool *pool,
                                          const char *path, uint64_t link_address,
                                          unsigned number);
#endif

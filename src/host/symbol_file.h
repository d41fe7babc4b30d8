/* A file whose symbols are read, shared by what looks something up in it. */
#ifndef TONDO_SYMBOL_FILE_H
#define TONDO_SYMBOL_FILE_H

#include "symbols.h"

#include <dwarf.h>
#include <elfutils/libdwfl.h>

struct symbol_file {
    struct symbol_file *next;
    char *path;
    Dwfl *dwfl;
    Dwfl_Module *module;
    Dwarf_Addr bias;
    struct unit *units; /* by address; for files without .debug_aranges */
    size_t unit_count;
    bool units_read;
    struct symbol *symbols; /* functions by address */
    size_t symbol_count;
    bool symbols_read;
    struct unit_functions *functions; /* scopes.c, by unit */
    struct import *imports;           /* tail_calls.c, by place */
    size_t import_count;
    bool imports_read;
};

struct symbol {
    GElf_Addr start, size;
    const char *name;
    bool global;
};

struct unit {
    Dwarf_Addr low, high;
    Dwarf_Die die;
};

struct symbols {
    struct symbol_file *files;
};

/* Opened on the first demand; module is null where there is nothing to read. */
struct symbol_file *symbol_file_open(struct symbols *symbols, const char *path);
/* The unit with the code at the address (bias of the file included), whose own addresses
   are lower by *bias. */
Dwarf_Die *symbol_file_unit(struct symbol_file *f, Dwarf_Addr address, Dwarf_Addr *bias);
/* A function of the symbol table, by link-time addresses. */
struct symbol_range {
    uint64_t start, size;
    const char *name;
};
bool symbol_file_range(struct symbol_file *f, uint64_t link_address, struct symbol_range *range);
/* Bytes of the file's code at a link-time address, at most `*size`, which becomes how many. */
const uint8_t *symbol_file_code(struct symbol_file *f, uint64_t address, uint64_t *size);
/* The function of another file that the call before the address goes to, by the name that the loader
   knows; null: none, or it cannot be told. */
const char *symbol_called(struct symbol_file *f, uint64_t return_address);
/* The name of a variable of the unit, and where it is declared. */
void symbol_declaration(struct pool *pool, Dwarf_Die *cu, Dwarf_Die *die, struct variable *v);
/* How many elements of a sorted list, each with an address as its first member, begin at
   or before the address. */
size_t symbol_position(const void *list, size_t count, size_t size, Dwarf_Addr address);
/* A name of the symbol table as people read it. */
const char *symbol_readable(struct pool *pool, const char *name);
/* The scopes around an address of the unit, from the innermost outwards, an inlined
   function's in the function that it was put into; the last one is the function whose
   code it is. Returns how many; free them. */
int symbol_scopes(struct symbol_file *f, Dwarf_Die *cu, Dwarf_Addr address, Dwarf_Die **scopes);
/* Where the pieces of the unit's functions begin, by its own addresses. */
void symbol_unit_entries(struct symbol_file *f, Dwarf_Die *cu,
                         void (*take)(Dwarf_Addr entry, void *argument), void *argument);
/* The function of C or C++ that begins there, called as the psABI has it, and its unit; null: none. */
Dwarf_Die *symbol_function_of_c(struct symbol_file *f, uint64_t link_address, Dwarf_Die *function);
/* What its variables' places count from (DW_AT_frame_base), from the canonical frame address, where
   it is a fixed distance off; `address` is the unit's own. The same of the stack pointer in most of
   its code, or LEDGER_NO_POINTER. */
bool symbol_frame_base(struct symbol_file *f, Dwarf_Die *function, Dwarf_Addr address, int64_t *base,
                       int64_t *pointer);
/* Whether the function aligns its frame, so that this address is no fixed distance from a register. */
bool symbol_is_realigned(struct symbol_file *f, Dwarf_Die *function);
void symbol_scopes_free(struct symbol_file *f);
/* Of these files only the functions' names are told. Their debug information, where it is
   installed, is compressed: reading it takes longer than a short run. */
bool symbol_names_only(const char *path);

#endif

/* What debug information tells of a register that a function reads before it sets it: whether the
   function is called as C has it, and which variable lives there. */
#include "symbol_file.h"

#include <stdlib.h>

/* DWARF 5, 7.12 and later additions. */
static bool is_c(Dwarf_Die *unit) {
    enum { C17 = 0x2c, C_PLUS_PLUS_17 = 0x2a, C_PLUS_PLUS_20 = 0x2b };
    switch (dwarf_srclang(unit)) {
    case DW_LANG_C89:
    case DW_LANG_C:
    case DW_LANG_C99:
    case DW_LANG_C11:
    case C17:
    case DW_LANG_C_plus_plus:
    case DW_LANG_C_plus_plus_03:
    case DW_LANG_C_plus_plus_11:
    case DW_LANG_C_plus_plus_14:
    case C_PLUS_PLUS_17:
    case C_PLUS_PLUS_20:
    case DW_LANG_ObjC:
    case DW_LANG_ObjC_plus_plus:
        return true;
    default:
        return false;
    }
}

bool symbols_begins_c(struct symbols *symbols, const char *path, uint64_t link_address) {
    struct symbol_file *f = symbol_file_open(symbols, path);
    Dwarf_Addr bias, entry;
    Dwarf_Die *scopes, *cu = f->module ? symbol_file_unit(f, link_address + f->bias, &bias) : NULL;
    if (!cu || !is_c(cu))
        return false;
    Dwarf_Addr address = link_address + f->bias - bias;
    int count = symbol_scopes(f, cu, address, &scopes);
    Dwarf_Attribute attribute;
    Dwarf_Word convention = DW_CC_normal;
    bool begins = count && dwarf_entrypc(&scopes[count - 1], &entry) == 0 && entry == address;
    if (begins && dwarf_attr_integrate(&scopes[count - 1], DW_AT_calling_convention, &attribute))
        dwarf_formudata(&attribute, &convention);
    free(scopes);
    return begins && (convention == DW_CC_normal || convention == DW_CC_nocall);
}

/* Whether the variable is in the register, at the address or (0) somewhere. */
static bool lives_in(Dwarf_Die *variable, unsigned number, Dwarf_Addr address) {
    Dwarf_Attribute attribute;
    Dwarf_Addr base, low, high;
    Dwarf_Op *ops;
    size_t count;
    ptrdiff_t offset = 0;
    if (!dwarf_attr(variable, DW_AT_location, &attribute))
        return false;
    while ((offset = dwarf_getlocations(&attribute, offset, &base, &low, &high, &ops, &count)) > 0)
        if (count == 1 && (!address || (address >= low && address < high)) &&
            (ops[0].atom == DW_OP_reg0 + number ||
             (ops[0].atom == DW_OP_regx && ops[0].number == number)))
            return true;
    return false;
}

struct search {
    unsigned number;
    Dwarf_Addr address;
    Dwarf_Die found;
    Dwarf_Off owner; /* the function, inlined or not, whose it is */
    int count;
};

/* Local variables of a scope, and of those within it. */
static void search_scope(struct search *s, Dwarf_Die *scope, Dwarf_Off owner, bool within) {
    Dwarf_Die child;
    if (dwarf_child(scope, &child) != 0)
        return;
    do {
        int tag = dwarf_tag(&child);
        bool inlined = tag == DW_TAG_inlined_subroutine;
        if (tag == DW_TAG_variable && lives_in(&child, s->number, s->address)) {
            s->found = child;
            s->owner = owner;
            s->count++;
        } else if (within && (inlined || tag == DW_TAG_lexical_block)) {
            search_scope(s, &child, inlined ? dwarf_dieoffset(&child) : owner, true);
        }
    } while (dwarf_siblingof(&child, &child) == 0);
}

struct variable symbols_register_variable(struct symbols *symbols, struct pool *pool,
                                          const char *path, uint64_t link_address,
                                          unsigned number) {
    struct variable v = {0};
    struct symbol_file *f = symbol_file_open(symbols, path);
    Dwarf_Addr bias;
    Dwarf_Die *scopes, *cu = f->module ? symbol_file_unit(f, link_address + f->bias, &bias) : NULL;
    if (!cu)
        return v;
    struct search s = {.number = number, .address = link_address + f->bias - bias};
    int count = symbol_scopes(f, cu, s.address, &scopes);
    Dwarf_Off owner = 0;
    for (int i = count - 1; i >= 0; i--) { /* of the innermost scope that has one */
        if (i == count - 1 || dwarf_tag(&scopes[i]) == DW_TAG_inlined_subroutine)
            owner = dwarf_dieoffset(&scopes[i]);
        struct search inner = {.number = number, .address = s.address};
        search_scope(&inner, &scopes[i], owner, false);
        if (inner.count)
            s = inner;
    }
    if (!s.count && count) { /* or the only one that is ever there */
        s.address = 0;
        search_scope(&s, &scopes[count - 1], dwarf_dieoffset(&scopes[count - 1]), true);
    }
    for (int i = 0; s.count == 1 && i < count - 1 && dwarf_dieoffset(&scopes[i]) != s.owner; i++)
        v.outward += dwarf_tag(&scopes[i]) == DW_TAG_inlined_subroutine;
    if (s.count == 1)
        symbol_declaration(pool, cu, &s.found, &v);
    free(scopes);
    return v;
}

/* The functions of a unit, found once: libdw's own search for scopes walks the whole unit
   for each address, which takes a second in large ones. */
#include "symbol_file.h"

#include <stdlib.h>
#include <uthash.h>

#define DEEPEST 256 /* scopes within a function */

struct function {
    Dwarf_Addr low, high;
    Dwarf_Die die;
};

struct unit_functions {
    Dwarf_Off unit;
    struct function *functions; /* by address */
    size_t count, room;
    UT_hash_handle hh;
};

static void add_function(struct unit_functions *u, Dwarf_Die *die) {
    Dwarf_Addr base, low, high;
    ptrdiff_t offset = 0;
    while ((offset = dwarf_ranges(die, offset, &base, &low, &high)) > 0) {
        if (u->count == u->room) {
            u->room = u->room ? u->room * 2 : 256;
            u->functions = realloc(u->functions, u->room * sizeof *u->functions);
        }
        u->functions[u->count++] = (struct function){low, high, *die};
    }
}

/* Functions also stand in classes and in other functions. */
static void walk(struct unit_functions *u, Dwarf_Die *in) {
    Dwarf_Die child;
    if (dwarf_child(in, &child) != 0)
        return;
    do {
        switch (dwarf_tag(&child)) {
        case DW_TAG_subprogram:
            add_function(u, &child);
            walk(u, &child);
            break;
        case DW_TAG_namespace:
        case DW_TAG_module:
        case DW_TAG_class_type:
        case DW_TAG_structure_type:
        case DW_TAG_union_type:
        case DW_TAG_lexical_block:
            walk(u, &child);
            break;
        }
    } while (dwarf_siblingof(&child, &child) == 0);
}

static int by_address(const void *a, const void *b) {
    const struct function *x = a, *y = b;
    return x->low != y->low ? (x->low < y->low ? -1 : 1) : (x->high < y->high) - (x->high > y->high);
}

static const struct unit_functions *functions_of(struct symbol_file *f, Dwarf_Die *cu) {
    struct unit_functions *u;
    Dwarf_Off unit = dwarf_dieoffset(cu);
    HASH_FIND(hh, f->functions, &unit, sizeof unit, u);
    if (u)
        return u;
    u = calloc(1, sizeof *u);
    u->unit = unit;
    walk(u, cu);
    if (u->count)
        qsort(u->functions, u->count, sizeof *u->functions, by_address);
    HASH_ADD(hh, f->functions, unit, sizeof u->unit, u);
    return u;
}

void symbol_unit_entries(struct symbol_file *f, Dwarf_Die *cu,
                         void (*take)(Dwarf_Addr entry, void *argument), void *argument) {
    const struct unit_functions *u = functions_of(f, cu);
    for (size_t k = 0; k < u->count; k++)
        take(u->functions[k].low, argument);
}

void symbol_scopes_free(struct symbol_file *f) {
    struct unit_functions *u, *next;
    HASH_ITER(hh, f->functions, u, next) {
        HASH_DEL(f->functions, u);
        free(u->functions);
        free(u);
    }
}

/* The innermost function around the address: nested ones begin behind the outer one. */
static const struct function *function_around(const struct unit_functions *u, Dwarf_Addr address) {
    size_t low = symbol_position(u->functions, u->count, sizeof *u->functions, address);
    enum { NESTED = 64 };
    for (size_t k = 0; k < NESTED && low-- > 0; k++)
        if (address < u->functions[low].high)
            return &u->functions[low];
    return NULL;
}

static int descend(Dwarf_Die *in, Dwarf_Addr address, Dwarf_Die *found, int depth) {
    Dwarf_Die child;
    if (depth == DEEPEST || dwarf_child(in, &child) != 0)
        return depth;
    do {
        switch (dwarf_tag(&child)) {
        case DW_TAG_inlined_subroutine:
        case DW_TAG_lexical_block:
        case DW_TAG_try_block:
        case DW_TAG_catch_block:
            if (dwarf_haspc(&child, address) != 1)
                break;
            found[depth] = child;
            return descend(&child, address, found, depth + 1);
        }
    } while (dwarf_siblingof(&child, &child) == 0);
    return depth;
}

int symbol_scopes(struct symbol_file *f, Dwarf_Die *cu, Dwarf_Addr address, Dwarf_Die **scopes) {
    const struct function *function = function_around(functions_of(f, cu), address);
    *scopes = NULL;
    if (!function)
        return 0;
    Dwarf_Die outermost_first[DEEPEST];
    outermost_first[0] = function->die;
    int count = descend(&outermost_first[0], address, outermost_first, 1);
    *scopes = malloc((size_t)count * sizeof **scopes);
    for (int i = 0; i < count; i++)
        (*scopes)[i] = outermost_first[count - 1 - i];
    return count;
}

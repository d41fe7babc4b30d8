/* What debug information tells of a register that a function reads before it sets it: whether the
   function is called as C has it, which registers hold its arguments, and which variable lives
   there. */
#include "symbol_file.h"

#include "../core/ledger_format.h"

#include <stdlib.h>
#include <string.h>

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

/* DWARF 5, 2.18: that of a function in several pieces is where the first of them begins. */
static bool begins_at(Dwarf_Die *function, Dwarf_Addr address) {
    Dwarf_Addr base, low, high;
    if (dwarf_entrypc(function, &low) == 0)
        return low == address;
    return dwarf_ranges(function, 0, &base, &low, &high) > 0 && low == address;
}

Dwarf_Die *symbol_function_of_c(struct symbol_file *f, uint64_t link_address, Dwarf_Die *function) {
    Dwarf_Addr bias;
    Dwarf_Die *scopes, *cu = f->module ? symbol_file_unit(f, link_address + f->bias, &bias) : NULL;
    if (!cu || !is_c(cu))
        return NULL;
    Dwarf_Addr address = link_address + f->bias - bias;
    int count = symbol_scopes(f, cu, address, &scopes);
    Dwarf_Attribute attribute;
    Dwarf_Word convention = DW_CC_normal;
    bool begins = count && begins_at(&scopes[count - 1], address);
    if (begins)
        *function = scopes[count - 1];
    if (begins && dwarf_attr_integrate(function, DW_AT_calling_convention, &attribute))
        dwarf_formudata(&attribute, &convention);
    free(scopes);
    return begins && (convention == DW_CC_normal || convention == DW_CC_nocall) ? cu : NULL;
}

bool symbols_begins_c(struct symbols *symbols, const char *path, uint64_t link_address) {
    Dwarf_Die function;
    return symbol_function_of_c(symbol_file_open(symbols, path), link_address, &function) != NULL;
}

/* --- what a function takes and returns (psABI 3.2.3) --- */

enum class { UNKNOWN, NOTHING, INTEGER, TWO_INTEGERS, VECTOR };

static enum class class_of(Dwarf_Die *die) {
    Dwarf_Attribute attribute;
    Dwarf_Die type;
    Dwarf_Word encoding = 0;
    if (!dwarf_attr_integrate(die, DW_AT_type, &attribute))
        return NOTHING;
    if (!dwarf_formref_die(&attribute, &type) || dwarf_peel_type(&type, &type) != 0)
        return UNKNOWN;
    int size = dwarf_bytesize(&type);
    switch (dwarf_tag(&type)) {
    case DW_TAG_pointer_type:
    case DW_TAG_reference_type:
    case DW_TAG_rvalue_reference_type:
        return INTEGER;
    case DW_TAG_enumeration_type:
        return size > 0 && size <= 8 ? INTEGER : UNKNOWN;
    case DW_TAG_base_type:
        if (!dwarf_attr_integrate(&type, DW_AT_encoding, &attribute) ||
            dwarf_formudata(&attribute, &encoding) != 0)
            return UNKNOWN;
        if (encoding == DW_ATE_float)
            return size == 4 || size == 8 ? VECTOR : UNKNOWN;
        switch (encoding) {
        case DW_ATE_boolean:
        case DW_ATE_signed:
        case DW_ATE_signed_char:
        case DW_ATE_unsigned:
        case DW_ATE_unsigned_char:
        case DW_ATE_UTF:
            return size <= 0 || size > 16 ? UNKNOWN : size <= 8 ? INTEGER : TWO_INTEGERS;
        default:
            return UNKNOWN;
        }
    default:
        return UNKNOWN;
    }
}

/* Its parameters; false where it is not known which registers hold them. */
static bool count_parameters(Dwarf_Die *function, int *integers, int *vectors) {
    Dwarf_Die child;
    *integers = *vectors = 0;
    if (dwarf_child(function, &child) != 0)
        return true;
    do {
        int tag = dwarf_tag(&child);
        enum class class = tag == DW_TAG_formal_parameter ? class_of(&child) : NOTHING;
        if (tag == DW_TAG_unspecified_parameters || tag == DW_TAG_GNU_formal_parameter_pack ||
            class == UNKNOWN ||
            (tag == DW_TAG_formal_parameter && class == NOTHING))
            return false;
        *integers += class == INTEGER ? 1 : class == TWO_INTEGERS ? 2 : 0;
        *vectors += class == VECTOR;
    } while (dwarf_siblingof(&child, &child) == 0);
    return true;
}

/* The function as it was declared, of which this is an instance. */
static bool origin_of(Dwarf_Die *function, Dwarf_Die *origin) {
    Dwarf_Attribute attribute;
    return (dwarf_attr(function, DW_AT_abstract_origin, &attribute) ||
            dwarf_attr(function, DW_AT_specification, &attribute)) &&
           dwarf_formref_die(&attribute, origin) != NULL;
}

/* Compilers change what functions take that nobody else can call: gcc gives such a copy another
   name, clang does not. */
static bool may_be_changed(struct symbol_file *f, uint64_t link_address, Dwarf_Die *cu,
                           Dwarf_Die *function) {
    struct symbol_range symbol;
    Dwarf_Attribute attribute;
    const char *producer = dwarf_attr_integrate(cu, DW_AT_producer, &attribute)
                               ? dwarf_formstring(&attribute) : NULL;
    bool external = dwarf_attr_integrate(function, DW_AT_external, &attribute) != NULL;
    return !symbol_file_range(f, link_address, &symbol) || strchr(symbol.name, '.') || !producer ||
           (!external && strncmp(producer, "GNU ", 4) != 0);
}

/* Whether the unit tells of more than lines: else no function has parameters there. */
static bool has_types(Dwarf_Die *function) {
    Dwarf_Die unit, child;
    if (!dwarf_diecu(function, &unit, NULL, NULL) || dwarf_child(&unit, &child) != 0)
        return false;
    do
        if (dwarf_tag(&child) == DW_TAG_base_type)
            return true;
    while (dwarf_siblingof(&child, &child) == 0);
    return false;
}

/* Constructors and destructors may take a table of the virtual bases as well. */
static bool may_take_table(Dwarf_Die *declared) {
    const char *name = dwarf_diename(declared);
    Dwarf_Attribute attribute;
    Dwarf_Die type;
    return dwarf_attr_integrate(declared, DW_AT_object_pointer, &attribute) &&
           (!name || name[0] == '~' || !dwarf_attr_integrate(declared, DW_AT_type, &attribute) ||
            !dwarf_formref_die(&attribute, &type));
}

uint64_t symbols_passed(struct symbols *symbols, const char *path, uint64_t link_address) {
    static const uint8_t in_order[] = {7, 6, 2, 1, 8, 9}; /* RDI, RSI, RDX, RCX, R8, R9 */
    struct symbol_file *f = symbol_file_open(symbols, path);
    Dwarf_Die function, declared;
    Dwarf_Die *cu = symbol_function_of_c(f, link_address, &function);
    Dwarf_Attribute attribute;
    int integers = 0, vectors = 0;
    if (!cu || dwarf_attr_integrate(&function, DW_AT_artificial, &attribute) || may_be_changed(f, link_address, cu, &function) ||
        !count_parameters(&function, &integers, &vectors))
        return 0;
    Dwarf_Die at = function;
    for (; origin_of(&at, &declared); at = declared) {
        int more, more_vectors;
        if (!count_parameters(&declared, &more, &more_vectors))
            return 0;
        integers = more > integers ? more : integers;
        vectors = more_vectors > vectors ? more_vectors : vectors;
    }
    enum class result = class_of(&function);
    if (!has_types(&at))
        return 0;
    if (may_take_table(&function))
        integers++;
    if (result == UNKNOWN) /* it may be returned by an address in the first register */
        integers++;
    uint64_t answer = QUESTION_KNOWN;
    if (result == INTEGER || result == TWO_INTEGERS)
        answer |= QUESTION_RETURNS;
    for (int k = 0; k < integers && k < (int)sizeof in_order; k++)
        answer |= 1ull << in_order[k];
    for (int k = 0; k < vectors && k < 8; k++)
        answer |= 1ull << (QUESTION_VECTORS + k);
    return answer;
}

struct neighbours {
    void (*take)(uint64_t link_address, void *argument);
    void *argument;
    Dwarf_Addr bias;
};

static void take_neighbour(Dwarf_Addr entry, void *argument) {
    const struct neighbours *n = argument;
    n->take(entry + n->bias, n->argument);
}

void symbols_each_neighbour(struct symbols *symbols, const char *path, uint64_t link_address,
                            void (*take)(uint64_t link_address, void *argument), void *argument) {
    struct symbol_file *f = symbol_file_open(symbols, path);
    Dwarf_Addr bias;
    Dwarf_Die *cu = f->module ? symbol_file_unit(f, link_address + f->bias, &bias) : NULL;
    struct neighbours n = {take, argument, 0};
    if (!cu)
        return;
    n.bias = bias - f->bias;
    symbol_unit_entries(f, cu, take_neighbour, &n);
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

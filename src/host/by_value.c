/* From the load the code is followed to the next call; what is called there, and what it
   takes, stands in the debug information of the caller (DWARF 5, 3.4) or at the function
   the call goes to. */
#include "by_value.h"

#include "symbol_file.h"

#include <Zydis/Zydis.h>
#include <stdlib.h>

enum { AHEAD = 32, WORD = 8 };

/* Where a register goes with the word just loaded: to the call before `back` (0: there is
   none) of the function at `target` (0: not known), or to the caller. */
struct path {
    uint64_t back, target;
    bool returned;
};

static bool passes_arguments(ZydisRegister r) { /* psABI 3.2.3 */
    switch (r) {
    case ZYDIS_REGISTER_RDI:
    case ZYDIS_REGISTER_RSI:
    case ZYDIS_REGISTER_RDX:
    case ZYDIS_REGISTER_RCX:
    case ZYDIS_REGISTER_R8:
    case ZYDIS_REGISTER_R9:
        return true;
    default:
        return false;
    }
}

static bool touches(const ZydisDecodedInstruction *i, const ZydisDecodedOperand *operands,
                    ZydisRegister wanted) {
    for (int k = 0; k < i->operand_count; k++) {
        const ZydisDecodedOperand *o = &operands[k];
        const ZydisRegister all[] = {
            o->type == ZYDIS_OPERAND_TYPE_REGISTER ? o->reg.value : ZYDIS_REGISTER_NONE,
            o->type == ZYDIS_OPERAND_TYPE_MEMORY ? o->mem.base : ZYDIS_REGISTER_NONE,
            o->type == ZYDIS_OPERAND_TYPE_MEMORY ? o->mem.index : ZYDIS_REGISTER_NONE};
        for (size_t n = 0; n < sizeof all / sizeof *all; n++)
            if (all[n] != ZYDIS_REGISTER_NONE &&
                ZydisRegisterGetLargestEnclosing(ZYDIS_MACHINE_MODE_LONG_64, all[n]) == wanted)
                return true;
    }
    return false;
}

/* and reg, mask: only lowest bytes are kept; it is no use of the others. */
static bool drops(const ZydisDecodedInstruction *i, const ZydisDecodedOperand *operands,
                  unsigned bytes) {
    return i->mnemonic == ZYDIS_MNEMONIC_AND && operands[0].size >= 32 &&
           operands[0].type == ZYDIS_OPERAND_TYPE_REGISTER &&
           operands[1].type == ZYDIS_OPERAND_TYPE_IMMEDIATE &&
           !(operands[1].imm.value.u >> 8 * bytes);
}

static bool follow(struct symbol_file *f, uint64_t address, unsigned inside, struct path *path) {
    ZydisDecoder decoder;
    ZydisDecodedInstruction i;
    ZydisDecodedOperand operands[ZYDIS_MAX_OPERAND_COUNT];
    ZydisRegister loaded = ZYDIS_REGISTER_NONE;
    uint64_t size = AHEAD * ZYDIS_MAX_INSTRUCTION_LENGTH;
    const uint8_t *code = symbol_file_code(f, address, &size);
    ZydisDecoderInit(&decoder, ZYDIS_MACHINE_MODE_LONG_64, ZYDIS_STACK_WIDTH_64);
    *path = (struct path){0};
    for (uint64_t at = 0; code && at < size; at += i.length) {
        if (!ZYAN_SUCCESS(ZydisDecoderDecodeFull(&decoder, code + at, size - at, &i, operands)))
            return false;
        bool calls = i.meta.category == ZYDIS_CATEGORY_CALL;
        if (!at) {
            loaded = operands[0].reg.value;
            if (i.mnemonic != ZYDIS_MNEMONIC_MOV ||
                operands[0].type != ZYDIS_OPERAND_TYPE_REGISTER || operands[0].size < 32)
                return false;
            loaded = ZydisRegisterGetLargestEnclosing(ZYDIS_MACHINE_MODE_LONG_64, loaded);
        } else if (calls || i.meta.category == ZYDIS_CATEGORY_UNCOND_BR) {
            bool direct = operands[0].type == ZYDIS_OPERAND_TYPE_IMMEDIATE;
            if (!passes_arguments(loaded))
                return false;
            path->back = address + at + i.length;
            path->target = direct ? path->back + (uint64_t)operands[0].imm.value.s : 0;
            return true;
        } else if (i.meta.category == ZYDIS_CATEGORY_RET) {
            path->returned = loaded == ZYDIS_REGISTER_RAX || loaded == ZYDIS_REGISTER_RDX;
            return path->returned;
        } else if (i.meta.category == ZYDIS_CATEGORY_COND_BR ||
                   (!drops(&i, operands, inside) && touches(&i, operands, loaded))) {
            return false;
        }
    }
    return false;
}

/* A structure whose last word has this many bytes. */
static bool is_such(Dwarf_Die *die, unsigned bytes) {
    Dwarf_Attribute attribute;
    Dwarf_Die type;
    if (!dwarf_attr_integrate(die, DW_AT_type, &attribute) ||
        !dwarf_formref_die(&attribute, &type) || dwarf_peel_type(&type, &type) != 0)
        return false;
    int tag = dwarf_tag(&type), size = dwarf_bytesize(&type);
    return (tag == DW_TAG_structure_type || tag == DW_TAG_class_type || tag == DW_TAG_union_type) &&
           size > 0 && (unsigned)size % WORD == bytes;
}

static bool takes(Dwarf_Die *function, unsigned bytes) {
    Dwarf_Die child;
    if (dwarf_child(function, &child) != 0)
        return false;
    do
        if (dwarf_tag(&child) == DW_TAG_formal_parameter && is_such(&child, bytes))
            return true;
    while (dwarf_siblingof(&child, &child) == 0);
    return false;
}

/* The function called before the return address, as the caller's entries for its calls
   have it. */
static bool called_from(Dwarf_Die *in, uint64_t back, Dwarf_Die *function, int depth) {
    enum { DEEPEST = 64 };
    Dwarf_Die child;
    if (depth == DEEPEST || dwarf_child(in, &child) != 0)
        return false;
    do {
        int tag = dwarf_tag(&child);
        Dwarf_Attribute attribute;
        Dwarf_Addr address;
        if ((tag == DW_TAG_call_site || tag == DW_TAG_GNU_call_site) &&
            (dwarf_attr(&child, DW_AT_call_return_pc, &attribute) ||
             dwarf_attr(&child, DW_AT_low_pc, &attribute)) &&
            dwarf_formaddr(&attribute, &address) == 0 && address == back)
            return (dwarf_attr(&child, DW_AT_call_origin, &attribute) ||
                    dwarf_attr(&child, DW_AT_abstract_origin, &attribute)) &&
                   dwarf_formref_die(&attribute, function);
        if ((tag == DW_TAG_lexical_block || tag == DW_TAG_inlined_subroutine ||
             tag == DW_TAG_try_block || tag == DW_TAG_catch_block) &&
            called_from(&child, back, function, depth + 1))
            return true;
    } while (dwarf_siblingof(&child, &child) == 0);
    return false;
}

/* The function whose code is at the link-time address; its unit's addresses are lower by
   *bias. */
static bool function_at(struct symbol_file *f, uint64_t link_address, Dwarf_Die *function,
                        Dwarf_Addr *bias) {
    Dwarf_Die *cu = symbol_file_unit(f, link_address + f->bias, bias), *scopes;
    int count = cu ? symbol_scopes(f, cu, link_address + f->bias - *bias, &scopes) : 0;
    if (count)
        *function = scopes[count - 1];
    if (cu)
        free(scopes);
    return count > 0;
}

bool by_value_at(struct symbols *symbols, const char *path, uint64_t link_address,
                 unsigned inside, unsigned bytes) {
    struct symbol_file *f = symbol_file_open(symbols, path);
    struct path goes;
    Dwarf_Die caller, called;
    Dwarf_Addr bias;
    if (!f->module || !follow(f, link_address, inside, &goes) ||
        !function_at(f, link_address, &caller, &bias))
        return false;
    if (goes.returned)
        return is_such(&caller, bytes);
    if (called_from(&caller, goes.back + f->bias - bias, &called, 0))
        return takes(&called, bytes);
    Dwarf_Addr entry;
    return goes.target && function_at(f, goes.target, &called, &bias) &&
           dwarf_entrypc(&called, &entry) == 0 && entry == goes.target + f->bias - bias &&
           takes(&called, bytes);
}

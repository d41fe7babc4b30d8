/* The call says where it goes, the functions there where they may jump to: the one chain
   of jumps that ends in the function on the stack is what happened. */
#define _GNU_SOURCE
#include "tail_calls.h"

#include "symbol_file.h"

#include <Zydis/Zydis.h>
#include <gelf.h>
#include <stdlib.h>
#include <string.h>

#define LONGEST 4     /* tail calls in a row */
#define LARGEST 65536 /* bytes of a function that are looked through */
#define MOST 200      /* functions looked through for one call */

/* Where a branch goes: into the file (address), or to a function of another (name). */
struct goal {
    uint64_t address;
    const char *name;
};

struct way {
    uint64_t function[LONGEST], jump[LONGEST]; /* link-time addresses */
    int length;
};

struct chase {
    struct symbol_file *file;
    struct pool *pool;
    const struct callee *callee;
    uint64_t callee_start; /* in this file; 0: it is in another */
    struct way current, found;
    int ways, looked;
    bool one_chain; /* all ways lead through the same functions */
};

struct import {
    uint64_t place;
    const char *name;
};

static int by_place(const void *a, const void *b) {
    const struct import *x = a, *y = b;
    return x->place < y->place ? -1 : x->place > y->place;
}

/* What the loader fills in, by place. */
static void read_imports(struct symbol_file *f) {
    GElf_Addr bias;
    Elf *elf = dwfl_module_getelf(f->module, &bias);
    size_t room = 0;
    f->imports_read = true;
    for (Elf_Scn *s = NULL; elf && (s = elf_nextscn(elf, s));) {
        GElf_Shdr h, symbols;
        if (!gelf_getshdr(s, &h) || h.sh_type != SHT_RELA || !h.sh_entsize)
            continue;
        Elf_Data *entries = elf_getdata(s, NULL), *table;
        Elf_Scn *linked = elf_getscn(elf, h.sh_link);
        if (!entries || !linked || !gelf_getshdr(linked, &symbols) ||
            !(table = elf_getdata(linked, NULL)))
            continue;
        for (int i = 0; i < (int)(h.sh_size / h.sh_entsize); i++) {
            GElf_Rela entry;
            GElf_Sym symbol;
            const char *name;
            if (!gelf_getrela(entries, i, &entry) || !GELF_R_SYM(entry.r_info) ||
                !gelf_getsym(table, (int)GELF_R_SYM(entry.r_info), &symbol) ||
                !(name = elf_strptr(elf, symbols.sh_link, symbol.st_name)))
                continue;
            if (f->import_count == room) {
                room = room ? room * 2 : 256;
                f->imports = realloc(f->imports, room * sizeof *f->imports);
            }
            f->imports[f->import_count++] = (struct import){entry.r_offset, name};
        }
    }
    if (f->import_count)
        qsort(f->imports, f->import_count, sizeof *f->imports, by_place);
}

/* The name of the function whose address the loader puts at that place. */
static const char *imported_at(struct symbol_file *f, uint64_t place) {
    if (!f->imports_read)
        read_imports(f);
    struct import wanted = {place, NULL};
    const struct import *found =
        f->import_count ? bsearch(&wanted, f->imports, f->import_count, sizeof wanted, by_place)
                        : NULL;
    return found ? found->name : NULL;
}

static bool decode(ZydisDecoder *decoder, const uint8_t *code, uint64_t size,
                   ZydisDecodedInstruction *i, ZydisDecodedOperand *operands) {
    return ZYAN_SUCCESS(ZydisDecoderDecodeFull(decoder, code, size, i, operands));
}

/* Through what the loader fills in: a place of memory that an instruction reads relative
   to itself. */
static const char *import_of(struct symbol_file *f, uint64_t address,
                             const ZydisDecodedInstruction *i, const ZydisDecodedOperand *o) {
    if (o->type != ZYDIS_OPERAND_TYPE_MEMORY || o->mem.base != ZYDIS_REGISTER_RIP)
        return NULL;
    return imported_at(f, address + i->length + (uint64_t)o->mem.disp.value);
}

static bool goal_of(struct symbol_file *f, ZydisDecoder *decoder, uint64_t address,
                    const ZydisDecodedInstruction *i, const ZydisDecodedOperand *o,
                    struct goal *goal) {
    *goal = (struct goal){0, import_of(f, address, i, o)};
    if (goal->name)
        return true;
    if (o->type != ZYDIS_OPERAND_TYPE_IMMEDIATE || !o->imm.is_relative)
        return false;
    goal->address = address + i->length + (uint64_t)o->imm.value.s;
    /* the linkage table: a jump through memory, a landing pad before it */
    uint64_t size = 32, at = goal->address;
    const uint8_t *code = symbol_file_code(f, at, &size);
    for (int n = 0; code && n < 2; n++) {
        ZydisDecodedInstruction stub;
        ZydisDecodedOperand operands[ZYDIS_MAX_OPERAND_COUNT];
        if (!decode(decoder, code, size, &stub, operands))
            break;
        if (stub.mnemonic == ZYDIS_MNEMONIC_JMP) {
            goal->name = import_of(f, at, &stub, &operands[0]);
            break;
        }
        if (stub.mnemonic != ZYDIS_MNEMONIC_ENDBR64)
            break;
        code += stub.length, at += stub.length, size -= stub.length;
    }
    return true;
}

static void start_decoder(ZydisDecoder *decoder) {
    ZydisDecoderInit(decoder, ZYDIS_MACHINE_MODE_LONG_64, ZYDIS_STACK_WIDTH_64);
}

/* Where the call before the return address goes. */
static bool called_at(struct symbol_file *f, ZydisDecoder *decoder, uint64_t return_address,
                      struct goal *goal) {
    static const struct {
        int length;
        uint8_t bytes[2];
    } forms[] = {{5, {0xe8}}, {6, {0xff, 0x15}}};
    for (size_t k = 0; k < sizeof forms / sizeof *forms; k++) {
        uint64_t size = (uint64_t)forms[k].length, at = return_address - size;
        const uint8_t *code = symbol_file_code(f, at, &size);
        ZydisDecodedInstruction i;
        ZydisDecodedOperand operands[ZYDIS_MAX_OPERAND_COUNT];
        if (code && size == (uint64_t)forms[k].length && code[0] == forms[k].bytes[0] &&
            (forms[k].length == 5 || code[1] == forms[k].bytes[1]) &&
            decode(decoder, code, size, &i, operands) && goal_of(f, decoder, at, &i, operands, goal))
            return true;
    }
    return false;
}

const char *symbol_called(struct symbol_file *f, uint64_t return_address) {
    ZydisDecoder decoder;
    struct goal goal;
    start_decoder(&decoder);
    return called_at(f, &decoder, return_address, &goal) ? goal.name : NULL;
}

static bool is_callee(const struct chase *c, const struct goal *goal) {
    if (goal->name) {
        const char *name = symbol_readable(c->pool, goal->name);
        return name && strcmp(name, c->callee->name) == 0;
    }
    return c->callee_start && goal->address == c->callee_start;
}

static void chase(struct chase *c, ZydisDecoder *decoder, uint64_t function, uint64_t part);

/* Compilers put what is seldom run elsewhere, as "function.cold". */
static bool is_part(struct symbol_file *f, uint64_t function, const struct symbol_range *to) {
    struct symbol_range from;
    size_t n = strcspn(to->name, ".");
    return strncmp(to->name + n, ".cold", 5) == 0 && symbol_file_range(f, function, &from) &&
           strncmp(from.name, to->name, n) == 0 && (!from.name[n] || from.name[n] == '.');
}

static void follow(struct chase *c, ZydisDecoder *decoder, uint64_t function, uint64_t jump,
                   const struct goal *goal) {
    struct way *w = &c->current;
    struct symbol_range to;
    bool known = !goal->name && symbol_file_range(c->file, goal->address, &to) &&
                 to.start == goal->address;
    if (known && is_part(c->file, function, &to)) {
        chase(c, decoder, function, to.start);
        return;
    }
    w->function[w->length] = function;
    w->jump[w->length++] = jump;
    if (is_callee(c, goal)) {
        if (!c->ways++)
            c->found = *w;
        else if (c->found.length != w->length ||
                 memcmp(c->found.function, w->function,
                        (size_t)w->length * sizeof *w->function) != 0)
            c->one_chain = false;
    } else if (known && w->length < LONGEST) {
        chase(c, decoder, to.start, to.start);
    }
    w->length--;
}

/* Jumps out of a function; `part`: where this part of its code begins. */
static void chase(struct chase *c, ZydisDecoder *decoder, uint64_t function, uint64_t part) {
    struct symbol_range range, whole;
    for (int i = 0; i < c->current.length; i++)
        if (c->current.function[i] == function)
            return;
    if (c->looked++ >= MOST || !symbol_file_range(c->file, part, &range) ||
        !symbol_file_range(c->file, function, &whole))
        return;
    uint64_t size = range.size < LARGEST ? range.size : LARGEST;
    const uint8_t *code = symbol_file_code(c->file, range.start, &size);
    for (uint64_t at = 0; code && at < size;) {
        ZydisDecodedInstruction i;
        ZydisDecodedOperand operands[ZYDIS_MAX_OPERAND_COUNT];
        struct goal goal;
        if (!decode(decoder, code + at, size - at, &i, operands))
            return;
        bool jumps = i.meta.category == ZYDIS_CATEGORY_UNCOND_BR ||
                     i.meta.category == ZYDIS_CATEGORY_COND_BR;
        if (jumps && goal_of(c->file, decoder, range.start + at, &i, operands, &goal) &&
            (goal.name || (goal.address - range.start >= range.size &&
                           goal.address - whole.start >= whole.size)))
            follow(c, decoder, function, range.start + at, &goal);
        at += i.length;
    }
}

int tail_calls_between(struct symbols *symbols, struct pool *pool, const char *path,
                       uint64_t return_address, const struct callee *callee,
                       struct frame *frames, int room) {
    struct symbol_file *f = symbol_file_open(symbols, path);
    struct symbol_file *last = callee->path ? symbol_file_open(symbols, callee->path) : NULL;
    struct chase c = {.file = f, .pool = pool, .callee = callee, .one_chain = true};
    struct symbol_range range;
    ZydisDecoder decoder;
    struct goal goal;
    start_decoder(&decoder);
    if (!f->module || !called_at(f, &decoder, return_address, &goal))
        return 0;
    if (last == f && callee->link_address && symbol_file_range(f, callee->link_address, &range))
        c.callee_start = range.start;
    if (last == f ? !c.callee_start : !callee->name)
        return 0;
    if (is_callee(&c, &goal) || goal.name || !symbol_file_range(f, goal.address, &range) ||
        range.start != goal.address)
        return 0;
    chase(&c, &decoder, range.start, range.start);
    if (!c.ways || !c.one_chain)
        return 0;
    int n = 0;
    for (int i = c.found.length - 1; i >= 0 && n < room; i--) {
        int count =
            symbols_resolve(symbols, pool, path, c.found.jump[i], true, frames + n, room - n);
        if (c.ways > 1) { /* which of its places it was is not known */
            frames[n] = frames[n + count - 1];
            frames[n].line = frames[n].column = 0;
            count = 1;
        }
        for (int k = 0; k < count; k++)
            frames[n + k].address = c.found.jump[i];
        n += count;
    }
    return n;
}

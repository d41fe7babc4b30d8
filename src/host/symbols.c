/* Symbol and line lookup with libdwfl, one session per file, opened on demand. */
#define _GNU_SOURCE
#include "symbol_file.h"
#include "../core/ledger_format.h"

#include <fcntl.h>
#include <libiberty/demangle.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

struct symbols *symbols_new(void) {
    unsetenv("DEBUGINFOD_URLS"); /* never over the network */
    return calloc(1, sizeof(struct symbols));
}

void symbols_free(struct symbols *symbols) {
    while (symbols && symbols->files) {
        struct symbol_file *f = symbols->files;
        symbols->files = f->next;
        symbol_scopes_free(f);
        if (f->dwfl)
            dwfl_end(f->dwfl);
        free(f->path);
        free(f->units);
        free(f->symbols);
        free(f->imports);
        free(f);
    }
    free(symbols);
}

static const Dwfl_Callbacks callbacks = {
    .find_elf = dwfl_build_id_find_elf,
    .find_debuginfo = dwfl_standard_find_debuginfo,
    .section_address = dwfl_offline_section_address,
};

struct symbol_file *symbol_file_open(struct symbols *symbols, const char *path) {
    for (struct symbol_file *f = symbols->files; f; f = f->next)
        if (strcmp(f->path, path) == 0)
            return f;
    struct symbol_file *f = calloc(1, sizeof *f);
    f->path = strdup(path);
    f->next = symbols->files;
    symbols->files = f;
    if (access(path, R_OK) != 0)
        return f;
    f->dwfl = dwfl_begin(&callbacks);
    if (!f->dwfl)
        return f;
    dwfl_report_begin(f->dwfl);
    f->module = dwfl_report_offline(f->dwfl, path, path, -1);
    dwfl_report_end(f->dwfl, NULL, NULL);
    if (f->module) {
        GElf_Addr bias = 0;
        if (dwfl_module_getelf(f->module, &bias))
            f->bias = bias;
    }
    return f;
}

static int by_address(const void *a, const void *b) {
    const struct unit *x = a, *y = b;
    return x->low < y->low ? -1 : x->low > y->low;
}

size_t symbol_position(const void *list, size_t count, size_t size, Dwarf_Addr address) {
    size_t low = 0, high = count;
    while (low < high) {
        size_t middle = (low + high) / 2;
        Dwarf_Addr start;
        memcpy(&start, (const char *)list + middle * size, sizeof start);
        if (start <= address)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/* Not every compiler writes .debug_aranges: the units' own ranges tell too. */
static void read_units(struct symbol_file *f) {
    Dwarf_Die *cu = NULL;
    Dwarf_Addr bias, base, low, high;
    size_t room = 0;
    f->units_read = true;
    while ((cu = dwfl_module_nextcu(f->module, cu, &bias))) {
        ptrdiff_t offset = 0;
        while ((offset = dwarf_ranges(cu, offset, &base, &low, &high)) > 0) {
            if (f->unit_count == room) {
                room = room ? room * 2 : 64;
                f->units = realloc(f->units, room * sizeof *f->units);
            }
            f->units[f->unit_count++] = (struct unit){low + bias, high + bias, *cu};
        }
    }
    if (f->unit_count)
        qsort(f->units, f->unit_count, sizeof *f->units, by_address);
}

Dwarf_Die *symbol_file_unit(struct symbol_file *f, Dwarf_Addr address, Dwarf_Addr *bias) {
    Dwarf_Die *cu = dwfl_module_addrdie(f->module, address, bias);
    if (cu)
        return cu;
    if (!f->units_read)
        read_units(f);
    size_t low = symbol_position(f->units, f->unit_count, sizeof *f->units, address);
    if (!low || address >= f->units[low - 1].high)
        return NULL;
    dwfl_module_getdwarf(f->module, bias);
    return &f->units[low - 1].die;
}

const char *symbol_readable(struct pool *pool, const char *name) {
    if (!name)
        return NULL;
    if (strncmp(name, "__GI_", 5) == 0)
        name += 5; /* the C library's inner alias of a public function */
    if (name[0] == '_' && (name[1] == 'Z' || name[1] == 'R')) {
        char *plain = cplus_demangle(name, DMGL_AUTO | DMGL_NO_OPTS);
        if (plain) {
            const char *kept = pool_text(pool, plain);
            free(plain);
            return kept;
        }
    }
    return pool_text(pool, name);
}

/* Of several names for one address, the shortest global one. */
static int by_start(const void *a, const void *b) {
    const struct symbol *x = a, *y = b;
    if (x->start != y->start)
        return x->start < y->start ? -1 : 1;
    if (x->global != y->global)
        return y->global - x->global;
    return (int)strspn(x->name, "_") - (int)strspn(y->name, "_");
}

/* libdwfl's own lookup walks the whole table for each address. */
static void read_symbols(struct symbol_file *f) {
    int count = dwfl_module_getsymtab(f->module);
    f->symbols_read = true;
    if (count <= 0)
        return;
    f->symbols = calloc((size_t)count, sizeof *f->symbols);
    for (int i = 1; i < count; i++) {
        GElf_Sym sym;
        GElf_Addr address;
        GElf_Word section;
        const char *name =
            dwfl_module_getsym_info(f->module, i, &sym, &address, &section, NULL, NULL);
        int type = GELF_ST_TYPE(sym.st_info);
        if (!name || !*name || section == SHN_UNDEF ||
            (type != STT_FUNC && type != STT_GNU_IFUNC && type != STT_NOTYPE) ||
            (type == STT_NOTYPE && GELF_ST_BIND(sym.st_info) == STB_LOCAL))
            continue;
        f->symbols[f->symbol_count++] = (struct symbol){
            address, sym.st_size, name, GELF_ST_BIND(sym.st_info) != STB_LOCAL};
    }
    qsort(f->symbols, f->symbol_count, sizeof *f->symbols, by_start);
}

static const struct symbol *symbol_around(struct symbol_file *f, GElf_Addr address) {
    if (!f->symbols_read)
        read_symbols(f);
    size_t low = symbol_position(f->symbols, f->symbol_count, sizeof *f->symbols, address);
    if (!low)
        return NULL;
    const struct symbol *s = &f->symbols[low - 1];
    while (s > f->symbols && s[-1].start == s->start)
        s--;
    if (s->size && address >= s->start + s->size)
        return NULL; /* a stripped function behind it */
    return s;
}

bool symbol_file_range(struct symbol_file *f, uint64_t link_address, struct symbol_range *range) {
    const struct symbol *s = symbol_around(f, link_address + f->bias);
    if (s)
        *range = (struct symbol_range){s->start - f->bias, s->size, s->name};
    return s != NULL;
}

const char *symbol_die_name(struct pool *pool, Dwarf_Die *die) {
    Dwarf_Attribute attribute;
    const char *name = NULL;
    if (dwarf_attr_integrate(die, DW_AT_linkage_name, &attribute) ||
        dwarf_attr_integrate(die, DW_AT_MIPS_linkage_name, &attribute))
        name = dwarf_formstring(&attribute);
    return symbol_readable(pool, name ? name : dwarf_diename(die));
}

static const char *absolute(struct pool *pool, const char *name, const char *directory) {
    if (!name || name[0] == '/' || !directory)
        return pool_text(pool, name);
    return pool_format(pool, "%s/%s", directory, name);
}

static int attribute_number(Dwarf_Die *die, unsigned name) {
    Dwarf_Attribute attribute;
    Dwarf_Word value = 0;
    if (dwarf_attr(die, name, &attribute) && dwarf_formudata(&attribute, &value) == 0)
        return (int)value;
    return 0;
}

static const char *call_file(struct pool *pool, Dwarf_Die *cu, Dwarf_Die *call,
                             const char *directory) {
    Dwarf_Files *files;
    size_t count;
    int number = attribute_number(call, DW_AT_call_file);
    if (dwarf_getsrcfiles(cu, &files, &count) != 0 || number < 0 || (size_t)number >= count)
        return NULL;
    return absolute(pool, dwarf_filesrc(files, (size_t)number, NULL, NULL), directory);
}

bool symbol_names_only(const char *path) {
    static const char *const names[] = {"libc.so", "libc-", "ld-linux"};
    const char *base = strrchr(path, '/');
    for (size_t i = 0; base && path_is_system(path) && i < sizeof names / sizeof *names; i++)
        if (strncmp(base + 1, names[i], strlen(names[i])) == 0)
            return true;
    return false;
}

/* Compilers give line 0 to code that several lines share: then the nearest line before
   it in the table that has a number. */
static Dwarf_Line *line_at(Dwarf_Die *cu, Dwarf_Addr address, Dwarf_Addr entry) {
    Dwarf_Line *line = dwarf_getsrc_die(cu, address);
    int number = 0;
    if (!line || dwarf_lineno(line, &number) != 0 || number)
        return line;
    Dwarf_Lines *lines;
    size_t count, low = 0;
    Dwarf_Addr at;
    if (dwarf_getsrclines(cu, &lines, &count) != 0)
        return line;
    for (size_t high = count; low < high;) {
        size_t middle = (low + high) / 2;
        Dwarf_Line *l = dwarf_onesrcline(lines, middle);
        if (dwarf_lineaddr(l, &at) == 0 && at <= address)
            low = middle + 1;
        else
            high = middle;
    }
    while (low-- > 0) {
        Dwarf_Line *l = dwarf_onesrcline(lines, low);
        if (dwarf_lineaddr(l, &at) != 0 || at < entry)
            break;
        if (dwarf_lineno(l, &number) == 0 && number)
            return l;
    }
    return line;
}

int symbols_resolve(struct symbols *symbols, struct pool *pool, const char *path,
                    uint64_t link_address, bool exact, struct frame *frames, int room) {
    struct frame *first = &frames[0];
    bool own = path && !path_is_system(path);
    memset(first, 0, sizeof *first);
    first->module = path;
    first->own = own;
    struct symbol_file *f = path ? symbol_file_open(symbols, path) : NULL;
    if (!f || !f->module)
        return 1;
    Dwarf_Addr address = link_address - (exact ? 0 : 1) + f->bias;
    const struct symbol *symbol = symbol_around(f, address);
    const char *symbol_name = symbol ? symbol->name : NULL;
    const char *first_function = symbol_readable(pool, symbol_name);
    first->function = first_function;
    if (symbol_names_only(path))
        return 1;
    Dwarf_Addr bias = 0;
    Dwarf_Die *cu = symbol_file_unit(f, address, &bias);
    if (!cu)
        return 1;
    Dwarf_Die *scopes = NULL;
    int count = symbol_scopes(f, cu, address - bias, &scopes);
    Dwarf_Addr entry = address - bias;
    for (int i = 0; i < count; i++)
        if (dwarf_tag(&scopes[i]) == DW_TAG_subprogram) {
            dwarf_lowpc(&scopes[i], &entry);
            break;
        }
    Dwarf_Line *line = line_at(cu, address - bias, entry);
    if (!line) {
        free(scopes);
        return 1;
    }
    Dwarf_Attribute attribute;
    const char *directory =
        dwarf_attr(cu, DW_AT_comp_dir, &attribute) ? dwarf_formstring(&attribute) : NULL;
    int line_number = 0, column = 0;
    dwarf_lineno(line, &line_number);
    dwarf_linecol(line, &column);
    const char *file = absolute(pool, dwarf_linesrc(line, NULL, NULL), directory);
    int n = 0;
    for (int i = 0; i < count && n < room; i++) {
        int tag = dwarf_tag(&scopes[i]);
        if (tag != DW_TAG_inlined_subroutine && tag != DW_TAG_subprogram)
            continue;
        struct frame *frame = &frames[n++];
        memset(frame, 0, sizeof *frame);
        frame->function = symbol_die_name(pool, &scopes[i]);
        /* a function with internal linkage has its scope only in the symbol */
        if (tag == DW_TAG_subprogram && symbol_name && symbol_name[0] == '_' &&
            symbol_name[1] == 'Z' && first_function && frame->function &&
            !strstr(frame->function, "::"))
            frame->function = first_function;
        frame->file = file;
        frame->line = line_number;
        frame->column = column;
        frame->module = path;
        frame->inlined = tag == DW_TAG_inlined_subroutine;
        frame->own = own && !(file && path_is_system(file));
        if (tag == DW_TAG_subprogram)
            break;
        file = call_file(pool, cu, &scopes[i], directory);
        line_number = attribute_number(&scopes[i], DW_AT_call_line);
        column = attribute_number(&scopes[i], DW_AT_call_column);
    }
    free(scopes);
    if (n)
        return n;
    first->file = file;
    first->line = line_number;
    first->column = column;
    first->own = own && !(file && path_is_system(file));
    return 1;
}

const uint8_t *symbol_file_code(struct symbol_file *f, uint64_t address, uint64_t *size) {
    GElf_Addr bias;
    Elf *elf = dwfl_module_getelf(f->module, &bias);
    size_t count = 0;
    if (!elf || elf_getphdrnum(elf, &count) != 0)
        return NULL;
    for (size_t i = 0; i < count; i++) {
        GElf_Phdr h;
        if (!gelf_getphdr(elf, (int)i, &h) || h.p_type != PT_LOAD || !(h.p_flags & PF_X) ||
            address < h.p_vaddr || address >= h.p_vaddr + h.p_filesz)
            continue;
        uint64_t left = h.p_vaddr + h.p_filesz - address, at = h.p_offset + (address - h.p_vaddr);
        size_t all = 0;
        const char *whole = elf_rawfile(elf, &all);
        if (*size > left)
            *size = left;
        return whole && at <= all && *size <= all - at ? (const uint8_t *)whole + at : NULL;
    }
    return NULL;
}

/* --- variables --- */

struct wanted {
    int64_t offset, base, pointer, frame; /* the place, the frame base, the stack pointer, the
                                             frame pointer, 0: not known; from the frame address */
    Dwarf_Addr address;
    Dwarf_Die found;
    Dwarf_Off owner; /* the function, maybe an inlined one */
    bool has, has_home; /* a variable; one that stands there all its life */
    int64_t start, size; /* of the last place that covered it */
    bool home;           /* and whether it is the only one of its variable */
    bool found_around;   /* the scope of what was found is around the address */
    int64_t found_start, found_size;
    int64_t lowest; /* where variables of fixed size begin */
    Dwarf_Die varying; /* one whose size the run decides */
    int varying_count;
};

struct stand {
    int64_t pointer; /* from the frame address */
    uint64_t bytes;  /* of code where it stands there */
};

enum { STANDS = 32 };

/* Where the stack pointer stands in a function, as its call frame information (DWARF 5, 6.4)
   says, and in how much of it. */
static int stands_in(struct symbol_file *f, Dwarf_Die *function, struct stand *stands) {
    Dwarf_Addr bias, low, high, debug_bias;
    int count = 0;
    Dwarf_CFI *cfi = dwfl_module_eh_cfi(f->module, &bias);
    if (!cfi || dwarf_lowpc(function, &low) != 0 || dwarf_highpc(function, &high) != 0)
        return 0;
    dwfl_module_getdwarf(f->module, &debug_bias);
    low += debug_bias - bias;
    high += debug_bias - bias;
    while (low < high) {
        Dwarf_Frame *frame;
        Dwarf_Addr end = high;
        Dwarf_Op *ops;
        size_t op_count;
        if (dwarf_cfi_addrframe(cfi, low, &frame) != 0)
            break;
        dwarf_frame_info(frame, NULL, &end, NULL);
        if (dwarf_frame_cfa(frame, &ops, &op_count) == 0 && op_count == 1 &&
            ops[0].atom == DW_OP_bregx && ops[0].number == 7) {
            int k = 0;
            while (k < count && stands[k].pointer != -(int64_t)ops[0].number2)
                k++;
            if (k < STANDS) {
                stands[k].pointer = -(int64_t)ops[0].number2;
                stands[k].bytes = (k < count ? stands[k].bytes : 0) + (end > low ? end - low : 0);
                count += k == count;
            }
        }
        free(frame);
        if (end <= low)
            break;
        low = end;
    }
    return count;
}

/* In the body of the function: the lowest place. */
static int64_t pointer_in(struct symbol_file *f, Dwarf_Die *function) {
    struct stand stands[STANDS];
    int64_t lowest = LEDGER_NO_POINTER;
    for (int k = stands_in(f, function, stands); k-- > 0;)
        if (lowest == LEDGER_NO_POINTER || stands[k].pointer < lowest)
            lowest = stands[k].pointer;
    return lowest;
}

/* The same where arguments are pushed now and then, which clang does not count in: where it
   stands in most of the code. */
static int64_t usual_pointer(struct symbol_file *f, Dwarf_Die *function) {
    struct stand stands[STANDS], most = {.pointer = LEDGER_NO_POINTER};
    for (int k = stands_in(f, function, stands); k-- > 0;)
        if (stands[k].bytes > most.bytes)
            most = stands[k];
    return most.pointer;
}

/* DW_AT_frame_base in terms of the canonical frame address. */
static bool frame_base(struct symbol_file *f, Dwarf_Die *function, struct wanted *w) {
    Dwarf_Attribute attribute;
    Dwarf_Op *ops;
    size_t count;
    if (!dwarf_attr(function, DW_AT_frame_base, &attribute) ||
        dwarf_getlocation_addr(&attribute, w->address, &ops, &count, 1) != 1 || count != 1)
        return false;
    switch (ops[0].atom) {
    case DW_OP_call_frame_cfa:
        w->base = 0;
        return true;
    case DW_OP_breg6:
        w->base = w->frame + (int64_t)ops[0].number;
        return w->frame;
    case DW_OP_reg6:
        w->base = w->frame;
        return w->frame;
    case DW_OP_reg7: {
        int64_t usual = usual_pointer(f, function);
        w->pointer = usual != LEDGER_NO_POINTER ? usual : w->pointer;
        w->base = w->pointer;
        return w->pointer != LEDGER_NO_POINTER;
    }
    default:
        return false;
    }
}

bool symbol_frame_base(struct symbol_file *f, Dwarf_Die *function, Dwarf_Addr address, int64_t *base,
                       int64_t *pointer) {
    struct wanted w = {.address = address, .pointer = LEDGER_NO_POINTER, .frame = -16};
    bool known = frame_base(f, function, &w);
    *base = w.base;
    *pointer = usual_pointer(f, function);
    return known;
}

static int64_t size_of(Dwarf_Die *variable) {
    Dwarf_Attribute attribute;
    Dwarf_Die type;
    Dwarf_Word size = 0;
    if (!dwarf_attr_integrate(variable, DW_AT_type, &attribute) ||
        !dwarf_formref_die(&attribute, &type) || dwarf_aggregate_size(&type, &size) != 0)
        return 1;
    return size > 0 ? (int64_t)size : 1;
}

/* An array of a length that is not constant. Of vectors gcc leaves the length out at times. */
static bool is_varying(Dwarf_Die *variable) {
    Dwarf_Attribute attribute;
    Dwarf_Die type;
    Dwarf_Word size;
    return dwarf_attr_integrate(variable, DW_AT_type, &attribute) &&
           dwarf_formref_die(&attribute, &type) && dwarf_peel_type(&type, &type) == 0 &&
           dwarf_tag(&type) == DW_TAG_array_type && !dwarf_hasattr(&type, DW_AT_GNU_vector) &&
           dwarf_aggregate_size(&type, &size) != 0;
}

static bool place_covers(const Dwarf_Op *op, int64_t size, struct wanted *w) {
    int64_t start = (int64_t)op->number;
    switch (op->atom) {
    case DW_OP_fbreg:
        start += w->base;
        break;
    case DW_OP_breg7:
        if (w->pointer == LEDGER_NO_POINTER)
            return false;
        start += w->pointer;
        break;
    case DW_OP_breg6:
        if (!w->frame)
            return false;
        start += w->frame;
        break;
    default:
        return false;
    }
    w->start = start;
    w->size = size;
    w->lowest = start < w->lowest ? start : w->lowest;
    return w->offset >= start && w->offset < start + size;
}

/* Anywhere in its life: where the value is used it may be in a register. */
static bool covers(Dwarf_Die *variable, struct wanted *w) {
    Dwarf_Attribute attribute;
    Dwarf_Op *ops;
    size_t count = 0;
    if (!dwarf_attr_integrate(variable, DW_AT_location, &attribute))
        return false;
    int64_t size = size_of(variable);
    w->home = true;
    if (dwarf_getlocation(&attribute, &ops, &count) == 0)
        return count == 1 && place_covers(&ops[0], size, w);
    ptrdiff_t offset = 0;
    Dwarf_Addr base, low, high;
    w->home = false;
    while ((offset = dwarf_getlocations(&attribute, offset, &base, &low, &high, &ops, &count)) > 0)
        if (count == 1 && place_covers(&ops[0], size, w))
            return true;
    return false;
}

static void search_scope(Dwarf_Die *scope, Dwarf_Off owner, struct wanted *w) {
    Dwarf_Die child;
    if (dwarf_child(scope, &child) != 0)
        return;
    do {
        switch (dwarf_tag(&child)) {
        case DW_TAG_variable:
        case DW_TAG_formal_parameter:
            if (is_varying(&child)) {
                w->varying = child;
                w->owner = w->has ? w->owner : owner;
                w->varying_count++;
            } else if (covers(&child, w) && (!w->has || dwarf_haspc(scope, w->address) == 1) &&
                       (w->home || !w->has_home || /* or it is a copy that was left out */
                        !w->found_around)) {
                w->has_home = w->home;
                w->found_around = dwarf_haspc(scope, w->address) == 1;
                w->found = child;
                w->owner = owner;
                w->found_start = w->start;
                w->found_size = w->size;
                w->has = true;
            }
            break;
        case DW_TAG_lexical_block:
            search_scope(&child, owner, w);
            break;
        case DW_TAG_inlined_subroutine:
            search_scope(&child, dwarf_dieoffset(&child), w);
            break;
        }
    } while (dwarf_siblingof(&child, &child) == 0);
}

/* Whether the canonical frame address is no fixed distance from a register: then the function
   has aligned its frame before it set the frame pointer. */
static bool is_realigned(struct symbol_file *f, Dwarf_Addr address) {
    Dwarf_Addr bias, debug_bias;
    Dwarf_Frame *frame;
    Dwarf_Op *ops;
    size_t count;
    Dwarf_CFI *cfi = dwfl_module_eh_cfi(f->module, &bias);
    dwfl_module_getdwarf(f->module, &debug_bias);
    if (!cfi || dwarf_cfi_addrframe(cfi, address + debug_bias - bias, &frame) != 0)
        return false;
    bool fixed = dwarf_frame_cfa(frame, &ops, &count) != 0 || (count == 1 && ops[0].atom == DW_OP_bregx);
    free(frame);
    return !fixed;
}

bool symbol_is_realigned(struct symbol_file *f, Dwarf_Die *function) {
    Dwarf_Addr bias, base, low, high, debug_bias, end;
    Dwarf_CFI *cfi = dwfl_module_eh_cfi(f->module, &bias);
    dwfl_module_getdwarf(f->module, &debug_bias);
    if (!cfi || dwarf_ranges(function, 0, &base, &low, &high) <= 0)
        return false;
    for (; low < high; low = end) {
        Dwarf_Frame *frame;
        Dwarf_Op *ops;
        size_t count;
        end = high;
        if (dwarf_cfi_addrframe(cfi, low + debug_bias - bias, &frame) != 0)
            return false;
        dwarf_frame_info(frame, NULL, &end, NULL);
        end += bias - debug_bias;
        bool fixed = dwarf_frame_cfa(frame, &ops, &count) != 0 || (count == 1 && ops[0].atom == DW_OP_bregx);
        free(frame);
        if (!fixed)
            return true;
        if (end <= low)
            return false;
    }
    return false;
}

void symbol_declaration(struct pool *pool, Dwarf_Die *cu, Dwarf_Die *die, struct variable *v) {
    Dwarf_Attribute attribute;
    const char *directory =
        dwarf_attr(cu, DW_AT_comp_dir, &attribute) ? dwarf_formstring(&attribute) : NULL;
    v->name = pool_text(pool, dwarf_diename(die));
    Dwarf_Word file = 0, line = 0;
    if (dwarf_attr_integrate(die, DW_AT_decl_line, &attribute))
        dwarf_formudata(&attribute, &line);
    v->line = (int)line;
    Dwarf_Files *files;
    size_t files_count;
    Dwarf_Die unit; /* that of the attribute: it may stand in another one, shared by several */
    if (dwarf_attr_integrate(die, DW_AT_decl_file, &attribute) &&
        dwarf_formudata(&attribute, &file) == 0 &&
        dwarf_cu_die(attribute.cu, &unit, NULL, NULL, NULL, NULL, NULL, NULL) &&
        dwarf_getsrcfiles(&unit, &files, &files_count) == 0 && file < files_count)
        v->file = absolute(pool, dwarf_filesrc(files, file, NULL, NULL), directory);
}

struct variable symbols_variable(struct symbols *symbols, struct pool *pool, const char *path,
                                 uint64_t link_address, int64_t offset, int64_t pointer,
                                 int64_t frame) {
    struct variable none = {0};
    struct symbol_file *f = path ? symbol_file_open(symbols, path) : NULL;
    if (!f || !f->module)
        return none;
    Dwarf_Addr bias = 0;
    Dwarf_Die *cu = symbol_file_unit(f, link_address + f->bias, &bias);
    Dwarf_Die *scopes = NULL;
    struct wanted w = {.offset = offset, .pointer = pointer, .address = link_address + f->bias - bias};
    int count = cu ? symbol_scopes(f, cu, w.address, &scopes) : 0;
    for (int i = 0; i < count; i++)
        if (dwarf_tag(&scopes[i]) == DW_TAG_subprogram) {
            /* at the return it is not where it was in the body */
            if (w.pointer == LEDGER_NO_POINTER || w.pointer == -8)
                w.pointer = pointer_in(f, &scopes[i]);
            if (w.pointer == LEDGER_NO_POINTER)
                w.pointer = pointer;
            /* else below the return address and its old value */
            w.frame = is_realigned(f, w.address) ? frame : -16;
            if (frame_base(f, &scopes[i], &w))
                search_scope(&scopes[i], dwarf_dieoffset(&scopes[i]), &w);
            break;
        }
    /* Below all others only arrays of varying length are found, and nothing tells where each
       begins: where there is one it is that. */
    if (!w.has && w.varying_count == 1 && w.offset < w.lowest) {
        w.found = w.varying;
        w.found_start = w.offset;
        w.has = true;
    }
    int outward = 0;
    for (int i = 0; i < count && dwarf_tag(&scopes[i]) != DW_TAG_subprogram; i++) {
        if (dwarf_dieoffset(&scopes[i]) == w.owner)
            break;
        outward += dwarf_tag(&scopes[i]) == DW_TAG_inlined_subroutine;
    }
    free(scopes);
    if (!w.has)
        return none;
    struct variable v = {.size = (uint64_t)w.found_size,
                         .offset = offset - w.found_start,
                         .outward = outward};
    symbol_declaration(pool, cu, &w.found, &v);
    return v;
}

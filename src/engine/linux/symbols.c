/* Looks through the symbol tables of mapped ELF files for functions to replace
   and notes every file in the ledger, so that the host can name addresses. */
#include "../../core/own_code.h"
#include "../engine.h"

#include "entries.h"

#include <asm/stat.h>
#include <asm/unistd.h>
#include <linux/elf.h>
#include <linux/fcntl.h>
#include <linux/mman.h>

#ifndef STT_GNU_IFUNC
#define STT_GNU_IFUNC 10
#endif

enum place {
    PLACE_PROGRAM,
    PLACE_STATIC_PROGRAM,
    PLACE_STATIC_PIE,
    PLACE_LIBRARY_C,
    PLACE_LIBRARY_CXX,
    PLACE_ALLOCATOR,
    PLACE_OTHER
};

static struct {
    gaddr start, end;
} library_c[16], loader[16], unwinder[16];
static uint32_t library_c_count, loader_count, unwinder_count;
static gaddr go_start, go_end;

static bool inside(const void *list, uint32_t n, gaddr pc) {
    const struct {
        gaddr start, end;
    } *r = list;
    for (uint32_t i = 0; i < n; i++)
        if (pc >= r[i].start && pc < r[i].end)
            return true;
    return false;
}

bool symbols_in_library_c(gaddr pc) { return inside(library_c, library_c_count, pc); }
bool symbols_is_system(gaddr pc) {
    return symbols_in_library_c(pc) || symbols_in_loader(pc) ||
           inside(unwinder, unwinder_count, pc);
}
bool symbols_is_go(gaddr pc) { return pc >= go_start && pc < go_end; }
bool symbols_in_loader(gaddr pc) { return inside(loader, loader_count, pc); }

static const char *base_name(const char *path) {
    const char *base = path;
    for (; *path; path++)
        if (*path == '/')
            base = path + 1;
    return base;
}

static enum place place_of(const char *path) {
    const char *name = base_name(path);
    if (has_prefix(name, "libc.so") || has_prefix(name, "libc-2") ||
        has_prefix(name, "libc.musl") || has_prefix(name, "ld-musl"))
        return PLACE_LIBRARY_C;
    static const struct {
        const char *prefix;
        enum place place;
    } rows[] = {{"libstdc++", PLACE_LIBRARY_CXX}, {"libc++", PLACE_LIBRARY_CXX},
                {"libcxxrt", PLACE_LIBRARY_CXX},  {"libsupc++", PLACE_LIBRARY_CXX},
                {"libjemalloc", PLACE_ALLOCATOR}, {"libtcmalloc", PLACE_ALLOCATOR},
                {"libmimalloc", PLACE_ALLOCATOR}};
    for (unsigned i = 0; i < sizeof rows / sizeof rows[0]; i++)
        if (has_prefix(name, rows[i].prefix))
            return rows[i].place;
    return PLACE_OTHER;
}

/* The program has allocation operators of its own, or a library that it looks into before the
   one of C++. Then that one's forms, as those with a size, call them (C++17, 21.6.2), and have
   to run; so do those that are left, as theirs go on to malloc and free as well. */
static bool own_operators;

/* Whether the module's own definition is one to replace. A program may define
   allocation operators or string functions of its own and means them. */
static bool wanted(enum place place, const struct replaced *r) {
    if (own_operators && place != PLACE_ALLOCATOR && replaced_is_operator(r))
        return false;
    switch (place) {
    case PLACE_LIBRARY_C:
        return true;
    case PLACE_LIBRARY_CXX:
    case PLACE_ALLOCATOR:
        return replaced_is_heap(r);
    case PLACE_STATIC_PROGRAM:
    case PLACE_STATIC_PIE: /* the linker has made the C library's symbols local */
        return true;
    case PLACE_PROGRAM:
        return replaced_is_operator(r);
    default:
        return false;
    }
}

/* Of libstdc++'s archive: these operators stand in files of their own, which the table of
   symbols names before it comes to the functions. */
static const struct {
    const char *file, *symbol;
} archived[] = {{"new_op.o", "_Znwm"},
                {"new_opa.o", "_ZnwmSt11align_val_t"},
                {"new_opnt.o", "_ZnwmRKSt9nothrow_t"}};
enum { ARCHIVED = sizeof archived / sizeof archived[0] };

/* Whether a function is no more than a jump to another. */
static bool only_jumps(const char *file, uint64_t size, const Elf64_Shdr *section,
                       const Elf64_Sym *s) {
    static const char landing[] = "\xf3\x0f\x1e\xfa"; /* endbr64 */
    uint64_t at = section->sh_offset + (s->st_value - section->sh_addr), length = s->st_size;
    if (section->sh_type == SHT_NOBITS || length < 5 || at > size || length > size - at)
        return false;
    if (length == 9 && same_bytes(file + at, landing, 4)) {
        at += 4;
        length -= 4;
    }
    return length == 5 && (uint8_t)file[at] == 0xe9;
}

/* Whether an operator that is linked into the program is the library's: weak, or from one of the
   files (bits) of the archive. */
static bool is_librarys(const Elf64_Sym *s, const char *name, unsigned files) {
    for (unsigned i = 0; i < ARCHIVED; i++)
        if ((files >> i & 1) && same_text(name, archived[i].symbol))
            return true;
    return s->st_info >> 4 == STB_WEAK;
}

/* Only looks for the program's own operators, or takes what is wanted. */
static void take_symbols(const char *file, uint64_t size, const Elf64_Shdr *table,
                         const Elf64_Shdr *sections, int section_count, gaddr bias,
                         enum place place, bool look) {
    if (table->sh_link >= (uint32_t)section_count)
        return;
    const Elf64_Shdr *strings = &sections[table->sh_link];
    if (table->sh_offset + table->sh_size > size || strings->sh_offset + strings->sh_size > size)
        return;
    const Elf64_Sym *symbols = (const Elf64_Sym *)(file + table->sh_offset);
    const char *names = file + strings->sh_offset;
    unsigned files = 0;
    for (uint64_t i = 0; i < table->sh_size / sizeof *symbols; i++) {
        const Elf64_Sym *s = &symbols[i];
        int type = s->st_info & 15, binding = s->st_info >> 4;
        for (unsigned k = 0; look && type == STT_FILE && k < ARCHIVED; k++)
            if (s->st_name < strings->sh_size && same_text(names + s->st_name, archived[k].file))
                files |= 1u << k;
        if ((type != STT_FUNC && type != STT_GNU_IFUNC) || s->st_shndx == SHN_UNDEF ||
            (binding == STB_LOCAL && place != PLACE_STATIC_PIE) || !s->st_value || s->st_name >= strings->sh_size)
            continue;
        const char *name = names + s->st_name;
        char first = name[0];
        if (first != '_' && (first < 'a' || first > 'w'))
            continue;
        const struct replaced *r = replaced_by_name(name);
        if (look)
            own_operators |= r && replaced_is_operator(r) && !is_librarys(s, name, files) &&
                             !(s->st_shndx < section_count &&
                               only_jumps(file, size, &sections[s->st_shndx], s));
        if (!r || look || !wanted(place, r))
            continue;
        if (type == STT_GNU_IFUNC)
            replaced_add_resolver(bias + s->st_value, r);
        else
            replaced_add(bias + s->st_value, r);
    }
}

/* Of this process alone, for questions that are asked often. */
#define KNOWN 2048
static struct known {
    gaddr start, end;
    bool installed; /* in a folder of the system */
} known[KNOWN];
static uint32_t known_count;
static struct lock known_lock;

static void remember(const char *path, gaddr start, gaddr end) {
    lock_take(&known_lock);
    uint32_t i = 0;
    while (i < known_count && known[i].start != start && known[i].end)
        i++;
    if (i < KNOWN) {
        known[i] = (struct known){start, end, in_system_folder(path)};
        if (i == known_count)
            __atomic_store_n(&known_count, i + 1, __ATOMIC_RELEASE);
    }
    lock_drop(&known_lock);
}

/* A full list knows everything. */
bool symbols_in_module(gaddr pc) {
    static uint32_t last;
    uint32_t n = __atomic_load_n(&known_count, __ATOMIC_ACQUIRE), hint = last;
    if (hint < n && pc >= known[hint].start && pc < known[hint].end)
        return true;
    for (uint32_t i = 0; i < n; i++)
        if (pc >= known[i].start && pc < known[i].end) {
            last = i;
            return true;
        }
    return n == KNOWN;
}

bool symbols_installed(gaddr pc) {
    uint32_t n = __atomic_load_n(&known_count, __ATOMIC_ACQUIRE);
    for (uint32_t i = 0; i < n; i++)
        if (pc >= known[i].start && pc < known[i].end)
            return known[i].installed;
    return false;
}

static void note_module(const char *path, gaddr bias, gaddr start, gaddr end) {
    remember(path, start, end);
    uint32_t i = __atomic_fetch_add(&ledger->next_module, 1, __ATOMIC_RELAXED);
    if (i >= LEDGER_MODULES) {
        ledger->next_module = LEDGER_MODULES;
        return;
    }
    struct ledger_module *m = &ledger->modules[i];
    m->process = process_index;
    m->start = start;
    m->end = end;
    m->bias = bias;
    copy_text(m->path, path, sizeof m->path);
    __atomic_store_n(&m->ready, 1, __ATOMIC_RELEASE);
}

static void add_range(const char *path, gaddr start, gaddr end, enum place place) {
    if (place == PLACE_LIBRARY_C && library_c_count < 16) {
        library_c[library_c_count].start = start;
        library_c[library_c_count++].end = end;
    }
    if ((has_prefix(base_name(path), "libgcc_s") || has_prefix(base_name(path), "libunwind")) &&
        unwinder_count < 16) {
        unwinder[unwinder_count].start = start;
        unwinder[unwinder_count++].end = end;
    }
    if (has_prefix(base_name(path), "ld-") && loader_count < 16) {
        loader[loader_count].start = start;
        loader[loader_count++].end = end;
    }
}

/* Whether a section has this name. */
static bool has_section(const char *file, uint64_t size, const Elf64_Ehdr *header,
                        const char *wanted) {
    const Elf64_Shdr *sections = (const Elf64_Shdr *)(file + header->e_shoff);
    if (header->e_shstrndx >= header->e_shnum)
        return false;
    const Elf64_Shdr *names = &sections[header->e_shstrndx];
    uint64_t end = names->sh_offset + names->sh_size, length = text_length(wanted) + 1;
    if (end < names->sh_offset || end > size)
        return false;
    for (int i = 0; i < header->e_shnum; i++)
        if (sections[i].sh_name + length <= names->sh_size &&
            same_bytes(file + names->sh_offset + sections[i].sh_name, wanted, length))
            return true;
    return false;
}

/* Takes the functions to replace; tells whether Go's compiler made the file. */
static bool take_file(int fd, const char *path, gaddr bias, enum place place, gaddr start,
                      gaddr end) {
    bool go = false;
    struct stat state;
    long size = system_call(__NR_lseek, fd, 0, 2);
    if (size < (long)sizeof(Elf64_Ehdr) || system_call(__NR_fstat, fd, &state) != 0)
        return false;
    long p = system_call(__NR_mmap, 0, size, PROT_READ, MAP_PRIVATE, fd, 0);
    if (p < 0 && p > -4096)
        return false;
    const char *file = (const char *)p;
    const Elf64_Ehdr *header = (const Elf64_Ehdr *)file;
    uint64_t length = (uint64_t)size;
    if (same_bytes(header->e_ident, "\177ELF", 4) && header->e_shentsize == sizeof(Elf64_Shdr) &&
        header->e_shoff && header->e_shoff < length &&
        header->e_shoff + header->e_shnum * sizeof(Elf64_Shdr) <= length) {
        const Elf64_Shdr *sections = (const Elf64_Shdr *)(file + header->e_shoff);
        int last = place == PLACE_OTHER;
        for (int look = last || place <= PLACE_STATIC_PIE; look >= last; look--)
            for (int i = 0; i < header->e_shnum; i++)
                if (sections[i].sh_type == SHT_DYNSYM ||
                    (sections[i].sh_type == SHT_SYMTAB && place != PLACE_OTHER))
                    take_symbols(file, length, &sections[i], sections, header->e_shnum, bias,
                                 place, look);
        go = has_section(file, length, header, ".gopclntab");
        for (int i = 0; !in_system_folder(path) && i < header->e_shnum; i++)
            if (sections[i].sh_type == SHT_SYMTAB && sections[i].sh_link < header->e_shnum &&
                !go && has_section(file, length, header, ".debug_info"))
                entries_add(file, length, &sections[i], &sections[sections[i].sh_link], bias,
                            start, end,
                            ledger_file_hash(state.st_ino, (uint64_t)state.st_size,
                                             state.st_mtime, state.st_mtime_nsec));
    }
    system_call(__NR_munmap, p, size);
    return go;
}

void symbols_mapped(gaddr start, uint64_t size, int fd, uint64_t offset) {
    (void)size;
    (void)offset;
    char link[64], path[LEDGER_PATH];
    format(link, sizeof link, "/proc/self/fd/%d", (uint64_t)(int64_t)fd);
    long n = system_call(__NR_readlink, link, path, sizeof path - 1);
    path[n > 0 ? n : 0] = 0;
    Elf64_Ehdr header;
    Elf64_Phdr p[32];
    if (system_call(__NR_pread64, fd, &header, sizeof header, 0) != sizeof header ||
        header.e_phnum > 32)
        return;
    uint64_t bytes = header.e_phnum * sizeof p[0];
    if (system_call(__NR_pread64, fd, p, bytes, header.e_phoff) != (long)bytes)
        return;
    gaddr low = ~0ULL, high = 0;
    for (int i = 0; i < header.e_phnum; i++)
        if (p[i].p_type == PT_LOAD) {
            if ((p[i].p_vaddr & ~4095ULL) < low)
                low = p[i].p_vaddr & ~4095ULL;
            if (p[i].p_vaddr + p[i].p_memsz > high)
                high = p[i].p_vaddr + p[i].p_memsz;
        }
    gaddr bias = start - low;
    enum place place = place_of(path);
    note_module(path, bias, start, (bias + high + 4095) & ~4095ULL);
    add_range(path, start, bias + high, place);
    if (place != PLACE_OTHER || !in_system_folder(path)) {
        char self[64]; /* an own description: the guest's file position stays */
        format(self, sizeof self, "/proc/self/fd/%d", (uint64_t)(int64_t)fd);
        int own = (int)system_call(__NR_open, self, O_RDONLY | O_CLOEXEC, 0);
        if (own >= 0) {
            take_file(own, path, bias, place, start, bias + high);
            system_call(__NR_close, own);
        }
    }
}

void symbols_unmapped(gaddr start, uint64_t size) {
    replaced_forget(start, start + size);
    lock_take(&known_lock);
    for (uint32_t i = 0; i < known_count; i++)
        if (known[i].start >= start && known[i].start < start + size)
            known[i].end = 0; /* its place is free */
    lock_drop(&known_lock);
}

void symbols_program(const char *path, gaddr bias, bool dynamic, gaddr start, gaddr end) {
    note_module(path, bias, start, end);
    enum place place = place_of(path);
    if (place == PLACE_OTHER)
        place = dynamic ? PLACE_PROGRAM : bias ? PLACE_STATIC_PIE : PLACE_STATIC_PROGRAM;
    add_range(path, start, end, place_of(path));
    if (has_prefix(base_name(path), "ld-linux"))
        return;
    int fd = (int)system_call(__NR_open, path, O_RDONLY | O_CLOEXEC, 0);
    if (fd < 0)
        return;
    if (take_file(fd, path, bias, place, start, end)) {
        go_start = start;
        go_end = end;
    }
    system_call(__NR_close, fd);
}

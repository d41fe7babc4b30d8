/* Where functions begin, in files with debug information that are not the system's. */
#include "entries.h"

enum { FILES = 64 };
static struct file {
    gaddr start, end;
    uint64_t mask;  /* of the table below */
    gaddr *entries; /* by address, open addressing */
} files[FILES];
static uint32_t file_count;

static uint64_t slot_of(gaddr pc) { return pc * 0x9e3779b97f4a7c15ULL >> 32; }

static bool has_text(const char *name, const char *text) {
    for (; *name; name++)
        if (has_prefix(name, text))
            return true;
    return false;
}

/* Parts of functions that compilers put elsewhere are no functions. */
static bool is_entry(const Elf64_Sym *s, const char *names, uint64_t size) {
    return (s->st_info & 15) == STT_FUNC && s->st_shndx != SHN_UNDEF && s->st_value &&
           s->st_size && s->st_name < size && !has_text(names + s->st_name, ".cold");
}

void entries_add(const char *content, uint64_t size, const Elf64_Shdr *table,
                 const Elf64_Shdr *strings, gaddr bias, gaddr start, gaddr end) {
    if (table->sh_offset + table->sh_size > size || strings->sh_offset + strings->sh_size > size ||
        file_count == FILES)
        return;
    const Elf64_Sym *symbols = (const Elf64_Sym *)(content + table->sh_offset);
    const char *names = content + strings->sh_offset;
    uint64_t count = table->sh_size / sizeof *symbols, room = 64;
    while (room < 2 * count)
        room *= 2;
    struct file *f = &files[file_count];
    *f = (struct file){start, end, room - 1, engine_alloc(room * sizeof(gaddr))};
    for (uint64_t i = 0; i < count; i++) {
        if (!is_entry(&symbols[i], names, strings->sh_size))
            continue;
        gaddr pc = bias + symbols[i].st_value;
        uint64_t at = slot_of(pc) & f->mask;
        while (f->entries[at] && f->entries[at] != pc)
            at = (at + 1) & f->mask;
        f->entries[at] = pc;
    }
    __atomic_store_n(&file_count, file_count + 1, __ATOMIC_RELEASE);
}

bool symbols_is_entry(gaddr pc) {
    uint32_t count = __atomic_load_n(&file_count, __ATOMIC_ACQUIRE);
    for (uint32_t i = 0; i < count; i++) {
        const struct file *f = &files[i];
        if (pc < f->start || pc >= f->end)
            continue;
        for (uint64_t at = slot_of(pc) & f->mask; f->entries[at]; at = (at + 1) & f->mask)
            if (f->entries[at] == pc)
                return true;
    }
    return false;
}

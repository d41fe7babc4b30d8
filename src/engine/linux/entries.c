/* Where functions begin, in files with debug information that are not the system's. */
#include "entries.h"

enum { FILES = 64 };
static struct file {
    gaddr start, end, bias;
    uint64_t hash;
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
                 const Elf64_Shdr *strings, gaddr bias, gaddr start, gaddr end,
                 uint64_t hash) {
    if (table->sh_offset + table->sh_size > size || strings->sh_offset + strings->sh_size > size ||
        file_count == FILES)
        return;
    const Elf64_Sym *symbols = (const Elf64_Sym *)(content + table->sh_offset);
    const char *names = content + strings->sh_offset;
    uint64_t count = table->sh_size / sizeof *symbols, room = 64;
    while (room < 2 * count)
        room *= 2;
    struct file *f = &files[file_count];
    *f = (struct file){start, end, bias, hash, room - 1, engine_alloc(room * sizeof(gaddr))};
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

/* The file whose code it is. */
static const struct file *file_of(gaddr pc) {
    uint32_t count = __atomic_load_n(&file_count, __ATOMIC_ACQUIRE);
    while (count--)
        if (pc >= files[count].start && pc < files[count].end)
            return &files[count];
    return NULL;
}

uint64_t symbols_file_hash(gaddr entry) {
    const struct file *f = file_of(entry);
    return f ? f->hash : 0;
}

uint64_t symbols_answer_key(gaddr entry, uint32_t number) {
    const struct file *f = file_of(entry);
    return f ? ledger_answer_key(f->hash, entry - f->bias, number) : 0;
}

bool symbols_is_entry(gaddr pc) {
    const struct file *f = file_of(pc);
    for (uint64_t at = slot_of(pc) & (f ? f->mask : 0); f && f->entries[at]; at = (at + 1) & f->mask)
        if (f->entries[at] == pc)
            return true;
    return false;
}

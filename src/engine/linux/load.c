/* Loading an ELF program and its interpreter the way the kernel does (System V
   gABI, x86-64 psABI). Position-independent images go below 2 GiB, where a
   32-bit displacement reaches them. */
#include "../engine.h"

#include <asm/unistd.h>
#include <linux/elf.h>
#include <linux/mman.h>

static uint64_t page_down(uint64_t n) { return n & ~4095ULL; }
static uint64_t page_up(uint64_t n) { return (n + 4095) & ~4095ULL; }

static int protection_of(uint32_t flags) {
    return (flags & PF_R ? PROT_READ : 0) | (flags & PF_W ? PROT_WRITE : 0) |
           (flags & PF_X ? PROT_EXEC : 0);
}

static void map_segment(int fd, const Elf64_Phdr *p, gaddr bias, const char *path) {
    gaddr start = page_down(bias + p->p_vaddr);
    uint64_t skip = (bias + p->p_vaddr) - start;
    int protection = protection_of(p->p_flags);
    if (p->p_filesz) {
        long r = memory_mmap(start, skip + p->p_filesz, protection, MAP_PRIVATE | MAP_FIXED, fd,
                             p->p_offset - skip);
        if (r < 0 && r > -4096)
            fail("%s: cannot map a segment at 0x%x (error %d)", path, start, -r);
    }
    gaddr file_end = bias + p->p_vaddr + p->p_filesz;
    gaddr end = page_up(bias + p->p_vaddr + p->p_memsz);
    gaddr zero_from = p->p_filesz ? page_up(file_end) : start;
    if (p->p_memsz > p->p_filesz) {
        if (p->p_filesz && (file_end & 4095) && (protection & PROT_WRITE))
            fill_bytes(guest(file_end), 0, page_up(file_end) - file_end);
        if (end > zero_from)
            memory_mmap(zero_from, end - zero_from, protection,
                        MAP_PRIVATE | MAP_FIXED | MAP_ANONYMOUS, -1, 0);
    }
}

void load_program(int fd, const char *path, struct image *image, char *interpreter,
                  uint64_t interpreter_size, bool is_interpreter) {
    Elf64_Ehdr header;
    Elf64_Phdr p[64];
    if (system_call(__NR_pread64, fd, &header, sizeof header, 0) != sizeof header ||
        header.e_phnum > 64 || header.e_phentsize != sizeof p[0])
        fail("%s: not a program", path);
    uint64_t bytes = header.e_phnum * sizeof p[0];
    if (system_call(__NR_pread64, fd, p, bytes, header.e_phoff) != (long)bytes)
        fail("%s: its program headers cannot be read", path);
    gaddr low = ~0ULL, high = 0, bias = 0;
    for (int i = 0; i < header.e_phnum; i++)
        if (p[i].p_type == PT_LOAD) {
            if (page_down(p[i].p_vaddr) < low)
                low = page_down(p[i].p_vaddr);
            if (p[i].p_vaddr + p[i].p_memsz > high)
                high = p[i].p_vaddr + p[i].p_memsz;
        }
    if (low >= high)
        fail("%s: nothing in it to load", path);
    if (header.e_type == ET_DYN)
        bias = memory_find_gap(high - low + (1u << 20), 1u << 21, true) - low;
    image->entry = header.e_entry + bias;
    image->base = low + bias;
    image->header_count = header.e_phnum;
    image->header_size = header.e_phentsize;
    image->headers = 0;
    for (int i = 0; i < header.e_phnum; i++) {
        if (p[i].p_type == PT_LOAD) {
            map_segment(fd, &p[i], bias, path);
            if (header.e_phoff >= p[i].p_offset &&
                header.e_phoff < p[i].p_offset + p[i].p_filesz)
                image->headers = bias + p[i].p_vaddr + header.e_phoff - p[i].p_offset;
        }
        if (p[i].p_type == PT_PHDR)
            image->headers = bias + p[i].p_vaddr;
        if (p[i].p_type == PT_DYNAMIC)
            image->dynamic = true;
        if (p[i].p_type == PT_GNU_STACK)
            image->executable_stack = p[i].p_flags & PF_X;
        if (p[i].p_type == PT_INTERP && interpreter && p[i].p_filesz < interpreter_size) {
            system_call(__NR_pread64, fd, interpreter, p[i].p_filesz, p[i].p_offset);
            interpreter[p[i].p_filesz] = 0;
        }
    }
    bool has_interpreter = interpreter && interpreter[0];
    symbols_program(path, bias, is_interpreter || has_interpreter, image->base, page_up(high + bias));
}

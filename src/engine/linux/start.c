/* The first steps: called with the kernel's initial stack as
   tondo-engine LEDGER PARENT PROGRAM ARG0 ARG1...  Maps the ledger, reserves
   the shadow, loads the program and its dynamic loader, builds the guest's
   stack and jumps in. */
#include "../engine.h"

#include <asm/prctl.h>
#include <asm/unistd.h>
#include <linux/auxvec.h>
#include <linux/elf.h>
#include <linux/fcntl.h>
#include <linux/mman.h>
#include <linux/prctl.h>
#include <linux/resource.h>

struct auxiliary {
    uint64_t type, value;
};

char ledger_path[512];
void glue_start(struct context *c);

static void map_ledger(const char *path) {
    copy_text(ledger_path, path, sizeof ledger_path);
    int fd = (int)system_call(__NR_open, path, O_RDWR | O_CLOEXEC, 0);
    if (fd < 0)
        fail("cannot open the ledger %s (error %d)", path, (uint64_t)-(int64_t)fd);
    long p = system_call(__NR_mmap, LEDGER_BASE, sizeof *ledger, PROT_READ | PROT_WRITE,
                         MAP_SHARED | MAP_FIXED_NOREPLACE, fd, 0);
    if (p != (long)LEDGER_BASE)
        fail("cannot map the ledger %s (error %d)", path, -p);
    system_call(__NR_close, fd);
    system_call(__NR_madvise, p, sizeof *ledger, MADV_DONTDUMP);
    ledger = (struct ledger *)p;
    if (ledger->magic != LEDGER_MAGIC)
        fail("%s is not a ledger of this version", path);
}

static gaddr push(gaddr *sp, const void *bytes, uint64_t size) {
    *sp -= size;
    copy_bytes(guest(*sp), bytes, size);
    return *sp;
}

static gaddr make_stack(uint64_t *size_out, bool executable) {
    int protection = PROT_READ | PROT_WRITE | (executable ? PROT_EXEC : 0);
    uint64_t limit[2] = {0, 0};
    system_call(__NR_getrlimit, RLIMIT_STACK, limit);
    uint64_t size = limit[0];
    if (size == 0 || size > (1ULL << 30))
        size = 1ULL << 30;
    size = (size + 4095) & ~4095ULL;
    gaddr low = STACK_TOP - size;
    long p = system_call(__NR_mmap, low, size, protection,
                         MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED | MAP_NORESERVE, -1, 0);
    if (p != (long)low)
        fail("no memory for the program's stack (%u bytes)", size);
    memory_note(low, size, protection, MAP_PRIVATE);
    *size_out = size;
    return STACK_TOP;
}

static uint64_t own_auxiliary[128], own_auxiliary_size;

const void *start_auxiliary(uint64_t *size) {
    *size = own_auxiliary_size;
    return own_auxiliary;
}

/* argc, argv, envp and the auxiliary vector as the psABI wants them. */
static gaddr fill_stack(uint64_t *native, const struct image *image, gaddr loader_base,
                        const char *program, gaddr sp) {
    uint64_t argc = native[0] - 4;
    char **arguments = (char **)(native + 1) + 4;
    char **environment = (char **)(native + 1) + native[0] + 1;
    uint64_t env_count = 0;
    while (environment[env_count])
        env_count++;
    const struct auxiliary *auxiliary = (const struct auxiliary *)(environment + env_count + 1);
    uint64_t aux_count = 0;
    while (auxiliary[aux_count].type != AT_NULL)
        aux_count++;
    uint64_t words = 1 + argc + 1 + env_count + 1 + 2 * (aux_count + 2);
    gaddr *block = engine_alloc(words * 8);
    uint64_t at = 0;
    uint64_t end = 0;
    push(&sp, &end, 8);
    gaddr file_name = push(&sp, program, text_length(program) + 1);
    for (uint64_t i = env_count; i-- > 0;)
        block[1 + argc + 1 + i] = push(&sp, environment[i], text_length(environment[i]) + 1);
    for (uint64_t i = argc; i-- > 0;)
        block[1 + i] = push(&sp, arguments[i], text_length(arguments[i]) + 1);
    gaddr random = 0, platform = 0;
    for (uint64_t i = 0; i < aux_count; i++) {
        const char *from = (const char *)(uintptr_t)auxiliary[i].value;
        if (auxiliary[i].type == AT_RANDOM)
            random = push(&sp, from, 16);
        if (auxiliary[i].type == AT_PLATFORM)
            platform = push(&sp, from, text_length(from) + 1);
    }
    block[0] = argc;
    at = 1 + argc + 1 + env_count + 1;
    const uint64_t *first = block + at;
    for (uint64_t i = 0; i < aux_count; i++) {
        uint64_t type = auxiliary[i].type, value = auxiliary[i].value;
        switch (type) {
        case AT_SYSINFO_EHDR:
        case 27: /* AT_RSEQ_FEATURE_SIZE, AT_RSEQ_ALIGN: there is no rseq */
        case 28:
            continue;
        case AT_PHDR:
            value = image->headers;
            break;
        case AT_PHNUM:
            value = image->header_count;
            break;
        case AT_PHENT:
            value = image->header_size;
            break;
        case AT_BASE:
            value = loader_base;
            break;
        case AT_ENTRY:
            value = image->entry;
            break;
        case AT_EXECFN:
            value = file_name;
            break;
        case AT_RANDOM:
            value = random;
            break;
        case AT_PLATFORM:
            value = platform;
            break;
        case AT_BASE_PLATFORM:
            continue;
        }
        block[at++] = type;
        block[at++] = value;
    }
    block[at++] = AT_NULL;
    block[at++] = 0;
    own_auxiliary_size = (uint64_t)(block + at - first) * 8;
    if (own_auxiliary_size > sizeof own_auxiliary)
        own_auxiliary_size = sizeof own_auxiliary;
    copy_bytes(own_auxiliary, first, own_auxiliary_size);
    sp &= ~15ULL;
    if (at & 1)
        sp -= 8;
    sp -= at * 8;
    copy_bytes(guest(sp), block, at * 8);
    engine_free(block, words * 8);
    return sp;
}

/* What the kernel shows as the command line becomes the guest's: its arguments
   move to the front of the area, the rest of it is cleared. */
static void show_arguments(uint64_t *native) {
    char **argv = (char **)(native + 1);
    char *last = argv[native[0] - 1], *end = last + text_length(last) + 1;
    uint64_t size = (uint64_t)(end - argv[4]);
    copy_bytes(argv[0], argv[4], size);
    fill_bytes(argv[0] + size, 0, (uint64_t)(end - (argv[0] + size)));
}

_Noreturn void engine_main(uint64_t *native) {
    if (native[0] < 5)
        fail("this program is started by tondo");
    char **argv = (char **)(native + 1);
    struct context *c = NULL;
    limits_lift();
    map_ledger(argv[1]);
    uint32_t parent = 0;
    for (const char *d = argv[2]; *d; d++)
        parent = parent * 10 + (uint32_t)(*d - '0');
    copy_text(guest_path, argv[3], sizeof guest_path);
    uint64_t at = 0;
    for (uint64_t i = 4; i < native[0] && at + 1 < sizeof guest_command; i++) {
        if (i > 4)
            guest_command[at++] = ' ';
        copy_text(guest_command + at, argv[i], sizeof guest_command - at);
        at += text_length(guest_command + at);
    }
    memory_start();
    cache_start();
    heap_start();
    process_start(NULL, parent, false);
    if (parent == 0)
        process_start_keeper();
    if (!ledger->fixed_addresses)
        process_fix_addresses(false); /* that was for the engine's own place */
    system_call(__NR_prctl, PR_SET_PTRACER, ledger->host_pid, 0, 0, 0);
    uint64_t mask = 0;
    system_call(__NR_rt_sigprocmask, 0, 0, &mask, 8);
    c = context_new();
    c->signal_mask = mask;
    c->tid = (uint32_t)system_call(__NR_gettid);
    system_call(__NR_arch_prctl, ARCH_SET_FS, c);
    system_call(__NR_arch_prctl, ARCH_SET_GS, D_OFFSET);
    signals_thread_stack(c);
    signals_start();
    signals_real_mask(c);
    replaced_start();

    struct image image, loader;
    fill_bytes(&image, 0, sizeof image);
    fill_bytes(&loader, 0, sizeof loader);
    char interpreter[256];
    interpreter[0] = 0;
    int fd = (int)system_call(__NR_open, guest_path, O_RDONLY | O_CLOEXEC, 0);
    if (fd < 0)
        fail("cannot open %s (error %d)", guest_path, (uint64_t)-(int64_t)fd);
    load_program(fd, guest_path, &image, interpreter, sizeof interpreter, false);
    system_call(__NR_close, fd);
    gaddr entry = image.entry;
    if (interpreter[0]) {
        fd = (int)system_call(__NR_open, interpreter, O_RDONLY | O_CLOEXEC, 0);
        if (fd < 0)
            fail("%s: its dynamic loader %s cannot be opened", guest_path, interpreter);
        load_program(fd, interpreter, &loader, NULL, 0, true);
        system_call(__NR_close, fd);
        entry = loader.entry;
    }
    const char *name = guest_path;
    for (const char *p = guest_path; *p; p++)
        if (*p == '/')
            name = p + 1;
    system_call(__NR_prctl, PR_SET_NAME, name, 0, 0, 0);
    uint64_t size;
    gaddr top = make_stack(&size, image.executable_stack);
    c->stack_low = top - size;
    c->stack_high = top;
    c->registers[RSP] = fill_stack(native, &image, loader.base, guest_path, top);
    gaddr bottom = c->registers[RSP] & ~4095ULL;
    shadow_fresh(top - size, bottom - (top - size));
    shadow_fill(bottom, c->registers[RSP] - bottom, 0xff);
    show_arguments(native);
    c->pc = entry;
    c->flags = 0x202;
    c->reason = EXIT_START;
    glue_start(c);
    __builtin_unreachable();
}

/* Debuggers among guests: a forked child that asks to be traced (ptrace(2)) and stops before
   it executes another program is one of the engine's processes. Its tracer is shown the
   registers the guest has there, and the signals that the engine raises. */
#include "../engine.h"

#include <asm/unistd.h>
#include <linux/ptrace.h>
#include <linux/uio.h>

bool process_traced;

/* struct user_regs_struct (sys/user.h), in words. */
enum { USER_RIP = 16, USER_FLAGS = 18, USER_RSP = 19, USER_FS_BASE = 21, USER_GS_BASE = 22, USER_WORDS = 27 };
static const uint8_t general[] = {15, 14, 13, 12, RBP, RBX, 11, 10, 9, 8, RAX, RCX, RDX, RSI, RDI};

static bool peek(uint64_t pid, const void *from, void *to, uint64_t size) {
    struct iovec here = {to, size}, there = {(void *)(uintptr_t)from, size};
    return system_call(__NR_process_vm_readv, pid, &here, 1, &there, 1, 0) == (long)size;
}

static bool is_ours(uint64_t pid) {
    uint32_t count = ledger->next_process < LEDGER_PROCESSES ? ledger->next_process : LEDGER_PROCESSES;
    for (uint32_t i = count; i-- > 0;) {
        const struct ledger_process *p = &ledger->processes[i];
        if (p->ready && p->pid == pid)
            return p->state == LEDGER_RUNNING && p->forked;
    }
    return false;
}

/* The engine lies at the same addresses in all of its processes. */
static bool find_context(uint64_t pid, struct context *found) {
    enum { MOST = 64 };
    struct context *at;
    if (!is_ours(pid) || !peek(pid, &threads, &at, sizeof at))
        return false;
    for (int n = 0; at && n < MOST; n++, at = found->next)
        if (!peek(pid, at, found, sizeof *found))
            return false;
        else if (found->tid == pid)
            return true;
    return false;
}

static void fill_in(const struct context *found, uint64_t *user, uint64_t words) {
    for (unsigned i = 0; i < sizeof general && i < words; i++)
        user[i] = found->registers[general[i]];
    if (words > USER_RIP)
        user[USER_RIP] = found->pc;
    if (words > USER_RSP)
        user[USER_RSP] = found->registers[RSP];
    if (words > USER_FS_BASE)
        user[USER_FS_BASE] = found->fs_base;
    if (words > USER_GS_BASE)
        user[USER_GS_BASE] = found->gs_base;
}

void tracee_registers(uint64_t request, uint64_t pid, gaddr address, gaddr data) {
    enum { GENERAL_REGISTERS = 1 /* NT_PRSTATUS */ };
    if (request == PTRACE_TRACEME) {
        process_traced = true;
        return;
    }
    bool set = request == PTRACE_GETREGSET && address == GENERAL_REGISTERS;
    if (!set && request != PTRACE_PEEKUSR && request != PTRACE_GETREGS)
        return;
    struct context *found = engine_alloc(sizeof *found);
    if (find_context(pid, found)) {
        uint64_t user[USER_WORDS] = {0};
        gaddr to = set ? *(gaddr *)guest(data) : data;
        if (request == PTRACE_PEEKUSR) {
            uint64_t word = address / 8;
            fill_in(found, user, USER_WORDS);
            if (word < sizeof general || word == USER_RIP || word == USER_RSP ||
                word == USER_FS_BASE || word == USER_GS_BASE)
                *(uint64_t *)guest(to) = user[word];
        } else {
            fill_in(found, guest(to),
                    set ? *(uint64_t *)guest(data + 8) / 8 : (uint64_t)USER_WORDS);
        }
    }
    engine_free(found, sizeof *found);
}

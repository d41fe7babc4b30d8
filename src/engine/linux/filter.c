/* Filters on system calls that the guest puts on itself (seccomp). The kernel would
   apply them to the engine's own calls as well, so they are kept here and run on
   the guest's calls alone: classic BPF over struct seccomp_data, the strictest
   answer of all filters wins (seccomp(2)). Another program gets them for real. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/audit.h>
#include <linux/filter.h>
#include <linux/prctl.h>
#include <linux/seccomp.h>

struct filter {
    const struct filter *older;
    uint32_t count;
    struct sock_filter code[];
};

enum { LONGEST = 4096 };

static bool loads_well(const struct sock_filter *f, uint32_t count) {
    for (uint32_t i = 0; i < count; i++) {
        uint32_t left = count - i - 1;
        uint16_t code = f[i].code;
        switch (BPF_CLASS(code)) {
        case BPF_JMP:
            if (BPF_OP(code) == BPF_JA ? f[i].k >= left : f[i].jt >= left || f[i].jf >= left)
                return false;
            break;
        case BPF_LD:
        case BPF_LDX:
            if (BPF_MODE(code) == BPF_ABS && (f[i].k & 3 || f[i].k >= sizeof(struct seccomp_data)))
                return false;
            if (BPF_MODE(code) == BPF_MEM && f[i].k >= BPF_MEMWORDS)
                return false;
            if (BPF_MODE(code) == BPF_IND || BPF_MODE(code) == BPF_MSH)
                return false;
            break;
        case BPF_ST:
        case BPF_STX:
            if (f[i].k >= BPF_MEMWORDS)
                return false;
            break;
        case BPF_ALU:
            if ((BPF_OP(code) == BPF_DIV || BPF_OP(code) == BPF_MOD) && BPF_SRC(code) == BPF_K &&
                !f[i].k)
                return false;
            break;
        }
    }
    return count && BPF_CLASS(f[count - 1].code) == BPF_RET;
}

static uint32_t calculate(uint16_t code, uint32_t a, uint32_t b) {
    switch (BPF_OP(code)) {
    case BPF_ADD: return a + b;
    case BPF_SUB: return a - b;
    case BPF_MUL: return a * b;
    case BPF_DIV: return b ? a / b : 0;
    case BPF_OR: return a | b;
    case BPF_AND: return a & b;
    case BPF_XOR: return a ^ b;
    case BPF_LSH: return b < 32 ? a << b : 0;
    case BPF_RSH: return b < 32 ? a >> b : 0;
    case BPF_NEG: return -a;
    default: return a;
    }
}

static bool holds(uint16_t code, uint32_t a, uint32_t b) {
    switch (BPF_OP(code)) {
    case BPF_JEQ: return a == b;
    case BPF_JGT: return a > b;
    case BPF_JGE: return a >= b;
    default: return a & b; /* BPF_JSET */
    }
}

static uint32_t answer(const struct filter *f, const struct seccomp_data *data) {
    uint32_t a = 0, x = 0, memory[BPF_MEMWORDS] = {0};
    for (uint32_t pc = 0; pc < f->count; pc++) {
        const struct sock_filter *i = &f->code[pc];
        uint32_t operand = BPF_SRC(i->code) == BPF_X ? x : i->k, value;
        switch (BPF_CLASS(i->code)) {
        case BPF_LD:
        case BPF_LDX:
            value = BPF_MODE(i->code) == BPF_ABS   ? *(const uint32_t *)((const char *)data + i->k)
                    : BPF_MODE(i->code) == BPF_MEM ? memory[i->k]
                    : BPF_MODE(i->code) == BPF_LEN ? (uint32_t)sizeof *data
                                                   : i->k;
            *(BPF_CLASS(i->code) == BPF_LD ? &a : &x) = value;
            break;
        case BPF_ST: memory[i->k] = a; break;
        case BPF_STX: memory[i->k] = x; break;
        case BPF_ALU: a = calculate(i->code, a, operand); break;
        case BPF_JMP:
            pc += BPF_OP(i->code) == BPF_JA ? i->k : holds(i->code, a, operand) ? i->jt : i->jf;
            break;
        case BPF_RET: return BPF_RVAL(i->code) == BPF_A ? a : i->k;
        default: /* BPF_MISC */
            if (BPF_MISCOP(i->code) == BPF_TAX)
                x = a;
            else
                a = x;
        }
    }
    return SECCOMP_RET_KILL_PROCESS;
}

static bool strict_allows(uint64_t number) {
    return number == __NR_read || number == __NR_write || number == __NR_exit ||
           number == __NR_rt_sigreturn;
}

bool filter_allows(struct context *c, uint64_t number, const uint64_t *a, long *result,
                   bool *moved) {
    if (c->strict && !strict_allows(number))
        signals_die(c, 9);
    if (!c->filters)
        return true;
    struct seccomp_data data = {(int)number, AUDIT_ARCH_X86_64, c->pc, {0}};
    copy_bytes(data.args, a, sizeof data.args);
    uint32_t strictest = SECCOMP_RET_ALLOW;
    for (const struct filter *f = c->filters; f; f = f->older) {
        uint32_t r = answer(f, &data);
        if ((int32_t)(r & SECCOMP_RET_ACTION_FULL) <
            (int32_t)(strictest & SECCOMP_RET_ACTION_FULL))
            strictest = r;
    }
    switch (strictest & SECCOMP_RET_ACTION_FULL) {
    case SECCOMP_RET_ALLOW:
    case SECCOMP_RET_LOG:
        return true;
    case SECCOMP_RET_ERRNO:
        *result = -(long)((strictest & SECCOMP_RET_DATA) < 4095 ? strictest & SECCOMP_RET_DATA
                                                                : 4095);
        return false;
    case SECCOMP_RET_TRAP:
        c->registers[RAX] = number;
        signals_raise_filtered(c, (int)(strictest & SECCOMP_RET_DATA), (int)number);
        *moved = true;
        return false;
    case SECCOMP_RET_TRACE:
    case SECCOMP_RET_USER_NOTIF:
        *result = -ENOSYS; /* nobody listens */
        return false;
    default:
        signals_die(c, 31);
    }
}

static long add(struct context *c, uint64_t flags, gaddr program) {
    const struct sock_fprog *given = guest(program);
    if (flags & ~(uint64_t)(SECCOMP_FILTER_FLAG_TSYNC | SECCOMP_FILTER_FLAG_LOG |
                            SECCOMP_FILTER_FLAG_SPEC_ALLOW))
        return -EINVAL; /* nobody could listen */
    if (!program)
        return -EFAULT;
    if (!given->len || given->len > LONGEST)
        return -EINVAL;
    if (system_call(__NR_prctl, PR_GET_NO_NEW_PRIVS, 0, 0, 0, 0) != 1 &&
        system_call(__NR_geteuid) != 0)
        return -EACCES;
    uint64_t size = given->len * sizeof(struct sock_filter);
    struct filter *f = engine_alloc(sizeof *f + size);
    f->count = given->len;
    copy_bytes(f->code, given->filter, size);
    if (!loads_well(f->code, f->count)) {
        engine_free(f, sizeof *f + size);
        return -EINVAL;
    }
    f->older = c->filters;
    __atomic_store_n(&c->filters, f, __ATOMIC_RELEASE);
    for (struct context *t = threads; t && flags & SECCOMP_FILTER_FLAG_TSYNC; t = t->next)
        if (t->alive)
            __atomic_store_n(&t->filters, f, __ATOMIC_RELEASE);
    return 0;
}

long filter_seccomp(struct context *c, uint64_t operation, uint64_t flags, gaddr argument) {
    switch (operation) {
    case SECCOMP_SET_MODE_STRICT:
        if (flags || argument)
            return -EINVAL;
        c->strict = true;
        return 0;
    case SECCOMP_SET_MODE_FILTER:
        return add(c, flags, argument);
    }
    return system_call(__NR_seccomp, operation, flags, argument);
}

long filter_prctl(struct context *c, uint64_t option, uint64_t mode, gaddr argument) {
    if (option == PR_GET_SECCOMP)
        return c->strict ? SECCOMP_MODE_STRICT : c->filters ? SECCOMP_MODE_FILTER : 0;
    if (mode == SECCOMP_MODE_STRICT)
        return filter_seccomp(c, SECCOMP_SET_MODE_STRICT, 0, 0);
    return mode == SECCOMP_MODE_FILTER ? add(c, 0, argument) : -EINVAL;
}

static void install(const struct filter *f) {
    if (!f)
        return;
    install(f->older);
    struct sock_fprog program = {(uint16_t)f->count, (struct sock_filter *)(uintptr_t)f->code};
    system_call(__NR_seccomp, SECCOMP_SET_MODE_FILTER, 0, &program);
}

void filter_hand_on(struct context *c) { install(c->filters); }

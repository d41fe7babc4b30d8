/* Limits on address space and data (RLIMIT_AS, RLIMIT_DATA; setrlimit(2)). The kernel
   would count the shadow, so it never gets those that the program sets itself: memory.c
   and heap.c keep to them, the programs it starts inherit them by the ledger, and those
   that run without the engine by the kernel after all. */
#include "../engine.h"

#include <asm/errno.h>
#include <asm/unistd.h>
#include <linux/resource.h>

#define UNLIMITED ~0ULL

static const uint32_t resources[2] = {RLIMIT_AS, RLIMIT_DATA};

static struct ledger_process *own(void) { return &ledger->processes[process_index]; }

static void note(int k, const uint64_t *limit) {
    copy_bytes(own()->limits[k], limit, 16);
    own()->limited |= 1u << k;
    memory_limit(k == 1, limit[0]);
}

/* Soft limits that the kernel has, where the hard one leaves room for the engine. */
static uint64_t lifted[2] = {UNLIMITED, UNLIMITED};

void limits_lift(void) {
    for (int k = 0; k < 2; k++) {
        uint64_t limit[2];
        if (system_call(__NR_prlimit64, 0, resources[k], 0, limit) < 0 ||
            limit[0] == UNLIMITED || limit[1] != UNLIMITED)
            continue;
        uint64_t none[2] = {UNLIMITED, UNLIMITED};
        if (system_call(__NR_prlimit64, 0, resources[k], none, 0) == 0)
            lifted[k] = limit[0];
    }
}

void limits_inherit(const struct ledger_process *parent) {
    for (int k = 0; k < 2; k++) {
        uint64_t limit[2] = {lifted[k], UNLIMITED};
        if (lifted[k] != UNLIMITED)
            note(k, limit);
        else if (parent && (parent->limited & 1u << k))
            note(k, parent->limits[k]);
    }
}

static bool may_raise(void) { /* capabilities(7): CAP_SYS_RESOURCE */
    uint32_t header[2] = {0x20080522, 0}, data[6] = {0};
    return system_call(__NR_capget, header, data) == 0 && (data[0] & 1u << 24);
}

bool limits_have(uint64_t resource) { return resource == RLIMIT_AS || resource == RLIMIT_DATA; }

long limits_call(uint64_t resource, gaddr new_limit, gaddr old_limit) {
    int k = resource == RLIMIT_DATA;
    uint64_t now[2], wanted[2];
    long r = system_call(__NR_prlimit64, 0, resource, 0, now);
    if (r < 0)
        return r;
    if (own()->limited & 1u << k)
        copy_bytes(now, own()->limits[k], 16);
    if (new_limit)
        copy_bytes(wanted, guest(new_limit), 16);
    if (old_limit)
        copy_bytes(guest(old_limit), now, 16);
    if (!new_limit)
        return 0;
    if (wanted[0] > wanted[1])
        return -EINVAL;
    if (wanted[1] > now[1] && !may_raise())
        return -EPERM;
    note(k, wanted);
    return 0;
}

void limits_apply(bool apply) {
    for (int k = 0; k < 2; k++) {
        uint64_t limit[2];
        if (!(own()->limited & 1u << k) ||
            system_call(__NR_prlimit64, 0, resources[k], 0, limit) < 0)
            continue;
        limit[0] = apply && own()->limits[k][0] < limit[1] ? own()->limits[k][0] : limit[1];
        system_call(__NR_prlimit64, 0, resources[k], limit, 0);
    }
}

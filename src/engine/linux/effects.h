/* What the functions behind the table of system-call effects share. */
#ifndef TONDO_ENGINE_EFFECTS_H
#define TONDO_ENGINE_EFFECTS_H

#include "../engine.h"

/* One call under way; `done` when it has returned, with its result. */
struct call {
    struct context *c;
    const char *name, *parameters;
    const uint64_t *a;
    bool done;
    long result;
    uint32_t room; /* bytes at an address whose length the call tells, as they were before it */
    bool wild;     /* an address beyond all memory that a program may have: there are the engine's */
    bool told;     /* of an address where nothing is */
};

bool succeeded(const struct call *k);
/* The parameter's register must be defined. */
void check_register(struct call *k, int parameter, const char *name);
/* The kernel reads these bytes, which belong to the parameter from `base` on. */
void takes(struct call *k, int parameter, gaddr base, uint64_t at, uint64_t size);
/* Most structures have parts that the kernel ignores: only what is undefined as
   a whole is told. */
void takes_some(struct call *k, int parameter, gaddr p, uint64_t size);
/* A terminated text, and the bytes of one with its end, `limit` at most. */
void takes_text(struct call *k, int parameter, gaddr p);
uint64_t text_size(gaddr p, uint64_t limit);
void takes_address(struct call *k, int parameter, gaddr p, uint64_t size);
/* The kernel may write `room` bytes; `size` of them it wrote. */
void gives(struct call *k, gaddr p, uint64_t room, uint64_t size);

/* n iovecs, whose data the kernel reads or (given) writes, and a msghdr. */
void takes_vector(struct call *k, int parameter, gaddr p, uint64_t n, bool given);
void takes_message(struct call *k, gaddr m);
void gives_message(struct call *k, gaddr m, long received);

/* Calls whose effect depends on a request (requests.c), or on several in memory (uring.c). */
#define CALLS_WITH_REQUESTS(X) \
    X(io_uring_setup) X(io_uring_enter) X(io_uring_register) X(io_submit) \
    X(seccomp) X(ioctl) X(setsockopt) X(fcntl) X(prctl) X(ptrace) X(shmctl) X(msgctl) X(semctl) X(madvise)
#define X(name) void effect_##name(struct call *k);
CALLS_WITH_REQUESTS(X)
#undef X

#endif

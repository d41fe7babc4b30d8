/* Starting the guest under the engine and waiting for its end. */
#ifndef TONDO_LAUNCH_H
#define TONDO_LAUNCH_H

#include "../core/error.h"
#include "../core/ledger_format.h"
#include "history.h"
#include "search.h"

struct launch {
    const char *program; /* as the user wrote it */
    char **arguments;    /* of the guest, null-terminated, the program first */
    uint64_t retirement_bytes;
    enum follow follow;
    /* results */
    char *path;     /* absolute path of the program */
    char **actual;  /* what is really run: the interpreter of a script first */
    struct ledger *ledger;
    struct losses losses;
    struct history history;
    struct symbols *symbols; /* for what processes ask while they run */
    uint32_t pid;
    int status, signal; /* signal 0: exited */
    double seconds;
};

/* Finds the program and says why it cannot be run. Returns 0, or the exit
   status a shell would give: 126, 127. */
int launch_prepare(struct launch *launch, struct error *error);
/* Runs it to its end. 0, or 125 when Tondo itself fails. */
int launch_run(struct launch *launch, struct error *error);
/* The path of the engine: beside the tondo program in a build, under libexec when
   installed. 0 or -1. */
int launch_engine(char *path, size_t size, struct error *error);
void launch_free(struct launch *launch);

#endif

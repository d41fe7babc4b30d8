/* Sessions: a run as JSON, in a file or in the folder of kept runs. */
#ifndef TONDO_SESSION_H
#define TONDO_SESSION_H

#include "../core/error.h"
#include "../core/model.h"

/* The JSON text of the run, to be freed; indented for people. */
char *session_text(const struct run *run);
/* Writes it; a name ending in .zst is compressed. 0 or -1. */
int session_save(const struct run *run, const char *path, struct error *error);
/* Keeps it among the newest few dozen; failing to is not an error of the run. */
int session_keep(const struct run *run, struct error *error);
/* Null on error. */
struct run *session_load(const char *path, struct error *error);
/* Path of the last kept session, to be freed; null: there is none. */
char *session_last(void);
/* The last run and the one of the same program before it (malloc). 0 or -1. */
int session_last_two(char **before, char **last, struct error *error);
/* The folder runs are kept in (malloc), or null. */
char *session_folder(void);

#endif

/* Rule files (libconfuse syntax): reading, finding the project's own, writing. */
#ifndef TONDO_RULES_FILE_H
#define TONDO_RULES_FILE_H

#include "../core/rules.h"

#include <stdio.h>

/* Adds the file's rules; -1 with file, line and what is wrong. */
int rules_read(struct rules *rules, const char *path, struct error *error);
/* Adds the rules that come with the program, about well-known libraries; their text. */
int rules_read_known(struct rules *rules, struct error *error);
const char *rules_known(void);
/* The nearest .tondo.rules in the current folder or a parent, to be freed; null: none. */
char *rules_find(void);
/* Writes rules that would suppress the run's open findings. Returns how many. */
size_t rules_write(FILE *to, const struct run *run);
/* The user's own rules, $XDG_CONFIG_HOME/tondo/rules (malloc), or null. */
char *rules_of_user(void);
/* Today as rules compare it. */
const char *rules_today(void);

#endif

/* A word on a terminal while something takes long: after a second, on one line that
   is wiped at the end. Silent where stderr is no terminal. */
#ifndef TONDO_PROGRESS_H
#define TONDO_PROGRESS_H

#include <stdint.h>

/* What is being done, as in "searching the heap". */
void progress_begin(const char *what);
/* How far it is; total 0: nobody knows. Cheap enough for every step. */
void progress_step(uint64_t done, uint64_t total);
void progress_end(void);

#endif

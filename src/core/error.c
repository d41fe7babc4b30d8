/* Error sentences. */
#include "error.h"

#include <stdarg.h>
#include <stdio.h>

int error_set(struct error *error, const char *pattern, ...) {
    va_list list;
    va_start(list, pattern);
    vsnprintf(error->text, sizeof error->text, pattern, list);
    va_end(list);
    return -1;
}

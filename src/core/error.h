/* One plain sentence about what went wrong, where, and what to do. */
#ifndef TONDO_ERROR_H
#define TONDO_ERROR_H

struct error {
    char text[600];
};

/* Fills the error; always returns -1, so that a caller can return it. */
int error_set(struct error *error, const char *pattern, ...) __attribute__((format(printf, 2, 3)));

#endif

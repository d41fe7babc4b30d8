/* The unit tests' harness: CHECK counts, the last line tells. */
#ifndef TONDO_CHECK_H
#define TONDO_CHECK_H

#include <stdio.h>
#include <string.h>

static int checks_done, checks_failed;

#define CHECK(condition)                                                                     \
    do {                                                                                     \
        checks_done++;                                                                       \
        if (!(condition)) {                                                                  \
            checks_failed++;                                                                 \
            fprintf(stderr, "%s:%d: %s\n", __FILE__, __LINE__, #condition);                  \
        }                                                                                    \
    } while (0)

#define CHECK_TEXT(a, b)                                                                     \
    do {                                                                                     \
        const char *text_a = (a), *text_b = (b);                                             \
        checks_done++;                                                                       \
        if (!text_a || strcmp(text_a, text_b) != 0) {                                        \
            checks_failed++;                                                                 \
            fprintf(stderr, "%s:%d: \"%s\", not \"%s\"\n", __FILE__, __LINE__,               \
                    text_a ? text_a : "(null)", text_b);                                     \
        }                                                                                    \
    } while (0)

static inline int check_end(void) {
    printf("%d passed, %d failed\n", checks_done - checks_failed, checks_failed);
    return checks_failed != 0;
}

#endif

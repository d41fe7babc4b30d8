/* Suppression rules: descriptions of known findings, matched against stacks.
   A pattern's frames are joined by "<" (called from); inside a name "*" is any
   text, "?" any character; a lone "*" is one frame, "**" any number of frames.
   A pattern starts at the innermost frame and may end before the outermost. */
#ifndef TONDO_RULES_H
#define TONDO_RULES_H

#include "error.h"
#include "model.h"

/* One frame of a stack pattern; null: anything. */
struct frame_pattern {
    const char *function, *module, *file;
    int line;  /* 0: any */
    bool many; /* "**" */
};

struct rule {
    const char *name, *reason, *file;
    int line;
    uint32_t kinds;        /* bit by finding kind; 0: any */
    uint32_t leak_classes; /* bit by leak class, for leak.CLASS; 0: any */
    const char *stack;     /* pattern as written, null: any stack */
    struct frame_pattern *frames;
    int frame_count;
    const char *module;    /* pattern on the site's module, null: any */
    const char *expires;   /* "YYYY-MM-DD", null: never */
    uint64_t blocks, bytes; /* limits, 0: none */
    uint64_t matched;       /* findings */
};

struct rules {
    struct rule *list;
    size_t count;
    struct pool *pool;
};

struct rules *rules_new(void);
void rules_free(struct rules *rules);
struct rule *rules_add(struct rules *rules);
/* Adds a kind ("leak", "leak.reachable", "use-after-free") to the rule. */
int rule_kind(struct rule *rule, const char *name, struct error *error);
/* Gives the rule its stack pattern; says what is wrong with it. 0 or -1. */
int rule_set_stack(struct rules *rules, struct rule *rule, const char *pattern,
                   struct error *error);
/* What the rule suppresses, in words. */
void rule_words(const struct rule *rule, char *text, size_t size);
bool rule_matches(const struct rule *rule, const struct finding *finding, const char *today);
/* Marks what each finding is suppressed by; today is "YYYY-MM-DD". */
void rules_apply(struct rules *rules, struct run *run, const char *today);
/* Shell-like: "*" any text, "?" one character. */
bool text_matches(const char *pattern, const char *text);

#endif

/* Matching rules. */
#include "rules.h"

#include <stdlib.h>
#include <string.h>

struct rules *rules_new(void) {
    struct rules *rules = calloc(1, sizeof *rules);
    rules->pool = pool_new();
    return rules;
}

void rules_free(struct rules *rules) {
    if (!rules)
        return;
    pool_free(rules->pool);
    free(rules->list);
    free(rules);
}

struct rule *rules_add(struct rules *rules) {
    rules->list = realloc(rules->list, (rules->count + 1) * sizeof *rules->list);
    struct rule *rule = &rules->list[rules->count++];
    memset(rule, 0, sizeof *rule);
    return rule;
}

int rule_kind(struct rule *rule, const char *name, struct error *error) {
    if (strncmp(name, "leak.", 5) == 0) {
        for (int c = 0; c < LEAK_CLASSES; c++)
            if (strcmp(name + 5, leak_class_name((enum leak_class)c)) == 0) {
                rule->kinds |= 1u << KIND_LEAK;
                rule->leak_classes |= 1u << c;
                return 0;
            }
        return error_set(error, "there is no leak class '%s': use unreachable, dependent, "
                                "interior or reachable", name + 5);
    }
    enum finding_kind kind = kind_from_name(name);
    if (kind == KIND_COUNT)
        return error_set(error, "there is no finding kind '%s'", name);
    rule->kinds |= 1u << kind;
    return 0;
}

bool text_matches(const char *pattern, const char *text) {
    const char *star = NULL, *again = NULL;
    while (*text) {
        if (*pattern == '*') {
            star = ++pattern;
            again = text;
        } else if (*pattern == '?' || *pattern == *text) {
            pattern++;
            text++;
        } else if (star) {
            pattern = star;
            text = ++again;
        } else {
            return false;
        }
    }
    while (*pattern == '*')
        pattern++;
    return !*pattern;
}

static const char *base_of(const char *path) {
    const char *slash = path ? strrchr(path, '/') : NULL;
    return slash ? slash + 1 : path;
}

/* A path pattern without a slash is held against the last part alone. */
static bool path_matches(const char *pattern, const char *path) {
    if (!path)
        return false;
    if (strchr(pattern, '/'))
        return text_matches(pattern, path);
    return text_matches(pattern, base_of(path));
}

static bool frame_matches(const char *pattern, const struct frame *frame) {
    char text[512];
    if (strcmp(pattern, "*") == 0)
        return true;
    if (strlen(pattern) >= sizeof text)
        return false;
    strcpy(text, pattern);
    if (text[0] == ':') {
        char *line = strchr(text + 1, ':');
        if (line)
            *line++ = 0;
        return path_matches(text + 1, frame->file) && (!line || atoi(line) == frame->line);
    }
    char *at = strrchr(text, '@');
    if (at) {
        *at++ = 0;
        if (!path_matches(at, frame->module))
            return false;
        if (!text[0])
            return true;
    }
    return text_matches(text, frame->function ? frame->function : "");
}

enum { PARTS = 64 };

static int split(char *pattern, char **parts) {
    int count = 0;
    char *at = pattern;
    while (at && count < PARTS) {
        char *next = strstr(at, " < ");
        if (next) {
            *next = 0;
            next += 3;
        }
        while (*at == ' ')
            at++;
        size_t n = strlen(at);
        while (n && at[n - 1] == ' ')
            at[--n] = 0;
        parts[count++] = at;
        at = next;
    }
    return count;
}

int rule_check_pattern(const char *pattern, struct error *error) {
    char text[2048], *parts[PARTS];
    if (strlen(pattern) >= sizeof text)
        return error_set(error, "the stack pattern is longer than %zu characters", sizeof text);
    strcpy(text, pattern);
    int count = split(text, parts);
    if (count == PARTS)
        return error_set(error, "the stack pattern has more than %d frames", PARTS - 1);
    for (int i = 0; i < count; i++) {
        if (!parts[i][0])
            return error_set(error, "the stack pattern has an empty frame; write '*' for any one "
                                    "frame");
        const char *sign = strchr(parts[i], '<');
        bool operator_name = strstr(parts[i], "operator<") != NULL;
        if (sign && !operator_name && !strchr(parts[i], '>'))
            return error_set(error, "put spaces around '<' in the stack pattern");
    }
    return 0;
}

static bool stack_matches(char **parts, int count, const struct stack *stack, int from) {
    if (!count)
        return true;
    if (strcmp(parts[0], "**") == 0) {
        for (int k = from; k <= stack->count; k++)
            if (stack_matches(parts + 1, count - 1, stack, k))
                return true;
        return false;
    }
    return from < stack->count && frame_matches(parts[0], &stack->frames[from]) &&
           stack_matches(parts + 1, count - 1, stack, from + 1);
}

bool rule_matches(const struct rule *rule, const struct finding *finding, const char *today) {
    if (rule->kinds && !(rule->kinds & 1u << finding->kind))
        return false;
    if (finding->kind == KIND_LEAK) {
        if (rule->leak_classes && !(rule->leak_classes & 1u << finding->leak))
            return false;
        if (rule->blocks && finding->blocks > rule->blocks)
            return false;
        if (rule->bytes && finding->bytes > rule->bytes)
            return false;
    }
    if (rule->expires && strcmp(today, rule->expires) > 0)
        return false;
    if (rule->module) {
        bool found = false;
        for (int i = 0; i < finding->stack.count && !found; i++)
            found = path_matches(rule->module, finding->stack.frames[i].module);
        if (!found)
            return false;
    }
    if (rule->stack) {
        char text[2048], *parts[PARTS];
        if (strlen(rule->stack) >= sizeof text)
            return false;
        strcpy(text, rule->stack);
        int count = split(text, parts);
        return stack_matches(parts, count, &finding->stack, 0);
    }
    return true;
}

void rules_apply(struct rules *rules, struct run *run, const char *today) {
    for (size_t k = 0; k < rules->count; k++)
        rules->list[k].matched = 0;
    for (size_t i = 0; i < run->count; i++) {
        struct finding *f = &run->findings[i];
        for (size_t k = 0; k < rules->count && !f->suppressed_by; k++)
            if (rule_matches(&rules->list[k], f, today)) {
                f->suppressed_by = pool_text(run->pool, rules->list[k].name);
                rules->list[k].matched++;
            }
    }
}

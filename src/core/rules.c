/* Matching rules. */
#include "rules.h"

#include <stdarg.h>
#include <stdio.h>
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
    if (kind == KIND_LEAK)
        rule->leak_classes = (1u << LEAK_CLASSES) - 1;
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

static bool frame_matches(const struct frame_pattern *p, const struct frame *frame) {
    if (p->file)
        return path_matches(p->file, frame->file) && (!p->line || p->line == frame->line);
    if (p->module && !path_matches(p->module, frame->module))
        return false;
    return !p->function || text_matches(p->function, frame->function ? frame->function : "");
}

/* One frame of a pattern, cut out of its text. */
static int compile_frame(struct rules *rules, struct frame_pattern *p, const char *text,
                         size_t length, struct error *error) {
    while (length && *text == ' ')
        text++, length--;
    while (length && text[length - 1] == ' ')
        length--;
    char *copy = pool_take(rules->pool, length + 1);
    memcpy(copy, text, length);
    copy[length] = 0;
    *p = (struct frame_pattern){0};
    if (!*copy)
        return error_set(error, "the stack pattern has an empty frame; write '*' for any one frame");
    if (strchr(copy, '<') && !strstr(copy, "operator<") && !strchr(copy, '>'))
        return error_set(error, "put spaces around '<' in the stack pattern");
    if (strcmp(copy, "**") == 0) {
        p->many = true;
    } else if (*copy == ':') {
        char *line = strchr(copy + 1, ':'), *end = NULL;
        p->file = copy + 1;
        if (line) {
            *line++ = 0;
            p->line = (int)strtol(line, &end, 10);
            if (!*line || *end || p->line <= 0)
                return error_set(error, "'%s' is no line number; a place is :file.c or :file.c:120",
                                 line);
        }
        if (!*p->file)
            return error_set(error, "a place wants a file, as in :file.c");
    } else {
        char *at = strrchr(copy, '@');
        if (at) {
            *at++ = 0;
            if (!*at)
                return error_set(error, "'%s@' wants a module behind the @", copy);
            p->module = at;
        }
        p->function = *copy && strcmp(copy, "*") != 0 ? copy : NULL;
    }
    return 0;
}

int rule_set_stack(struct rules *rules, struct rule *rule, const char *pattern,
                   struct error *error) {
    size_t count = 1;
    for (const char *at = pattern; (at = strstr(at, " < ")); at += 3)
        count++;
    rule->stack = pool_text(rules->pool, pattern);
    rule->frames = pool_take(rules->pool, count * sizeof *rule->frames);
    for (const char *at = pattern; at;) {
        const char *next = strstr(at, " < ");
        size_t length = next ? (size_t)(next - at) : strlen(at);
        struct frame_pattern *p = &rule->frames[rule->frame_count++];
        if (compile_frame(rules, p, at, length, error) != 0)
            return -1;
        at = next ? next + 3 : NULL;
    }
    return 0;
}

/* As a shell matches "*": only the last "**" needs a second try. */
static bool stack_matches(const struct rule *rule, const struct stack *stack) {
    int part = 0, at = 0, many = -1, again = 0;
    while (part < rule->frame_count) {
        const struct frame_pattern *p = &rule->frames[part];
        if (p->many) {
            many = ++part;
            again = at;
        } else if (at < stack->count && frame_matches(p, &stack->frames[at])) {
            part++;
            at++;
        } else if (many >= 0 && again < stack->count) {
            part = many;
            at = ++again;
        } else {
            return false;
        }
    }
    return true;
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
    return !rule->frame_count || stack_matches(rule, &finding->stack);
}

/* --- in words --- */

struct words {
    char *text;
    size_t size, at;
};

__attribute__((format(printf, 2, 3))) static void say(struct words *w, const char *pattern, ...) {
    va_list list;
    va_start(list, pattern);
    int n = vsnprintf(w->text + w->at, w->size - w->at, pattern, list);
    va_end(list);
    if (n > 0)
        w->at = w->at + (size_t)n < w->size ? w->at + (size_t)n : w->size - 1;
}

static void say_frame(struct words *w, const struct frame_pattern *p) {
    if (p->many)
        say(w, "any frames");
    else if (p->file && p->line)
        say(w, "line %d of %s", p->line, p->file);
    else if (p->file)
        say(w, "code of %s", p->file);
    else if (p->function)
        say(w, "%s", p->function);
    else
        say(w, "any one function");
    if (p->module)
        say(w, " of %s", p->module);
}

void rule_words(const struct rule *rule, char *text, size_t size) {
    struct words w = {text, size, 0};
    const char *between = "";
    text[0] = 0;
    if (!rule->kinds)
        say(&w, "findings of any kind");
    for (int k = 0; k < KIND_COUNT; k++) {
        if (!(rule->kinds & 1u << k))
            continue;
        say(&w, "%s%s", between, kind_name((enum finding_kind)k));
        between = ", ";
        if (k != KIND_LEAK || rule->leak_classes == (1u << LEAK_CLASSES) - 1)
            continue;
        const char *or = " (";
        for (int c = 0; c < LEAK_CLASSES; c++)
            if (rule->leak_classes & 1u << c) {
                say(&w, "%s%s", or, leak_class_name((enum leak_class)c));
                or = " or ";
            }
        say(&w, ")");
    }
    if (rule->frame_count) {
        int last = rule->frame_count;
        while (last > 1 && rule->frames[last - 1].many)
            last--;
        say(&w, " in ");
        for (int i = 0; i < last; i++) {
            say(&w, "%s", i ? ", called from " : "");
            say_frame(&w, &rule->frames[i]);
        }
    }
    if (rule->module)
        say(&w, ", with %s among the callers", rule->module);
    if (rule->blocks)
        say(&w, "; reported again beyond %llu blocks", (unsigned long long)rule->blocks);
    if (rule->bytes)
        say(&w, "; reported again beyond %llu bytes", (unsigned long long)rule->bytes);
    if (rule->expires)
        say(&w, "; until %s", rule->expires);
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

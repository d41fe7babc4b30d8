/* Rule files by libconfuse. */
#define _GNU_SOURCE
#include "rules_file.h"

#include <confuse.h>
#include <ctype.h>
#include <inttypes.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <unistd.h>

static char complaint[400];

static void complain(cfg_t *cfg, const char *pattern, va_list list) {
    char text[300];
    if (complaint[0])
        return; /* the first one says it */
    vsnprintf(text, sizeof text, pattern, list);
    snprintf(complaint, sizeof complaint, "%d: %s", cfg ? cfg->line : 0, text);
}

static bool is_date(const char *text) {
    if (strlen(text) != 10)
        return false;
    for (int i = 0; i < 10; i++)
        if (i == 4 || i == 7 ? text[i] != '-' : !isdigit((unsigned char)text[i]))
            return false;
    int year = atoi(text), month = atoi(text + 5), day = atoi(text + 8);
    static const int days[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
    bool leap = (year % 4 == 0 && year % 100) || year % 400 == 0;
    return month >= 1 && month <= 12 && day >= 1 &&
           day <= days[month - 1] + (month == 2 && leap);
}

/* libconfuse knows where a section ends; where the n-th begins is looked up. */
static int line_of_rule(const char *path, unsigned n) {
    FILE *file = fopen(path, "re");
    char *line = NULL;
    size_t room = 0;
    int number = 0, found = 0;
    while (file && !found && getline(&line, &room, file) >= 0) {
        number++;
        const char *at = line + strspn(line, " \t");
        if (strncmp(at, "suppress", 8) == 0 && strchr(" \t\"{'", at[8]) && n-- == 0)
            found = number;
    }
    free(line);
    if (file)
        fclose(file);
    return found ? found : number;
}

static int take_rule(struct rules *rules, cfg_t *section, const char *path, int line,
                     struct error *error) {
    struct rule *rule = rules_add(rules);
    struct error inner;
    const char *name = cfg_title(section);
    rule->name = pool_text(rules->pool, name);
    rule->file = pool_text(rules->pool, path);
    rule->line = line;
    rule->module = pool_text(rules->pool, cfg_getstr(section, "module"));
    rule->reason = pool_text(rules->pool, cfg_getstr(section, "reason"));
    rule->expires = pool_text(rules->pool, cfg_getstr(section, "expires"));
    long blocks = cfg_getint(section, "blocks"), bytes = cfg_getint(section, "bytes");
    if (blocks < 0 || bytes < 0)
        return error_set(error, "%s:%d: rule \"%s\": %s must not be negative", path,
                         line, name, blocks < 0 ? "blocks" : "bytes");
    rule->blocks = (uint64_t)blocks;
    rule->bytes = (uint64_t)bytes;
    for (unsigned i = 0; i < cfg_size(section, "kind"); i++)
        if (rule_kind(rule, cfg_getnstr(section, "kind", i), &inner) != 0)
            return error_set(error, "%s:%d: rule \"%s\": %s", path, line, name,
                             inner.text);
    const char *stack = cfg_getstr(section, "stack");
    if (stack && rule_set_stack(rules, rule, stack, &inner) != 0)
        return error_set(error, "%s:%d: rule \"%s\": %s", path, line, name, inner.text);
    if (rule->expires && !is_date(rule->expires))
        return error_set(error, "%s:%d: rule \"%s\": expires must be a date as \"2027-06-30\"",
                         path, line, name);
    if (!rule->stack && !rule->module && !rule->kinds)
        return error_set(error, "%s:%d: rule \"%s\" would match everything: give it a kind, a "
                                "stack or a module", path, line, name);
    return 0;
}

int rules_read(struct rules *rules, const char *path, struct error *error) {
    cfg_opt_t rule_options[] = {
        CFG_STR_LIST("kind", NULL, CFGF_NONE), CFG_STR("stack", NULL, CFGF_NONE),
        CFG_STR("module", NULL, CFGF_NONE),    CFG_STR("reason", NULL, CFGF_NONE),
        CFG_STR("expires", NULL, CFGF_NONE),   CFG_INT("blocks", 0, CFGF_NONE),
        CFG_INT("bytes", 0, CFGF_NONE),        CFG_END()};
    cfg_opt_t options[] = {CFG_SEC("suppress", rule_options, CFGF_MULTI | CFGF_TITLE), CFG_END()};
    if (access(path, R_OK) != 0)
        return error_set(error, "%s: the rule file cannot be read", path);
    cfg_t *cfg = cfg_init(options, CFGF_NONE);
    cfg_set_error_function(cfg, complain);
    complaint[0] = 0;
    int result = 0;
    if (cfg_parse(cfg, path) != CFG_SUCCESS)
        result = error_set(error, "%s:%s", path, complaint[0] ? complaint : "0: not a rule file");
    for (unsigned i = 0; result == 0 && i < cfg_size(cfg, "suppress"); i++)
        result = take_rule(rules, cfg_getnsec(cfg, "suppress", i), path, line_of_rule(path, i), error);
    cfg_free(cfg);
    return result;
}

char *rules_find(void) {
    char *folder = getcwd(NULL, 0), *path = NULL;
    while (folder) {
        if (asprintf(&path, "%s/.tondo.rules", folder) < 0)
            path = NULL;
        if (path && access(path, F_OK) == 0)
            break;
        free(path);
        path = NULL;
        char *slash = strrchr(folder, '/');
        if (!slash)
            break;
        *slash = 0;
        if (!*folder) {
            if (access("/.tondo.rules", F_OK) == 0)
                path = strdup("/.tondo.rules");
            break;
        }
    }
    free(folder);
    return path;
}

char *rules_of_user(void) {
    const char *config = getenv("XDG_CONFIG_HOME"), *home = getenv("HOME");
    char *path = NULL;
    int n = -1;
    if (config && config[0] == '/')
        n = asprintf(&path, "%s/tondo/rules", config);
    else if (home && home[0] == '/')
        n = asprintf(&path, "%s/.config/tondo/rules", home);
    if (n < 0)
        return NULL;
    if (access(path, F_OK) == 0)
        return path;
    free(path);
    return NULL;
}

const char *rules_today(void) {
    static char today[16];
    time_t now = time(NULL);
    struct tm tm;
    strftime(today, sizeof today, "%Y-%m-%d", localtime_r(&now, &tm));
    return today;
}

/* The innermost frame beyond the allocator or the C library's own functions. */
static bool is_library_c(const struct frame *f) {
    const char *base = f->module ? strrchr(f->module, '/') : NULL;
    base = base ? base + 1 : f->module;
    return base && (strncmp(base, "libc.so", 7) == 0 || strncmp(base, "libc-", 5) == 0 ||
                    strncmp(base, "ld-linux", 8) == 0 || strncmp(base, "libstdc++", 9) == 0);
}

/* How many frames a rule needs so that it is about this use and not about an
   allocator: up to the innermost own function, else up to the first function
   beyond the C library and its caller. */
static int frames_needed(const struct stack *stack) {
    for (int i = 0; i < stack->count && i < 24; i++)
        if (stack->frames[i].own)
            return i + 1;
    for (int i = 0; i < stack->count; i++)
        if (!is_library_c(&stack->frames[i]) && i)
            return i + 2 < stack->count ? i + 2 : stack->count;
    return stack->count;
}

static char *pattern_of(const struct stack *stack) {
    char *text = NULL;
    size_t size = 0;
    FILE *to = open_memstream(&text, &size);
    int last = frames_needed(stack);
    for (int i = 0; i < last; i++) {
        const struct frame *f = &stack->frames[i];
        const char *base = f->module ? strrchr(f->module, '/') : NULL;
        fprintf(to, "%s%s", i ? " < " : "", f->function ? f->function : "*");
        if (!f->function && base)
            fprintf(to, "@%s", base + 1);
    }
    fputs(last ? " < **" : "**", to);
    fclose(to);
    return text;
}

static void put_quoted(FILE *to, const char *text) {
    fputc('"', to);
    for (; *text; text++) {
        if (*text == '"' || *text == '\\')
            fputc('\\', to);
        fputc(*text == '\n' ? ' ' : *text, to);
    }
    fputc('"', to);
}

/* Whether one of the rules written so far takes the finding already. */
static bool is_covered(const struct rules *written, const struct finding *f) {
    for (size_t i = 0; i < written->count; i++)
        if (rule_matches(&written->list[i], f, "0000-00-00"))
            return true;
    return false;
}

size_t rules_write(FILE *to, const struct run *run) {
    struct rules *written = rules_new();
    fprintf(to, "# Suppression rules for %s\n# Keep what is known and give each a reason (it is "
                "empty now); delete the others.\n", run->program ? run->program : "a run");
    for (size_t i = 0; i < run->count; i++) {
        const struct finding *f = &run->findings[i];
        struct error error;
        if (f->suppressed_by || is_covered(written, f))
            continue;
        struct rule *rule = rules_add(written);
        char kind[48], *pattern = pattern_of(&f->stack), name[300];
        snprintf(kind, sizeof kind, f->kind == KIND_LEAK ? "leak.%s" : "%s",
                 f->kind == KIND_LEAK ? leak_class_name(f->leak) : kind_name(f->kind));
        rule_kind(rule, kind, &error);
        rule_set_stack(written, rule, pattern, &error);
        fputc('\n', to);
        for (size_t k = i; k < run->count; k++)
            if (!run->findings[k].suppressed_by &&
                rule_matches(rule, &run->findings[k], "0000-00-00"))
                fprintf(to, "# matched: %s (%s)\n", run->findings[k].message, run->findings[k].id);
        const struct frame *site = stack_site(&f->stack);
        if (!site && f->stack.count)
            site = &f->stack.frames[f->stack.count > 1 && f->kind == KIND_LEAK];
        snprintf(name, sizeof name, "%s in %s, %zu", kind_name(f->kind),
                 site && site->function ? site->function : "unknown code", written->count);
        fputs("suppress ", to);
        put_quoted(to, name);
        fprintf(to, " {\n  kind   = {%s}\n  stack  = ", kind);
        put_quoted(to, pattern);
        fputs("\n  reason = \"\"   # say why this is known and left\n}\n", to);
        free(pattern);
    }
    size_t count = written->count;
    rules_free(written);
    return count;
}

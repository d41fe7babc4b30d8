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
#include <uthash.h>

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

extern const char known_rules[]; /* known.rules */
#define KNOWN "(known)" /* stands for its name */

const char *rules_known(void) { return known_rules; }

/* libconfuse knows where a section ends; where the n-th begins is looked up. */
static int line_of_rule(const char *path, unsigned n) {
    FILE *file = strcmp(path, KNOWN) == 0
                     ? fmemopen((char *)(uintptr_t)known_rules, strlen(known_rules), "r")
                     : fopen(path, "re");
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

static int read_rules(struct rules *rules, const char *path, const char *text,
                      struct error *error) {
    cfg_opt_t rule_options[] = {
        CFG_STR_LIST("kind", NULL, CFGF_NONE), CFG_STR("stack", NULL, CFGF_NONE),
        CFG_STR("module", NULL, CFGF_NONE),    CFG_STR("reason", NULL, CFGF_NONE),
        CFG_STR("expires", NULL, CFGF_NONE),   CFG_INT("blocks", 0, CFGF_NONE),
        CFG_INT("bytes", 0, CFGF_NONE),        CFG_END()};
    cfg_opt_t options[] = {CFG_SEC("suppress", rule_options, CFGF_MULTI | CFGF_TITLE), CFG_END()};
    cfg_t *cfg = cfg_init(options, CFGF_NONE);
    cfg_set_error_function(cfg, complain);
    complaint[0] = 0;
    int result = 0;
    if ((text ? cfg_parse_buf(cfg, text) : cfg_parse(cfg, path)) != CFG_SUCCESS)
        result = error_set(error, "%s:%s", path, complaint[0] ? complaint : "0: not a rule file");
    for (unsigned i = 0; result == 0 && i < cfg_size(cfg, "suppress"); i++)
        result = take_rule(rules, cfg_getnsec(cfg, "suppress", i), path, line_of_rule(path, i), error);
    cfg_free(cfg);
    return result;
}

int rules_read(struct rules *rules, const char *path, struct error *error) {
    if (access(path, R_OK) != 0)
        return error_set(error, "%s: the rule file cannot be read", path);
    return read_rules(rules, path, NULL, error);
}

int rules_read_known(struct rules *rules, struct error *error) {
    return read_rules(rules, KNOWN, known_rules, error);
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

/* One rule to write: the findings with the same pattern and kind. */
struct draft {
    char *key; /* kind, a newline, the pattern */
    size_t *findings, count, room;
    UT_hash_handle hh;
};

static struct draft *drafts_of(const struct run *run) {
    struct draft *drafts = NULL, *d;
    for (size_t i = 0; i < run->count; i++) {
        const struct finding *f = &run->findings[i];
        char *pattern = f->suppressed_by ? NULL : pattern_of(&f->stack), *key = NULL;
        if (!pattern || asprintf(&key, "%s%s\n%s", f->kind == KIND_LEAK ? "leak." : "",
                                 f->kind == KIND_LEAK ? leak_class_name(f->leak)
                                                      : kind_name(f->kind), pattern) < 0)
            continue;
        free(pattern);
        HASH_FIND_STR(drafts, key, d);
        if (!d) {
            d = calloc(1, sizeof *d);
            d->key = key;
            HASH_ADD_KEYPTR(hh, drafts, key, strlen(key), d);
        } else {
            free(key);
        }
        if (d->count == d->room) {
            d->room = d->room ? 2 * d->room : 4;
            d->findings = realloc(d->findings, d->room * sizeof *d->findings);
        }
        d->findings[d->count++] = i;
    }
    return drafts;
}

size_t rules_write(FILE *to, const struct run *run) {
    struct draft *drafts = drafts_of(run), *d, *next;
    size_t count = 0;
    fprintf(to, "# Suppression rules for %s\n# Keep what is known and give each a reason (it is "
                "empty now); delete the others.\n", run->program ? run->program : "a run");
    HASH_ITER(hh, drafts, d, next) {
        const struct finding *f = &run->findings[d->findings[0]];
        fputc('\n', to);
        for (size_t k = 0; k < d->count && k < 5; k++)
            fprintf(to, "# matched: %s (%s)\n", run->findings[d->findings[k]].message,
                    run->findings[d->findings[k]].id);
        if (d->count > 5)
            fprintf(to, "# and %zu more\n", d->count - 5);
        const struct frame *site = stack_site(&f->stack);
        if (!site && f->stack.count)
            site = &f->stack.frames[f->stack.count > 1 && f->kind == KIND_LEAK];
        char name[300], *pattern = strchr(d->key, '\n');
        *pattern++ = 0;
        snprintf(name, sizeof name, "%s in %s, %zu", kind_name(f->kind),
                 site && site->function ? site->function : "unknown code", ++count);
        fputs("suppress ", to);
        put_quoted(to, name);
        fprintf(to, " {\n  kind   = {%s}\n  stack  = ", d->key);
        put_quoted(to, pattern);
        fputs("\n  reason = \"\"   # say why this is known and left\n}\n", to);
        HASH_DEL(drafts, d);
        free(d->findings);
        free(d->key);
        free(d);
    }
    return count;
}

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
    int month = atoi(text + 5), day = atoi(text + 8);
    return month >= 1 && month <= 12 && day >= 1 && day <= 31;
}

static int take_rule(struct rules *rules, cfg_t *section, const char *path, struct error *error) {
    struct rule *rule = rules_add(rules);
    struct error inner;
    const char *name = cfg_title(section);
    rule->name = pool_text(rules->pool, name);
    rule->file = pool_text(rules->pool, path);
    rule->line = section->line;
    rule->stack = pool_text(rules->pool, cfg_getstr(section, "stack"));
    rule->module = pool_text(rules->pool, cfg_getstr(section, "module"));
    rule->reason = pool_text(rules->pool, cfg_getstr(section, "reason"));
    rule->expires = pool_text(rules->pool, cfg_getstr(section, "expires"));
    long blocks = cfg_getint(section, "blocks"), bytes = cfg_getint(section, "bytes");
    rule->blocks = blocks > 0 ? (uint64_t)blocks : 0;
    rule->bytes = bytes > 0 ? (uint64_t)bytes : 0;
    for (unsigned i = 0; i < cfg_size(section, "kind"); i++)
        if (rule_kind(rule, cfg_getnstr(section, "kind", i), &inner) != 0)
            return error_set(error, "%s:%d: rule \"%s\": %s", path, section->line, name,
                             inner.text);
    if (rule->stack && rule_check_pattern(rule->stack, &inner) != 0)
        return error_set(error, "%s:%d: rule \"%s\": %s", path, section->line, name, inner.text);
    if (rule->expires && !is_date(rule->expires))
        return error_set(error, "%s:%d: rule \"%s\": expires must be a date as \"2027-06-30\"",
                         path, section->line, name);
    if (!rule->stack && !rule->module && !rule->kinds)
        return error_set(error, "%s:%d: rule \"%s\" would match everything: give it a kind, a "
                                "stack or a module", path, section->line, name);
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
        result = take_rule(rules, cfg_getnsec(cfg, "suppress", i), path, error);
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

const char *rules_today(void) {
    static char today[16];
    time_t now = time(NULL);
    struct tm tm;
    strftime(today, sizeof today, "%Y-%m-%d", localtime_r(&now, &tm));
    return today;
}

/* Frames up to and with the innermost own function, so that the rule is about
   this use and not about an allocator. */
static void write_pattern(FILE *to, const struct stack *stack) {
    int last = 0;
    for (int i = 0; i < stack->count; i++)
        if (stack->frames[i].own) {
            last = i;
            break;
        } else if (i < 8) {
            last = i;
        }
    for (int i = 0; i <= last && i < stack->count; i++) {
        const struct frame *f = &stack->frames[i];
        const char *base = f->module ? strrchr(f->module, '/') : NULL;
        fprintf(to, "%s", i ? " < " : "");
        for (const char *p = f->function ? f->function : "*"; *p; p++) {
            if (*p == '"' || *p == '\\')
                fputc('\\', to);
            fputc(*p, to);
        }
        if (!f->function && base)
            fprintf(to, "@%s", base + 1);
    }
    fprintf(to, " < **");
}

size_t rules_write(FILE *to, const struct run *run) {
    size_t count = 0;
    fprintf(to, "# Suppression rules for %s\n# Keep what is known and give each a reason; "
                "delete the others.\n", run->program);
    for (size_t i = 0; i < run->count; i++) {
        const struct finding *f = &run->findings[i];
        if (f->suppressed_by)
            continue;
        const struct frame *site = stack_site(&f->stack);
        fprintf(to, "\n# matched: %s, %s (%" PRIu64 " times)\n", kind_name(f->kind), f->message,
                f->count);
        fprintf(to, "suppress \"%s in %s, %zu\" {\n", kind_name(f->kind),
                site && site->function ? site->function
                : f->stack.count && f->stack.frames[0].function ? f->stack.frames[0].function
                                                                : "unknown code",
                ++count);
        if (f->kind == KIND_LEAK)
            fprintf(to, "  kind   = {leak.%s}\n", leak_class_name(f->leak));
        else
            fprintf(to, "  kind   = {%s}\n", kind_name(f->kind));
        fprintf(to, "  stack  = \"");
        write_pattern(to, &f->stack);
        fprintf(to, "\"\n  reason = \"\" # say why this is known and left\n}\n");
    }
    return count;
}

/* tondo rules new, tondo rules check, tondo rules known */
#include "cli.h"

#include "../host/rules_file.h"
#include "../host/session.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

static int rules_new_command(int argc, const char **argv) {
    struct error error;
    char *path = argc > 1 ? NULL : session_last();
    if (argc <= 1 && !path)
        return complain(STATUS_FAILED, "no run is kept yet; start with: tondo run PROGRAM");
    struct run *run = session_load(argc > 1 ? argv[1] : path, &error);
    free(path);
    if (!run)
        return complain(STATUS_FAILED, "%s", error.text);
    size_t count = rules_write(stdout, run);
    complain(0, "%zu rules written; give each a reason, then pass the file with --rules or name it "
                ".tondo.rules", count);
    run_free(run);
    return 0;
}

static int check_against(struct rules *rules, const char *session) {
    struct error error;
    struct run *run = session_load(session, &error);
    if (!run)
        return complain(STATUS_FAILED, "%s", error.text);
    for (size_t i = 0; i < run->count; i++)
        run->findings[i].suppressed_by = NULL;
    rules_apply(rules, run, rules_today());
    for (size_t i = 0; i < rules->count; i++) {
        const struct rule *r = &rules->list[i];
        bool over = r->expires && strcmp(rules_today(), r->expires) > 0;
        if (over)
            printf("%s:%d: \"%s\" expired on %s\n", r->file, r->line, r->name, r->expires);
        else if (r->matched)
            printf("%s:%d: \"%s\" matched %" PRIu64 "\n", r->file, r->line, r->name, r->matched);
        else
            printf("%s:%d: \"%s\" matched nothing: is it still needed?\n", r->file, r->line,
                   r->name);
    }
    run_free(run);
    return 0;
}

static void explain(const struct rule *r) {
    char words[2000];
    rule_words(r, words, sizeof words);
    printf("%s:%d: \"%s\"\n    suppresses %s\n", r->file, r->line, r->name, words);
    if (r->expires && strcmp(rules_today(), r->expires) > 0)
        printf("    has expired: what it matched is reported again\n");
    if (r->reason && *r->reason)
        printf("    because: %s\n", r->reason);
    else
        printf("    has no reason: say in it why this is known and left\n");
}

static int rules_check_command(int argc, const char **argv) {
    struct error error;
    struct rules *rules = rules_new();
    const char *against = NULL;
    int status = 0, files = 0;
    for (int i = 1; i < argc && !status; i++) {
        if (strcmp(argv[i], "--against") == 0) {
            if (++i == argc)
                status = complain(STATUS_USAGE, "--against wants a session");
            else
                against = argv[i];
            continue;
        }
        files++;
        if (rules_read(rules, argv[i], &error) != 0)
            status = complain(STATUS_USAGE, "%s", error.text);
    }
    if (!status && !files)
        status = complain(STATUS_USAGE, "which file? tondo rules check FILE... [--against SESSION]");
    if (!status && against)
        status = check_against(rules, against);
    for (size_t i = 0; i < rules->count && !status && !against; i++)
        explain(&rules->list[i]);
    if (!status && !against)
        printf("%zu %s, well-formed\n", rules->count, rules->count == 1 ? "rule" : "rules");
    rules_free(rules);
    return status;
}

int command_rules(int argc, const char **argv) {
    if (argc > 1 && strcmp(argv[1], "new") == 0)
        return rules_new_command(argc - 1, argv + 1);
    if (argc > 1 && strcmp(argv[1], "check") == 0)
        return rules_check_command(argc - 1, argv + 1);
    if (argc == 2 && strcmp(argv[1], "known") == 0)
        return fputs(rules_known(), stdout) < 0 ? STATUS_FAILED : 0;
    if (argc == 2 && strcmp(argv[1], "--help") == 0) {
        puts("tondo rules new [SESSION]                      write rules for a run (the last one)\n"
             "tondo rules check FILE... [--against SESSION]  check rule files, say what they do\n"
             "tondo rules known                              print the rules that come with tondo");
        return 0;
    }
    return complain(STATUS_USAGE, "tondo rules new [SESSION], tondo rules check FILE..., or tondo "
                                  "rules known");
}

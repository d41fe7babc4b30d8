/* Patterns, limits and expiry of suppression rules. */
#include "../../src/core/rules.h"
#include "../harness/check.h"

#include <stdio.h>
#include <time.h>

static struct frame frames[] = {
    {.function = "malloc", .module = "/usr/lib/x86_64-linux-gnu/libc.so.6"},
    {.function = "cache_add", .module = "/opt/names/libnames.so.2"},
    {.function = "lookup", .file = "/home/mole/names.c", .line = 120, .module = "/home/mole/berths",
     .own = true},
    {.function = "main", .file = "/home/mole/main.c", .line = 9, .module = "/home/mole/berths",
     .own = true},
};
static struct finding leak = {.kind = KIND_LEAK, .leak = LEAK_REACHABLE, .blocks = 3, .bytes = 90,
                              .stack = {frames, 4}};

static struct rules *rules;
static struct error error;

static bool is_pattern(const char *pattern) {
    return rule_set_stack(rules, rules_add(rules), pattern, &error) == 0;
}

static bool matches(const char *pattern) {
    return is_pattern(pattern) &&
           rule_matches(&rules->list[rules->count - 1], &leak, "2026-11-23");
}

/* A thousand rules on ten thousand findings must stay a matter of a moment, even
   with the patterns that need the most tries. */
static void many(void) {
    struct rules *thousand = rules_new();
    char text[200];
    for (int i = 0; i < 1000; i++) {
        struct rule *rule = rules_add(thousand);
        snprintf(text, sizeof text, i % 2 ? "malloc < name_%d < **" : "** < a%d < ** < main", i);
        rule->name = "one of many";
        CHECK(rule_set_stack(thousand, rule, text, &error) == 0);
    }
    struct run *run = run_new();
    for (int i = 0; i < 10000; i++)
        *run_add(run) = leak;
    clock_t begin = clock();
    rules_apply(thousand, run, "2026-11-23");
    CHECK((double)(clock() - begin) / CLOCKS_PER_SEC < 5); /* about 1 on a slow machine */
    run_free(run);
    rules_free(thousand);
}

int main(void) {
    rules = rules_new();
    CHECK(matches("malloc < cache_add < lookup < main"));
    CHECK(matches("malloc < cache_add"));
    CHECK(matches("* < cache_add@libnames.so* < **"));
    CHECK(matches("** < main"));
    CHECK(matches("** < lookup < **"));
    CHECK(matches("mal* < **"));
    CHECK(matches("* < * < :names.c"));
    CHECK(matches("* < * < :names.c:120 < main"));
    CHECK(matches("* < @libnames.so.2"));
    CHECK(!matches("* < * < :names.c:121"));
    CHECK(matches("** < cache_add < ** < lookup < ** < :main.c"));
    CHECK(!is_pattern(":names.c:x"));
    CHECK(!is_pattern("malloc@"));
    CHECK(!matches("cache_add"));
    CHECK(!matches("malloc < lookup"));
    CHECK(!matches("** < absent"));
    CHECK(!matches("malloc < cache_add < lookup < main < *"));
    struct rule rule = {.stack = "**"};
    CHECK(rule_kind(&rule, "leak.reachable", &error) == 0);
    CHECK(rule_matches(&rule, &leak, "2026-11-23"));
    rule.blocks = 2;
    CHECK(!rule_matches(&rule, &leak, "2026-11-23"));
    rule.blocks = 3;
    rule.bytes = 89;
    CHECK(!rule_matches(&rule, &leak, "2026-11-23"));
    rule.bytes = 0;
    rule.expires = "2026-11-23";
    CHECK(rule_matches(&rule, &leak, "2026-11-23"));
    CHECK(!rule_matches(&rule, &leak, "2026-11-24"));
    struct rule other = {.stack = "**"};
    CHECK(rule_kind(&other, "leak.unreachable", &error) == 0);
    CHECK(!rule_matches(&other, &leak, "2026-11-23"));
    CHECK(rule_kind(&other, "leek", &error) == -1);
    CHECK(is_pattern("a < ** < b"));
    CHECK(!is_pattern("a <  < b"));
    CHECK(!is_pattern("a<b"));
    CHECK(text_matches("lib*.so?", "libfoo.so6"));
    CHECK(!text_matches("lib?.so", "libfoo.so"));
    many();
    return check_end();
}

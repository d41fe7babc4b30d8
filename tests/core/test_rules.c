/* Patterns, limits and expiry of suppression rules. */
#include "../../src/core/rules.h"
#include "../harness/check.h"

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

static bool matches(const char *pattern) {
    struct rule rule = {.stack = pattern};
    return rule_matches(&rule, &leak, "2026-11-23");
}

int main(void) {
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
    CHECK(!matches("cache_add"));
    CHECK(!matches("malloc < lookup"));
    CHECK(!matches("** < absent"));
    CHECK(!matches("malloc < cache_add < lookup < main < *"));
    struct rule rule = {.stack = "**"};
    struct error error;
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
    CHECK(rule_check_pattern("a < ** < b", &error) == 0);
    CHECK(rule_check_pattern("a <  < b", &error) == -1);
    CHECK(rule_check_pattern("a<b", &error) == -1);
    CHECK(text_matches("lib*.so?", "libfoo.so6"));
    CHECK(!text_matches("lib?.so", "libfoo.so"));
    return check_end();
}

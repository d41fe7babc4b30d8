/* The SARIF form: Static Analysis Results Interchange Format 2.1.0 (OASIS). One rule
   per finding kind with its CWE, code flows that follow a block or a value through
   the run, every call stack, suppressions, and the finding's id as fingerprint. */
#define _GNU_SOURCE
#include "view.h"
#include "../core/explain.h"

#include <inttypes.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>

#define SCHEMA                                                                                \
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
#define BASE "RUNFOLDER"

static json_t *text(const char *t) {
    json_t *value = json_string(t ? t : "");
    return value ? value : json_string("?");
}

static json_t *message(const char *t) { return json_pack("{s:o}", "text", text(t)); }

/* RFC 3986: everything but unreserved characters and slashes is escaped. */
static json_t *uri_of(const char *path, const char *before, bool folder) {
    size_t n = strlen(path) * 3 + strlen(before) + 2, at;
    char *uri = malloc(n);
    at = (size_t)sprintf(uri, "%s", before);
    for (const unsigned char *p = (const unsigned char *)path; *p; p++)
        if ((*p >= 'a' && *p <= 'z') || (*p >= 'A' && *p <= 'Z') || (*p >= '0' && *p <= '9') ||
            strchr("/-._~+", *p))
            uri[at++] = (char)*p;
        else
            at += (size_t)sprintf(uri + at, "%%%02X", *p);
    if (folder && (!at || uri[at - 1] != '/'))
        uri[at++] = '/';
    uri[at] = 0;
    json_t *value = json_string(uri);
    free(uri);
    return value;
}

static json_t *artifact(const struct run *run, const char *path) {
    size_t n = run->directory ? strlen(run->directory) : 0;
    if (n > 1 && strncmp(path, run->directory, n) == 0 && path[n] == '/')
        return json_pack("{s:o,s:s}", "uri", uri_of(path + n + 1, "", false), "uriBaseId", BASE);
    return json_pack("{s:o}", "uri", uri_of(path, path[0] == '/' ? "file://" : "", false));
}

static json_t *location(const struct run *run, const struct frame *f, const char *says) {
    json_t *o = json_object();
    if (f->file && f->line > 0) {
        json_t *region = json_pack("{s:i}", "startLine", f->line);
        if (f->column > 0)
            json_object_set_new(region, "startColumn", json_integer(f->column));
        json_object_set_new(o, "physicalLocation",
                            json_pack("{s:o,s:o}", "artifactLocation", artifact(run, f->file),
                                      "region", region));
    } else if (f->address && f->address < 1ULL << 62) {
        json_object_set_new(o, "physicalLocation",
                            json_pack("{s:{s:I}}", "address", "absoluteAddress",
                                      (json_int_t)f->address));
    }
    if (f->function)
        json_object_set_new(o, "logicalLocations",
                            json_pack("[{s:o,s:s}]", "fullyQualifiedName", text(f->function),
                                      "kind", "function"));
    if (says)
        json_object_set_new(o, "message", message(says));
    return o;
}

static json_t *call_stack(const struct run *run, const struct stack *stack, const char *says,
                          uint32_t thread) {
    json_t *frames = json_array();
    for (int i = 0; i < stack->count; i++) {
        const struct frame *f = &stack->frames[i];
        json_t *frame = json_pack("{s:o,s:i}", "location", location(run, f, NULL), "threadId",
                                  (int)thread);
        if (f->module)
            json_object_set_new(frame, "module", text(f->module));
        json_array_append_new(frames, frame);
    }
    return json_pack("{s:o,s:o}", "message", message(says), "frames", frames);
}

/* The steps of a finding's story in the order they happened. */
struct step {
    const char *says;
    const struct stack *stack;
};

static int story(const struct finding *f, struct step *steps) {
    int n = 0;
    if (f->origin && f->origin_stack.count)
        steps[n++] = (struct step){f->origin == FROM_HEAP ? "the block is allocated"
                                                          : "the variable begins to exist",
                                   &f->origin_stack};
    if (f->has_block && f->allocated.count)
        steps[n++] = (struct step){"the block is allocated", &f->allocated};
    if (f->kind == KIND_DOUBLE_CLOSE) {
        steps[n++] = (struct step){"the descriptor is opened", &f->allocated};
        steps[n++] = (struct step){"the descriptor is closed", &f->freed};
    }
    if (f->has_freed && f->freed.count)
        steps[n++] = (struct step){"the block is freed", &f->freed};
    steps[n++] = (struct step){f->kind == KIND_LEAK              ? "what is lost is allocated"
                               : f->kind == KIND_DESCRIPTOR_LEAK ? "the descriptor is opened"
                                                                 : "the mistake",
                               &f->stack};
    return n;
}

static const struct frame *shown(const struct stack *stack) {
    const struct frame *f = stack_site(stack);
    return f ? f : stack->count ? &stack->frames[0] : NULL;
}

static json_t *result(const struct run *run, const struct finding *f) {
    struct step steps[4];
    int n = story(f, steps);
    json_t *o = json_pack("{s:s,s:i,s:s,s:o,s:{s:s},s:I}", "ruleId", kind_name(f->kind),
                          "ruleIndex", (int)f->kind, "level",
                          f->kind == KIND_LEAK || f->kind == KIND_DESCRIPTOR_LEAK ? "warning"
                                                                                  : "error",
                          "message", message(f->message), "partialFingerprints",
                          "tondoFindingId/v1", f->id, "occurrenceCount",
                          (json_int_t)(f->count ? f->count : 1));
    json_t *locations = json_array(), *related = json_array(), *flow = json_array(),
           *stacks = json_array();
    const struct frame *site = shown(&f->stack);
    if (site)
        json_array_append_new(locations, location(run, site, NULL));
    for (int i = 0; i < n; i++) {
        const struct frame *at = shown(steps[i].stack);
        if (!at)
            continue;
        json_array_append_new(flow, json_pack("{s:o,s:i}", "location",
                                              location(run, at, steps[i].says), "executionOrder",
                                              i + 1));
        json_array_append_new(stacks, call_stack(run, steps[i].stack, steps[i].says, f->thread));
        if (i + 1 < n) {
            json_t *l = location(run, at, steps[i].says);
            json_object_set_new(l, "id", json_integer(i + 1));
            json_array_append_new(related, l);
        }
    }
    if (f->variable.name && f->variable.file && f->variable.line) {
        struct frame declared = {.file = f->variable.file, .line = f->variable.line};
        json_t *l = location(run, &declared, "the variable is declared");
        json_object_set_new(l, "id", json_integer(n + 1));
        json_array_append_new(related, l);
    }
    json_object_set_new(o, "locations", locations);
    if (json_array_size(related))
        json_object_set(o, "relatedLocations", related);
    if (json_array_size(flow) > 1)
        json_object_set_new(o, "codeFlows",
                            json_pack("[{s:[{s:O}]}]", "threadFlows", "locations", flow));
    json_object_set_new(o, "stacks", stacks);
    json_decref(related);
    json_decref(flow);
    json_t *says = NULL;
    if (f->suppressed_by) {
        char why[600];
        snprintf(why, sizeof why, "rule \"%s\"", f->suppressed_by);
        says = json_pack("[{s:s,s:s,s:o}]", "kind", "external", "status", "accepted",
                         "justification", text(why));
    }
    json_object_set_new(o, "suppressions", says ? says : json_array());
    json_t *properties = json_pack("{s:i,s:i}", "pid", (int)f->pid, "thread", (int)f->thread);
    if (f->kind == KIND_LEAK) {
        json_object_set_new(properties, "leakClass", json_string(leak_class_name(f->leak)));
        json_object_set_new(properties, "blocks", json_integer((json_int_t)f->blocks));
        json_object_set_new(properties, "bytes", json_integer((json_int_t)f->bytes));
    }
    json_object_set_new(o, "properties", properties);
    return o;
}

static json_t *rules(void) {
    json_t *list = json_array();
    for (int k = 0; k < KIND_COUNT; k++) {
        enum finding_kind kind = (enum finding_kind)k;
        char cwe[16], id[16];
        snprintf(cwe, sizeof cwe, "CWE-%d", kind_cwe(kind));
        snprintf(id, sizeof id, "%d", kind_cwe(kind));
        json_array_append_new(
            list, json_pack("{s:s,s:s,s:o,s:o,s:o,s:{s:s},s:{s:[s,s,s]},s:[{s:{s:s,s:{s:s}},s:[s]}]}",
                            "id", kind_name(kind), "name", kind_name(kind), "shortDescription",
                            message(kind_heading(kind)), "fullDescription",
                            message(kind_meaning(kind)), "help", message(kind_advice(kind)),
                            "defaultConfiguration", "level",
                            kind == KIND_LEAK || kind == KIND_DESCRIPTOR_LEAK ? "warning" : "error",
                            "properties", "tags", "memory", cwe, "security", "relationships",
                            "target", "id", id, "toolComponent", "name", "CWE", "kinds",
                            "superset"));
    }
    return list;
}

static json_t *taxonomy(void) {
    json_t *taxa = json_array();
    for (int k = 0; k < KIND_COUNT; k++) {
        char id[16];
        snprintf(id, sizeof id, "%d", kind_cwe((enum finding_kind)k));
        json_array_append_new(taxa, json_pack("{s:s,s:o}", "id", id, "shortDescription",
                                              message(kind_heading((enum finding_kind)k))));
    }
    return json_pack("{s:s,s:s,s:o,s:o}", "name", "CWE", "organization", "MITRE",
                     "shortDescription", message("Common Weakness Enumeration"), "taxa", taxa);
}

static json_t *invocation(const struct run *run) {
    json_t *arguments = json_array();
    for (int i = 0; i < run->argument_count; i++)
        json_array_append_new(arguments, text(run->arguments[i]));
    json_t *o = json_pack("{s:b,s:o,s:i}", "executionSuccessful", 1, "arguments", arguments,
                          "processId", (int)run->pid);
    if (run->program)
        json_object_set_new(o, "executableLocation", artifact(run, run->program));
    if (run->started)
        json_object_set_new(o, "startTimeUtc", text(run->started));
    if (run->directory)
        json_object_set_new(o, "workingDirectory",
                            json_pack("{s:o}", "uri", uri_of(run->directory, "file://", true)));
    if (run->signal) {
        json_object_set_new(o, "exitSignalNumber", json_integer(run->signal));
        json_object_set_new(o, "exitSignalName", text(strsignal(run->signal)));
    } else {
        json_object_set_new(o, "exitCode", json_integer(run->status));
    }
    return o;
}

void view_sarif(FILE *to, const struct run *run) {
    json_t *results = json_array();
    for (size_t i = 0; i < run->count; i++)
        json_array_append_new(results, result(run, &run->findings[i]));
    json_t *one = json_pack(
        "{s:{s:{s:s,s:s,s:s,s:o,s:[{s:s}]}},s:[o],s:o,s:[o],s:s}", "tool", "driver", "name",
        "tondo", "version", TONDO_VERSION, "semanticVersion", TONDO_VERSION, "rules", rules(),
        "supportedTaxonomies", "name", "CWE", "invocations", invocation(run), "results", results,
        "taxonomies", taxonomy(), "columnKind", "utf16CodeUnits");
    if (run->directory && run->directory[0] == '/')
        json_object_set_new(one, "originalUriBaseIds",
                            json_pack("{s:{s:o}}", BASE, "uri",
                                      uri_of(run->directory, "file://", true)));
    json_t *root = json_pack("{s:s,s:s,s:[o]}", "$schema", SCHEMA, "version", "2.1.0", "runs", one);
    json_dumpf(root, to, JSON_INDENT(1) | JSON_PRESERVE_ORDER);
    fputc('\n', to);
    json_decref(root);
}

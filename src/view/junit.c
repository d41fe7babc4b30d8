/* The JUnit XML form: every open finding is a failed test case, a suppressed one a
   skipped case, and a run with nothing to report is one passed case. */
#include "view.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

/* Length of the UTF-8 sequence here, 0 when it is none (RFC 3629). */
static int sequence(const unsigned char *p) {
    int n = *p < 0x80 ? 1 : *p >= 0xc2 && *p < 0xe0 ? 2 : *p >= 0xe0 && *p < 0xf0 ? 3
            : *p >= 0xf0 && *p < 0xf5                ? 4
                                                     : 0;
    for (int i = 1; i < n; i++)
        if ((p[i] & 0xc0) != 0x80)
            return 0;
    return n;
}

void xml_escape(FILE *to, const char *text) {
    for (const unsigned char *p = (const unsigned char *)text; *p;) {
        int n = sequence(p);
        if (*p == '&')
            fputs("&amp;", to);
        else if (*p == '<')
            fputs("&lt;", to);
        else if (*p == '>')
            fputs("&gt;", to);
        else if (*p == '"')
            fputs("&quot;", to);
        else if (!n || (*p < 32 && *p != '\n' && *p != '\t'))
            fputc('?', to); /* not allowed in XML 1.0 */
        else
            fwrite(p, 1, (size_t)n, to);
        p += n ? n : 1;
    }
}

static void put_stack(FILE *to, const char *says, const struct stack *stack) {
    fprintf(to, "%s\n", says);
    for (int i = 0; i < stack->count; i++) {
        const struct frame *f = &stack->frames[i];
        fputs("    ", to);
        xml_escape(to, f->function ? f->function : "?");
        fputs("  ", to);
        xml_escape(to, f->file && f->line ? f->file : f->module ? f->module : "?");
        if (f->file && f->line)
            fprintf(to, ":%d", f->line);
        fputc('\n', to);
    }
}

static void put_case(FILE *to, const struct finding *f) {
    const struct frame *site = stack_site(&f->stack);
    if (!site && f->stack.count)
        site = &f->stack.frames[0];
    fprintf(to, "    <testcase classname=\"tondo.%s\" name=\"", kind_name(f->kind));
    xml_escape(to, site && site->function ? site->function : "?");
    if (site && site->file && site->line) {
        fputs(" (", to);
        const char *slash = strrchr(site->file, '/');
        xml_escape(to, slash ? slash + 1 : site->file);
        fprintf(to, ":%d)", site->line);
    }
    fprintf(to, " [%s]\" time=\"0\">\n", f->id);
    if (f->suppressed_by) {
        fputs("      <skipped message=\"suppressed by rule ", to);
        xml_escape(to, f->suppressed_by);
        fputs("\"/>\n", to);
    } else {
        fputs("      <failure message=\"", to);
        xml_escape(to, f->message);
        fprintf(to, "\" type=\"%s\">", kind_name(f->kind));
        xml_escape(to, f->message);
        if (f->count > 1)
            fprintf(to, " [%" PRIu64 " times]", f->count);
        fputc('\n', to);
        put_stack(to, f->kind == KIND_LEAK ? "allocated by" : "at", &f->stack);
        if (f->has_freed)
            put_stack(to, "freed by", &f->freed);
        if (f->has_block)
            put_stack(to, "block allocated by", &f->allocated);
        if (f->kind == KIND_DOUBLE_CLOSE) {
            put_stack(to, "closed first by", &f->freed);
            put_stack(to, "opened by", &f->allocated);
        }
        if (f->origin)
            put_stack(to, f->kind == KIND_OUT_OF_BOUNDS_WRITE ? "the target is a local of"
                                                              : "the value comes from",
                      &f->origin_stack);
        fputs("</failure>\n", to);
    }
    fputs("    </testcase>\n", to);
}

void view_junit(FILE *to, const struct run *run) {
    uint64_t open = run_open(run), skipped = 0;
    for (size_t i = 0; i < run->count; i++)
        skipped += run->findings[i].suppressed_by != NULL;
    uint64_t cases = open + skipped ? open + skipped : 1;
    char counts[200];
    snprintf(counts, sizeof counts,
             "tests=\"%" PRIu64 "\" failures=\"%" PRIu64 "\" errors=\"0\"", cases, open);
    fprintf(to, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites name=\"tondo\" %s time=\"%.3f\">\n",
            counts, run->seconds);
    fputs("  <testsuite name=\"", to);
    xml_escape(to, run->program ? run->program : "?");
    fprintf(to, "\" %s skipped=\"%" PRIu64 "\" time=\"%.3f\"", counts, skipped, run->seconds);
    if (run->started)
        fprintf(to, " timestamp=\"%.19s\"", run->started);
    fputs(">\n", to);
    if (!(open + skipped))
        fputs("    <testcase classname=\"tondo\" name=\"no findings\" time=\"0\"/>\n", to);
    for (size_t i = 0; i < run->count; i++)
        put_case(to, &run->findings[i]);
    fputs("  </testsuite>\n</testsuites>\n", to);
}

/* The HTML form: one file that needs nothing else. Everything stands in the page
   itself and is readable without scripts: pictures are SVG written here. Scripts
   filter, and a chart package takes the place of the heap over time. */
#define _GNU_SOURCE
#include "view.h"

#include "../core/explain.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>

extern const char report_css[], report_js[], history_js[], dygraph_min_js[], dygraph_min_css[];

struct page {
    FILE *to;
    struct run *run;
};

static void put(const struct page *p, const char *text) { xml_escape(p->to, text ? text : "?"); }

static void put_place(const struct page *p, const struct frame *f) {
    if (f->file && f->line) {
        put(p, short_path(p->run, f->file));
        fprintf(p->to, ":%d", f->line);
    } else {
        put(p, base_of(f->module));
        if (!f->function)
            fprintf(p->to, " at 0x%" PRIx64, f->address);
    }
}

static void put_stack(const struct page *p, const char *label, const struct stack *stack) {
    if (!stack->count)
        return;
    fprintf(p->to, "<p class=\"label\">%s</p><ol class=\"stack\">\n", label);
    for (int i = 0; i < stack->count && i < 200; i++) {
        const struct frame *f = &stack->frames[i];
        fprintf(p->to, "<li%s>", f->own ? "" : " class=\"library\"");
        fputs("<span>", p->to);
        put(p, f->function ? f->function : "?");
        fputs("</span> <span>", p->to);
        put_place(p, f);
        fprintf(p->to, "%s</span></li>\n", f->inlined ? ", inlined" : "");
        int same = repeats(stack, i);
        if (same >= 2) {
            fprintf(p->to, "<li class=\"library\"><span>... calls itself %d times or more</span></li>\n",
                    same);
            i += same;
        }
    }
    if (stack->count > 200)
        fprintf(p->to, "<li class=\"library\">%d more frames, all in the session</li>\n",
                stack->count - 200);
    fputs("</ol>\n", p->to);
}

static void put_source(const struct page *p, const struct frame *f) {
    if (!f || !f->file || !f->line)
        return;
    FILE *file = fopen(f->file, "re");
    if (!file)
        return;
    char *line = NULL;
    size_t room = 0;
    bool any = false;
    for (int n = 1; getline(&line, &room, file) >= 0 && n <= f->line + 3; n++) {
        if (n < f->line - 3)
            continue;
        line[strcspn(line, "\r\n")] = 0;
        if (strlen(line) > 400)
            line[400] = 0;
        fprintf(p->to, "%s<span%s><i>%d</i>", any ? "" : "<pre class=\"source\">",
                n == f->line ? " class=\"here\"" : "", n);
        put(p, line);
        fputs("</span>", p->to);
        any = true;
    }
    if (any)
        fputs("</pre>\n", p->to);
    free(line);
    fclose(file);
}

/* The block, its margins and where the access fell, to scale within the block;
   what is further away than a margin is drawn at the margin's end. */
static void put_block(const struct page *p, const struct finding *f, int number) {
    if (!f->has_block || !f->block_size || f->where == WHERE_UNKNOWN)
        return;
    enum { WIDTH = 720, SIDE = 150, TOP = 28, HEIGHT = 34 };
    double inner = WIDTH - 2 * SIDE, scale = inner / (double)f->block_size;
    int64_t begin = f->block_offset;
    uint64_t size = f->size ? f->size : 1;
    if (finding_reaches_out(f)) /* the first bad byte is not where the access began */
        begin = (int64_t)(f->address - f->block_start);
    double x = SIDE + (double)begin * scale;
    double w = (double)size * scale;
    bool far_off = false;
    if (f->where == WHERE_BEFORE) {
        x = SIDE - 4 - (double)-f->block_offset * (scale < 6 ? scale : 6);
        far_off = x < 20;
        x = far_off ? 20 : x;
    } else if (f->where == WHERE_AFTER && begin == f->block_offset) {
        uint64_t behind = (uint64_t)f->block_offset - f->block_size;
        x = WIDTH - SIDE + (double)behind * (scale < 6 ? scale : 6);
        far_off = x > WIDTH - 40;
        x = far_off ? WIDTH - 40 : x;
    }
    w = w < 4 ? 4 : w > WIDTH - x - 4 ? WIDTH - x - 4 : w;
    char bytes[48], range[80];
    if (size > 1)
        snprintf(range, sizeof range, "bytes %" PRId64 " to %" PRId64, begin, begin + (int64_t)size - 1);
    else
        snprintf(range, sizeof range, "byte %" PRId64, begin);
    fprintf(p->to,
            "<figure><svg viewBox=\"0 0 %d 92\" role=\"img\" aria-labelledby=\"p%d\">"
            "<rect class=\"m\" x=\"1\" y=\"%d\" width=\"%d\" height=\"%d\"/>"
            "<rect class=\"m\" x=\"%d\" y=\"%d\" width=\"%d\" height=\"%d\"/>"
            "<rect class=\"b\" x=\"%d\" y=\"%d\" width=\"%d\" height=\"%d\"/>"
            "<text x=\"%d\" y=\"%d\" text-anchor=\"middle\">%s%s</text>"
            "<text x=\"%d\" y=\"84\" text-anchor=\"middle\">0</text>"
            "<text x=\"%d\" y=\"84\" text-anchor=\"middle\">%" PRIu64 "</text>"
            "<rect class=\"a\" x=\"%.1f\" y=\"%d\" width=\"%.1f\" height=\"%d\"/>"
            "<text x=\"%.1f\" y=\"16\" text-anchor=\"middle\">%s of %s%s</text></svg>",
            WIDTH, number, TOP, SIDE - 2, HEIGHT, WIDTH - SIDE + 1, TOP, SIDE - 2, HEIGHT, SIDE,
            TOP, WIDTH - 2 * SIDE, HEIGHT, WIDTH / 2, TOP + 22, f->has_freed ? "freed, " : "",
            quantity(bytes, sizeof bytes, f->block_size, "byte"), SIDE, WIDTH - SIDE, f->block_size, x,
            TOP - 4, w, HEIGHT + 8, x < 110 ? 110.0 : x > WIDTH - 110 ? WIDTH - 110.0 : x,
            f->write ? "write" : "read", range,
            far_off ? " (not to scale)" : "");
    fprintf(p->to, "<figcaption id=\"p%d\">The block, the margins around it (hatched), and where "
            "the access fell: ", number);
    put(p, f->message);
    fputs("</figcaption></figure>\n", p->to);
}

static void put_finding(const struct page *p, const struct finding *f, int at) {
    const struct frame *site = stack_site(&f->stack);
    char text[48];
    fprintf(p->to, "<article id=\"f%s\" class=\"%s%s\" data-kind=\"%s\">\n<h3><span class=\"badge\">",
            f->id, kind_name(f->kind), f->suppressed_by ? " suppressed" : "", kind_name(f->kind));
    if (f->number)
        fprintf(p->to, "%d", f->number);
    else
        fputs("suppressed", p->to);
    fprintf(p->to, "</span>%s", kind_heading(f->kind));
    if (f->kind == KIND_LEAK)
        fprintf(p->to, " (%s)", leak_class_name(f->leak));
    if (site) {
        fputs(" in <code>", p->to);
        put(p, site->function ? site->function : "?");
        fputs("</code>, ", p->to);
        put_place(p, site);
    }
    fputs("</h3>\n<p class=\"message\">", p->to);
    put(p, f->message);
    fprintf(p->to, "</p>\n<p class=\"meta\">CWE-%d, id %s", kind_cwe(f->kind), f->id);
    if (f->count > 1 && f->kind != KIND_LEAK && f->kind != KIND_DESCRIPTOR_LEAK)
        fprintf(p->to, ", %s", quantity(text, sizeof text, f->count, "time"));
    if (f->thread > 1)
        fprintf(p->to, ", thread %u", f->thread);
    if (f->share_count > 1)
        fprintf(p->to, ", in %zu processes", f->share_count);
    else if (f->pid != p->run->pid)
        fprintf(p->to, ", process %u", f->pid);
    if (f->suppressed_by) {
        fputs(", suppressed by ", p->to);
        put(p, f->suppressed_by);
    }
    fputs("</p>\n", p->to);
    put_block(p, f, at);
    put_source(p, site);
    put_stack(p, finding_label(f), &f->stack);
    if (f->origin) {
        if (f->variable.name) {
            fputs("<p class=\"label\">declared as <code>", p->to);
            put(p, f->variable.name);
            fputs("</code>", p->to);
            if (f->variable.line && f->variable.file) {
                struct frame declared = {.file = f->variable.file, .line = f->variable.line};
                fputs(", ", p->to);
                put_place(p, &declared);
            }
            fputs("</p>\n", p->to);
        }
        put_stack(p, f->origin == FROM_HEAP ? "the value comes from a block allocated by"
                     : f->kind == KIND_USE_AFTER_RETURN ? "last used by"
                     : f->kind == KIND_RETURN_ADDRESS_OVERWRITE ? "it begins in a local of"
                     : f->kind == KIND_OUT_OF_BOUNDS_WRITE ? "the target is a local of"
                                            : "the value comes from a local of", &f->origin_stack);
    }
    if (f->has_block && f->has_freed)
        put_stack(p, f->kind == KIND_DOUBLE_FREE ? "freed before by" : "freed by", &f->freed);
    if (f->has_block)
        put_stack(p, "block allocated by", &f->allocated);
    if (f->kind == KIND_DOUBLE_CLOSE) {
        put_stack(p, "closed first by", &f->freed);
        put_stack(p, "opened by", &f->allocated);
    }
    fputs("<details><summary>What it means and what to look at</summary><p>", p->to);
    put(p, kind_meaning(f->kind));
    fputs("</p><p>", p->to);
    put(p, kind_causes(f->kind));
    fputs("</p><p>", p->to);
    put(p, kind_advice(f->kind));
    fputs("</p></details>\n</article>\n", p->to);
}

/* --- the heap over time --- */

static void put_history(const struct page *p) {
    const struct run *run = p->run;
    enum { WIDTH = 1000, HEIGHT = 260, LEFT = 90, BOTTOM = 40, TOP = 24 };
    if (run->sample_count < 4)
        return;
    double last = run->samples[run->sample_count - 1].at, high = 1;
    for (size_t i = 0; i < run->sample_count; i++)
        high = (double)run->samples[i].bytes > high ? (double)run->samples[i].bytes : high;
    high = (double)run->peak_bytes > high && run->process_count <= 1 ? (double)run->peak_bytes : high;
    last = last > 0 ? last : 1;
    double w = WIDTH - LEFT - 20, h = HEIGHT - BOTTOM - TOP;
    char text[48], end[48];
    fprintf(p->to, "<section aria-labelledby=\"time\"><h2 id=\"time\">Live heap over time</h2>\n"
            "<script type=\"application/json\" id=\"heapdata\">[");
    for (size_t i = 0; i < run->sample_count; i++)
        fprintf(p->to, "%s[%.3f,%" PRIu64 "]", i ? "," : "", run->samples[i].at, run->samples[i].bytes);
    fprintf(p->to, "]</script>\n<figure id=\"heapfigure\" data-peak=\"%.3f\">", run->peak_at);
    fprintf(p->to, "<svg viewBox=\"0 0 %d %d\" style=\"max-width:none\" role=\"img\" "
            "aria-labelledby=\"timecaption\"><path class=\"area\" d=\"M%d %.1f", WIDTH, HEIGHT, LEFT,
            TOP + h);
    for (size_t i = 0; i < run->sample_count; i++)
        fprintf(p->to, "L%.1f %.1f", LEFT + w * run->samples[i].at / last,
                TOP + h * (1 - (double)run->samples[i].bytes / high));
    fprintf(p->to, "L%.1f %.1fZ\"/><path class=\"curve\" d=\"", LEFT + w, TOP + h);
    for (size_t i = 0; i < run->sample_count; i++)
        fprintf(p->to, "%s%.1f %.1f", i ? "L" : "M", LEFT + w * run->samples[i].at / last,
                TOP + h * (1 - (double)run->samples[i].bytes / high));
    fprintf(p->to, "\"/><path class=\"axis\" d=\"M%d %dV%.1fH%.1f\"/>", LEFT, TOP, TOP + h, LEFT + w);
    for (int i = 0; i <= 4; i++) {
        fprintf(p->to, "<text x=\"%d\" y=\"%.1f\" text-anchor=\"end\">%s</text>", LEFT - 8,
                TOP + h * (1 - i / 4.0) + 4, human(text, sizeof text, (uint64_t)(high * i / 4)));
        fprintf(p->to, "<text x=\"%.1f\" y=\"%.1f\" text-anchor=\"middle\">%.2f s</text>",
                LEFT + w * i / 4, TOP + h + 20, last * i / 4);
    }
    double x = LEFT + w * run->peak_at / last;
    fprintf(p->to, "<path class=\"peak\" d=\"M%.1f %dV%.1f\"/>"
            "<text x=\"%.1f\" y=\"16\" text-anchor=\"%s\">peak %s</text></svg>\n", x, TOP, TOP + h, x,
            x > WIDTH * .8 ? "end" : x < WIDTH * .2 ? "start" : "middle",
            human(text, sizeof text, run->peak_bytes));
    fprintf(p->to, "<figcaption id=\"timecaption\">%s at the peak, %.2f s after the start; %s at the "
            "end, %.2f s.</figcaption></figure>\n", human(text, sizeof text, run->peak_bytes),
            run->peak_at, human(end, sizeof end, run->samples[run->sample_count - 1].bytes), last);
    if (run->peak_count) {
        fputs("<h3>Who held it at the peak</h3><table class=\"who\">\n", p->to);
        for (size_t i = 0; i < run->peak_count; i++) {
            const struct frame *f = stack_site(&run->peak[i].stack);
            if (!f && run->peak[i].stack.count)
                f = &run->peak[i].stack.frames[run->peak[i].stack.count > 1];
            fprintf(p->to, "<tr><td class=\"n\">%s</td><td><code>",
                    human(text, sizeof text, run->peak[i].bytes));
            put(p, f && f->function ? f->function : "?");
            fputs("</code> ", p->to);
            if (f)
                put_place(p, f);
            fputs("</td></tr>\n", p->to);
        }
        fputs("</table>\n", p->to);
    }
    for (size_t i = 0; i < run->growing_count; i++) {
        const struct frame *f = stack_site(&run->growing[i].stack);
        if (!f && run->growing[i].stack.count)
            f = &run->growing[i].stack.frames[run->growing[i].stack.count > 1];
        if (!i)
            fputs("<h3>Kept growing while the program ran</h3><table class=\"who\">\n", p->to);
        fprintf(p->to, "<tr><td class=\"n\">%s</td><td>from %s in the first quarter: <code>",
                human(text, sizeof text, run->growing[i].bytes),
                human(end, sizeof end, run->growing[i].from));
        put(p, f && f->function ? f->function : "?");
        fputs("</code> ", p->to);
        if (f)
            put_place(p, f);
        fputs("</td></tr>\n", p->to);
    }
    fprintf(p->to, "%s</section>\n", run->growing_count ? "</table>\n" : "");
}

/* The package as it comes, but for the comment that would make a debugger look for
   more files. */
static void put_package(const struct page *p, const char *text, const char *comment) {
    const char *end = strstr(text, comment);
    fwrite(text, 1, end ? (size_t)(end - text) : strlen(text), p->to);
}

static void put_chart_package(const struct page *p) {
    if (p->run->sample_count < 4)
        return;
    fputs("<style>", p->to);
    put_package(p, dygraph_min_css, "/*# source");
    fputs("</style>\n<script>\n", p->to);
    put_package(p, dygraph_min_js, "//# source");
    fprintf(p->to, "</script>\n<script>\n%s</script>\n", history_js);
}

/* --- allocation stacks --- */

static void put_cell(const struct page *p, const struct tree_node *n, uint64_t all, int depth) {
    char bytes[48];
    double share = 100.0 * (double)n->bytes / (double)(all ? all : 1);
    const struct frame *f = n->frame;
    const char *name = f->function ? f->function : base_of(f->module);
    fprintf(p->to, "<li style=\"flex-grow:%" PRIu64 "\"><span class=\"cell%s\" tabindex=\"0\" title=\"",
            n->bytes, f->own ? " own" : "");
    put(p, name);
    fprintf(p->to, ", %s, %.1f%%\">", human(bytes, sizeof bytes, n->bytes), share);
    put(p, name);
    fprintf(p->to, " %s</span>", bytes);
    bool any = false;
    for (const struct tree_node *c = n->child; c && depth < 40; c = c->next) {
        if (c->bytes * 200 < all)
            continue;
        fputs(any ? "" : "<ul>", p->to);
        any = true;
        put_cell(p, c, all, depth + 1);
    }
    fprintf(p->to, "%s</li>\n", any ? "</ul>" : "");
}

static void put_tree(const struct page *p, const char *id, const char *title, bool whole) {
    const struct tree_node *root = tree_build(p->run, whole);
    char bytes[48], blocks[48];
    if (!root->child)
        return;
    fprintf(p->to, "<section aria-labelledby=\"%s\"><h2 id=\"%s\">%s</h2>\n<p class=\"soft\">%s in %s. "
            "Each bar stands below its caller and is as wide as what it asked for; your own code is "
            "in the stronger colour.</p>\n<div class=\"icicle\"><ul>\n", id, id, title,
            human(bytes, sizeof bytes, root->bytes),
            quantity(blocks, sizeof blocks, root->blocks, "block"));
    for (const struct tree_node *c = root->child; c; c = c->next)
        put_cell(p, c, root->bytes, 0);
    fputs("</ul></div></section>\n", p->to);
}

/* --- processes --- */

static void put_end(const struct page *p, const struct process *q) {
    if (q->end == END_EXIT)
        fprintf(p->to, "exit status %d", q->status);
    else if (q->end == END_SIGNAL)
        fprintf(p->to, "died of signal %d (%s)", q->signal, strsignal(q->signal));
    else
        fputs(q->end == END_REPLACED  ? "went on as another program"
              : q->end == END_RUNNING ? "still running"
                                      : "killed", p->to);
}

static void put_process(const struct page *p, size_t at, int depth) {
    const struct process *q = &p->run->processes[at];
    char text[48];
    uint64_t n = run_open_in(p->run, q->pid);
    fprintf(p->to, "<li>%u <code>", q->pid);
    put(p, q->command);
    fprintf(p->to, "</code> <span class=\"soft\">%s", q->forked ? "forked, " : "");
    put_end(p, q);
    fputs("</span>", p->to);
    if (n)
        fprintf(p->to, " <strong>%s</strong>", quantity(text, sizeof text, n, "finding"));
    bool any = false;
    for (size_t i = at + 1; i < p->run->process_count && depth < 60; i++)
        if (p->run->processes[i].parent == (int)at) {
            fputs(any ? "" : "<ul>", p->to);
            any = true;
            put_process(p, i, depth + 1);
        }
    fprintf(p->to, "%s</li>\n", any ? "</ul>" : "");
}

static void put_processes(const struct page *p) {
    if (p->run->process_count < 2)
        return;
    fputs("<section aria-labelledby=\"processes\"><h2 id=\"processes\">Processes</h2>"
          "<div class=\"processes\"><ul>\n", p->to);
    for (size_t i = 0; i < p->run->process_count; i++)
        if (p->run->processes[i].parent < 0)
            put_process(p, i, 0);
    fputs("</ul></div></section>\n", p->to);
}

/* --- the page --- */

static void put_title(const struct page *p) {
    const struct run *run = p->run;
    uint64_t open = run_open(run);
    char text[48];
    if (open)
        fputs(quantity(text, sizeof text, open, "finding"), p->to);
    else
        fputs("Nothing found", p->to);
    fputs(" in ", p->to);
    put(p, run->program ? short_path(p->run, run->program) : "?");
}

static void put_summary(const struct page *p) {
    const struct run *run = p->run;
    char a[48], b[48], c[48], d[48];
    fputs("<section id=\"summary\" class=\"cards\" aria-label=\"Summary\">\n<div class=\"card\"><h3>"
          "Findings</h3><table>\n", p->to);
    uint64_t n[KIND_COUNT] = {0}, suppressed = run_suppressed(run);
    for (size_t i = 0; i < run->count; i++)
        n[run->findings[i].kind] += !run->findings[i].suppressed_by;
    for (int k = 0; k < KIND_COUNT; k++)
        if (n[k])
            fprintf(p->to, "<tr><td>%s</td><td class=\"n\">%" PRIu64 "</td></tr>\n",
                    kind_heading((enum finding_kind)k), n[k]);
    if (!run_open(run))
        fputs("<tr><td>none</td></tr>\n", p->to);
    if (suppressed)
        fprintf(p->to, "<tr><td class=\"soft\">suppressed</td><td class=\"n\">%" PRIu64 "</td></tr>\n",
                suppressed);
    fprintf(p->to, "</table></div>\n<div class=\"card\"><h3>Heap</h3><table>\n"
            "<tr><td>allocated</td><td class=\"n\">%s</td><td class=\"n\">%s</td></tr>\n"
            "<tr><td>freed</td><td></td><td class=\"n\">%s</td></tr>\n"
            "<tr><td>at the peak</td><td class=\"n\">%s</td><td></td></tr>\n</table></div>\n",
            human(a, sizeof a, run->allocated_bytes), quantity(c, sizeof c, run->allocations, "block"),
            quantity(d, sizeof d, run->frees, "block"), human(b, sizeof b, run->peak_bytes));
    fputs("<div class=\"card\"><h3>Left on the heap at exit</h3><table>\n", p->to);
    static const char *const meanings[] = {"nothing points there", "lost with their owners",
                                           "only a pointer into the middle", "still pointed to"};
    bool any = false;
    for (int c = 0; c < LEAK_CLASSES; c++)
        if (run->leaks[c].blocks) {
            any = true;
            fprintf(p->to, "<tr><td>%s <span class=\"soft\">%s</span></td><td class=\"n\">%s</td>"
                    "<td class=\"n\">%s</td></tr>\n", leak_class_name((enum leak_class)c), meanings[c],
                    human(a, sizeof a, run->leaks[c].bytes),
                    quantity(b, sizeof b, run->leaks[c].blocks, "block"));
        }
    if (!any)
        fprintf(p->to, "<tr><td>%s</td></tr>\n",
                run->searched ? "nothing" : "could not be searched: the memory could not be read");
    fputs("</table></div>\n</section>\n", p->to);
}

static void put_filter(const struct page *p) {
    bool has[KIND_COUNT] = {false};
    for (size_t i = 0; i < p->run->count; i++)
        has[p->run->findings[i].kind] = true;
    fputs("<form class=\"filter scripted\" role=\"search\"><label>Search (key /)"
          "<input type=\"search\" name=\"q\" autocomplete=\"off\"></label>"
          "<label>Kind<select name=\"kind\"><option value=\"\">all</option>", p->to);
    for (int k = 0; k < KIND_COUNT; k++)
        if (has[k])
            fprintf(p->to, "<option value=\"%s\">%s</option>", kind_name((enum finding_kind)k),
                    kind_heading((enum finding_kind)k));
    fprintf(p->to, "</select></label><label class=\"box\"%s><input type=\"checkbox\" "
            "name=\"suppressed\"> suppressed ones too</label><span id=\"shown\" role=\"status\" "
            "class=\"soft\"></span></form>\n", run_suppressed(p->run) ? "" : " hidden");
}

void view_html(FILE *to, struct run *run) {
    struct page page = {to, run}, *p = &page;
    fputs("<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
          "<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n"
          "<meta http-equiv=\"Content-Security-Policy\" content=\"default-src 'none'; style-src "
          "'unsafe-inline'; script-src 'unsafe-inline'; img-src data:\">\n<title>", to);
    put_title(p);
    fprintf(to, "</title>\n<style>\n%s</style>\n</head>\n<body>\n"
            "<svg width=\"0\" height=\"0\" style=\"position:absolute\" aria-hidden=\"true\"><defs>"
            "<pattern id=\"hatch\" width=\"8\" height=\"8\" patternUnits=\"userSpaceOnUse\" "
            "patternTransform=\"rotate(45)\"><line x1=\"0\" y1=\"0\" x2=\"0\" y2=\"8\" "
            "class=\"m\" stroke-width=\"3\"/></pattern></defs></svg>\n<a class=\"skip\" href=\"#findings\">"
            "Skip to the findings</a>\n<header>\n<h1>", report_css);
    put_title(p);
    fputs("</h1>\n<p class=\"facts\"><code>", to);
    put(p, run->program ? run->program : "?");
    for (int i = 0; i < run->argument_count; i++) {
        fputc(' ', to);
        put(p, run->arguments[i]);
    }
    fputs("</code><br>in ", to);
    put(p, run->directory);
    fputs(", ", to);
    put(p, run->started);
    fprintf(to, ", %.1f s, ", run->seconds);
    if (run->signal)
        fprintf(to, "died of signal %d (%s)", run->signal, strsignal(run->signal));
    else
        fprintf(to, "exit status %d", run->status);
    fputs("</p>\n<nav aria-label=\"Parts of the report\"><ul><li><a href=\"#summary\">Summary</a></li>"
          "<li><a href=\"#findings\">Findings</a></li>", to);
    if (tree_build(run, false)->child)
        fputs("<li><a href=\"#lost\">Lost memory</a></li>", to);
    if (tree_build(run, true)->child)
        fputs("<li><a href=\"#left\">All that was left</a></li>", to);
    if (run->sample_count >= 4)
        fputs("<li><a href=\"#time\">Heap over time</a></li>", to);
    if (run->process_count > 1)
        fputs("<li><a href=\"#processes\">Processes</a></li>", to);
    fputs("</ul></nav>\n</header>\n<main>\n<h2 class=\"skip\">Summary</h2>\n", to);
    put_summary(p);
    fputs("<section aria-labelledby=\"findings\"><h2 id=\"findings\">Findings</h2>\n", to);
    if (run->count)
        put_filter(p);
    else
        fputs("<p>Nothing was found.</p>\n", to);
    for (size_t i = 0; i < run->count; i++)
        put_finding(p, &run->findings[i], (int)i + 1);
    fputs("</section>\n", to);
    put_tree(p, "lost", "Lost memory by callers", false);
    put_tree(p, "left", "All that was left on the heap, by callers", true);
    put_history(p);
    put_processes(p);
    fprintf(to, "</main>\n<footer>Written by tondo %s. The whole run is in its session: <code>tondo show"
            "</code>.</footer>\n<script>\n%s</script>\n", TONDO_VERSION, report_js);
    put_chart_package(p);
    fputs("</body>\n</html>\n", to);
}

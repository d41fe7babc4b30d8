/* The text form: for a tired person at a terminal. The first line of a finding
   says what happened and where in their own code; library frames are dimmed. */
#define _GNU_SOURCE
#include "view.h"

#include <inttypes.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>
#include <uthash.h>

struct page {
    FILE *to;
    const struct run *run;
    const struct view_options *options;
    char host[256];
};

enum style { PLAIN, TITLE, PLACE, FAINT, MARK };

void view_detect(struct view_options *options, FILE *to) {
    int fd = fileno(to);
    bool terminal = fd >= 0 && isatty(fd);
    const char *no_colour = getenv("NO_COLOR"), *term = getenv("TERM");
    options->colour = terminal && !(no_colour && *no_colour) && term && strcmp(term, "dumb") != 0;
    const char *program = getenv("TERM_PROGRAM");
    options->links = options->colour &&
                     (getenv("VTE_VERSION") || getenv("KITTY_WINDOW_ID") || getenv("KONSOLE_VERSION") ||
                      (program && (strcmp(program, "iTerm.app") == 0 ||
                                   strcmp(program, "WezTerm") == 0 || strcmp(program, "vscode") == 0)));
    struct winsize size;
    options->width = 100;
    if (terminal && ioctl(fd, TIOCGWINSZ, &size) == 0 && size.ws_col >= 40)
        options->width = size.ws_col;
}

static const char *style(const struct page *p, enum style s) {
    static const char *const codes[] = {"\033[0m", "\033[1;35m", "\033[1m", "\033[2m", "\033[36m"};
    return p->options->colour ? codes[s] : "";
}

/* Writes where a frame is; returns the columns it takes. */
static int put_place(const struct page *p, const struct frame *f) {
    char text[4400];
    int n;
    if (f->file && f->line && f->file[0] == '/') {
        n = f->column ? snprintf(text, sizeof text, "%s:%d:%d", short_path(p->run, f->file), f->line,
                                 f->column)
                      : snprintf(text, sizeof text, "%s:%d", short_path(p->run, f->file), f->line);
        if (p->options->links)
            fprintf(p->to, "\033]8;;file://%s%s\033\\%s\033]8;;\033\\", p->host, f->file, text);
        else
            fputs(text, p->to);
        return n;
    }
    n = snprintf(text, sizeof text, "%s", f->module ? base_of(f->module) : "unknown code");
    fputs(text, p->to);
    if (!f->function)
        n += fprintf(p->to, " at 0x%" PRIx64, f->address);
    return n;
}

static void put_frame(const struct page *p, const char *label, const struct frame *f, int wide) {
    fprintf(p->to, "    %s%-13s%s", style(p, FAINT), label, style(p, PLAIN));
    fputs(f->own ? "" : style(p, FAINT), p->to);
    char name[256];
    int n = fprintf(p->to, "%s", short_name(f, name, sizeof name));
    fprintf(p->to, "%*s", n < wide ? wide - n + 2 : 2, "");
    put_place(p, f);
    if (f->inlined)
        fprintf(p->to, "%s, inlined", style(p, FAINT));
    fprintf(p->to, "%s\n", style(p, PLAIN));
}

static int widest(const struct stack *stack, int wide) {
    for (int i = 0; i < stack->count; i++) {
        char name[256];
        int n = (int)strlen(short_name(&stack->frames[i], name, sizeof name));
        if (n > wide && n <= 34)
            wide = n;
    }
    return wide;
}

/* How many frames of libraries follow each other here before one of the user's own. */
static int library_stretch(const struct stack *stack, int i) {
    int n = 0;
    while (i + n < stack->count && !stack->frames[i + n].own)
        n++;
    return i + n < stack->count ? n : 0;
}

/* Frames with a label before the first; long recursion and long library
   stretches are cut short: what was called and where it ended is left of these. */
static void put_stack(const struct page *p, const char *label, const struct stack *stack, int wide) {
    enum { LONG_STRETCH = 5 };
    int shown = 0, limit = 30;
    for (int i = 0; i < stack->count; i++) {
        const struct frame *f = &stack->frames[i];
        int stretch = i == 0 || stack->frames[i - 1].own ? library_stretch(stack, i) : 0;
        if (stretch >= LONG_STRETCH) {
            put_frame(p, shown ? "" : label, f, wide);
            fprintf(p->to, "    %-13s%s... %d more of the library%s\n", "", style(p, FAINT),
                    stretch - 2, style(p, PLAIN));
            put_frame(p, "", f + stretch - 1, wide);
            shown += 3;
            i += stretch - 1;
            continue;
        }
        int same = repeats(stack, i);
        if (shown == limit) {
            fprintf(p->to, "    %-13s%s... %d more frames, all in the session%s\n", "",
                    style(p, FAINT), stack->count - i, style(p, PLAIN));
            return;
        }
        put_frame(p, shown ? "" : label, f, wide);
        shown++;
        if (same >= 2) {
            fprintf(p->to, "    %-13s%s... calls itself %d times or more%s\n", "", style(p, FAINT),
                    same, style(p, PLAIN));
            i += same;
        }
    }
}

static void put_source(const struct page *p, const struct frame *f) {
    if (!f || !f->file || !f->line)
        return;
    FILE *file = fopen(f->file, "re");
    if (!file)
        return;
    char *line = NULL;
    size_t room = 0;
    int digits = snprintf(NULL, 0, "%d", f->line + 2);
    for (int number = 1; getline(&line, &room, file) >= 0 && number <= f->line + 2; number++) {
        if (number < f->line - 2)
            continue;
        line[strcspn(line, "\r\n")] = 0;
        char flat[1024];
        size_t at = 0, column = 0;
        for (const char *c = line; *c && at + 9 < sizeof flat; c++) {
            if (c - line == f->column - 1)
                column = at;
            if (*c == '\t')
                do
                    flat[at++] = ' ';
                while (at % 4);
            else
                flat[at++] = *c;
        }
        flat[at] = 0;
        int room_left = p->options->width - digits - 9;
        if (room_left > 20 && at > (size_t)room_left)
            flat[room_left] = 0;
        bool here = number == f->line;
        fprintf(p->to, "    %s%s %*d%s %s%s%s\n", here ? style(p, MARK) : style(p, FAINT),
                here ? ">" : " ", digits, number, here ? "" : "", here ? style(p, PLACE) : "", flat,
                style(p, PLAIN));
        if (here && f->column > 0 && column < (size_t)(room_left > 0 ? room_left : 80))
            fprintf(p->to, "    %s  %*s %*s^%s\n", style(p, MARK), digits, "", (int)column, "",
                    style(p, PLAIN));
    }
    free(line);
    fclose(file);
    fputc('\n', p->to);
}

static void put_origin(const struct page *p, const struct finding *f, int wide) {
    if (!f->origin || !f->origin_stack.count)
        return;
    if (f->variable.name && f->variable.line) {
        struct frame declared = {.file = f->variable.file, .line = f->variable.line, .own = true};
        fprintf(p->to, "    %s%-12s%s %s%s%s", style(p, FAINT), "declared as", style(p, PLAIN),
                style(p, PLACE), f->variable.name, style(p, PLAIN));
        if (declared.file && declared.file[0] == '/') {
            fputs(", ", p->to);
            put_place(p, &declared);
        } else if (declared.file) { /* of a library that was compiled elsewhere */
            fprintf(p->to, ", %s:%d", base_of(declared.file), declared.line);
        }
        fputc('\n', p->to);
    }
    put_stack(p, f->origin == FROM_HEAP    ? "allocated by"
                 : f->kind == KIND_USE_AFTER_RETURN ? "last used by"
                 : f->origin == FROM_STACK ? "a local of"
                                           : "noticed in",
              &f->origin_stack, wide);
}

/* On a line of its own, broken between words where the page ends. */
static void put_message(const struct page *p, const char *message) {
    int column = p->options->width;
    for (const char *word = message; *word;) {
        int length = (int)strcspn(word, " ");
        if (column + 1 + length > p->options->width - 1) {
            fputs("\n    ", p->to);
            column = 4;
        } else {
            fputc(' ', p->to);
            column++;
        }
        fprintf(p->to, "%.*s", length, word);
        column += length;
        word += length;
        word += strspn(word, " ");
    }
}

static void put_finding(const struct page *p, const struct finding *f, int number) {
    const struct frame *site = stack_site(&f->stack);
    char name[256];
    fprintf(p->to, "%s%d. %s%s", style(p, TITLE), number, kind_heading(f->kind), style(p, PLAIN));
    if (f->kind == KIND_LEAK)
        fprintf(p->to, " %s(%s)%s", style(p, FAINT), leak_class_name(f->leak), style(p, PLAIN));
    if (site) {
        fprintf(p->to, " in %s%s%s, ", style(p, PLACE), short_name(site, name, sizeof name), style(p, PLAIN));
        put_place(p, site);
    }
    put_message(p, f->message);
    if (f->count > 1 && f->kind != KIND_LEAK && f->kind != KIND_DESCRIPTOR_LEAK)
        fprintf(p->to, " %s[%" PRIu64 " times]%s", style(p, MARK), f->count, style(p, PLAIN));
    if (f->thread > 1)
        fprintf(p->to, " %s(thread %u)%s", style(p, FAINT), f->thread, style(p, PLAIN));
    if (f->share_count > 1)
        fprintf(p->to, " %s(in %zu processes)%s", style(p, FAINT), f->share_count, style(p, PLAIN));
    else if (f->pid != p->run->pid)
        fprintf(p->to, " %s(process %u)%s", style(p, FAINT), f->pid, style(p, PLAIN));
    fputs("\n\n", p->to);
    put_source(p, site);
    int wide = widest(&f->stack, 12);
    if (f->has_block || f->kind == KIND_DOUBLE_CLOSE)
        wide = widest(&f->allocated, widest(&f->freed, wide));
    if (f->origin)
        wide = widest(&f->origin_stack, wide);
    put_stack(p, finding_label(f), &f->stack, wide);
    put_origin(p, f, wide);
    if (f->has_block && f->has_freed)
        put_stack(p, f->kind == KIND_DOUBLE_FREE ? "freed before" : "freed by", &f->freed, wide);
    if (f->has_block)
        put_stack(p, "allocated by", &f->allocated, wide);
    if (f->kind == KIND_DOUBLE_CLOSE) {
        put_stack(p, "closed first", &f->freed, wide);
        put_stack(p, "opened by", &f->allocated, wide);
    }
    fputc('\n', p->to);
}

static void put_leak_class(const struct page *p, enum leak_class c, const char *meaning) {
    char bytes[48], blocks[48];
    const struct tally *t = &p->run->leaks[c];
    if (!t->blocks)
        return;
    fprintf(p->to, "  %-12s %s in %s: %s\n", leak_class_name(c),
            quantity(bytes, sizeof bytes, t->bytes, "byte"),
            quantity(blocks, sizeof blocks, t->blocks, "block"), meaning);
}

struct rule_count {
    const char *name;
    uint64_t count;
    UT_hash_handle hh;
};

static void put_suppressed(const struct page *p) {
    uint64_t total = run_suppressed(p->run);
    struct rule_count *rules = NULL, *r, *next;
    char text[48];
    if (!total)
        return;
    for (size_t i = 0; i < p->run->count; i++) {
        const char *name = p->run->findings[i].suppressed_by;
        if (!name)
            continue;
        HASH_FIND_STR(rules, name, r);
        if (!r) {
            r = calloc(1, sizeof *r);
            r->name = name;
            HASH_ADD_KEYPTR(hh, rules, name, strlen(name), r);
        }
        r->count++;
    }
    fprintf(p->to, "Suppressed: %s", quantity(text, sizeof text, total, "finding"));
    const char *separator = ", by ";
    HASH_ITER(hh, rules, r, next) {
        fprintf(p->to, "%s\"%s\" (%" PRIu64 ")", separator, r->name, r->count);
        separator = ", ";
        HASH_DEL(rules, r);
        free(r);
    }
    fputs("\n", p->to);
}

/* Own code without line information stands in an open finding. */
static bool misses_lines(const struct run *run) {
    for (size_t i = 0; i < run->count; i++) {
        const struct stack *stack = &run->findings[i].stack;
        for (int k = 0; k < stack->count && !run->findings[i].suppressed_by; k++) {
            const struct frame *f = &stack->frames[k];
            if (f->own && !f->line && !(f->function && strcmp(f->function, "_start") == 0))
                return true;
        }
    }
    return false;
}

/* Where the live heap stood, and who kept taking: losses that are still pointed to. */
static void put_history(const struct page *p) {
    const struct run *run = p->run;
    char a[48], b[48];
    if (run->sample_count > 3 && run->peak_seen && run->seconds >= 0.2)
        fprintf(p->to, "Live heap: %s at the peak, about %.1f s after the start, %s at the end\n",
                human(a, sizeof a, run->peak_bytes), run->peak_at,
                human(b, sizeof b, run->samples[run->sample_count - 1].bytes));
    for (size_t i = 0; i < run->growing_count && i < 3; i++) {
        const struct holding *h = &run->growing[i];
        const struct frame *site = stack_site(&h->stack);
        if (!site && h->stack.count > 1)
            site = &h->stack.frames[1];
        if (i == 0)
            fputs("Kept growing while the program ran:\n", p->to);
        fprintf(p->to, "  %s, from %s in its first quarter: ", human(a, sizeof a, h->bytes),
                human(b, sizeof b, h->from));
        if (site) {
            char name[256];
            fprintf(p->to, "%s, ", short_name(site, name, sizeof name));
            put_place(p, site);
        } else {
            fputs("unknown code", p->to);
        }
        fputc('\n', p->to);
    }
}

static void put_summary(const struct page *p) {
    const struct run *run = p->run;
    char a[48], b[48], c[48], d[48];
    fprintf(p->to, "Heap: %s of %s in all, %s freed, %s at the peak\n",
            quantity(a, sizeof a, run->allocations, "allocation"),
            human(b, sizeof b, run->allocated_bytes), quantity(c, sizeof c, run->frees, "block"),
            human(d, sizeof d, run->peak_bytes));
    put_history(p);
    uint64_t live = 0;
    for (int i = 0; i < LEAK_CLASSES; i++)
        live += run->leaks[i].blocks;
    if (!run->searched) {
        fputs("The heap could not be searched for leaks: the program's memory could not be read.\n", p->to);
    } else if (!live) {
        fputs("Nothing was left on the heap at exit.\n", p->to);
    } else {
        fputs("Left on the heap at exit:\n", p->to);
        put_leak_class(p, LEAK_UNREACHABLE, "lost, nothing points there");
        put_leak_class(p, LEAK_DEPENDENT, "lost together with their owners");
        put_leak_class(p, LEAK_INTERIOR, "only a pointer into the middle is left");
        put_leak_class(p, LEAK_REACHABLE,
                       run->kept ? "still pointed to (no findings; --reachable makes them some)"
                                 : "still pointed to");
    }
    put_suppressed(p);
    if (run->incomplete)
        fputs("More was found than could be kept: some findings or call stacks are missing here.\n",
              p->to);
    if (misses_lines(run))
        fputs("Hint: parts of the program were built without -g; with it, source lines are "
              "shown.\n", p->to);
}

static void put_end(FILE *to, enum process_end end, int status, int number) {
    switch (end) {
    case END_EXIT:
        fprintf(to, "exit status %d", status);
        break;
    case END_SIGNAL:
        fprintf(to, "died of signal %d (%s)", number, strsignal(number));
        break;
    case END_REPLACED:
        fputs("went on as another program", to);
        break;
    case END_RUNNING:
        fputs("still running", to);
        break;
    case END_LOST:
        fputs("killed", to);
    }
}

/* --- the process tree --- */

/* Processes that only came between: a fork that became another program. */
static bool is_passing(const struct run *run, size_t i) {
    return i && run->processes[i].end == END_REPLACED &&
           !run_open_in(run, run->processes[i].pid);
}

static void put_process(const struct page *p, size_t at, int depth, int *room) {
    const struct run *run = p->run;
    const struct process *q = &run->processes[at];
    bool shown = !is_passing(run, at);
    if (shown && (*room)-- > 0) {
        char text[48];
        uint64_t n = run_open_in(run, q->pid);
        int left = p->options->width - 2 * depth - 44;
        fprintf(p->to, "  %*s%-7u %.*s  %s(%s", 2 * depth, "", q->pid, left > 20 ? left : 20,
                q->command ? q->command : "?", style(p, FAINT), q->forked ? "forked, " : "");
        put_end(p->to, q->end, q->status, q->signal);
        fprintf(p->to, ")%s", style(p, PLAIN));
        if (n && q->end != END_REPLACED)
            fprintf(p->to, "  %s%s%s", style(p, MARK), quantity(text, sizeof text, n, "finding"),
                    style(p, PLAIN));
        fputc('\n', p->to);
    }
    for (size_t i = at + 1; i < run->process_count && depth < 40; i++)
        if (run->processes[i].parent == (int)at)
            put_process(p, i, depth + shown, room);
}

static void put_processes(const struct page *p, int limit) {
    size_t shown = 0;
    for (size_t i = 0; i < p->run->process_count; i++)
        shown += !is_passing(p->run, i);
    if (shown < 2)
        return;
    int room = limit;
    fputs("Processes:\n", p->to);
    for (size_t i = 0; i < p->run->process_count; i++)
        if (p->run->processes[i].parent < 0)
            put_process(p, i, 0, &room);
    if (room < 0)
        fprintf(p->to, "  ... %d more (tondo show --by process)\n", -room);
    fputc('\n', p->to);
}

/* "2 memory mistakes, 1 leak and 1 open descriptor" */
static void put_counts(FILE *to, const struct run *run) {
    uint64_t n[4] = {0};
    static const char *const units[] = {"memory mistake", "leak", "open descriptor", "double close"};
    for (size_t i = 0; i < run->count; i++)
        if (!run->findings[i].suppressed_by)
            n[run->findings[i].kind == KIND_LEAK              ? 1
              : run->findings[i].kind == KIND_DESCRIPTOR_LEAK ? 2
              : run->findings[i].kind == KIND_DOUBLE_CLOSE    ? 3
                                                              : 0]++;
    int kinds = !!n[0] + !!n[1] + !!n[2] + !!n[3], shown = 0;
    if (!kinds)
        fputs("nothing found", to);
    for (int i = 0; i < 4; i++) {
        char text[48];
        if (n[i] && shown++)
            fputs(shown == kinds ? " and " : ", ", to);
        if (n[i])
            fputs(quantity(text, sizeof text, n[i], units[i]), to);
    }
}

void view_text(FILE *to, const struct run *run, const struct view_options *options) {
    struct page page = {.to = to, .run = run, .options = options};
    gethostname(page.host, sizeof page.host - 1);
    fprintf(to, "%stondo:%s ", style(&page, TITLE), style(&page, PLAIN));
    put_counts(to, run);
    fprintf(to, " in %s (", run->program ? short_path(run, run->program) : "?");
    put_end(to, run->signal ? END_SIGNAL : END_EXIT, run->status, run->signal);
    fprintf(to, ", %.1f s)\n\n", run->seconds);
    if (options->by != BY_STACK && options->by != BY_PROCESS) {
        view_groups(to, run, options);
    } else if (options->by == BY_STACK) {
        int number = 0;
        for (size_t i = 0; i < run->count; i++)
            if (!run->findings[i].suppressed_by)
                put_finding(&page, &run->findings[i],
                            run->findings[i].number ? run->findings[i].number : number + 1),
                    number++;
    }
    put_processes(&page, options->by == BY_PROCESS ? 100000 : 24);
    put_summary(&page);
}

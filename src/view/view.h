/* Reports: one function per form. They write to an open stream and read the
   run; none of them decides anything. */
#ifndef TONDO_VIEW_H
#define TONDO_VIEW_H

#include "../core/model.h"
#include "../core/rules.h"
#include "../core/tree.h"

#include <stdio.h>

enum grouping { BY_STACK, BY_SITE, BY_FUNCTION, BY_FILE, BY_MODULE, BY_KIND, BY_PROCESS, GROUPINGS };

struct view_options {
    bool colour, links; /* links: OSC 8 */
    int width;          /* columns */
    enum grouping by;
    uint64_t top; /* groups shown, 0: all */
};

/* Colour, width and links as the stream's terminal and the environment say. */
void view_detect(struct view_options *options, FILE *to);
/* GROUPINGS: no such grouping. */
enum grouping view_grouping(const char *name);

/* Relative to the run's folder where that is shorter to read. */
const char *short_path(const struct run *run, const char *path);
/* The last part of a path; null is "unknown code". */
const char *base_of(const char *path);
/* What stands before a finding's own stack: "written by", "allocated by". */
const char *finding_label(const struct finding *finding);
/* A function's name with `instead` for its template arguments. */
void plain_name(const char *name, const char *instead, char *to, size_t size);
/* As a line of text has room for it: long template arguments are left out. */
const char *short_name(const struct frame *f, char *to, size_t size);
/* "12 bytes", "3.4 MiB" */
const char *human(char *to, size_t size, uint64_t bytes);

void view_text(FILE *to, const struct run *run, const struct view_options *options);
/* One `file:line:column: kind: message` per finding. */
void view_line(FILE *to, const struct run *run);
/* SARIF 2.1.0 (OASIS); JUnit XML. */
void view_sarif(FILE *to, const struct run *run);
/* One self-contained page. */
void view_html(FILE *to, struct run *run);
void view_junit(FILE *to, const struct run *run);
/* Text as XML and HTML take it; what is not allowed there becomes '?'. */
void xml_escape(FILE *to, const char *text);
/* Lost memory by callers; whole: all that was left on the heap. */
void view_tree(FILE *to, const struct tree_node *root, bool whole,
               const struct view_options *options);
void view_groups(FILE *to, const struct run *run, const struct view_options *options);

/* How many frames behind this one are of the same function and line. */
int repeats(const struct stack *stack, int i);

#endif

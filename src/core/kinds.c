/* Finding kinds by number and by name; everything comes from the one table. */
#include "kinds.h"

#include <string.h>

static const struct {
    const char *name;
    int cwe;
    const char *heading;
} kinds[KIND_COUNT] = {
#define X(constant, name, cwe, heading) [constant] = {name, cwe, heading},
    FINDING_KINDS(X)
#undef X
};

const char *kind_name(enum finding_kind kind) {
    return kind < KIND_COUNT ? kinds[kind].name : "unknown";
}

int kind_cwe(enum finding_kind kind) { return kind < KIND_COUNT ? kinds[kind].cwe : 0; }

const char *kind_heading(enum finding_kind kind) {
    return kind < KIND_COUNT ? kinds[kind].heading : "Unknown finding";
}

enum finding_kind kind_from_name(const char *name) {
    for (int kind = 0; kind < KIND_COUNT; kind++)
        if (strcmp(kinds[kind].name, name) == 0)
            return (enum finding_kind)kind;
    return KIND_COUNT;
}

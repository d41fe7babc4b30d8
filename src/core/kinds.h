/* The table of finding kinds: one row per kind. Names and numbers follow CWE. */
#ifndef TONDO_KINDS_H
#define TONDO_KINDS_H

/* X(constant, name, CWE, heading for people) */
#define FINDING_KINDS(X)                                                                   \
    X(KIND_OUT_OF_BOUNDS_READ, "out-of-bounds-read", 125, "Out-of-bounds read")            \
    X(KIND_OUT_OF_BOUNDS_WRITE, "out-of-bounds-write", 787, "Out-of-bounds write")         \
    X(KIND_USE_AFTER_FREE, "use-after-free", 416, "Use after free")                        \
    X(KIND_DOUBLE_FREE, "double-free", 415, "Double free")                                 \
    X(KIND_INVALID_FREE, "invalid-free", 590, "Invalid free")                              \
    X(KIND_MISMATCHED_DEALLOCATION, "mismatched-deallocation", 762,                        \
      "Mismatched deallocation")                                                           \
    X(KIND_UNINITIALIZED_VALUE, "uninitialized-value", 457, "Uninitialized value")         \
    X(KIND_NULL_DEREFERENCE, "null-dereference", 476, "Null dereference")                  \
    X(KIND_INVALID_ACCESS, "invalid-access", 822, "Invalid access")                        \
    X(KIND_USE_AFTER_RETURN, "use-after-return", 562, "Use after return")                  \
    X(KIND_RETURN_ADDRESS_OVERWRITE, "return-address-overwrite", 121,                      \
      "Return address overwritten")                                                        \
    X(KIND_OVERLAPPING_COPY, "overlapping-copy", 475, "Overlapping copy")                  \
    X(KIND_INVALID_SIZE, "invalid-size", 789, "Invalid size")                              \
    X(KIND_LEAK, "leak", 401, "Leak")                                                      \
    X(KIND_DESCRIPTOR_LEAK, "descriptor-leak", 775, "Descriptor leak")                     \
    X(KIND_DOUBLE_CLOSE, "double-close", 1341, "Double close")

enum finding_kind {
#define X(constant, name, cwe, heading) constant,
    FINDING_KINDS(X)
#undef X
        KIND_COUNT
};

/* The name used in reports and rules, e.g. "use-after-free". */
const char *kind_name(enum finding_kind kind);
int kind_cwe(enum finding_kind kind);
const char *kind_heading(enum finding_kind kind);
/* The kind of that name, or KIND_COUNT. */
enum finding_kind kind_from_name(const char *name);

#endif

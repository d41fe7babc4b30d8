/* Settling: joining, ordering, identities, sentences. */
#include "../../src/core/model.h"
#include "../harness/check.h"

static struct frame here = {.function = "assign", .file = "/x/plan.c", .module = "/x/berths",
                            .line = 12, .column = 3, .address = 0x1000, .own = true};
static struct frame there = {.function = "assign", .file = "/x/plan.c", .module = "/x/berths",
                             .line = 12, .column = 3, .address = 0x1020, .own = true};
static struct frame elsewhere = {.function = "drop", .file = "/x/plan.c", .module = "/x/berths",
                                 .line = 40, .column = 5, .address = 0x1100, .own = true};

static void add(struct run *run, enum finding_kind kind, struct frame *frame, uint64_t bytes) {
    struct finding *f = run_add(run);
    f->kind = kind;
    f->count = 1;
    f->stack = (struct stack){frame, 1};
    f->bytes = bytes;
    f->blocks = 1;
    f->size = 4;
    f->has_block = kind != KIND_LEAK;
    f->block_size = 100;
    f->block_offset = 104;
    f->where = WHERE_AFTER;
}

/* A value that is from a variable, as it was when the frame was at the place given. */
static void add_value(struct run *run, struct frame *place, int declared) {
    struct finding *f = run_add(run);
    f->kind = KIND_UNINITIALIZED_VALUE;
    f->count = 1;
    f->stack = (struct stack){&here, 1};
    f->origin = FROM_STACK;
    f->origin_stack = (struct stack){place, 1};
    f->variable = (struct variable){.name = "tide", .file = "/x/plan.c", .line = declared};
}

static void check_variables(void) {
    struct frame later = elsewhere;
    later.line = 44;
    struct run *run = run_new();
    add_value(run, &elsewhere, 38);
    add_value(run, &later, 38);
    add_value(run, &later, 42); /* another of that name */
    add_value(run, &here, 38);  /* another function's */
    run_settle(run);
    CHECK(run->count == 3);
    CHECK(run->findings[0].count == 2);
    run_free(run);
}

int main(void) {
    check_variables();
    struct run *run = run_new();
    add(run, KIND_LEAK, &here, 10);
    add(run, KIND_OUT_OF_BOUNDS_READ, &here, 0);
    add(run, KIND_OUT_OF_BOUNDS_READ, &there, 0); /* an unrolled copy of the same line */
    add(run, KIND_LEAK, &elsewhere, 500);
    add(run, KIND_OUT_OF_BOUNDS_READ, &elsewhere, 0);
    run_settle(run);
    CHECK(run->count == 4);
    CHECK(run->findings[0].kind == KIND_OUT_OF_BOUNDS_READ && run->findings[0].count == 2);
    CHECK(run->findings[2].kind == KIND_LEAK && run->findings[2].bytes == 500);
    CHECK(run->findings[3].bytes == 10);
    CHECK_TEXT(run->findings[0].message, "read of 4 bytes 4 bytes after the end of a block of 100 bytes");
    CHECK_TEXT(run->findings[2].message, "500 bytes in 1 block lost: nothing points to it any more");
    CHECK(strcmp(run->findings[0].id, run->findings[1].id) != 0);
    struct run *again = run_new();
    here.line = 20; /* lines moved: the identity stays */
    add(again, KIND_OUT_OF_BOUNDS_READ, &here, 0);
    run_settle(again);
    CHECK_TEXT(again->findings[0].id, run->findings[0].id);
    char text[40];
    CHECK_TEXT(quantity(text, sizeof text, 1234567, "byte"), "1,234,567 bytes");
    CHECK_TEXT(quantity(text, sizeof text, 1, "block"), "1 block");
    CHECK(path_is_system("/usr/lib/x.so"));
    CHECK(!path_is_system("/home/mole/x.so"));
    CHECK(kind_from_name("use-after-free") == KIND_USE_AFTER_FREE);
    CHECK(kind_from_name("nothing") == KIND_COUNT);
    run_free(run);
    run_free(again);
    return check_end();
}

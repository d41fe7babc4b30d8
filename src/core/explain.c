/* Plain words for people: one row per finding kind, and sentences built from what
   is known about one finding. */
#include "explain.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const struct words {
    const char *meaning, *causes, *advice;
} words[KIND_COUNT] = {
    [KIND_OUT_OF_BOUNDS_READ] =
        {"The program read memory outside the heap block it meant to read. What it got is "
         "whatever lies there: usually it goes unnoticed, sometimes it is a secret or a crash.",
         "A loop that runs one step too far (<= where < was meant), a text without its "
         "terminating 0, a length taken from elsewhere than the block it is used on, or a "
         "pointer into a block that was meanwhile replaced by a smaller one.",
         "Compare the block's size and the offset with what the line means to read. Off by one "
         "element points to the loop's bound; far off points to a wrong index or a wrong block."},
    [KIND_OUT_OF_BOUNDS_WRITE] =
        {"The program wrote memory outside the heap block or variable it meant to write. Something "
         "else's data is changed, and the crash comes later and elsewhere, unless something "
         "stopped the program first.",
         "A buffer that was made without room for the terminating 0, sizeof of a pointer "
         "instead of what it points to, elements counted as bytes, or an index that nobody "
         "checked.",
         "Look at the line that allocated the block or declares the variable: does its size say "
         "what the writing line relies on? Then at where the index or length comes from."},
    [KIND_USE_AFTER_FREE] =
        {"The program used a block after it was freed. The memory may belong to somebody else "
         "by then.",
         "Two owners of one block of which one frees it, a pointer kept in a list or a callback "
         "after its object is gone, a pointer that realloc made stale, or a loop that frees a "
         "node and then asks it for the next one.",
         "Three places matter: where it was allocated, freed and used. Decide which of them owns "
         "the block; the other must not free it, or must forget its pointer."},
    [KIND_DOUBLE_FREE] =
        {"A block was freed a second time. In a normal run this corrupts the allocator's lists.",
         "Two owners of one block, an error path that frees what the normal path frees as well, "
         "or a copied object whose destructor runs twice.",
         "Both freeing places are shown. Decide which one owns the block; set the pointer to "
         "NULL where it is given away."},
    [KIND_INVALID_FREE] =
        {"Something was freed that the allocator never handed out: not the start of a heap "
         "block.",
         "A pointer that was moved along the block (p++) and then freed, the address of a local "
         "variable, of a global or of a text constant, or an element of an array.",
         "Free the very pointer that the allocator returned. If the address lies inside a block, "
         "the distance to its start tells how far the pointer was moved."},
    [KIND_MISMATCHED_DEALLOCATION] =
        {"A block was freed by another family of functions than the one that allocated it, or as "
         "an object of another size. It works by luck and breaks with another allocator, with "
         "destructors or with arrays.",
         "delete instead of delete[], free of what new made, delete of what malloc, strdup "
         "or a C library returned; or delete through a pointer to a base class that has no virtual "
         "destructor.",
         "Use the partner of the allocating function: malloc with free, new with delete, new[] "
         "with delete[]; or give the pointer an owner that knows (std::unique_ptr with a "
         "deleter)."},
    [KIND_UNINITIALIZED_VALUE] =
        {"A value that nobody ever set decided what the program does: a branch, an address, "
         "what goes to the kernel, or that a division fails. Its content is left over from "
         "something else and differs "
         "from run to run, machine to machine.",
         "A variable that is set on some paths only, a structure of which one member was "
         "forgotten, a block of malloc taken for one of calloc, a read that returned less than "
         "was asked for, or an output parameter that an error left alone.",
         "The report names where the value came to be. Follow it from there to the use: which "
         "path leaves it unset? Setting it where it is declared hides the mistake if the path "
         "itself is wrong."},
    [KIND_NULL_DEREFERENCE] =
        {"The program used a null pointer, or a member at a small distance from one.",
         "A function that returns NULL on failure and was not asked, a lookup that found "
         "nothing, or an object that is used before it is made.",
         "Find where the pointer got its value. The address tells the member: its offset within "
         "the structure."},
    [KIND_INVALID_ACCESS] =
        {"The program used an address where no memory is, or memory in a way that is forbidden "
         "(writing to constants, running data).",
         "A pointer that was overwritten or never set, an integer used as a pointer, writing to "
         "a text constant, or a stack that ran out by endless recursion.",
         "Look whether the address resembles text or small numbers: then something was written "
         "over the pointer. Near the stack's end, look for recursion."},
    [KIND_USE_AFTER_RETURN] =
        {"The program used a local variable of a function that has returned, or of a scope that "
         "has ended. The place belongs to other functions by then.",
         "Returning or storing the address of a local variable or array, or a lambda or thread "
         "that keeps a reference to one.",
         "Let the caller own the memory and pass it in, allocate it, or copy the value out."},
    [KIND_RETURN_ADDRESS_OVERWRITE] =
        {"A write went over the place where a function keeps the address it returns to. This is "
         "the classic way from a bug to running foreign code.",
         "A local array that is written beyond its end: gets-like reading, strcpy or sprintf "
         "into a fixed array, or an index that nobody checked.",
         "Look at the local arrays of the function and at the lengths used to fill them."},
    [KIND_OVERLAPPING_COPY] =
        {"A copy whose source and target overlap was given to a function that forbids it "
         "(C11 7.24.2). Depending on the processor some bytes are copied twice or lost.",
         "Moving elements within one array by memcpy, strcpy of a text to its own tail, or "
         "sprintf of a buffer into itself.",
         "Use memmove for memory. For texts, copy through another buffer."},
    [KIND_INVALID_SIZE] =
        {"The allocator was asked for an absurd number of bytes, as it comes from a negative "
         "number. It returned NULL.",
         "A length that was computed below zero, a size read from a file or the network without "
         "a check, or an error value of -1 taken for a length.",
         "Follow the size backwards to where it was computed, and check it there."},
    [KIND_LEAK] =
        {"Memory was allocated and never freed. The report tells where it was allocated, not "
         "where it should have been freed: nobody can know that but you.",
         "An early return that skips the free, an error path, a pointer that is overwritten by "
         "the next allocation, a container that is emptied without freeing what it held, or an "
         "object whose owner was never decided.",
         "Ask who owned the block last. Blocks that hang on a lost one usually go away with it: "
         "mend the owner first."},
    [KIND_DESCRIPTOR_LEAK] =
        {"A file, socket or pipe that the program opened itself was still open at its end. In a "
         "service that runs for long, descriptors run out.",
         "An early return or error path that skips the close, a FILE that is never fclosed, or "
         "the second end of a pipe.",
         "Close it where its owner ends. Where it is kept open on purpose for the program's "
         "whole life, write a suppression rule that says so."},
    [KIND_DOUBLE_CLOSE] =
        {"close was called for a descriptor that the program had already closed. This time it "
         "failed; with several threads, or in another order, it would close what someone else "
         "has just opened under the same number.",
         "Two owners of one descriptor, a close in an error path and again in the clean-up "
         "behind it, or close for the descriptor of a FILE that fclose has closed.",
         "Decide who closes it, and set the variable to -1 where it is closed."},
};

const char *kind_meaning(enum finding_kind kind) { return words[kind].meaning; }
const char *kind_causes(enum finding_kind kind) { return words[kind].causes; }
const char *kind_advice(enum finding_kind kind) { return words[kind].advice; }

/* "function (file.c:12)" of the place a user would look at. */
static const char *place(struct run *run, const struct stack *stack) {
    const struct frame *f = stack_site(stack);
    if (!f && stack->count)
        f = &stack->frames[0];
    if (!f)
        return "an unknown place";
    const char *slash = f->file ? strrchr(f->file, '/') : NULL;
    if (f->file && f->line)
        return pool_format(run->pool, "%s (%s:%d)", f->function ? f->function : "?",
                           slash ? slash + 1 : f->file, f->line);
    return f->function ? f->function : "code without debugging information";
}

static const char *bounds_story(struct run *run, const struct finding *f) {
    char a[48], b[48];
    uint64_t size = f->block_size;
    if (f->where == WHERE_BEFORE)
        return pool_format(run->pool,
                           "It fell %s before the block's first byte. The index was negative, or "
                           "the pointer had been moved back.",
                           quantity(a, sizeof a, (uint64_t)-f->block_offset, "byte"));
    if (f->where != WHERE_AFTER)
        return NULL;
    uint64_t behind = (uint64_t)f->block_offset - size;
    if (finding_reaches_out(f))
        return pool_format(run->pool,
                           "It began inside the block, at byte %" PRIu64 ", and reached %s beyond "
                           "its end.", f->address - f->block_start,
                           quantity(a, sizeof a, f->address + f->size - f->block_start - size,
                                    "byte"));
    if (behind == 0)
        return pool_format(run->pool,
                           "It is the very first byte after the block: the block is one element "
                           "(here %s) too small, or the loop goes one step too far.",
                           quantity(a, sizeof a, f->size, "byte"));
    return pool_format(run->pool, "It fell %s behind the block's end, as if the block had %s.",
                       quantity(a, sizeof a, behind, "byte"),
                       quantity(b, sizeof b, (uint64_t)f->block_offset + f->size, "byte"));
}

static const char *leak_story(struct run *run, const struct finding *f) {
    char a[48], b[48];
    switch (f->leak) {
    case LEAK_UNREACHABLE:
        if (f->dependent_blocks)
            return pool_format(run->pool,
                               "Nothing in memory points to it any more; %s (%s) could be reached "
                               "only from it and went with it. Free those first, then the owner.",
                               quantity(a, sizeof a, f->dependent_blocks, "further block"),
                               quantity(b, sizeof b, f->dependent_bytes, "byte"));
        return "Nothing in memory points to it any more: the last pointer was overwritten or went "
               "out of scope before anybody freed the block.";
    case LEAK_INTERIOR:
        return "Only pointers into its middle are left. Usually the pointer to the start was lost "
               "while one to an element was kept.";
    case LEAK_REACHABLE:
        return "Something still points to it at exit: not lost, but never freed. If it grows "
               "while the program runs, it is a leak all the same.";
    default:
        return "It was reached from lost blocks only.";
    }
}

int finding_story(struct run *run, const struct finding *f, const char **s, int room) {
    char size[48], text[48];
    int n = 0;
    const char *more = NULL;
#define SAY(...)                                                                             \
    do                                                                                       \
        if (n < room)                                                                        \
            s[n++] = pool_format(run->pool, __VA_ARGS__);                                     \
    while (0)
    SAY("In %s: %s.", place(run, &f->stack), f->message);
    if (f->has_block && f->allocated.count) {
        SAY("The block has %s and was allocated in %s.",
            quantity(size, sizeof size, f->block_size, "byte"), place(run, &f->allocated));
        if (f->has_freed && f->freed.count)
            SAY("It had been freed in %s.", place(run, &f->freed));
        if (!f->has_freed && f->has_access && (more = bounds_story(run, f)))
            SAY("%s", more);
    }
    if (f->kind == KIND_USE_AFTER_RETURN && f->variable.name && f->variable.line)
        SAY("The place was last used by the variable %s of %s, declared in line %d; if another "
            "function had it before, the pointer may be to that one's.",
            f->variable.name, place(run, &f->origin_stack), f->variable.line);
    else if (f->kind == KIND_RETURN_ADDRESS_OVERWRITE && f->variable.name && f->variable.line)
        SAY("It began in the variable %s of %s, declared in line %d, which has %s.", f->variable.name,
            place(run, &f->origin_stack), f->variable.line,
            quantity(size, sizeof size, f->variable.size, "byte"));
    else if (finding_stopped(f, NULL) == STOPPED_BEFORE && f->variable.name && f->variable.line)
        SAY("The variable %s is declared in line %d and has %s.", f->variable.name, f->variable.line,
            quantity(size, sizeof size, f->variable.size, "byte"));
    else if (f->origin && f->origin_stack.count) {
        if (f->variable.name && f->variable.line)
            SAY("The value was never set in the variable %s of %s, declared in line %d.",
                f->variable.name, place(run, &f->origin_stack), f->variable.line);
        else
            SAY("The value came to be in %s and was not set since.", place(run, &f->origin_stack));
    }
    switch (finding_stopped(f, NULL)) {
    case STOPPED_BEFORE:
    case STOPPED_INSIDE:
        SAY("The compiler had told the C library how large the target is (_FORTIFY_SOURCE), so "
            "nothing was written yet. Which length is checked nowhere?");
        break;
    case STOPPED_AT_SET:
        SAY("Where more descriptors may be open at a time, poll and epoll have no such limit.");
        break;
    case STOPPED_AT_RETURN:
        SAY("The write itself came earlier, in this function or in one that it called. Look at its "
            "arrays, and at the loops and calls that fill them.");
        break;
    default:
        break;
    }
    if (finding_is_misaligned(f))
        SAY("Instructions that move several values at once want an address that is a multiple of "
            "their size, and the compiler takes a pointer's word for it. Was it made of a pointer to "
            "a smaller type, is the structure packed, or does the allocator align for less?");
    else if (f->kind == KIND_INVALID_ACCESS && f->what && f->size)
        SAY("Calls that never end fill it, or local arrays too large for it. Which condition "
            "should have ended the calls of %s, and with what argument did they begin? Where the "
            "depth is right, a loop, the heap, or a larger stack (ulimit -s) helps.",
            f->stack.count && f->stack.frames[0].function ? f->stack.frames[0].function
                                                          : "this function");
    if (f->kind == KIND_LEAK && n < room)
        s[n++] = leak_story(run, f);
    if (f->count > 1 && f->kind != KIND_LEAK && f->kind != KIND_DESCRIPTOR_LEAK)
        SAY("The same lines made this mistake %s; it is one mistake to mend.",
            quantity(text, sizeof text, f->count, "time"));
    if (f->share_count > 1)
        SAY("It happened in %zu processes.", f->share_count);
    return n;
#undef SAY
}

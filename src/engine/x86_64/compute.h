/* Shadow rules as code, for what evaluate.c would be asked most often. */
#ifndef TONDO_COMPUTE_H
#define TONDO_COMPUTE_H

#include "plan.h"
#include "translate.h"

/* Whether the instruction is one of these; live_after: flags that are live behind it. */
bool computes(const struct instruction *i, const struct plan *p, uint32_t live_after);
/* Of these: a load or move into a part of a register. */
bool moves_part(const struct instruction *i);
/* To be told where a trace begins; of the cold piece that asks C about the instruction; and
   where the code of the trace has ended. */
void computes_forget(void);
/* resume: where it goes on, null: where C would. */
void compute_later(const struct instruction *i, int cold, uint8_t *resume);
void emit_computed(void);

/* dirty.c: 16 bytes of a vector, or all there are, to a slot of the context and back. */
void emit_vector_to_context(int number, bool all, int offset);
/* Bytes of the context from one place to another, 8 at a time as origins are written, by way of
   a vector, whose value is lost; VEX or legacy. */
void emit_origins_through(int vector, bool vex, int to, int from, int bytes);
void emit_vector_from_context(int number, bool all, int offset);

#endif

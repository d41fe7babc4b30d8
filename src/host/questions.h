/* What processes ask while they run. */
#ifndef TONDO_QUESTIONS_H
#define TONDO_QUESTIONS_H

#include "../core/ledger_format.h"
#include "symbols.h"

/* Answers the question that is open, if any, and beforehand what the same part of the program may
   ask next. *symbols is made on the first demand. */
void questions_answer(struct symbols **symbols, struct ledger *ledger);

#endif

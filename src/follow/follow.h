/* How a run reaches programs below ones it does not instrument: the variables
   that tell the follower where the run is. The follower takes them out of the
   program's sight and puts them back when it starts another program. */
#ifndef TONDO_FOLLOW_H
#define TONDO_FOLLOW_H

/* "PARENT:LEDGER:ENGINE"; PARENT is the nearest instrumented process, counted from 1. */
#define FOLLOW_VARIABLE "TONDO_RUN"
#define FOLLOW_LIBRARY "tondo-follow.so"
#define FOLLOW_PRELOAD "LD_PRELOAD"
#define FOLLOW_ENGINE_NAME "tondo-engine"
/* Only programs of this loader can take the follower in. */
#define FOLLOW_LOADER "ld-linux-x86-64"

#endif

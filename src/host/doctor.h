/* What the machine must offer for a run, looked at one by one. */
#ifndef TONDO_DOCTOR_H
#define TONDO_DOCTOR_H

#include <stddef.h>

enum health { HEALTH_FINE, HEALTH_LIMITED, HEALTH_BROKEN };

struct check {
    const char *name;
    enum health health;
    char text[600]; /* what was seen; when not fine, what does not work and what to do */
};

/* Fills up to `room` checks; returns how many. Starts a small program at the end. */
size_t doctor_look(struct check *checks, size_t room);

#endif

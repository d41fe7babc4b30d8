/* Who traces a process, from the text of /proc/PID/status (proc(5)). For the engine and
   the follower; no library needed. A program that its own parent traces is being
   debugged: it must run as it is, or the debugger would see the engine's code. */
#ifndef TONDO_TRACER_H
#define TONDO_TRACER_H

/* 0: nobody. */
static inline long tracer_in(const char *status) {
    static const char key[] = "TracerPid:";
    for (const char *p = status; *p; p++) {
        unsigned k = 0;
        while (key[k] && p[k] == key[k])
            k++;
        if (key[k])
            continue;
        long pid = 0;
        for (p += k; *p == '\t' || *p == ' '; p++)
            ;
        for (; *p >= '0' && *p <= '9'; p++)
            pid = pid * 10 + (*p - '0');
        return pid;
    }
    return 0;
}

#endif

/* tondo doctor: what would not work on this machine, and why. */
#include "cli.h"

#include "../host/doctor.h"

#include <string.h>

int command_doctor(int argc, const char **argv) {
    struct check checks[24];
    static const char *const words[] = {"fine", "LIMITED", "BROKEN"};
    if (argc > 1) {
        if (strcmp(argv[1], "--help") != 0)
            return complain(STATUS_USAGE, "doctor takes no arguments, not '%s'", argv[1]);
        puts("tondo doctor looks at the machine and says what would not work and why.\n"
             "Exit status: 0 when all is fine, 1 when something is limited or broken.");
        return 0;
    }
    size_t n = doctor_look(checks, sizeof checks / sizeof *checks), counts[3] = {0};
    for (size_t i = 0; i < n; i++) {
        printf("%-8s %-18s %s\n", words[checks[i].health], checks[i].name, checks[i].text);
        counts[checks[i].health]++;
    }
    if (counts[HEALTH_BROKEN])
        printf("\nPrograms cannot be run here: see what is BROKEN above.\n");
    else if (counts[HEALTH_LIMITED])
        printf("\nPrograms can be run; what is LIMITED above does not work fully.\n");
    else
        printf("\nEverything works.\n");
    return counts[HEALTH_BROKEN] || counts[HEALTH_LIMITED];
}

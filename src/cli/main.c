/* tondo: finds the command and calls it. */
#include "cli.h"

#include <stdio.h>
#include <string.h>

static const char help[] =
    "Tondo finds memory mistakes in C and C++ programs: it runs the unmodified program\n"
    "under its own instrumentation and tells, at the source line, where memory is lost,\n"
    "read or written out of bounds, or used after it was freed.\n"
    "\n"
    "  tondo run [options] [--] PROGRAM [ARGUMENTS]   run PROGRAM and report\n"
    "  tondo show [options] [SESSION]                 show a kept run again\n"
    "  tondo diff OLD NEW                             compare two runs\n"
    "  tondo rules new [SESSION]                      write suppression rules for a run\n"
    "  tondo rules known                              print the rules that come with tondo\n"
    "  tondo rules check FILE...                      check rule files\n"
    "  tondo explain KIND|NUMBER                      what a finding means, in plain words\n"
    "  tondo doctor                                   look whether this machine is fit\n"
    "  tondo demo                                     build and run the example\n"
    "\n"
    "'tondo COMMAND --help' tells the options. Build your program with -g to see lines.\n"
    "Exit status of run: the program's own when nothing is found, 100 when something is,\n"
    "128+N when it died of signal N, 126 or 127 when it cannot be run, 125 when Tondo fails.\n";

int main(int argc, const char **argv) {
    static const struct {
        const char *name;
        int (*run)(int argc, const char **argv);
    } commands[] = {{"run", command_run},     {"show", command_show}, {"diff", command_diff},
                    {"rules", command_rules}, {"explain", command_explain}, {"doctor", command_doctor}, {"demo", command_demo}};
    if (argc < 2) {
        fputs(help, stderr);
        return STATUS_USAGE;
    }
    for (size_t i = 0; i < sizeof commands / sizeof commands[0]; i++)
        if (strcmp(argv[1], commands[i].name) == 0) {
            static char name[32]; /* what the help calls it */
            snprintf(name, sizeof name, "tondo %s", argv[1]);
            argv[1] = name;
            return commands[i].run(argc - 1, argv + 1);
        }
    if (strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "-h") == 0 ||
        strcmp(argv[1], "help") == 0) {
        fputs(help, stdout);
        return 0;
    }
    if (strcmp(argv[1], "--version") == 0) {
        puts("tondo " TONDO_VERSION);
        return 0;
    }
    return complain(STATUS_USAGE, "there is no command '%s'; to run a program: tondo run %s",
                    argv[1], argv[1]);
}

/* tondo demo: builds the example where the user can see it, runs the flawed
   build under `tondo run`, says what to look at, then runs the mended one. */
#define _GNU_SOURCE
#include "cli.h"

#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static bool find_sources(char *path, size_t size) {
    char self[400];
    ssize_t n = readlink("/proc/self/exe", self, sizeof self - 1);
    if (n <= 0)
        return false;
    self[n] = 0;
    *strrchr(self, '/') = 0;
    static const char *const places[] = {"%s/../../demo", "%s/../share/tondo/demo"};
    for (size_t i = 0; i < 2; i++) {
        char plain[600], file[700];
        snprintf(plain, sizeof plain, places[i], self);
        snprintf(file, sizeof file, "%s/planner.c", plain);
        if (access(file, R_OK) == 0 && realpath(plain, path))
            return true;
    }
    snprintf(path, size, "%s/demo", TONDO_DATA);
    return access(path, R_OK) == 0;
}

static int shell(const char *pattern, ...) __attribute__((format(printf, 1, 2)));
static int shell(const char *pattern, ...) {
    char *command = NULL;
    va_list list;
    va_start(list, pattern);
    int n = vasprintf(&command, pattern, list);
    va_end(list);
    if (n < 0)
        return -1;
    printf("$ %s\n", command);
    fflush(stdout);
    int status = system(command);
    free(command);
    return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

static const char advice[] =
    "\nWhat to look at:\n"
    "  - Each finding starts with what happened and the line in your own code. Below it stand\n"
    "    the calls that led there (library frames are dimmed) and the story of the block: where\n"
    "    it was allocated and, if so, freed.\n"
    "  - [15 times] after a message: one mistake, repeated. Mend one line and all are gone.\n"
    "  - A leak tells where the block was allocated. Ask who should have kept the pointer; the\n"
    "    blocks that hang on a lost one disappear together with its leak.\n"
    "  - Compare planner.c with and without MENDED to see each repair.\n\n"
    "The same program with every mistake mended:\n\n";

int command_demo(int argc, const char **argv) {
    (void)argv;
    char sources[4096], self[4096], folder[] = "/tmp/tondo-demo-XXXXXX";
    if (argc > 1)
        return complain(STATUS_USAGE, "tondo demo takes no arguments");
    if (!find_sources(sources, sizeof sources))
        return complain(STATUS_FAILED, "the example's sources are missing; install Tondo again");
    ssize_t n = readlink("/proc/self/exe", self, sizeof self - 1);
    if (n <= 0 || !mkdtemp(folder) || chdir(folder) != 0)
        return complain(STATUS_FAILED, "cannot make a folder in /tmp for the example");
    self[n] = 0;
    printf("The example plans the berths of a made-up harbour. It is built in %s\n\n", folder);
    if (shell("cp -r %s/. .", sources) != 0 ||
        shell("cc -g -c -w main.c load.c planner.c tides.c && c++ -g -w notices.cc *.o -o berths") != 0)
        return complain(STATUS_FAILED, "the example cannot be built: is a C and C++ compiler "
                                       "installed? (apt-get install gcc g++)");
    int status = shell("%s run ./berths data", self);
    if (status != STATUS_FINDINGS)
        return complain(STATUS_FAILED, "the example should have ended with status 100, not %d",
                        status);
    fputs(advice, stdout);
    if (shell("cc -g -c -w -DMENDED main.c load.c planner.c tides.c && c++ -g -w -DMENDED notices.cc *.o "
              "-o berths") != 0)
        return complain(STATUS_FAILED, "the mended example cannot be built");
    status = shell("%s run ./berths data", self);
    printf("\nRead the runs again with 'tondo show'; now try your own: tondo run ./program\n");
    return status;
}

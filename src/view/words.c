/* Paths and sizes as every form of report writes them. */
#include "view.h"

#include <string.h>

const char *short_path(const struct run *run, const char *path) {
    size_t n = strlen(run->directory ? run->directory : "");
    if (n > 1 && strncmp(path, run->directory, n) == 0 && path[n] == '/')
        return path + n + 1;
    return path;
}

const char *base_of(const char *path) {
    const char *slash = path ? strrchr(path, '/') : NULL;
    return slash ? slash + 1 : path ? path : "unknown code";
}

const char *human(char *to, size_t size, uint64_t bytes) {
    static const char *const units[] = {"bytes", "KiB", "MiB", "GiB", "TiB"};
    double value = (double)bytes;
    int unit = 0;
    for (; value >= 1024 && unit < 4; unit++)
        value /= 1024;
    if (!unit)
        return quantity(to, size, bytes, "byte");
    snprintf(to, size, "%.1f %s", value, units[unit]);
    return to;
}

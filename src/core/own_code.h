/* What a user can fix: files outside the system's folders. One list for the
   engine, the follower and the reports; no library needed. */
#ifndef TONDO_OWN_CODE_H
#define TONDO_OWN_CODE_H

#include <stdbool.h>
#include <stddef.h>

static const char *const system_folders[] = {"/usr/", "/bin/", "/sbin/", "/lib/",
                                             "/lib32/", "/lib64/", "/libx32/", "/opt/", "/etc/"};
/* In a system folder, yet people build there. */
static const char *const own_folders[] = {"/usr/src/", "/usr/local/src/"};

static inline bool path_starts(const char *path, const char *folder) {
    while (*folder)
        if (*path++ != *folder++)
            return false;
    return true;
}

/* Whether an absolute path lies in a folder of the system. */
static inline bool in_system_folder(const char *path) {
    for (size_t i = 0; i < sizeof own_folders / sizeof *own_folders; i++)
        if (path_starts(path, own_folders[i]))
            return false;
    for (size_t i = 0; i < sizeof system_folders / sizeof *system_folders; i++)
        if (path_starts(path, system_folders[i]))
            return true;
    return false;
}

/* Of the system's programs that no library can be preloaded into (static ones, those of
   another loader) all run under the engine, silently, since they may start the user's;
   not these, which start nothing and work long: folder and name. */
static inline bool starts_nothing(const char *path) {
    static const char *const programs[][2] = {
        {"/pkg/tool/", "compile"}, {"/pkg/tool/", "asm"},  {"/pkg/tool/", "link"}, /* Go */
        {"/pkg/tool/", "vet"},     {"/pkg/tool/", "pack"}, {"/fpc/", "ppcx64"},
    };
    for (size_t i = 0; i < sizeof programs / sizeof *programs; i++) {
        bool folder = false;
        const char *base = path;
        for (const char *p = path; *p; p++) {
            folder |= path_starts(p, programs[i][0]);
            if (*p == '/')
                base = p + 1;
        }
        if (folder && path_starts(base, programs[i][1]))
            return true;
    }
    return false;
}

#endif

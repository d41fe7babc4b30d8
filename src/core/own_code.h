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

/* Static programs that start others: no library can be preloaded into them. */
static inline bool is_static_shell(const char *path) {
    static const char *const names[] = {"busybox", "toybox", "sash", "catatonit", "dumb-init"};
    const char *base = path, *suffix = "-static";
    size_t length = 0;
    for (; *path; path++)
        if (*path == '/')
            base = path + 1;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (path_starts(base, names[i]))
            return true;
    while (base[length])
        length++;
    return length > 7 && path_starts(base + length - 7, suffix);
}

#endif

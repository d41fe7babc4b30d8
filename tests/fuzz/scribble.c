/* A guest that writes over the run's own ledger: scribble SEED [COUNT]. What it writes
   is random; the host must survive and report. */
#define _GNU_SOURCE
#include <dirent.h>
#include <fcntl.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

static uint64_t state;
static uint64_t next(void) {
    state ^= state << 13;
    state ^= state >> 7;
    return state ^= state << 17;
}

int main(int argc, char **argv) {
    char ledger[400] = "", own[40];
    struct stat s;
    struct dirent *entry;
    DIR *folder = opendir("/dev/shm");
    state = strtoull(argv[1], NULL, 10) * 0x9e3779b97f4a7c15ULL + 1;
    char *p = malloc(20);
    p[20] = 1;
    p = malloc(30); /* the first is lost */
    snprintf(own, sizeof own, "tondo-%d-", (int)getppid()); /* the host's, no other run's */
    while (folder && (entry = readdir(folder)))
        if (strncmp(entry->d_name, own, strlen(own)) == 0)
            snprintf(ledger, sizeof ledger, "/dev/shm/%s", entry->d_name);
    int fd = open(ledger, O_RDWR);
    if (fd < 0 || fstat(fd, &s) != 0)
        return 3;
    int count = argc > 2 ? atoi(argv[2]) : 2000;
    off_t data = 0;
    for (int i = 0; i < count; i++) {
        uint64_t word = next() % 4 ? next() % 70000 : next();
        /* mostly where something stands: not the host's process number */
        off_t at = next() % 3 ? data : (off_t)(next() % (uint64_t)s.st_size);
        at = lseek(fd, at, SEEK_DATA);
        if (at < 0)
            at = 0;
        at = (at & ~7L) + (off_t)(next() % 4096 & ~3UL);
        if (at < 32)
            continue;
        if (pwrite(fd, &word, next() % 2 ? 4 : 8, at) < 0)
            return 4;
        data = lseek(fd, at + 4096, SEEK_DATA);
        if (data < 0)
            data = 0;
    }
    return 0;
}

/* Limits on address space that the program sets itself, or inherits: they hold, for what
   is its own. And what /proc tells it of itself. */
#define _GNU_SOURCE
#include <elf.h>
#include <errno.h>
#include <fcntl.h>
#include <link.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/auxv.h>
#include <sys/mman.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/wait.h>
#include <unistd.h>

static void handler(int number) { (void)number; }

static void maps(const char *path, void *of_program, void *of_library) {
    uintptr_t here = (uintptr_t)__builtin_frame_address(0), past = 0;
    char line[512], stack[16] = "", heap[16] = "", program[512] = "", library[512] = "";
    uintptr_t low, high;
    int ordered = 1, n, above = 0;
    FILE *f = fopen(path, "r");
    while (fgets(line, sizeof line, f)) {
        n = 0;
        if (sscanf(line, "%lx-%lx %*s %*s %*s %*s %n", &low, &high, &n) != 2 || !n)
            continue;
        char *name = line + n;
        name[strcspn(name, "\n")] = 0;
        ordered &= low >= past && high > low;
        past = high;
        if (here >= low && here < high)
            snprintf(stack, sizeof stack, "%s", name);
        if ((uintptr_t)of_program >= low && (uintptr_t)of_program < high)
            snprintf(program, sizeof program, "%s", strrchr(name, '/') ? strrchr(name, '/') : name);
        if ((uintptr_t)of_library >= low && (uintptr_t)of_library < high)
            snprintf(library, sizeof library, "%s", strrchr(name, '/') ? strrchr(name, '/') : name);
        if ((uintptr_t)sbrk(0) - 1 >= low && (uintptr_t)sbrk(0) - 1 < high)
            snprintf(heap, sizeof heap, "%s", name);
        above += strstr(name, "[stack]") != NULL;
    }
    fclose(f);
    printf("%s: ordered %d, stack %s (%d), heap %s, program %s, library %s\n", path, ordered, stack,
           above, heap, program, library);
}

static void others(void) {
    char line[256], own[64];
    uint64_t word[2];
    int fd = open("/proc/self/auxv", O_RDONLY), same = 1, n = 0;
    for (; read(fd, word, 16) == 16 && word[0]; n++)
        same &= word[0] == AT_HWCAP || getauxval(word[0]) == word[1]; /* glibc has its own */
    close(fd);
    printf("auxv %d %d\n", same, n > 10);
    signal(SIGUSR1, handler);
    signal(SIGSEGV, handler);
    FILE *f = fopen("/proc/self/status", "r");
    while (fgets(line, sizeof line, f)) {
        long kib;
        if (strncmp(line, "SigCgt", 6) == 0)
            fputs(line, stdout);
        if (sscanf(line, "VmSize: %ld", &kib) == 1)
            printf("size %d\n", kib > 1000 && kib < 100000);
    }
    fclose(f);
    signal(SIGSEGV, SIG_DFL);
    long pages = 0;
    f = fopen("/proc/self/statm", "r");
    fscanf(f, "%ld", &pages);
    fclose(f);
    printf("pages %d\n", pages > 200 && pages < 25000);
    snprintf(own, sizeof own, "/proc/%d/maps", (int)getpid());
    fd = open(own, O_RDONLY | O_CLOEXEC);
    printf("closes at exec %d\n", fcntl(fd, F_GETFD));
    close(fd);
}

/* Restartable sequences are not there under instrumentation: nobody may think so. */
static int sequences(void) {
    long query = syscall(__NR_membarrier, 0, 0, 0), is_there = syscall(__NR_membarrier, 256, 0, 0);
    return (query & 128) && is_there == 0 ? syscall(__NR_rseq, 0, 0, 0, 0) == -1 && errno != ENOSYS
                                          : (query & 384) == 0 && is_there == -1;
}

int main(int argc, char **argv) {
    printf("sequences agree: %d\n", sequences());
    if (argc > 1) {
        void *p = malloc(300 << 20);
        printf("inherited: %d\n", !p);
        return 0;
    }
    sbrk(4096);
    maps("/proc/self/maps", main, printf);
    others();
    struct rlimit l = {256 << 20, 256 << 20}, got;
    setrlimit(RLIMIT_AS, &l);
    getrlimit(RLIMIT_AS, &got);
    printf("%lu %lu\n", (long)got.rlim_cur, (long)got.rlim_max);
    int n = 0;
    void **first = 0;
    for (void **p; n < 1000 && (p = malloc(10 << 20)); n++) {
        *p = first;
        first = p;
    }
    printf("about 24 blocks: %d, %s\n", n >= 23 && n <= 25, strerror(errno));
    void *m = mmap(0, 64 << 20, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    printf("%d %s\n", m == MAP_FAILED, strerror(errno));
    while (first) {
        void **p = first;
        first = *p;
        free(p);
    }
    m = mmap(0, 64 << 20, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    printf("%d\n", m == MAP_FAILED);
    void *r = mremap(m, 64 << 20, 300 << 20, MREMAP_MAYMOVE);
    printf("%d %s\n", r == MAP_FAILED, strerror(errno));
    munmap(m, 64 << 20);
    printf("%d\n", sbrk(300 << 20) == (void *)-1);
    l.rlim_cur = 300 << 20;
    l.rlim_max = 200 << 20;
    printf("%d %s\n", setrlimit(RLIMIT_AS, &l), strerror(errno));
    fflush(stdout);
    if (!fork()) {
        void *p = malloc(300 << 20);
        printf("child: %d\n", !p);
        fflush(stdout);
        execl("/proc/self/exe", argv[0], "again", (char *)0);
    }
    wait(0);
    return 0;
}

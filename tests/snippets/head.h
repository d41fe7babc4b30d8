/* What the lines of the lists beside it may use. */
#define _GNU_SOURCE
#include <arpa/inet.h>
#include <complex.h>
#include <ctype.h>
#include <dirent.h>
#include <dlfcn.h>
#include <errno.h>
#include <fcntl.h>
#include <glob.h>
#include <grp.h>
#include <iconv.h>
#include <immintrin.h>
#include <linux/futex.h>
#include <linux/openat2.h>
#include <locale.h>
#include <malloc.h>
#include <math.h>
#include <net/if.h>
#include <netdb.h>
#include <netinet/in.h>
#include <poll.h>
#include <pthread.h>
#include <pwd.h>
#include <regex.h>
#include <sched.h>
#include <setjmp.h>
#include <signal.h>
#include <stdarg.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/eventfd.h>
#include <sys/inotify.h>
#include <sys/ioctl.h>
#include <sys/ipc.h>
#include <sys/mman.h>
#include <sys/msg.h>
#include <sys/prctl.h>
#include <sys/random.h>
#include <sys/resource.h>
#include <sys/select.h>
#include <sys/sem.h>
#include <sys/sendfile.h>
#include <sys/shm.h>
#include <sys/signalfd.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <sys/statfs.h>
#include <sys/syscall.h>
#include <sys/sysinfo.h>
#include <sys/time.h>
#include <sys/timerfd.h>
#include <sys/times.h>
#include <sys/timex.h>
#include <sys/uio.h>
#include <sys/un.h>
#include <sys/utsname.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <syslog.h>
#include <termios.h>
#include <time.h>
#include <ucontext.h>
#include <unistd.h>
#include <utime.h>
#include <wchar.h>

#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile int sink;
static char buf[4096], text[64] = "quay wall";
static int num, nums[8] = {5, 3, 8, 1, 9, 2, 7, 4};
static int dn, devnull, tf; /* to nowhere; a file with a few words */
static char tn[] = "file-XXXXXX";
static __thread int tls;
static pthread_mutex_t mu = PTHREAD_MUTEX_INITIALIZER;
static jmp_buf jb;

static void *U(size_t n) { /* never set */
    void *p = malloc(n);
    hide(p);
    return p;
}
static int cmp(const void *a, const void *b) { return *(const int *)a - *(const int *)b; }
static void hand(int number) { sink += number * 0; }
static void *thr(void *p) { sink += 0; return p; }
static void nop(void) { sink += 0; }
static APART void deep(int n) {
    char room[100], *p = room;
    hide(p);
    if (n)
        deep(n - 1);
    else
        longjmp(jb, 1);
    hide(p);
}
static APART int deep2(int n) {
    char room[100], *p = room;
    hide(p);
    int r = n ? deep2(n - 1) : 0;
    hide(p);
    return r;
}
static APART void vector_work(void) {
    for (int i = 0; i < 64; i++)
        buf[i] = (char)(text[i] + 1);
}
static void va_test(int n, ...) {
    va_list l;
    va_start(l, n);
    int a = va_arg(l, int);
    double d = va_arg(l, double);
    char *s = va_arg(l, char *);
    if (a == 1 && d > 2 && *s == 'x')
        sink = 1;
    va_end(l);
}
static APART void go(void);
typedef void (*jmp_fn_t)(void);
#define strlcat_(d, s) (strcat(d, s)[0])
#define basename_(s) (strrchr(s, '/') != 0)

int main(void) {
    dn = devnull = open("/dev/null", O_WRONLY);
    tf = mkstemp(tn);
    sink = (int)write(tf, "quay berth harbour", 18);
    lseek(tf, 0, SEEK_SET);
    signal(SIGUSR1, hand);
    alarm(50);
    go();
    unlink(tn);
    fflush(stdout);
    _exit(0);
}

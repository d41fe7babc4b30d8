/* The cases of the differential test of system calls (calls.c): a call or request each, with
   parameters that work. In the end what they need is put together. */
#define _GNU_SOURCE
#include "calls.h"

#include <asm/termbits.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/aio_abi.h>
#include <linux/capability.h>
#include <linux/fiemap.h>
#include <linux/fs.h>
#include <linux/futex.h>
#include <linux/if.h>
#include <linux/if_packet.h>
#include <linux/if_alg.h>
#include <linux/io_uring.h>
#include <linux/netlink.h>
#include <linux/perf_event.h>
#include <linux/rtnetlink.h>
#include <linux/openat2.h>
#include <linux/sched.h>
#include <linux/sched/types.h>
#include <mqueue.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/epoll.h>
#include <sys/inotify.h>
#include <sys/ipc.h>
#include <sys/mman.h>
#include <sys/msg.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/sem.h>
#include <sys/shm.h>
#include <sys/signalfd.h>
#include <sys/socket.h>
#include <sys/time.h>
#include <sys/timex.h>
#include <sys/un.h>
#include <sys/wait.h>
#include <time.h>

static int file, folder, queue, pipes[2], pair[2], epoll, timer_fd, event, terminal, inet, peer,
    datagram, datagram6, segment, set, messages, pidfd, notify, handle_mount, dead_fd, listener,
    local;
static int timer_number;
static struct sockaddr_in inet_address, datagram_address;
static const char path[] = "harbour/berths", link_path[] = "harbour/link", name[] = "user.berth";
static const struct timespec moment = {0, 1000};

#define SOME(...) (const void *)&(__VA_ARGS__), sizeof(__VA_ARGS__)
#define A(i) at(i)
/* --- files --- */

CASE(open) {
    text(0, path);
    return closed(GO(SYS_open, A(0), O_RDONLY));
}
CASE(openat) {
    text(1, path);
    return closed(GO(SYS_openat, AT_FDCWD, A(1), O_RDONLY));
}
CASE(openat2) {
    text(1, path);
    in(2, SOME((struct open_how){O_RDONLY, 0, RESOLVE_NO_XDEV}));
    return closed(GO(SYS_openat2, AT_FDCWD, A(1), A(2), sizeof(struct open_how)));
}
CASE(creat) {
    text(0, "harbour/new");
    return closed(GO(SYS_creat, A(0), 0600));
}
CASE(stat) {
    text(0, path);
    out(1, 200);
    return GO(SYS_stat, A(0), A(1));
}
CASE(lstat) {
    text(0, path);
    out(1, 200);
    return GO(SYS_lstat, A(0), A(1));
}
CASE(fstat) {
    out(1, 200);
    return GO(SYS_fstat, file, A(1));
}
CASE(newfstatat) {
    text(1, path);
    out(2, 200);
    return GO(SYS_newfstatat, AT_FDCWD, A(1), A(2), 0);
}
CASE(fstat_empty) {
    text(1, "");
    out(2, 200);
    return GO(SYS_newfstatat, file, A(1), A(2), AT_EMPTY_PATH);
}
CASE(statx) {
    text(1, path);
    out(4, 300);
    return GO(SYS_statx, AT_FDCWD, A(1), 0, 0x7ff, A(4));
}
CASE(statx_little) {
    text(1, path);
    out(4, 300);
    return GO(SYS_statx, AT_FDCWD, A(1), 0, 1, A(4));
}
CASE(access) {
    text(0, path);
    return GO(SYS_access, A(0), R_OK);
}
CASE(faccessat) {
    text(1, path);
    return GO(SYS_faccessat, AT_FDCWD, A(1), R_OK);
}
CASE(faccessat2) {
    text(1, path);
    return GO(SYS_faccessat2, AT_FDCWD, A(1), R_OK, 0);
}
CASE(readlink) {
    text(0, link_path);
    out(1, 100);
    return GO(SYS_readlink, A(0), A(1), 90L);
}
CASE(readlink_short) {
    text(0, link_path);
    out(1, 100);
    return GO(SYS_readlink, A(0), A(1), 3L);
}
CASE(readlinkat) {
    text(1, link_path);
    out(2, 100);
    return GO(SYS_readlinkat, AT_FDCWD, A(1), A(2), 90L);
}
CASE(getcwd) {
    out(0, 300);
    return GO(SYS_getcwd, A(0), 290L);
}
CASE(chdir) {
    text(0, ".");
    return GO(SYS_chdir, A(0));
}
CASE(mkdir) {
    text(0, "harbour/pier");
    long r = GO(SYS_mkdir, A(0), 0700);
    rmdir("harbour/pier");
    return r;
}
CASE(mkdirat) {
    text(1, "harbour/pier");
    long r = GO(SYS_mkdirat, AT_FDCWD, A(1), 0700);
    rmdir("harbour/pier");
    return r;
}
CASE(rmdir) {
    mkdir("harbour/pier", 0700);
    text(0, "harbour/pier");
    return GO(SYS_rmdir, A(0));
}
CASE(mknod) {
    text(0, "harbour/fifo");
    long r = GO(SYS_mknod, A(0), S_IFIFO | 0600, 0);
    unlink("harbour/fifo");
    return r;
}
CASE(mknodat) {
    text(1, "harbour/fifo");
    long r = GO(SYS_mknodat, AT_FDCWD, A(1), S_IFIFO | 0600, 0);
    unlink("harbour/fifo");
    return r;
}
CASE(rename) {
    text(0, path);
    text(1, path);
    return GO(SYS_rename, A(0), A(1));
}
CASE(renameat) {
    text(1, path);
    text(3, path);
    return GO(SYS_renameat, AT_FDCWD, A(1), AT_FDCWD, A(3));
}
CASE(renameat2) {
    text(1, path);
    text(3, path);
    return GO(SYS_renameat2, AT_FDCWD, A(1), AT_FDCWD, A(3), 0);
}
CASE(link) {
    text(0, path);
    text(1, "harbour/second");
    long r = GO(SYS_link, A(0), A(1));
    unlink("harbour/second");
    return r;
}
CASE(linkat) {
    text(1, path);
    text(3, "harbour/second");
    long r = GO(SYS_linkat, AT_FDCWD, A(1), AT_FDCWD, A(3), 0);
    unlink("harbour/second");
    return r;
}
CASE(symlink) {
    text(0, "berths");
    text(1, "harbour/second");
    long r = GO(SYS_symlink, A(0), A(1));
    unlink("harbour/second");
    return r;
}
CASE(symlinkat) {
    text(0, "berths");
    text(2, "harbour/second");
    long r = GO(SYS_symlinkat, A(0), AT_FDCWD, A(2));
    unlink("harbour/second");
    return r;
}
CASE(unlink) {
    close(open("harbour/second", O_CREAT | O_WRONLY, 0600));
    text(0, "harbour/second");
    return GO(SYS_unlink, A(0));
}
CASE(unlinkat) {
    close(open("harbour/second", O_CREAT | O_WRONLY, 0600));
    text(1, "harbour/second");
    return GO(SYS_unlinkat, AT_FDCWD, A(1), 0);
}
CASE(chmod) {
    text(0, path);
    return GO(SYS_chmod, A(0), 0600);
}
CASE(fchmodat) {
    text(1, path);
    return GO(SYS_fchmodat, AT_FDCWD, A(1), 0600);
}
CASE(fchmodat2) {
    text(1, path);
    return GO(452, AT_FDCWD, A(1), 0600, 0);
}
CASE(chown) {
    text(0, path);
    return GO(SYS_chown, A(0), -1, -1);
}
CASE(lchown) {
    text(0, path);
    return GO(SYS_lchown, A(0), -1, -1);
}
CASE(fchownat) {
    text(1, path);
    return GO(SYS_fchownat, AT_FDCWD, A(1), -1, -1, 0);
}
CASE(truncate) {
    text(0, path);
    return GO(SYS_truncate, A(0), 100L);
}
CASE(utime) {
    text(0, path);
    list(1, 2, 1L, 2L);
    return GO(SYS_utime, A(0), A(1));
}
CASE(utimes) {
    text(0, path);
    list(1, 4, 1L, 2L, 3L, 4L);
    return GO(SYS_utimes, A(0), A(1));
}
CASE(futimesat) {
    text(1, path);
    list(2, 4, 1L, 2L, 3L, 4L);
    return GO(SYS_futimesat, AT_FDCWD, A(1), A(2));
}
CASE(utimensat) {
    text(1, path);
    list(2, 4, 1L, 2L, 3L, 4L);
    return GO(SYS_utimensat, AT_FDCWD, A(1), A(2), 0);
}
CASE(utimens_now) {
    text(1, path);
    list(2, 4, 1L, (long)UTIME_NOW, 3L, (long)UTIME_OMIT);
    ignores(2, 0, 8);
    ignores(2, 16, 24);
    return GO(SYS_utimensat, AT_FDCWD, A(1), A(2), 0);
}
CASE(statfs) {
    text(0, path);
    out(1, 200);
    return GO(SYS_statfs, A(0), A(1));
}
CASE(fstatfs) {
    out(1, 200);
    return GO(SYS_fstatfs, file, A(1));
}
CASE(setxattr) {
    text(0, path);
    text(1, name);
    in(2, "free", 4);
    return GO(SYS_setxattr, A(0), A(1), A(2), 4L, 0);
}
CASE(lsetxattr) {
    text(0, path);
    text(1, name);
    in(2, "free", 4);
    return GO(SYS_lsetxattr, A(0), A(1), A(2), 4L, 0);
}
CASE(fsetxattr) {
    text(1, name);
    in(2, "free", 4);
    return GO(SYS_fsetxattr, file, A(1), A(2), 4L, 0);
}
CASE(getxattr) {
    text(0, path);
    text(1, name);
    out(2, 50);
    return GO(SYS_getxattr, A(0), A(1), A(2), 40L);
}
CASE(getxattr_size) {
    text(0, path);
    text(1, name);
    return GO(SYS_getxattr, A(0), A(1), 0L, 0L);
}
CASE(lgetxattr) {
    text(0, path);
    text(1, name);
    out(2, 50);
    return GO(SYS_lgetxattr, A(0), A(1), A(2), 40L);
}
CASE(fgetxattr) {
    text(1, name);
    out(2, 50);
    return GO(SYS_fgetxattr, file, A(1), A(2), 40L);
}
CASE(listxattr) {
    text(0, path);
    out(1, 50);
    return GO(SYS_listxattr, A(0), A(1), 40L);
}
CASE(llistxattr) {
    text(0, path);
    out(1, 50);
    return GO(SYS_llistxattr, A(0), A(1), 40L);
}
CASE(flistxattr) {
    out(1, 50);
    return GO(SYS_flistxattr, file, A(1), 40L);
}
CASE(removexattr) {
    syscall(SYS_fsetxattr, file, "user.gone", "x", 1L, 0);
    text(0, path);
    text(1, "user.gone");
    return GO(SYS_removexattr, A(0), A(1));
}
CASE(lremovexattr) {
    syscall(SYS_fsetxattr, file, "user.gone", "x", 1L, 0);
    text(0, path);
    text(1, "user.gone");
    return GO(SYS_lremovexattr, A(0), A(1));
}
CASE(fremovexattr) {
    syscall(SYS_fsetxattr, file, "user.gone", "x", 1L, 0);
    text(1, "user.gone");
    return GO(SYS_fremovexattr, file, A(1));
}
CASE(read) {
    lseek(file, 0, SEEK_SET);
    out(1, 100);
    return GO(SYS_read, file, A(1), 90L);
}
CASE(read_end) {
    lseek(file, 0, SEEK_END);
    out(1, 100);
    return GO(SYS_read, file, A(1), 90L);
}
CASE(pread64) {
    out(1, 100);
    return GO(SYS_pread64, file, A(1), 90L, 60L);
}
CASE(readv) {
    lseek(file, 0, SEEK_SET);
    out(2, 50);
    out(3, 60);
    list(1, 4, A(2), 30L, A(3), 50L);
    return GO(SYS_readv, file, A(1), 2L);
}
CASE(preadv) {
    out(2, 50);
    out(3, 60);
    list(1, 4, A(2), 30L, A(3), 50L);
    return GO(SYS_preadv, file, A(1), 2L, 20L, 0L);
}
CASE(preadv2) {
    out(2, 50);
    out(3, 60);
    list(1, 4, A(2), 30L, A(3), 50L);
    return GO(SYS_preadv2, file, A(1), 2L, 20L, 0L, 0L);
}
CASE(write) {
    lseek(file, 0, SEEK_SET);
    in(1, path, 8);
    return GO(SYS_write, file, A(1), 8L);
}
CASE(pwrite64) {
    in(1, path, 8);
    return GO(SYS_pwrite64, file, A(1), 8L, 0L);
}
CASE(writev) {
    lseek(file, 0, SEEK_SET);
    in(2, path, 8);
    in(3, path, 5);
    list(1, 4, A(2), 8L, A(3), 5L);
    return GO(SYS_writev, file, A(1), 2L);
}
CASE(pwritev) {
    in(2, path, 8);
    in(3, path, 5);
    list(1, 4, A(2), 8L, A(3), 5L);
    return GO(SYS_pwritev, file, A(1), 2L, 0L, 0L);
}
CASE(pwritev2) {
    in(2, path, 8);
    in(3, path, 5);
    list(1, 4, A(2), 8L, A(3), 5L);
    return GO(SYS_pwritev2, file, A(1), 2L, 0L, 0L, 0L);
}
CASE(getdents64) {
    lseek(folder, 0, SEEK_SET);
    out(1, 1000);
    return GO(SYS_getdents64, folder, A(1), 900L);
}
CASE(getdents) {
    lseek(folder, 0, SEEK_SET);
    out(1, 1000);
    return GO(SYS_getdents, folder, A(1), 900L);
}
CASE(sendfile) {
    both(2, SOME((long){0}), 8);
    long r = GO(SYS_sendfile, pair[0], file, A(2), 8L);
    if (r > 0) {
        char away[64];
        recv(pair[1], away, 64, 0);
    }
    return r;
}
CASE(splice) {
    both(1, SOME((long){0}), 8);
    long r = GO(SYS_splice, file, A(1), pipes[1], 0L, 8L, 0L);
    if (r > 0) {
        char away[64];
        read(pipes[0], away, 64);
    }
    return r;
}
CASE(vmsplice) {
    in(2, path, 8);
    list(1, 2, A(2), 8L);
    long r = GO(SYS_vmsplice, pipes[1], A(1), 1L, 0L);
    if (r > 0) {
        char away[64];
        read(pipes[0], away, 64);
    }
    return r;
}
CASE(copy_file_range) {
    both(1, SOME((long){0}), 8);
    both(3, SOME((long){64}), 8);
    return GO(SYS_copy_file_range, file, A(1), file, A(3), 8L, 0L);
}
CASE(memfd_create) {
    text(0, "berths");
    return closed(GO(SYS_memfd_create, A(0), 0));
}
CASE(inotify_add_watch) {
    text(1, path);
    return GO(SYS_inotify_add_watch, notify, A(1), IN_MODIFY) < 0 ? -errno : 0;
}
CASE(name_to_handle_at) {
    text(1, path);
    both(2, SOME((int[2]){128, 0}), 200);
    out(3, 20);
    return GO(SYS_name_to_handle_at, AT_FDCWD, A(1), A(2), A(3), 0);
}
CASE(pipe) {
    out(0, 16);
    long r = GO(SYS_pipe, A(0));
    int *f = (int *)A(0);
    close(f[0]);
    close(f[1]);
    memset(f, 0x33, 8);
    return r;
}
CASE(pipe2) {
    out(0, 16);
    long r = GO(SYS_pipe2, A(0), O_CLOEXEC);
    int *f = (int *)A(0);
    close(f[0]);
    close(f[1]);
    memset(f, 0x33, 8);
    return r;
}
CASE(getlk) {
    both(2, SOME((struct flock){F_WRLCK, SEEK_SET, 0, 8, 0}), 40);
    ignores(2, 4, 8);
    ignores(2, 24, 32);
    return GO(SYS_fcntl, file, F_GETLK, A(2));
}
CASE(setlk) {
    in(2, SOME((struct flock){F_UNLCK, SEEK_SET, 0, 8, 0}));
    ignores(2, 4, 8);
    ignores(2, 24, 32);
    return GO(SYS_fcntl, file, F_SETLK, A(2));
}
CASE(ofd_setlk) {
    in(2, SOME((struct flock){F_UNLCK, SEEK_SET, 0, 8, 0}));
    ignores(2, 4, 8);
    ignores(2, 28, 32);
    return GO(SYS_fcntl, file, F_OFD_SETLK, A(2));
}
CASE(setown_ex) {
    in(2, SOME((struct f_owner_ex){F_OWNER_PID, getpid()}));
    return GO(SYS_fcntl, pipes[0], F_SETOWN_EX, A(2));
}
CASE(getown_ex) {
    out(2, 20);
    return GO(SYS_fcntl, pipes[0], F_GETOWN_EX, A(2));
}
CASE(get_rw_hint) {
    out(2, 20);
    return GO(SYS_fcntl, file, F_GET_RW_HINT, A(2));
}
CASE(set_rw_hint) {
    list(2, 1, 1L);
    return GO(SYS_fcntl, file, F_SET_RW_HINT, A(2));
}
CASE(fionread) {
    out(2, 20);
    return GO(SYS_ioctl, file, 0x541b, A(2));
}
CASE(fionbio) {
    in(2, SOME((int){0}));
    return GO(SYS_ioctl, pipes[0], 0x5421, A(2));
}
CASE(fioasync) {
    in(2, SOME((int){0}));
    return GO(SYS_ioctl, pair[0], 0x5452, A(2));
}
CASE(fiemap) {
    both(2, SOME((struct fiemap){0, 4096, 0, 0, 4, 0}), 600);
    return GO(SYS_ioctl, file, FS_IOC_FIEMAP, A(2));
}
CASE(getflags) {
    out(2, 20);
    return GO(SYS_ioctl, file, FS_IOC_GETFLAGS, A(2));
}
CASE(fsgetxattr) {
    out(2, 40);
    return GO(SYS_ioctl, file, FS_IOC_FSGETXATTR, A(2));
}
CASE(cachestat) {
    list(1, 2, 0L, 100L);
    out(2, 60);
    return GO(451, file, A(1), A(2), 0);
}

/* --- time --- */

CASE(clock_gettime) {
    out(1, 30);
    return GO(SYS_clock_gettime, 1, A(1));
}
CASE(clock_getres) {
    out(1, 30);
    return GO(SYS_clock_getres, 1, A(1));
}
CASE(gettimeofday) {
    out(0, 30);
    out(1, 20);
    return GO(SYS_gettimeofday, A(0), A(1));
}
CASE(time) {
    out(0, 20);
    return GO(SYS_time, A(0)) > 0 ? 0 : -1;
}
CASE(times) {
    out(0, 60);
    return GO(SYS_times, A(0)) > 0 ? 0 : -1;
}
CASE(nanosleep) {
    in(0, SOME(moment));
    out(1, 30);
    return GO(SYS_nanosleep, A(0), A(1));
}
CASE(clock_nanosleep) {
    in(2, SOME(moment));
    out(3, 30);
    return GO(SYS_clock_nanosleep, 1, 0, A(2), A(3));
}
CASE(getitimer) {
    out(1, 50);
    return GO(SYS_getitimer, 0, A(1));
}
CASE(setitimer) {
    list(1, 4, 0L, 0L, 0L, 0L);
    out(2, 50);
    return GO(SYS_setitimer, ITIMER_VIRTUAL, A(1), A(2));
}
CASE(timer_create) {
    struct sigevent e;
    memset(&e, 0, sizeof e);
    e.sigev_notify = SIGEV_NONE;
    in(1, SOME(e));
    ignores(1, 16, 64);
    ignores(1, 0, 8);
    out(2, 12);
    long r = GO(SYS_timer_create, 1, A(1), A(2));
    if (!r) {
        syscall(SYS_timer_delete, *(int *)A(2));
        *(int *)A(2) = 0x33333333;
    }
    return r;
}
CASE(timer_settime) {
    list(2, 4, 0L, 0L, 100L, 0L);
    out(3, 50);
    return GO(SYS_timer_settime, timer_number, 0, A(2), A(3));
}
CASE(timer_gettime) {
    out(1, 50);
    return GO(SYS_timer_gettime, timer_number, A(1));
}
CASE(timerfd_settime) {
    list(2, 4, 0L, 0L, 100L, 0L);
    out(3, 50);
    return GO(SYS_timerfd_settime, timer_fd, 0, A(2), A(3));
}
CASE(timerfd_gettime) {
    out(1, 50);
    return GO(SYS_timerfd_gettime, timer_fd, A(1));
}
CASE(adjtimex) {
    both(0, SOME((int){0}), 220);
    return GO(SYS_adjtimex, A(0));
}
CASE(clock_adjtime) {
    both(1, SOME((int){0}), 220);
    return GO(SYS_clock_adjtime, 0, A(1));
}

static long child(void) {
    long pid = syscall(SYS_fork);
    if (!pid)
        syscall(SYS_exit_group, 3);
    return pid;
}
static long sleeping_child(void) {
    long pid = syscall(SYS_fork);
    if (!pid)
        for (;;)
            pause();
    return pid;
}
static long ended(long pid, long result) {
    kill((pid_t)pid, SIGKILL);
    waitpid((pid_t)pid, NULL, 0);
    return result;
}

/* --- processes, signals, memory --- */

CASE(getrusage) {
    out(1, 200);
    return GO(SYS_getrusage, 0, A(1));
}
CASE(getrlimit) {
    out(1, 30);
    return GO(SYS_getrlimit, RLIMIT_CORE, A(1));
}
CASE(getrlimit_stack) {
    out(1, 30);
    return GO(SYS_getrlimit, RLIMIT_STACK, A(1));
}
CASE(getrlimit_files) {
    out(1, 30);
    return GO(SYS_getrlimit, RLIMIT_NOFILE, A(1));
}
CASE(setrlimit) {
    list(1, 2, 0L, 0L);
    return GO(SYS_setrlimit, RLIMIT_CORE, A(1));
}
CASE(prlimit64) {
    list(2, 2, 0L, 0L);
    out(3, 30);
    return GO(SYS_prlimit64, 0, RLIMIT_CORE, A(2), A(3));
}
CASE(prlimit64_stack) {
    out(3, 30);
    return GO(SYS_prlimit64, 0, RLIMIT_STACK, 0L, A(3));
}
CASE(wait4) {
    long pid = child();
    out(1, 10);
    out(3, 200);
    return GO(SYS_wait4, pid, A(1), 0, A(3)) == pid ? 0 : -1;
}
CASE(wait4_none) {
    long pid = sleeping_child();
    out(1, 10);
    out(3, 200);
    return ended(pid, GO(SYS_wait4, pid, A(1), WNOHANG, A(3)));
}
CASE(waitid) {
    long pid = child();
    out(2, 150);
    out(4, 200);
    return GO(SYS_waitid, P_PID, pid, A(2), WEXITED, A(4));
}
CASE(waitid_none) {
    long pid = sleeping_child();
    out(2, 150);
    out(4, 200);
    return ended(pid, GO(SYS_waitid, P_PID, pid, A(2), WEXITED | WNOHANG, A(4)));
}
CASE(uname) {
    out(0, 400);
    return GO(SYS_uname, A(0));
}
CASE(sysinfo) {
    out(0, 130);
    return GO(SYS_sysinfo, A(0));
}
CASE(getresuid) {
    out(0, 8);
    out(1, 8);
    out(2, 8);
    return GO(SYS_getresuid, A(0), A(1), A(2));
}
CASE(getresgid) {
    out(0, 8);
    out(1, 8);
    out(2, 8);
    return GO(SYS_getresgid, A(0), A(1), A(2));
}
CASE(getgroups) {
    out(1, 300);
    return GO(SYS_getgroups, 60, A(1));
}
CASE(setgroups) {
    int none[2] = {0, 0};
    in(1, SOME(none));
    return GO(SYS_setgroups, 1, A(1));
}
CASE(capget) {
    in(0, SOME((struct __user_cap_header_struct){_LINUX_CAPABILITY_VERSION_3, 0}));
    out(1, 40);
    return GO(SYS_capget, A(0), A(1));
}
CASE(capget_old) {
    in(0, SOME((struct __user_cap_header_struct){_LINUX_CAPABILITY_VERSION_1, 0}));
    out(1, 40);
    return GO(SYS_capget, A(0), A(1));
}
CASE(capset) {
    static struct __user_cap_header_struct h = {_LINUX_CAPABILITY_VERSION_3, 0};
    struct __user_cap_data_struct d[2];
    syscall(SYS_capget, &h, d);
    in(0, SOME(h));
    in(1, SOME(d));
    return GO(SYS_capset, A(0), A(1));
}
CASE(sched_getparam) {
    out(1, 10);
    return GO(SYS_sched_getparam, 0, A(1));
}
CASE(sched_setparam) {
    in(1, SOME((int){0}));
    return GO(SYS_sched_setparam, 0, A(1));
}
CASE(sched_setscheduler) {
    in(2, SOME((int){0}));
    return GO(SYS_sched_setscheduler, 0, 0, A(2));
}
CASE(sched_rr) {
    out(1, 30);
    return GO(SYS_sched_rr_get_interval, 0, A(1));
}
CASE(sched_getattr) {
    out(1, 100);
    return GO(SYS_sched_getattr, 0, A(1), 90, 0);
}
CASE(sched_getattr_old) {
    out(1, 100);
    return GO(SYS_sched_getattr, 0, A(1), 48, 0);
}
CASE(sched_setattr) {
    struct {
        unsigned w[12];
    } a = {{48}};
    in(1, SOME(a));
    return GO(SYS_sched_setattr, 0, A(1), 0);
}
CASE(sched_getaffinity) {
    out(2, 200);
    return GO(SYS_sched_getaffinity, 0, 190L, A(2));
}
CASE(sched_setaffinity) {
    long all[4];
    memset(all, 0xff, sizeof all);
    in(2, SOME(all));
    return GO(SYS_sched_setaffinity, 0, 32L, A(2));
}
CASE(getcpu) {
    out(0, 10);
    out(1, 10);
    return GO(SYS_getcpu, A(0), A(1));
}
CASE(get_robust_list) {
    out(1, 10);
    out(2, 10);
    return GO(SYS_get_robust_list, 0, A(1), A(2));
}
CASE(pr_set_name) {
    text(1, "planner");
    return GO(SYS_prctl, PR_SET_NAME, A(1));
}
CASE(pr_get_name) {
    out(1, 30);
    return GO(SYS_prctl, PR_GET_NAME, A(1));
}
CASE(pr_get_pdeathsig) {
    out(1, 12);
    return GO(SYS_prctl, PR_GET_PDEATHSIG, A(1));
}
CASE(pr_get_unalign) {
    out(1, 12);
    return GO(SYS_prctl, PR_GET_UNALIGN, A(1));
}
CASE(pr_get_tsc) {
    out(1, 12);
    return GO(SYS_prctl, PR_GET_TSC, A(1));
}
CASE(pr_get_subreaper) {
    out(1, 12);
    return GO(SYS_prctl, PR_GET_CHILD_SUBREAPER, A(1));
}
CASE(pr_get_tid_address) {
    out(1, 20);
    return GO(SYS_prctl, PR_GET_TID_ADDRESS, A(1));
}
CASE(pr_get_auxv) {
    out(1, 500);
    return GO(SYS_prctl, 0x41555856, A(1), 480L, 0L, 0L);
}
CASE(rt_sigaction) {
    list(1, 4, 0L, 0L, 0L, 0L);
    out(2, 50);
    return GO(SYS_rt_sigaction, SIGUSR2, A(1), A(2), 8L);
}
CASE(rt_sigprocmask) {
    list(1, 1, 0L);
    out(2, 20);
    return GO(SYS_rt_sigprocmask, SIG_BLOCK, A(1), A(2), 8L);
}
CASE(rt_sigpending) {
    out(0, 20);
    return GO(SYS_rt_sigpending, A(0), 8L);
}
CASE(sigaltstack) {
    out(1, 40);
    return GO(SYS_sigaltstack, 0L, A(1));
}
CASE(sigaltstack_set) {
    struct {
        void *p;
        int f, gap;
        size_t n;
    } s = {malloc(65536), 0, 0, 65536};
    in(0, SOME(s));
    ignores(0, 12, 16);
    long r = GO(SYS_sigaltstack, A(0), 0L);
    s.f = 2;
    syscall(SYS_sigaltstack, &s, 0L);
    free(s.p);
    return r;
}
CASE(rt_sigtimedwait) {
    list(0, 1, 1L << (SIGUSR1 - 1));
    out(1, 150);
    in(2, SOME(moment));
    kill(getpid(), SIGUSR1);
    return GO(SYS_rt_sigtimedwait, A(0), A(1), A(2), 8L);
}
CASE(rt_sigqueueinfo) {
    int i[32] = {SIGUSR1, 0, SI_QUEUE};
    in(2, SOME(i));
    ignores(2, 0, 4);
    ignores(2, 12, 16);
    ignores(2, 28, 128); /* sival_int is half of the value */
    long r = GO(SYS_rt_sigqueueinfo, getpid(), SIGUSR1, A(2));
    long mine = 1L << (SIGUSR1 - 1);
    syscall(SYS_rt_sigtimedwait, &mine, 0L, &moment, 8L);
    return r;
}
CASE(signalfd) {
    list(1, 1, 0L);
    return closed(GO(SYS_signalfd, -1, A(1), 8L));
}
CASE(signalfd4) {
    list(1, 1, 0L);
    return closed(GO(SYS_signalfd4, -1, A(1), 8L, 0));
}
CASE(futex_wait) {
    in(0, SOME((int){5}));
    in(3, SOME(moment));
    return GO(SYS_futex, A(0), FUTEX_WAIT_PRIVATE, 5, A(3), 0L, 0);
}
CASE(futex_changed) {
    in(0, SOME((int){5}));
    return GO(SYS_futex, A(0), FUTEX_WAIT_PRIVATE, 6, 0L, 0L, 0);
}
CASE(futex_waitv) {
    static int word = 5;
    struct {
        uint64_t v, p;
        uint32_t f, r;
    } w = {6, (uint64_t)&word, 0x82, 0};
    in(0, SOME(w));
    return GO(SYS_futex_waitv, A(0), 1, 0, 0L, 0);
}
CASE(process_vm_readv) {
    out(5, 20);
    list(1, 2, A(5), 10L);
    list(3, 2, (long)path, 10L);
    return GO(SYS_process_vm_readv, getpid(), A(1), 1L, A(3), 1L, 0L);
}
CASE(process_vm_writev) {
    static char to[16];
    in(5, path, 10);
    list(1, 2, A(5), 10L);
    list(3, 2, (long)to, 10L);
    return GO(SYS_process_vm_writev, getpid(), A(1), 1L, A(3), 1L, 0L);
}
CASE(mincore) {
    out(2, 10);
    return GO(SYS_mincore, (long)path & ~4095L, 4096L, A(2));
}
CASE(get_mempolicy) {
    out(0, 8);
    out(1, 40);
    return GO(SYS_get_mempolicy, A(0), A(1), 128L, 0L, 0L);
}
CASE(getrandom) {
    out(0, 40);
    return GO(SYS_getrandom, A(0), 33L, 0);
}
CASE(clone3) {
    struct clone_args a;
    memset(&a, 0, sizeof a);
    a.exit_signal = SIGCHLD;
    in(0, SOME(a));
    ignores(0, 8, 32);
    ignores(0, 56, 88);
    long r = GO(SYS_clone3, A(0), 88L);
    if (!r)
        syscall(SYS_exit_group, 0);
    if (r > 0)
        waitpid((pid_t)r, NULL, 0);
    return r > 0 ? 0 : r;
}
CASE(clone_tids) {
    out(2, 8);
    long r = GO(SYS_clone, CLONE_PARENT_SETTID | SIGCHLD, 0L, A(2), 0L, 0L);
    if (!r)
        syscall(SYS_exit_group, 0);
    if (r > 0)
        waitpid((pid_t)r, NULL, 0);
    return r > 0 ? 0 : r;
}
CASE(io_setup) {
    both(1, SOME((long){0}), 16);
    long r = GO(SYS_io_setup, 4, A(1));
    if (!r)
        syscall(SYS_io_destroy, *(long *)A(1));
    return r;
}
CASE(io_uring_setup) {
    struct io_uring_params p;
    memset(&p, 0, sizeof p);
    both(1, SOME(p), 140);
    return closed(GO(SYS_io_uring_setup, 4, A(1)));
}
CASE(pidfd_send_signal) { return GO(SYS_pidfd_send_signal, pidfd, 0, 0L, 0); }
CASE(landlock) {
    list(0, 1, 1L);
    return closed(GO(SYS_landlock_create_ruleset, A(0), 8L, 0));
}
CASE(membarrier) { return GO(SYS_membarrier, 0, 0, 0); }

static void drain(int to) {
    char away[256];
    while (recv(to, away, sizeof away, MSG_DONTWAIT) > 0)
        ;
}
static long sent(int to, long result) {
    drain(to);
    return result;
}
static void receivable(int from, int to) {
    drain(to);
    send(from, path, 10, MSG_DONTWAIT);
}

/* --- sockets and waiting --- */

CASE(poll) {
    struct pollfd f[2] = {{pipes[1], POLLOUT, 0x55}, {-1, 0, 0x55}};
    both(0, f, 16, 16);
    ignores(0, 6, 8);
    ignores(0, 12, 16);
    return GO(SYS_poll, A(0), 2, 0);
}
CASE(ppoll) {
    struct pollfd f = {pipes[1], POLLOUT, 0};
    both(0, &f, 6, 8);
    list(3, 1, 0L);
    both(2, SOME(moment), 20);
    return GO(SYS_ppoll, A(0), 1, A(2), A(3), 8L);
}
CASE(select) {
    both(2, SOME((long){0}), 20);
    in(4, SOME((struct timeval){0, 1}));
    return GO(SYS_select, 20, 0L, A(2), 0L, A(4));
}
CASE(select_remains) {
    both(4, SOME((struct timeval){0, 1000}), 20);
    return GO(SYS_select, 0, 0L, 0L, 0L, A(4));
}
CASE(pselect6) {
    both(4, SOME(moment), 24);
    list(6, 1, 0L);
    list(5, 2, A(6), 8L);
    return GO(SYS_pselect6, 0, 0L, 0L, 0L, A(4), A(5));
}
CASE(epoll_ctl) {
    struct epoll_event e = {EPOLLOUT, {.u64 = 7}};
    in(3, SOME(e));
    ignores(3, 4, 12);
    return GO(SYS_epoll_ctl, epoll, EPOLL_CTL_MOD, pipes[1], A(3));
}
CASE(epoll_wait) {
    out(1, 50);
    return GO(SYS_epoll_wait, epoll, A(1), 4, 0);
}
CASE(epoll_pwait) {
    list(4, 1, 0L);
    out(1, 50);
    return GO(SYS_epoll_pwait, epoll, A(1), 4, 0, A(4), 8L);
}
CASE(epoll_pwait2) {
    list(4, 1, 0L);
    in(3, SOME(moment));
    out(1, 50);
    return GO(SYS_epoll_pwait2, epoll, A(1), 4, A(3), A(4), 8L);
}
CASE(read_event) {
    uint64_t one = 1;
    write(event, &one, 8);
    out(1, 20);
    return GO(SYS_read, event, A(1), 20L);
}
CASE(socketpair) {
    out(3, 16);
    long r = GO(SYS_socketpair, AF_UNIX, SOCK_STREAM, 0, A(3));
    int *f = (int *)A(3);
    close(f[0]);
    close(f[1]);
    memset(f, 0x33, 8);
    return r;
}
CASE(connect) {
    in(1, SOME(datagram_address));
    ignores(1, 8, 16);
    return GO(SYS_connect, datagram, A(1), 16);
}
CASE(connect_none) {
    struct sockaddr s = {0};
    in(1, SOME(s));
    ignores(1, 2, 16);
    return GO(SYS_connect, local, A(1), 16);
}
CASE(bind) {
    struct sockaddr_in a = {AF_INET};
    in(1, SOME(a));
    ignores(1, 8, 16);
    int s = socket(AF_INET, SOCK_DGRAM, 0);
    long r = GO(SYS_bind, s, A(1), 16);
    close(s);
    return r;
}
CASE(bind6) {
    struct sockaddr_in6 a = {AF_INET6};
    a.sin6_addr = in6addr_any;
    in(1, SOME(a));
    ignores(1, 4, 8);
    ignores(1, 24, 28);
    int s = socket(AF_INET6, SOCK_DGRAM, 0);
    long r = GO(SYS_bind, s, A(1), 28);
    close(s);
    return r;
}
CASE(bind_unix) {
    struct sockaddr_un a = {AF_UNIX, "harbour/socket"};
    in(1, SOME(a));
    ignores(1, 2 + sizeof "harbour/socket", sizeof a);
    unlink("harbour/socket");
    int s = socket(AF_UNIX, SOCK_DGRAM, 0);
    long r = GO(SYS_bind, s, A(1), sizeof a);
    close(s);
    return r;
}
CASE(accept) {
    int s = socket(AF_INET, SOCK_STREAM, 0);
    connect(s, (void *)&inet_address, 16);
    out(1, 40);
    both(2, SOME((int){30}), 12);
    long r = closed(GO(SYS_accept, listener, A(1), A(2)));
    close(s);
    return r;
}
CASE(accept4) {
    int s = socket(AF_INET, SOCK_STREAM, 0);
    connect(s, (void *)&inet_address, 16);
    out(1, 40);
    both(2, SOME((int){5}), 12);
    long r = closed(GO(SYS_accept4, listener, A(1), A(2), 0));
    close(s);
    return r;
}
CASE(getsockname) {
    out(1, 40);
    both(2, SOME((int){30}), 12);
    return GO(SYS_getsockname, inet, A(1), A(2));
}
CASE(getsockname_short) {
    out(1, 40);
    both(2, SOME((int){3}), 12);
    return GO(SYS_getsockname, inet, A(1), A(2));
}
CASE(getsockname_unix) {
    out(1, 140);
    both(2, SOME((int){120}), 12);
    return GO(SYS_getsockname, pair[0], A(1), A(2));
}
CASE(getpeername) {
    out(1, 40);
    both(2, SOME((int){30}), 12);
    return GO(SYS_getpeername, inet, A(1), A(2));
}
CASE(sendto) {
    in(1, path, 8);
    in(4, SOME(datagram_address));
    ignores(4, 8, 16);
    return sent(datagram, GO(SYS_sendto, datagram, A(1), 8L, 0, A(4), 16));
}
CASE(recvfrom) {
    sendto(datagram, path, 9, 0, (void *)&datagram_address, 16);
    out(1, 50);
    out(4, 40);
    both(5, SOME((int){30}), 12);
    return GO(SYS_recvfrom, datagram, A(1), 40L, 0, A(4), A(5));
}
CASE(recvfrom_cut) {
    sendto(datagram, path, 9, 0, (void *)&datagram_address, 16);
    out(1, 50);
    out(4, 40);
    both(5, SOME((int){6}), 12);
    return GO(SYS_recvfrom, datagram, A(1), 4L, MSG_TRUNC, A(4), A(5));
}
CASE(recvfrom_stream) {
    receivable(pair[0], pair[1]);
    out(1, 50);
    out(4, 40);
    both(5, SOME((int){30}), 12);
    return GO(SYS_recvfrom, pair[1], A(1), 40L, 0, A(4), A(5));
}
CASE(recv_none) {
    out(1, 50);
    return GO(SYS_recvfrom, pair[1], A(1), 40L, MSG_DONTWAIT, 0L, 0L);
}
CASE(sendmsg) {
    in(2, path, 8);
    list(3, 2, A(2), 8L);
    in(4, SOME(datagram_address));
    ignores(4, 8, 16);
    list(1, 7, A(4), 16L, A(3), 1L, 0L, 0L, 0L);
    ignores(1, 12, 16);
    ignores(1, 48, 56);
    return sent(datagram, GO(SYS_sendmsg, datagram, A(1), 0));
}
CASE(sendmsg_right) {
    struct {
        struct cmsghdr h;
        int fd, gap;
    } m = {{20, SOL_SOCKET, SCM_RIGHTS}, file, 0};
    in(5, SOME(m));
    ignores(5, 20, 24);
    in(2, path, 8);
    list(3, 2, A(2), 8L);
    list(1, 7, 0L, 0L, A(3), 1L, A(5), 24L, 0L);
    ignores(1, 8, 16);
    ignores(1, 48, 56);
    return sent(pair[1], GO(SYS_sendmsg, pair[0], A(1), 0));
}
CASE(recvmsg) {
    sendto(datagram, path, 9, 0, (void *)&datagram_address, 16);
    out(2, 20);
    out(4, 40);
    list(3, 2, A(2), 15L);
    uint64_t m[7] = {(uint64_t)A(4), 30, (uint64_t)A(3), 1, 0, 0, 0};
    both(1, m, 56, 56);
    ignores(1, 12, 16);
    ignores(1, 48, 56);
    return GO(SYS_recvmsg, datagram, A(1), 0);
}
CASE(recvmsg_control) {
    receivable(local, peer);
    out(2, 20);
    out(5, 100);
    list(3, 2, A(2), 15L);
    uint64_t m[7] = {0, 0, (uint64_t)A(3), 1, (uint64_t)A(5), 90, 0};
    both(1, m, 48, 56);
    return GO(SYS_recvmsg, peer, A(1), 0);
}
CASE(recvmsg_rights) {
    struct {
        struct cmsghdr h;
        int fd, gap;
    } c = {{20, SOL_SOCKET, SCM_RIGHTS}, file, 0};
    struct iovec v = {(void *)path, 4};
    struct msghdr s = {0, 0, &v, 1, &c, 24, 0};
    drain(pair[1]);
    sendmsg(pair[0], &s, 0);
    out(2, 20);
    out(5, 100);
    list(3, 2, A(2), 15L);
    uint64_t m[7] = {0, 0, (uint64_t)A(3), 1, (uint64_t)A(5), 90, 0};
    both(1, m, 48, 56);
    long r = GO(SYS_recvmsg, pair[1], A(1), 0);
    if (r > 0 && *(uint64_t *)(A(1) + 40)) {
        close(*(int *)(A(5) + 16));
        *(int *)(A(5) + 16) = 0x33333333;
    }
    return r;
}
CASE(sendmmsg) {
    in(2, path, 8);
    list(3, 2, A(2), 8L);
    uint64_t m[8] = {0, 0, (uint64_t)A(3), 1, 0, 0, 0, 0};
    both(1, m, 56, 64);
    return sent(pair[1], GO(SYS_sendmmsg, pair[0], A(1), 1, 0));
}
CASE(recvmmsg) {
    receivable(pair[0], pair[1]);
    out(2, 20);
    list(3, 2, A(2), 15L);
    uint64_t m[8] = {0, 0, (uint64_t)A(3), 1, 0, 0, 0, 0};
    both(1, m, 56, 64);
    return GO(SYS_recvmmsg, pair[1], A(1), 1, 0, 0L);
}
CASE(so_type) {
    out(3, 20);
    both(4, SOME((int){16}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_TYPE, A(3), A(4));
}
CASE(so_type_short) {
    out(3, 20);
    both(4, SOME((int){2}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_TYPE, A(3), A(4));
}
CASE(so_linger) {
    out(3, 20);
    both(4, SOME((int){16}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_LINGER, A(3), A(4));
}
CASE(so_rcvtimeo) {
    out(3, 20);
    both(4, SOME((int){16}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_RCVTIMEO, A(3), A(4));
}
CASE(so_peercred) {
    out(3, 20);
    both(4, SOME((int){16}), 8);
    return GO(SYS_getsockopt, pair[0], SOL_SOCKET, SO_PEERCRED, A(3), A(4));
}
CASE(so_meminfo) {
    out(3, 90);
    both(4, SOME((int){80}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_MEMINFO, A(3), A(4));
}
CASE(tcp_info) {
    out(3, 400);
    both(4, SOME((int){390}), 8);
    return GO(SYS_getsockopt, inet, IPPROTO_TCP, TCP_INFO, A(3), A(4));
}
CASE(tcp_congestion) {
    out(3, 40);
    both(4, SOME((int){30}), 8);
    return GO(SYS_getsockopt, inet, IPPROTO_TCP, TCP_CONGESTION, A(3), A(4));
}
CASE(ip_ttl) {
    out(3, 20);
    both(4, SOME((int){16}), 8);
    return GO(SYS_getsockopt, inet, IPPROTO_IP, IP_TTL, A(3), A(4));
}
CASE(ip_ttl_byte) {
    out(3, 20);
    both(4, SOME((int){1}), 8);
    return GO(SYS_getsockopt, inet, IPPROTO_IP, IP_TTL, A(3), A(4));
}
CASE(ip_options) {
    out(3, 50);
    both(4, SOME((int){40}), 8);
    return GO(SYS_getsockopt, inet, IPPROTO_IP, IP_OPTIONS, A(3), A(4));
}
CASE(set_linger) {
    in(3, SOME((struct linger){0, 0}));
    return GO(SYS_setsockopt, inet, SOL_SOCKET, SO_LINGER, A(3), 8);
}
CASE(set_rcvtimeo) {
    in(3, SOME((struct timeval){0, 0}));
    return GO(SYS_setsockopt, inet, SOL_SOCKET, SO_RCVTIMEO, A(3), 16);
}
CASE(set_reuse) {
    in(3, SOME((int){1}));
    return GO(SYS_setsockopt, inet, SOL_SOCKET, SO_REUSEADDR, A(3), 4);
}
CASE(set_device) {
    text(3, "");
    return GO(SYS_setsockopt, datagram, SOL_SOCKET, SO_BINDTODEVICE, A(3), 1);
}
CASE(set_ttl_byte) {
    in(3, "\100", 1);
    return GO(SYS_setsockopt, inet, IPPROTO_IP, IP_TTL, A(3), 1);
}
CASE(set_congestion) {
    in(3, "reno", 4);
    return GO(SYS_setsockopt, inet, IPPROTO_TCP, TCP_CONGESTION, A(3), 4);
}
CASE(set_keepidle) {
    in(3, SOME((int){100}));
    return GO(SYS_setsockopt, inet, IPPROTO_TCP, TCP_KEEPIDLE, A(3), 4);
}
CASE(set_multicast_if) {
    in(3, SOME((struct in_addr){htonl(INADDR_LOOPBACK)}));
    return GO(SYS_setsockopt, datagram, IPPROTO_IP, IP_MULTICAST_IF, A(3), 4);
}
CASE(add_membership) {
    struct ip_mreq m = {{htonl(0xe0000105)}, {htonl(INADDR_LOOPBACK)}};
    in(3, SOME(m));
    long r = GO(SYS_setsockopt, datagram, IPPROTO_IP, IP_ADD_MEMBERSHIP, A(3), 8);
    setsockopt(datagram, IPPROTO_IP, IP_DROP_MEMBERSHIP, &m, 8);
    return r;
}
CASE(attach_filter) {
    static struct {
        uint16_t code;
        uint8_t t, f;
        uint32_t k;
    } p = {6, 0, 0, 0xffff};
    in(5, SOME(p));
    struct {
        uint16_t n;
        void *p;
    } f = {1, A(5)};
    in(3, SOME(f));
    ignores(3, 2, 8);
    return GO(SYS_setsockopt, datagram, SOL_SOCKET, 26, A(3), 16);
}
CASE(v6only) {
    in(3, SOME((int){1}));
    return GO(SYS_setsockopt, datagram6, IPPROTO_IPV6, IPV6_V6ONLY, A(3), 4);
}
CASE(siocgifflags) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8913, A(2));
}
CASE(siocgifaddr) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8915, A(2));
}
CASE(siocgifindex) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8933, A(2));
}
CASE(siocgifmtu) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8921, A(2));
}
CASE(siocgifhwaddr) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    ignores(2, 24, 32); /* hardware addresses may be longer elsewhere */
    return GO(SYS_ioctl, datagram, 0x8927, A(2));
}
CASE(siocgifname) {
    int one[5] = {0, 0, 0, 0, 1};
    in(2, SOME(one));
    ignores(2, 0, 16);
    return GO(SYS_ioctl, datagram, 0x8910, A(2));
}
CASE(siocgifconf) {
    out(5, 400);
    struct {
        int n;
        void *p;
    } c = {380, A(5)};
    both(2, &c, 16, 16);
    ignores(2, 4, 8);
    return GO(SYS_ioctl, datagram, 0x8912, A(2));
}
CASE(siocinq) {
    receivable(pair[0], pair[1]);
    out(2, 12);
    return sent(pair[1], 1 + GO(SYS_ioctl, pair[1], 0x541b, A(2)));
}
CASE(siocoutq) {
    out(2, 12);
    return GO(SYS_ioctl, inet, 0x5411, A(2));
}

static void ioctl_get(unsigned request, void *to) { syscall(SYS_ioctl, terminal, request, to); }

CASE(set_sndtimeo) {
    in(3, SOME((struct timeval){0, 0}));
    return GO(SYS_setsockopt, pair[0], SOL_SOCKET, SO_SNDTIMEO, A(3), 16);
}
CASE(so_error) {
    out(3, 20);
    both(4, SOME((int){16}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_ERROR, A(3), A(4));
}
CASE(so_device) {
    out(3, 30);
    both(4, SOME((int){20}), 8);
    return GO(SYS_getsockopt, inet, SOL_SOCKET, SO_BINDTODEVICE, A(3), A(4));
}
CASE(join_group6) {
    struct ipv6_mreq m;
    memset(&m, 0, sizeof m);
    m.ipv6mr_multiaddr.s6_addr[0] = 0xff;
    m.ipv6mr_multiaddr.s6_addr[1] = 1;
    m.ipv6mr_multiaddr.s6_addr[15] = 5;
    m.ipv6mr_interface = 1;
    in(3, SOME(m));
    long r = GO(SYS_setsockopt, datagram6, IPPROTO_IPV6, IPV6_JOIN_GROUP, A(3), 20);
    setsockopt(datagram6, IPPROTO_IPV6, IPV6_LEAVE_GROUP, &m, sizeof m);
    return r;
}
CASE(join_group) {
    struct group_req g;
    memset(&g, 0, sizeof g);
    g.gr_interface = 1;
    *(struct sockaddr_in *)&g.gr_group = (struct sockaddr_in){AF_INET, 0, {htonl(0xe0000106)}};
    in(3, SOME(g));
    ignores(3, 4, 8);
    ignores(3, 16, sizeof g);
    long r = GO(SYS_setsockopt, datagram, IPPROTO_IP, MCAST_JOIN_GROUP, A(3), sizeof g);
    setsockopt(datagram, IPPROTO_IP, MCAST_LEAVE_GROUP, &g, sizeof g);
    return r;
}
CASE(bind_netlink) {
    struct sockaddr_nl a = {AF_NETLINK};
    in(1, SOME(a));
    ignores(1, 2, 4);
    int s = socket(AF_NETLINK, SOCK_RAW, 0);
    long r = GO(SYS_bind, s, A(1), 12);
    close(s);
    return r;
}
CASE(ask_netlink) { /* for links: a header, a family, and 15 bytes that are not looked at */
    struct {
        struct nlmsghdr h;
        struct rtgenmsg g;
    } m = {{17, RTM_GETLINK, NLM_F_REQUEST | NLM_F_DUMP, 1, 0}, {AF_UNSPEC}};
    in(1, &m, 17);
    int s = socket(AF_NETLINK, SOCK_RAW, 0);
    long r = GO(SYS_sendto, s, A(1), 17L, 0, 0L, 0);
    close(s);
    return r;
}
CASE(bind_packet) {
    struct sockaddr_ll a = {AF_PACKET, htons(3), 1};
    in(1, SOME(a));
    ignores(1, 8, 20);
    int s = socket(AF_PACKET, SOCK_DGRAM, 0);
    long r = GO(SYS_bind, s, A(1), sizeof a);
    close(s);
    return r;
}
CASE(bind_algorithm) {
    struct sockaddr_alg a = {AF_ALG, "hash", 0, 0, "sha256"};
    in(1, SOME(a));
    ignores(1, 7, 16);
    ignores(1, 31, sizeof a);
    int s = socket(AF_ALG, SOCK_SEQPACKET, 0);
    long r = GO(SYS_bind, s, A(1), sizeof a);
    close(s);
    return r;
}
CASE(read_inotify) {
    int n = inotify_init1(IN_NONBLOCK);
    inotify_add_watch(n, "harbour", IN_CREATE);
    close(open("harbour/moored", O_CREAT | O_WRONLY, 0600));
    unlink("harbour/moored");
    out(1, 100);
    long r = GO(SYS_read, n, A(1), 90L);
    close(n);
    return r;
}
CASE(read_signal) {
    long mine = 1L << (SIGUSR1 - 1);
    int s = (int)syscall(SYS_signalfd4, -1, &mine, 8L, SFD_NONBLOCK);
    kill(getpid(), SIGUSR1);
    out(1, 150);
    long r = GO(SYS_read, s, A(1), 140L);
    close(s);
    return r;
}
CASE(futex_wait_bits) {
    in(0, SOME((int){5}));
    in(3, SOME(moment));
    return GO(SYS_futex, A(0), FUTEX_WAIT_BITSET_PRIVATE, 5, A(3), 0L, -1);
}
CASE(futex_compare) {
    in(0, SOME((int){5}));
    return GO(SYS_futex, A(0), FUTEX_CMP_REQUEUE_PRIVATE, 1, 1L, &moment, 5);
}
CASE(seccomp_sizes) {
    out(2, 20);
    return GO(SYS_seccomp, 3, 0, A(2));
}
CASE(seccomp_action) {
    in(2, SOME((uint32_t){0x7fff0000}));
    return GO(SYS_seccomp, 2, 0, A(2));
}
CASE(io_submit) {
    static long context;
    static char to[16];
    if (!context)
        syscall(SYS_io_setup, 4, &context);
    struct iocb b;
    memset(&b, 0, sizeof b);
    b.aio_lio_opcode = IOCB_CMD_PREAD;
    b.aio_fildes = (uint32_t)file;
    b.aio_buf = (uint64_t)to;
    b.aio_nbytes = 8;
    in(2, SOME(b));
    list(3, 1, A(2));
    ignores(2, 0, 12); /* handed back, and set by the kernel */
    ignores(2, 60, 64);
    struct io_event done[4];
    long r = GO(SYS_io_submit, context, 1L, A(3));
    syscall(SYS_io_getevents, context, 0L, 4L, done, &moment);
    return r;
}
CASE(io_getevents) {
    static long context;
    static char to[16];
    if (!context)
        syscall(SYS_io_setup, 4, &context);
    struct iocb b = {0}, *list_of[1] = {&b};
    b.aio_lio_opcode = IOCB_CMD_PREAD;
    b.aio_fildes = (uint32_t)file;
    b.aio_buf = (uint64_t)to;
    b.aio_nbytes = 8;
    syscall(SYS_io_submit, context, 1L, list_of);
    out(3, 100);
    in(4, SOME(moment));
    return GO(SYS_io_getevents, context, 1L, 3L, A(3), A(4));
}
CASE(add_key) {
    text(0, "user");
    text(1, "berth");
    in(2, "free", 4);
    return GO(SYS_add_key, A(0), A(1), A(2), 4L, -3) < 0 ? -errno : 0;
}
CASE(key_describe) {
    long key = syscall(SYS_add_key, "user", "berth", "free", 4L, -3);
    out(2, 100);
    return GO(SYS_keyctl, 6, key, A(2), 90L);
}
CASE(key_read) {
    long key = syscall(SYS_add_key, "user", "berth", "free", 4L, -3);
    out(2, 100);
    return GO(SYS_keyctl, 11, key, A(2), 90L);
}
CASE(key_update) {
    long key = syscall(SYS_add_key, "user", "berth", "free", 4L, -3);
    in(2, "busy", 4);
    return GO(SYS_keyctl, 2, key, A(2), 4L);
}
CASE(perf_event) {
    struct perf_event_attr a;
    memset(&a, 0, sizeof a);
    a.type = PERF_TYPE_SOFTWARE;
    a.size = sizeof a;
    a.config = PERF_COUNT_SW_TASK_CLOCK;
    in(0, SOME(a));
    ignores(0, 8, sizeof a); /* which count depends on others */
    return closed(GO(SYS_perf_event_open, A(0), 0, -1, -1, 0L));
}
CASE(landlock_rule) {
    static int rules = -1;
    long all[1] = {1};
    if (rules < 0)
        rules = (int)syscall(SYS_landlock_create_ruleset, all, 8L, 0);
    struct {
        uint64_t allowed;
        int at;
    } __attribute__((packed)) rule = {1, folder};
    in(2, SOME(rule));
    return GO(SYS_landlock_add_rule, rules, 1, A(2), 0);
}
CASE(uring_probe) {
    struct io_uring_params p;
    memset(&p, 0, sizeof p);
    int ring = (int)syscall(SYS_io_uring_setup, 4, &p);
    uint64_t none[100] = {0};
    both(2, none, 16, 800);
    ignores(2, 0, 800); /* as many as this kernel has */
    long r = GO(SYS_io_uring_register, ring, 8, A(2), 60);
    close(ring);
    return r;
}
CASE(uring_files) {
    struct io_uring_params p;
    memset(&p, 0, sizeof p);
    int ring = (int)syscall(SYS_io_uring_setup, 4, &p), files[2] = {file, -1};
    in(2, SOME(files));
    long r = GO(SYS_io_uring_register, ring, 2, A(2), 2);
    close(ring);
    return r;
}
CASE(setxattrat) {
    text(1, path);
    text(3, name);
    in(5, "free", 4);
    struct {
        uint64_t value;
        uint32_t size, flags;
    } a = {(uint64_t)A(5), 4, 0};
    in(4, SOME(a));
    return GO(463, AT_FDCWD, A(1), 0, A(3), A(4), 16L);
}
CASE(getxattrat) {
    text(1, path);
    text(3, name);
    out(5, 40);
    struct {
        uint64_t value;
        uint32_t size, flags;
    } a = {(uint64_t)A(5), 30, 0};
    in(4, SOME(a));
    ignores(4, 12, 16);
    return GO(464, AT_FDCWD, A(1), 0, A(3), A(4), 16L);
}
CASE(file_getattr) {
    text(1, path);
    out(2, 40);
    return GO(468, AT_FDCWD, A(1), A(2), 24L, 0);
}
CASE(listmount) {
    in(0, SOME((uint64_t[3]){24, 0xffffffffffffffff, 0}));
    out(1, 100);
    return GO(458, A(0), A(1), 8L, 0);
}
static long ask_ethtool(uint32_t command, size_t size) {
    both(5, &command, 4, size + 40);
    struct {
        char name[16];
        void *data;
    } i = {"lo", A(5)};
    in(2, SOME(i));
    ignores(2, 3, 16);
    return GO(SYS_ioctl, datagram, 0x8946, A(2));
}
CASE(ethtool_link) { return ask_ethtool(0x0a, 8); }
CASE(ethtool_driver) { return ask_ethtool(0x03, 196); }
CASE(ethtool_stamps) { return ask_ethtool(0x41, 44); }
CASE(fiogetown) {
    out(2, 12);
    return GO(SYS_ioctl, inet, 0x8903, A(2));
}
CASE(siocatmark) {
    out(2, 12);
    return GO(SYS_ioctl, inet, 0x8905, A(2));
}
CASE(siocgifbrdaddr) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8919, A(2));
}
CASE(siocgifnetmask) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x891b, A(2));
}
CASE(siocgifmetric) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x891d, A(2));
}
CASE(siocgiftxqlen) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8942, A(2));
}
CASE(siocgifmap) {
    struct ifreq i = {{"lo"}};
    both(2, &i, 16, 50);
    return GO(SYS_ioctl, datagram, 0x8970, A(2));
}

/* --- terminals --- */

CASE(tcgets) {
    out(2, 60);
    return GO(SYS_ioctl, terminal, 0x5401, A(2));
}
CASE(tcsets) {
    char t[36];
    ioctl_get(0x5401, t);
    in(2, SOME(t));
    ignores(2, 17, 36);
    return GO(SYS_ioctl, terminal, 0x5402, A(2));
}
CASE(tcgets2) {
    out(2, 60);
    return GO(SYS_ioctl, terminal, 0x802c542a, A(2));
}
CASE(tcgeta) {
    out(2, 60);
    return GO(SYS_ioctl, terminal, 0x5405, A(2));
}
CASE(tiocgwinsz) {
    out(2, 20);
    return GO(SYS_ioctl, terminal, 0x5413, A(2));
}
CASE(tiocswinsz) {
    short w[4] = {24, 80};
    in(2, SOME(w));
    return GO(SYS_ioctl, terminal, 0x5414, A(2));
}
CASE(tiocgptn) {
    out(2, 12);
    return GO(SYS_ioctl, terminal, 0x80045430, A(2));
}
CASE(tiocsptlck) {
    in(2, SOME((int){0}));
    return GO(SYS_ioctl, terminal, 0x40045431, A(2));
}
CASE(tiocgptlck) {
    out(2, 12);
    return GO(SYS_ioctl, terminal, 0x80045439, A(2));
}
CASE(tiocgetd) {
    out(2, 12);
    return GO(SYS_ioctl, terminal, 0x5424, A(2));
}
CASE(tiocoutq) {
    out(2, 12);
    return GO(SYS_ioctl, terminal, 0x5411, A(2));
}
CASE(tiocgexcl) {
    out(2, 12);
    return GO(SYS_ioctl, terminal, 0x80045440, A(2));
}
CASE(tiocpkt) {
    in(2, SOME((int){0}));
    return GO(SYS_ioctl, terminal, 0x5420, A(2));
}

/* --- shared memory, semaphores, queues --- */

CASE(shm_stat) {
    out(2, 150);
    return GO(SYS_shmctl, segment, IPC_STAT, A(2));
}
CASE(shm_set) {
    struct shmid_ds d;
    shmctl(segment, IPC_STAT, &d);
    in(2, SOME(d));
    ignores(2, 0, 4);
    ignores(2, 12, 20);
    ignores(2, 22, sizeof d);
    return GO(SYS_shmctl, segment, IPC_SET, A(2));
}
CASE(ipc_info) {
    out(2, 150);
    return GO(SYS_shmctl, 0, 3, A(2)) < 0 ? -errno : 0;
}
CASE(shm_info) {
    out(2, 150);
    return GO(SYS_shmctl, 0, 14, A(2)) < 0 ? -errno : 0;
}
CASE(sem_stat) {
    out(3, 150);
    return GO(SYS_semctl, set, 0, IPC_STAT, A(3));
}
CASE(sem_all) {
    out(3, 20);
    return GO(SYS_semctl, set, 0, GETALL, A(3));
}
CASE(sem_set_all) {
    short v[3] = {1, 2, 3};
    in(3, SOME(v));
    return GO(SYS_semctl, set, 0, SETALL, A(3));
}
CASE(sem_info) {
    out(3, 150);
    return GO(SYS_semctl, 0, 0, 19, A(3)) < 0 ? -errno : 0;
}
CASE(semop) {
    struct sembuf b[2] = {{0, 1, 0}, {1, 1, 0}};
    in(1, SOME(b));
    return GO(SYS_semop, set, A(1), 2L);
}
CASE(semtimedop) {
    struct sembuf b = {0, 1, 0};
    in(1, SOME(b));
    in(3, SOME(moment));
    return GO(SYS_semtimedop, set, A(1), 1L, A(3));
}
CASE(msgsnd) {
    struct {
        long t;
        char x[8];
    } m = {1, "berth"};
    in(1, SOME(m));
    long r = GO(SYS_msgsnd, messages, A(1), 8L, 0);
    msgrcv(messages, &m, 8, 0, IPC_NOWAIT);
    return r;
}
CASE(msgrcv) {
    struct {
        long t;
        char x[8];
    } m = {1, "berth"};
    msgsnd(messages, &m, 6, 0);
    out(1, 40);
    return GO(SYS_msgrcv, messages, A(1), 30L, 0L, 0);
}
CASE(msg_stat) {
    out(2, 150);
    return GO(SYS_msgctl, messages, IPC_STAT, A(2));
}
CASE(msg_info) {
    out(2, 150);
    return GO(SYS_msgctl, 0, 12, A(2)) < 0 ? -errno : 0;
}
CASE(mq_open) {
    text(0, "tondo-berths");
    list(3, 8, 0L, 2L, 16L, 0L, 0L, 0L, 0L, 0L);
    ignores(3, 0, 8);
    ignores(3, 24, 64);
    long r = closed(GO(SYS_mq_open, A(0), O_CREAT | O_RDWR, 0600, A(3)));
    syscall(SYS_mq_unlink, "tondo-berths");
    return r;
}
CASE(mq_send) {
    in(1, path, 9);
    long r = GO(SYS_mq_timedsend, queue, A(1), 9L, 1, 0L);
    char away[64];
    syscall(SYS_mq_timedreceive, queue, away, 64L, 0L, &moment);
    return r;
}
CASE(mq_receive) {
    syscall(SYS_mq_timedsend, queue, path, 9L, 1, 0L);
    out(1, 70);
    out(3, 8);
    in(4, SOME(moment));
    return GO(SYS_mq_timedreceive, queue, A(1), 64L, A(3), A(4));
}
CASE(mq_getsetattr) {
    list(1, 8, (long)O_NONBLOCK, 0L, 0L, 0L, 0L, 0L, 0L, 0L);
    ignores(1, 8, 64);
    out(2, 80);
    return GO(SYS_mq_getsetattr, queue, A(1), A(2));
}
CASE(mq_unlink) {
    mq_close(mq_open("/tondo-other", O_CREAT | O_RDWR, 0600, NULL));
    text(0, "tondo-other");
    return GO(SYS_mq_unlink, A(0));
}

static char place[] = "/tmp/tondo-calls-XXXXXX";

void calls_begin(void) {
    if (!mkdtemp(place) || chdir(place))
        exit(2);
    mkdir("harbour", 0700);
    file = open(path, O_CREAT | O_RDWR, 0600);
    char line[128];
    memset(line, 'b', sizeof line);
    write(file, line, 100);
    symlink("berths", link_path);
    syscall(SYS_fsetxattr, file, name, "free", 4L, 0);
    folder = open("harbour", O_RDONLY | O_DIRECTORY);
    pipe(pipes);
    socketpair(AF_UNIX, SOCK_DGRAM, 0, pair);
    int both_ends[2], one = 1;
    socketpair(AF_UNIX, SOCK_STREAM, 0, both_ends);
    local = both_ends[0];
    peer = both_ends[1];
    setsockopt(peer, SOL_SOCKET, SO_PASSCRED, &one, sizeof one);
    epoll = epoll_create1(0);
    struct epoll_event e = {EPOLLOUT, {.u64 = 7}};
    epoll_ctl(epoll, EPOLL_CTL_ADD, pipes[1], &e);
    timer_fd = (int)syscall(SYS_timerfd_create, 1, 0);
    event = (int)syscall(SYS_eventfd2, 0, 0);
    struct sigevent none = {.sigev_notify = SIGEV_NONE};
    syscall(SYS_timer_create, 1, &none, &timer_number);
    terminal = posix_openpt(O_RDWR | O_NOCTTY);
    unlockpt(terminal);
    listener = socket(AF_INET, SOCK_STREAM, 0);
    inet_address = (struct sockaddr_in){AF_INET, 0, {htonl(INADDR_LOOPBACK)}};
    bind(listener, (void *)&inet_address, sizeof inet_address);
    socklen_t size = sizeof inet_address;
    getsockname(listener, (void *)&inet_address, &size);
    listen(listener, 16);
    inet = socket(AF_INET, SOCK_STREAM, 0);
    connect(inet, (void *)&inet_address, sizeof inet_address);
    int taken = accept(listener, NULL, NULL);
    (void)taken;
    datagram = socket(AF_INET, SOCK_DGRAM, 0);
    datagram_address = (struct sockaddr_in){AF_INET, 0, {htonl(INADDR_LOOPBACK)}};
    bind(datagram, (void *)&datagram_address, sizeof datagram_address);
    size = sizeof datagram_address;
    getsockname(datagram, (void *)&datagram_address, &size);
    datagram6 = socket(AF_INET6, SOCK_DGRAM, 0);
    segment = shmget(IPC_PRIVATE, 4096, IPC_CREAT | 0600);
    set = semget(IPC_PRIVATE, 3, IPC_CREAT | 0600);
    messages = msgget(IPC_PRIVATE, IPC_CREAT | 0600);
    struct mq_attr attributes = {0, 4, 64, 0};
    queue = (int)syscall(SYS_mq_open, "tondo-queue", O_CREAT | O_RDWR | O_NONBLOCK, 0600, &attributes);
    notify = inotify_init();
    pidfd = (int)syscall(SYS_pidfd_open, getpid(), 0);
    sigset_t blocked;
    sigemptyset(&blocked);
    sigaddset(&blocked, SIGUSR1);
    sigprocmask(SIG_BLOCK, &blocked, NULL);
}

void calls_end(void) {
    shmctl(segment, IPC_RMID, NULL);
    semctl(set, 0, IPC_RMID);
    msgctl(messages, IPC_RMID, NULL);
    syscall(SYS_mq_unlink, "tondo-queue");
    static const char *const left[] = {path, link_path, "harbour/new", "harbour/socket"};
    for (size_t i = 0; i < sizeof left / sizeof left[0]; i++)
        unlink(left[i]);
    rmdir("harbour");
    rmdir(place);
}

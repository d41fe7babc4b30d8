/* The table of system-call effects on guest memory: one row per call.
   X(name, parameters...) with up to four of
     IN(i, j)    parameter i points to as many bytes as parameter j says, read
     OUT(i, j)   the same, written
     INTO(i, n)  n bytes read;  FROM(i, n)  n bytes written
     TEXT(i)     a terminated text is read
     VECTOR(i, j, w) j iovecs; w: the kernel writes through them
   A null pointer means the parameter is absent. */
#define SYSTEM_CALLS(X)                                                                   \
    X(read, OUT(1, 2))                                                                    \
    X(write, IN(1, 2))                                                                    \
    X(pread64, OUT(1, 2))                                                                 \
    X(pwrite64, IN(1, 2))                                                                 \
    X(readv, VECTOR(1, 2, 1))                                                             \
    X(writev, VECTOR(1, 2, 0))                                                            \
    X(preadv, VECTOR(1, 2, 1))                                                            \
    X(pwritev, VECTOR(1, 2, 0))                                                           \
    X(sendto, IN(1, 2))                                                                   \
    X(recvfrom, OUT(1, 2))                                                                \
    X(getrandom, OUT(0, 1))                                                               \
    X(getdents64, OUT(1, 2))                                                              \
    X(getcwd, OUT(0, 1))                                                                  \
    X(open, TEXT(0))                                                                      \
    X(openat, TEXT(1))                                                                    \
    X(creat, TEXT(0))                                                                     \
    X(stat, TEXT(0), FROM(1, 144))                                                        \
    X(lstat, TEXT(0), FROM(1, 144))                                                       \
    X(fstat, FROM(1, 144))                                                                \
    X(newfstatat, TEXT(1), FROM(2, 144))                                                  \
    X(statx, TEXT(1), FROM(4, 256))                                                       \
    X(access, TEXT(0))                                                                    \
    X(faccessat, TEXT(1))                                                                 \
    X(readlink, TEXT(0), OUT(1, 2))                                                       \
    X(readlinkat, TEXT(1), OUT(2, 3))                                                     \
    X(unlink, TEXT(0))                                                                    \
    X(unlinkat, TEXT(1))                                                                  \
    X(rename, TEXT(0), TEXT(1))                                                           \
    X(renameat, TEXT(1), TEXT(3))                                                         \
    X(link, TEXT(0), TEXT(1))                                                             \
    X(symlink, TEXT(0), TEXT(1))                                                          \
    X(mkdir, TEXT(0))                                                                     \
    X(mkdirat, TEXT(1))                                                                   \
    X(rmdir, TEXT(0))                                                                     \
    X(chdir, TEXT(0))                                                                     \
    X(chmod, TEXT(0))                                                                     \
    X(chown, TEXT(0))                                                                     \
    X(truncate, TEXT(0))                                                                  \
    X(pipe, FROM(0, 8))                                                                   \
    X(pipe2, FROM(0, 8))                                                                  \
    X(socketpair, FROM(3, 8))                                                             \
    X(connect, IN(1, 2))                                                                  \
    X(bind, IN(1, 2))                                                                     \
    X(nanosleep, INTO(0, 16))                                                             \
    X(clock_gettime, FROM(1, 16))                                                         \
    X(gettimeofday, FROM(0, 16))                                                          \
    X(uname, FROM(0, 390))                                                                \
    X(sysinfo, FROM(0, 112))                                                              \
    X(getrusage, FROM(1, 144))                                                            \
    X(times, FROM(0, 32))                                                                 \
    X(epoll_ctl, INTO(3, 12))                                                             \
    X(sigaltstack, INTO(0, 24), FROM(1, 24))                                              \
    X(rt_sigaction, INTO(1, 32), FROM(2, 32))

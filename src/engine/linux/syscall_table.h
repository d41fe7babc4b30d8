/* The table of system-call effects on guest memory: one row per call.
   X(name, "parameter names", effects...): every named parameter must be defined
   when it is passed in a register, but for those in parentheses; up to five
   effects, by parameter index:
     IN(i, j)     as many bytes as parameter j says are read
     OUT(i, j)    at most that many are written; the result tells how many
     FULL(i, j)   exactly that many are written
     INTO(i, n)   n bytes are read;  FROM(i, n)  n bytes are written
     BOTH(i, n)   read and written
     PART(i, at, n) n bytes at an offset are read (others the kernel ignores)
     FILLS(i, at, n) n bytes at an offset are written (others it leaves)
     FOUND(i, n)  n bytes are written where the result is above 0
     ITEMS(i, n)  result times n bytes are written
     COUNTED(i, j, n) parameter j times n bytes are read
     TEXT(i)      a terminated text is read
     READV(i, j)  j iovecs, data written through them; WRITEV(i, j) read
     LENGTH(i, j) parameter j points to the length of the output at i, both ways
     OPENS()      the result is a new file descriptor
     PAIR(i)      two new descriptors were written at i
     CLOSES(i, j) the descriptors from parameter i to parameter j are closed
     CALL(f)      a function in effects.c, requests.c or uring.c does what no row can say
   A null pointer means the parameter is absent. */
#define SYSTEM_CALLS(X)                                                                   \
    X(read, "fd buf count", OUT(1, 2))                                                    \
    X(write, "fd buf count", IN(1, 2))                                                    \
    X(open, "path flags", TEXT(0), CALL(mode_of_open), OPENS())                           \
    X(close, "fd", CLOSES(0, 0))                                                          \
    X(stat, "path buf", TEXT(0), FROM(1, 144))                                            \
    X(fstat, "fd buf", FROM(1, 144))                                                      \
    X(lstat, "path buf", TEXT(0), FROM(1, 144))                                           \
    X(poll, "fds nfds timeout", CALL(poll))                                               \
    X(lseek, "fd offset whence")                                                          \
    X(mmap, "addr length prot flags", CALL(mmap))                                         \
    X(mprotect, "addr length prot")                                                       \
    X(munmap, "addr length")                                                              \
    X(brk, "addr")                                                                        \
    X(rt_sigaction, "signum act oldact sigsetsize", INTO(1, 32), FROM(2, 32))             \
    X(rt_sigprocmask, "how set oldset sigsetsize", INTO(1, 8), FROM(2, 8))                \
    X(ioctl, "fd request (arg)", CALL(ioctl))                                             \
    X(pread64, "fd buf count offset", OUT(1, 2))                                          \
    X(pwrite64, "fd buf count offset", IN(1, 2))                                          \
    X(readv, "fd iov iovcnt", READV(1, 2))                                                \
    X(writev, "fd iov iovcnt", WRITEV(1, 2))                                              \
    X(access, "path mode", TEXT(0))                                                       \
    X(pipe, "pipefd", FROM(0, 8), PAIR(0))                                                \
    X(select, "nfds readfds writefds exceptfds timeout", CALL(select))                    \
    X(mremap, "old_address old_size new_size flags")                                      \
    X(msync, "addr length flags")                                                         \
    X(mincore, "addr length vec", CALL(mincore))                                          \
    X(madvise, "addr length advice", CALL(madvise))                                       \
    X(shmget, "key size shmflg")                                                          \
    X(shmat, "shmid shmaddr shmflg")                                                      \
    X(shmctl, "shmid cmd (buf)", CALL(shmctl))                                            \
    X(dup, "oldfd", OPENS())                                                              \
    X(dup2, "oldfd newfd", OPENS())                                                       \
    X(nanosleep, "req rem", INTO(0, 16), CALL(remaining))                                 \
    X(getitimer, "which value", FROM(1, 32))                                              \
    X(setitimer, "which value old", INTO(1, 32), FROM(2, 32))                             \
    X(alarm, "seconds")                                                                   \
    X(sendfile, "out_fd in_fd offset count", BOTH(2, 8))                                  \
    X(socket, "domain type protocol", OPENS())                                            \
    X(connect, "sockfd addr addrlen", CALL(address_1))                                    \
    X(accept, "sockfd addr addrlen", LENGTH(1, 2), OPENS())                               \
    X(sendto, "sockfd buf len flags dest_addr addrlen", CALL(sendto))                      \
    X(recvfrom, "sockfd buf len flags src_addr addrlen", OUT(1, 2), LENGTH(4, 5))         \
    X(sendmsg, "sockfd msg flags", CALL(sendmsg))                                         \
    X(recvmsg, "sockfd msg flags", CALL(recvmsg))                                         \
    X(shutdown, "sockfd how")                                                             \
    X(bind, "sockfd addr addrlen", CALL(address_1))                                       \
    X(listen, "sockfd backlog")                                                           \
    X(getsockname, "sockfd addr addrlen", LENGTH(1, 2))                                   \
    X(getpeername, "sockfd addr addrlen", LENGTH(1, 2))                                   \
    X(socketpair, "domain type protocol sv", FROM(3, 8), PAIR(3))                         \
    X(setsockopt, "sockfd level optname optval optlen", CALL(setsockopt))                 \
    X(getsockopt, "sockfd level optname optval optlen", LENGTH(3, 4))                     \
    X(clone, "flags stack", CALL(clone))                                                  \
    X(execve, "path argv envp", TEXT(0), CALL(texts_1), CALL(texts_2))                    \
    X(exit, "status")                                                                     \
    X(wait4, "pid wstatus options rusage", FOUND(1, 4), FOUND(3, 144))                    \
    X(kill, "pid sig")                                                                    \
    X(uname, "buf", FROM(0, 390))                                                         \
    X(semget, "key nsems semflg")                                                         \
    X(semop, "semid sops nsops", COUNTED(1, 2, 6))                                        \
    X(semctl, "semid (semnum) cmd (arg)", CALL(semctl))                                   \
    X(shmdt, "shmaddr")                                                                   \
    X(msgget, "key msgflg")                                                               \
    X(msgsnd, "msqid msgp msgsz msgflg", CALL(msgsnd))                                    \
    X(msgrcv, "msqid msgp msgsz msgtyp msgflg", CALL(msgrcv))                             \
    X(msgctl, "msqid cmd (buf)", CALL(msgctl))                                            \
    X(fcntl, "fd cmd (arg)", CALL(fcntl))                                                 \
    X(flock, "fd operation")                                                              \
    X(fsync, "fd")                                                                        \
    X(fdatasync, "fd")                                                                    \
    X(truncate, "path length", TEXT(0))                                                   \
    X(ftruncate, "fd length")                                                             \
    X(getdents, "fd dirp count", CALL(entries))                                           \
    X(getcwd, "buf size", OUT(0, 1))                                                      \
    X(chdir, "path", TEXT(0))                                                             \
    X(fchdir, "fd")                                                                       \
    X(rename, "oldpath newpath", TEXT(0), TEXT(1))                                        \
    X(mkdir, "path mode", TEXT(0))                                                        \
    X(rmdir, "path", TEXT(0))                                                             \
    X(creat, "path mode", TEXT(0), OPENS())                                               \
    X(link, "oldpath newpath", TEXT(0), TEXT(1))                                          \
    X(unlink, "path", TEXT(0))                                                            \
    X(symlink, "target linkpath", TEXT(0), TEXT(1))                                       \
    X(readlink, "path buf bufsiz", TEXT(0), OUT(1, 2))                                    \
    X(chmod, "path mode", TEXT(0))                                                        \
    X(fchmod, "fd mode")                                                                  \
    X(chown, "path owner group", TEXT(0))                                                 \
    X(fchown, "fd owner group")                                                           \
    X(lchown, "path owner group", TEXT(0))                                                \
    X(umask, "mask")                                                                      \
    X(gettimeofday, "tv tz", FROM(0, 16), FROM(1, 8))                                     \
    X(getrlimit, "resource rlim", FROM(1, 16))                                            \
    X(getrusage, "who usage", FROM(1, 144))                                               \
    X(sysinfo, "info", FROM(0, 112))                                                      \
    X(times, "buf", FROM(0, 32))                                                          \
    X(setuid, "uid")                                                                      \
    X(setgid, "gid")                                                                      \
    X(setpgid, "pid pgid")                                                                \
    X(getpgid, "pid")                                                                     \
    X(getsid, "pid")                                                                      \
    X(getgroups, "size list", ITEMS(1, 4))                                                \
    X(setgroups, "size list", COUNTED(1, 0, 4))                                           \
    X(getresuid, "ruid euid suid", FROM(0, 4), FROM(1, 4), FROM(2, 4))                    \
    X(getresgid, "rgid egid sgid", FROM(0, 4), FROM(1, 4), FROM(2, 4))                    \
    X(capget, "header data", INTO(0, 4), CALL(capget))                                    \
    X(capset, "header data", INTO(0, 8), CALL(capset))                                    \
    X(rt_sigpending, "set sigsetsize", FULL(0, 1))                                        \
    X(rt_sigtimedwait, "set info timeout sigsetsize", IN(0, 3), FROM(1, 128), INTO(2, 16)) \
    X(rt_sigqueueinfo, "pid sig info", PART(2, 4, 8), PART(2, 16, 12))                    \
    X(rt_sigsuspend, "mask sigsetsize", IN(0, 1))                                         \
    X(sigaltstack, "ss old_ss", PART(0, 0, 12), PART(0, 16, 8), FROM(1, 24))              \
    X(utime, "path times", TEXT(0), INTO(1, 16))                                          \
    X(mknod, "path mode", TEXT(0))                                                        \
    X(statfs, "path buf", TEXT(0), FROM(1, 120))                                          \
    X(fstatfs, "fd buf", FROM(1, 120))                                                    \
    X(sched_setparam, "pid param", INTO(1, 4))                                            \
    X(sched_getparam, "pid param", FROM(1, 4))                                            \
    X(sched_setscheduler, "pid policy param", INTO(2, 4))                                 \
    X(sched_getscheduler, "pid")                                                          \
    X(sched_rr_get_interval, "pid tp", FROM(1, 16))                                       \
    X(prctl, "option (arg2)", CALL(prctl))                                                \
    X(arch_prctl, "code", CALL(arch_prctl))                                               \
    X(setrlimit, "resource rlim", INTO(1, 16))                                            \
    X(chroot, "path", TEXT(0))                                                            \
    X(mount, "source target filesystemtype", TEXT(0), TEXT(1), TEXT(2))                   \
    X(umount2, "target flags", TEXT(0))                                                   \
    X(sethostname, "name len", IN(0, 1))                                                  \
    X(setxattr, "path name value size flags", TEXT(0), TEXT(1), IN(2, 3))                 \
    X(lsetxattr, "path name value size flags", TEXT(0), TEXT(1), IN(2, 3))                \
    X(fsetxattr, "fd name value size flags", TEXT(1), IN(2, 3))                           \
    X(getxattr, "path name value size", TEXT(0), TEXT(1), OUT(2, 3))                      \
    X(lgetxattr, "path name value size", TEXT(0), TEXT(1), OUT(2, 3))                     \
    X(fgetxattr, "fd name value size", TEXT(1), OUT(2, 3))                                \
    X(listxattr, "path list size", TEXT(0), OUT(1, 2))                                    \
    X(llistxattr, "path list size", TEXT(0), OUT(1, 2))                                   \
    X(flistxattr, "fd list size", OUT(1, 2))                                              \
    X(removexattr, "path name", TEXT(0), TEXT(1))                                         \
    X(tkill, "tid sig")                                                                   \
    X(time, "tloc", FROM(0, 8))                                                           \
    X(futex, "uaddr op (val) (timeout)", CALL(futex))                                     \
    X(sched_setaffinity, "pid cpusetsize mask", IN(2, 1))                                 \
    X(sched_getaffinity, "pid cpusetsize mask", OUT(2, 1))                                \
    X(io_setup, "nr_events ctx", FROM(1, 8))                                              \
    X(io_getevents, "ctx min_nr nr events timeout", ITEMS(3, 32), INTO(4, 16))            \
    X(epoll_create, "size", OPENS())                                                      \
    X(getdents64, "fd dirp count", CALL(entries_64))                                      \
    X(semtimedop, "semid sops nsops timeout", COUNTED(1, 2, 6), INTO(3, 16))              \
    X(fadvise64, "fd offset len advice")                                                  \
    X(timer_create, "clockid sevp timerid", PART(1, 8, 8), FROM(2, 4))                    \
    X(timer_settime, "timerid flags new_value old_value", INTO(2, 32), FROM(3, 32))       \
    X(timer_gettime, "timerid value", FROM(1, 32))                                        \
    X(timer_delete, "timerid")                                                            \
    X(clock_settime, "clockid tp", INTO(1, 16))                                           \
    X(clock_gettime, "clockid tp", FROM(1, 16))                                           \
    X(clock_getres, "clockid res", FROM(1, 16))                                           \
    X(clock_nanosleep, "clockid flags request remain", INTO(2, 16), CALL(remaining_3))    \
    X(exit_group, "status")                                                               \
    X(epoll_wait, "epfd events maxevents timeout", ITEMS(1, 12))                          \
    X(epoll_ctl, "epfd op fd (event)", CALL(epoll_ctl))                                   \
    X(tgkill, "tgid tid sig")                                                             \
    X(utimes, "path times", TEXT(0), INTO(1, 32))                                         \
    X(mq_open, "name oflag (mode) (attr)", TEXT(0), CALL(mq_open), OPENS())               \
    X(mq_unlink, "name", TEXT(0))                                                         \
    X(mq_timedsend, "mqdes msg len prio timeout", IN(1, 2), INTO(4, 16))                  \
    X(mq_timedreceive, "mqdes msg len prio timeout", OUT(1, 2), FROM(3, 4), INTO(4, 16))  \
    X(mq_getsetattr, "mqdes new old", PART(1, 0, 8), FROM(2, 64))                         \
    X(waitid, "idtype id infop options rusage", FILLS(2, 0, 12), FILLS(2, 16, 12),        \
      CALL(usage_of_found))                                                               \
    X(inotify_add_watch, "fd path mask", TEXT(1))                                         \
    X(inotify_rm_watch, "fd wd")                                                          \
    X(openat, "dirfd path flags", TEXT(1), CALL(mode_of_openat), OPENS())                 \
    X(mkdirat, "dirfd path mode", TEXT(1))                                                \
    X(mknodat, "dirfd path mode", TEXT(1))                                                \
    X(fchownat, "dirfd path owner group flags", TEXT(1))                                  \
    X(futimesat, "dirfd path times", TEXT(1), INTO(2, 32))                                \
    X(newfstatat, "dirfd path buf flags", TEXT(1), FROM(2, 144))                          \
    X(unlinkat, "dirfd path flags", TEXT(1))                                              \
    X(renameat, "olddirfd oldpath newdirfd newpath", TEXT(1), TEXT(3))                    \
    X(linkat, "olddirfd oldpath newdirfd newpath flags", TEXT(1), TEXT(3))                \
    X(symlinkat, "target newdirfd linkpath", TEXT(0), TEXT(2))                            \
    X(readlinkat, "dirfd path buf bufsiz", TEXT(1), OUT(2, 3))                            \
    X(fchmodat, "dirfd path mode", TEXT(1))                                               \
    X(faccessat, "dirfd path mode", TEXT(1))                                              \
    X(pselect6, "nfds readfds writefds exceptfds timeout sigmask", CALL(select),          \
      INTO(5, 16), CALL(mask_of_select))                                                  \
    X(ppoll, "fds nfds tmo_p sigmask", CALL(poll), BOTH(2, 16), INTO(3, 8))               \
    X(get_robust_list, "pid head len", FROM(1, 8), FROM(2, 8))                            \
    X(set_robust_list, "head len")                                                        \
    X(splice, "fd_in off_in fd_out off_out len flags", BOTH(1, 8), BOTH(3, 8))            \
    X(sync_file_range, "fd offset nbytes flags")                                          \
    X(vmsplice, "fd iov nr_segs flags", WRITEV(1, 2))                                     \
    X(utimensat, "dirfd path times flags", TEXT(1), CALL(file_times))                     \
    X(epoll_pwait, "epfd events maxevents timeout sigmask", ITEMS(1, 12), INTO(4, 8))     \
    X(epoll_pwait2, "epfd events maxevents timeout sigmask", ITEMS(1, 12), INTO(3, 16),   \
      INTO(4, 8))                                                                         \
    X(signalfd, "fd mask sizemask", INTO(1, 8), OPENS())                                  \
    X(signalfd4, "fd mask sizemask flags", INTO(1, 8), OPENS())                           \
    X(timerfd_create, "clockid flags", OPENS())                                           \
    X(timerfd_settime, "fd flags new_value old_value", INTO(2, 32), FROM(3, 32))          \
    X(timerfd_gettime, "fd value", FROM(1, 32))                                           \
    X(eventfd2, "initval flags", OPENS())                                                 \
    X(fallocate, "fd mode offset len")                                                    \
    X(accept4, "sockfd addr addrlen flags", LENGTH(1, 2), OPENS())                        \
    X(epoll_create1, "flags", OPENS())                                                    \
    X(dup3, "oldfd newfd flags", OPENS())                                                 \
    X(pipe2, "pipefd flags", FROM(0, 8), PAIR(0))                                         \
    X(preadv, "fd iov iovcnt offset", READV(1, 2))                                        \
    X(pwritev, "fd iov iovcnt offset", WRITEV(1, 2))                                      \
    X(preadv2, "fd iov iovcnt offset", READV(1, 2))                                       \
    X(pwritev2, "fd iov iovcnt offset", WRITEV(1, 2))                                     \
    X(recvmmsg, "sockfd msgvec vlen flags timeout", CALL(recvmmsg))                       \
    X(sendmmsg, "sockfd msgvec vlen flags", CALL(sendmmsg))                               \
    X(prlimit64, "pid resource new_limit old_limit", INTO(2, 16), FROM(3, 16))            \
    X(process_vm_readv, "pid local liovcnt remote riovcnt flags", READV(1, 2),            \
      COUNTED(3, 4, 16))                                                                  \
    X(process_vm_writev, "pid local liovcnt remote riovcnt flags", WRITEV(1, 2),          \
      COUNTED(3, 4, 16))                                                                  \
    X(getcpu, "cpu node", FROM(0, 4), FROM(1, 4))                                         \
    X(sched_getattr, "pid attr size flags", FULL(1, 2))                                   \
    X(sched_setattr, "pid attr flags", INTO(1, 48))                                       \
    X(renameat2, "olddirfd oldpath newdirfd newpath flags", TEXT(1), TEXT(3))             \
    X(getrandom, "buf buflen flags", OUT(0, 1))                                           \
    X(memfd_create, "name flags", TEXT(0), OPENS())                                       \
    X(execveat, "dirfd path argv envp flags", TEXT(1), CALL(texts_2), CALL(texts_3))      \
    X(copy_file_range, "fd_in off_in fd_out off_out len flags", BOTH(1, 8), BOTH(3, 8))   \
    X(statx, "dirfd path flags mask buf", TEXT(1), FROM(4, 256))                          \
    X(io_uring_setup, "entries params", PART(1, 8, 4), PART(1, 28, 12), FROM(1, 120),     \
      OPENS(), CALL(io_uring_setup))                                                                            \
    X(openat2, "dirfd path how size", TEXT(1), IN(2, 3), OPENS())                         \
    X(faccessat2, "dirfd path mode flags", TEXT(1))                                       \
    X(inotify_init, "", OPENS())                                                          \
    X(inotify_init1, "flags", OPENS())                                                    \
    X(pidfd_open, "pid flags", OPENS())                                                   \
    X(userfaultfd, "flags", OPENS())                                                      \
    X(eventfd, "initval", OPENS())                                                        \
    X(clone3, "cl_args size", CALL(clone3))                                               \
    X(ptrace, "request pid", CALL(ptrace))                                                \
    X(getpriority, "which who")                                                           \
    X(setpriority, "which who niceval")                                                   \
    X(setreuid, "ruid euid")                                                              \
    X(setregid, "rgid egid")                                                              \
    X(setresuid, "ruid euid suid")                                                        \
    X(setresgid, "rgid egid sgid")                                                        \
    X(personality, "persona")                                                             \
    X(ustat, "dev ubuf", FROM(1, 32))                                                     \
    X(adjtimex, "buf", INTO(0, 4), CALL(clock_0))                                         \
    X(clock_adjtime, "clockid buf", INTO(1, 4), CALL(clock_1))                            \
    X(setdomainname, "name len", IN(0, 1))                                                \
    X(syslog, "type bufp len", OUT(1, 2))                                                 \
    X(readahead, "fd offset count")                                                       \
    X(mlock, "addr length")                                                               \
    X(munlock, "addr length")                                                             \
    X(mlock2, "addr length flags")                                                        \
    X(mlockall, "flags")                                                                  \
    X(sched_get_priority_max, "policy")                                                   \
    X(sched_get_priority_min, "policy")                                                   \
    X(timer_getoverrun, "timerid")                                                        \
    X(rt_tgsigqueueinfo, "tgid tid sig info", PART(3, 4, 8), PART(3, 16, 12))             \
    X(pidfd_send_signal, "pidfd sig info flags", INTO(2, 12))                             \
    X(mq_notify, "mqdes sevp", PART(1, 8, 8))                                             \
    X(tee, "fd_in fd_out len flags")                                                      \
    X(get_mempolicy, "mode (nodemask) (maxnode) (addr) (flags)", FROM(0, 4),              \
      CALL(get_mempolicy))                                                                \
    X(set_mempolicy, "mode nodemask maxnode", CALL(set_mempolicy))                        \
    X(mbind, "addr len mode nodemask maxnode flags", CALL(mbind))                         \
    X(migrate_pages, "pid maxnode old_nodes new_nodes", CALL(migrate_pages))              \
    X(move_pages, "pid count pages nodes status flags", COUNTED(2, 1, 8),                 \
      COUNTED(3, 1, 4), CALL(move_pages))                                                 \
    X(modify_ldt, "func ptr bytecount", CALL(modify_ldt))                                 \
    X(bpf, "cmd attr size", IN(1, 2))                                                     \
    X(io_submit, "ctx_id nr iocbpp", CALL(io_submit))                                     \
    X(io_destroy, "ctx_id")                                                               \
    X(io_cancel, "ctx_id iocb result")                                                    \
    X(io_uring_register, "fd opcode (arg) (nr_args)", CALL(io_uring_register))            \
    X(perf_event_open, "attr pid cpu group_fd flags", PART(0, 0, 8), OPENS())             \
    X(fanotify_init, "flags event_f_flags", OPENS())                                      \
    X(fanotify_mark, "fd flags mask dirfd path", TEXT(4))                                 \
    X(name_to_handle_at, "dirfd path handle mount_id flags", TEXT(1), CALL(name_to_handle),\
      FROM(3, 4))                                                                         \
    X(open_by_handle_at, "mount_fd handle flags", PART(1, 0, 8), OPENS())                 \
    X(setns, "fd nstype")                                                                 \
    X(unshare, "flags")                                                                   \
    X(kcmp, "pid1 pid2 type")                                                             \
    X(add_key, "type description payload plen keyring", TEXT(0), TEXT(1), IN(2, 3))       \
    X(request_key, "type description callout_info keyring", TEXT(0), TEXT(1), TEXT(2))    \
    X(keyctl, "operation", CALL(keyctl))                                                  \
    X(io_uring_enter, "fd to_submit min_complete flags", CALL(io_uring_enter))            \
    X(pidfd_getfd, "pidfd targetfd flags", OPENS())                                       \
    X(open_tree, "dirfd path flags", TEXT(1), OPENS())                                    \
    X(membarrier, "cmd flags")                                                            \
    X(pkey_alloc, "flags access_rights")                                                  \
    X(swapon, "path flags", TEXT(0))                                                      \
    X(acct, "path", TEXT(0))                                                              \
    X(pivot_root, "new_root put_old", TEXT(0), TEXT(1))                                   \
    X(settimeofday, "tv tz", INTO(0, 16), INTO(1, 8))                                     \
    X(setfsuid, "uid")                                                                    \
    X(setfsgid, "gid")                                                                    \
    X(swapoff, "path", TEXT(0))                                                           \
    X(syncfs, "fd")                                                                       \
    X(lremovexattr, "path name", TEXT(0), TEXT(1))                                        \
    X(fremovexattr, "fd name", TEXT(1))                                                   \
    X(ioprio_set, "which who ioprio")                                                     \
    X(ioprio_get, "which who")                                                            \
    X(io_pgetevents, "ctx_id min_nr nr events timeout (usig)", ITEMS(3, 32), INTO(4, 16)) \
    X(pkey_mprotect, "addr length prot pkey")                                             \
    X(pkey_free, "pkey")                                                                  \
    X(seccomp, "operation flags (args)", CALL(seccomp))                                   \
    X(process_madvise, "pidfd iovec vlen advice flags", COUNTED(1, 2, 16))                \
    X(process_mrelease, "pidfd flags")                                                    \
    X(memfd_secret, "flags", OPENS())                                                     \
    X(fsopen, "fsname flags", TEXT(0), OPENS())                                           \
    X(mount_setattr, "dirfd path flags uattr usize", TEXT(1), IN(3, 4))                   \
    X(futex_waitv, "waiters nr_futexes flags timeout clockid", COUNTED(0, 1, 24), INTO(3, 16))\
    X(landlock_create_ruleset, "attr size flags", IN(0, 1), OPENS())                      \
    X(landlock_add_rule, "ruleset_fd rule_type rule_attr flags", INTO(2, 12))             \
    X(landlock_restrict_self, "ruleset_fd flags")                                         \
    X(close_range, "first last flags", CALL(close_range))                                 \
    X(cachestat, "fd range status flags", INTO(1, 16), FROM(2, 40))                       \
    X(fchmodat2, "dirfd path mode flags", TEXT(1))                                        \
    X(futex_wake, "uaddr bits count flags")                                               \
    X(futex_wait, "uaddr value bits flags (timeout) (clockid)", INTO(0, 4), INTO(4, 16))  \
    X(futex_requeue, "waiters flags wake requeue", INTO(0, 48))                           \
    X(listmount, "req ids count flags", INTO(0, 24), ITEMS(1, 8))                         \
    X(mseal, "addr length flags")                                                         \
    X(setxattrat, "dirfd path at_flags name args size", TEXT(1), TEXT(3), CALL(attribute)) \
    X(getxattrat, "dirfd path at_flags name args size", TEXT(1), TEXT(3), CALL(attribute)) \
    X(listxattrat, "dirfd path at_flags list size", TEXT(1), OUT(3, 4))                   \
    X(removexattrat, "dirfd path at_flags name", TEXT(1), TEXT(3))                        \
    X(file_getattr, "dirfd path attr size at_flags", TEXT(1), FULL(2, 3))                 \
    X(file_setattr, "dirfd path attr size at_flags", TEXT(1), IN(2, 3))

/* Calls that the system's headers may be too old for. */
#ifndef __NR_cachestat
#define __NR_cachestat 451
#endif
#ifndef __NR_fchmodat2
#define __NR_fchmodat2 452
#endif
#ifndef __NR_futex_wake
#define __NR_futex_wake 454
#define __NR_futex_wait 455
#define __NR_futex_requeue 456
#endif
#ifndef __NR_listmount
#define __NR_listmount 458
#endif
#ifndef __NR_mseal
#define __NR_mseal 462
#endif
#ifndef __NR_setxattrat
#define __NR_setxattrat 463
#define __NR_getxattrat 464
#define __NR_listxattrat 465
#define __NR_removexattrat 466
#endif
#ifndef __NR_file_getattr
#define __NR_file_getattr 468
#define __NR_file_setattr 469
#endif

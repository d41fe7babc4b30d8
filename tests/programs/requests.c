/* Calls that do what a request says: ioctl, socket options, fcntl, System V, and
   memory given back. Much of what they are handed is padding. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <linux/filter.h>
#include <linux/fs.h>
#include <linux/if_packet.h>
#include <linux/rtnetlink.h>
#include <linux/seccomp.h>
#include <mqueue.h>
#include <net/if.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <sys/prctl.h>
#include <sys/ptrace.h>
#include <sys/sem.h>
#include <sys/shm.h>
#include <sys/socket.h>
#include <sys/syscall.h>
#include <sys/user.h>
#include <sys/wait.h>
#include <termios.h>
#include <unistd.h>

#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }
#define TEST(x) do { if (x) seen(); } while (0)

APART static void interfaces(int s) {
    struct ifreq list[8], one;
    struct ifconf all;
    all.ifc_len = sizeof list;
    all.ifc_req = list;
    if (ioctl(s, SIOCGIFCONF, &all) == 0 && all.ifc_len > 0)
        TEST(list[0].ifr_name[0] == 'l');
    strcpy(one.ifr_name, "lo");
    if (ioctl(s, SIOCGIFFLAGS, &one) == 0)
        TEST(one.ifr_flags & IFF_UP);
    setsockopt(s, SOL_SOCKET, SO_BINDTODEVICE, &one, sizeof one);
    int mark;
    ioctl(s, SIOCATMARK, &mark);
}

APART static void options(int s) {
    struct sock_filter pass = {6, 0, 0, 0xffff};
    struct sock_fprog program; /* six bytes of padding */
    program.len = 1;
    program.filter = &pass;
    TEST(setsockopt(s, SOL_SOCKET, SO_ATTACH_FILTER, &program, sizeof program) == 0);
    struct group_req group;
    group.gr_interface = 0;
    struct sockaddr_in *a = (struct sockaddr_in *)&group.gr_group;
    a->sin_family = AF_INET;
    a->sin_port = 0;
    a->sin_addr.s_addr = htonl(0xe0000001);
    setsockopt(s, IPPROTO_IP, MCAST_JOIN_GROUP, &group, sizeof group);
    struct sockaddr_in6 six; /* the flow, and the scope of a global address */
    six.sin6_family = AF_INET6;
    six.sin6_port = 0;
    six.sin6_addr = in6addr_loopback;
    bind(s, (struct sockaddr *)&six, sizeof six);
    struct msghdr m; /* a name's length without a name */
    struct iovec part = {"x", 1};
    m.msg_name = NULL;
    m.msg_iov = &part;
    m.msg_iovlen = 1;
    m.msg_control = NULL;
    m.msg_controllen = 0;
    sendmsg(s, &m, 0);
    struct pollfd skipped[1];
    skipped[0].fd = -1;
    TEST(poll(skipped, 1, 0) == 0);
}

APART static void controls(void) {
    int set = semget(IPC_PRIVATE, 3, 0600), shared = shmget(IPC_PRIVATE, 4096, 0600);
    unsigned short values[3];
    TEST(semctl(set, 0, GETALL, values) == 0 && values[2] == 0);
    struct shm_info info;
    TEST(shmctl(shared, SHM_INFO, (void *)&info) >= 0 && info.used_ids > 0);
    semctl(set, 0, IPC_RMID);
    shmctl(shared, IPC_RMID, NULL);
    char name[16];
    TEST(prctl(PR_GET_NAME, name) == 0 && name[0] == 'r');
}

APART static void traced(void) {
    pid_t child = fork();
    if (child == 0) {
        ptrace(PTRACE_TRACEME, 0, NULL, NULL);
        raise(SIGSTOP);
        _exit(0);
    }
    struct user_regs_struct r;
    siginfo_t info;
    waitpid(child, NULL, 0);
    if (ptrace(PTRACE_GETREGS, child, NULL, &r) == 0)
        TEST(r.rsp > 4096);
    if (ptrace(PTRACE_GETSIGINFO, child, NULL, &info) == 0)
        TEST(info.si_signo == SIGSTOP);
    ptrace(PTRACE_CONT, child, NULL, NULL);
    waitpid(child, NULL, 0);
}

APART static void discarded(void) {
    long unset[8], *page = mmap(NULL, 4096, PROT_READ | PROT_WRITE,
                                MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    hide(unset);
    memcpy(page, unset, sizeof unset);
    madvise(page, 4096, MADV_DONTNEED);
    hide(page);
    TEST(page[3] == 0);
    long *own = aligned_alloc(4096, 8192);
    madvise(own, 4096, MADV_DONTNEED);
    hide(own);
    TEST(own[5] == 0);
    TEST(own[600] == 1); // expect: uninitialized-value from=heap
    free(own);
    munmap(page, 4096);
}

APART static void mistakes(int s) {
    struct ifreq one;
    memset(one.ifr_name, 0, sizeof one.ifr_name);
    strcpy(one.ifr_name, "none");
    hide(&one);
    ioctl(s, SIOCSIFMTU, &one); // expect: uninitialized-value variable=one access=4
    char *room = malloc(8);
    socklen_t length = sizeof(struct sockaddr_in);
    getsockname(s, (struct sockaddr *)room, &length); // expect: out-of-bounds-write where=after offset=8
    struct linger lingering;
    lingering.l_onoff = 1;
    hide(&lingering);
    setsockopt(s, SOL_SOCKET, SO_LINGER, &lingering, sizeof lingering); // expect: uninitialized-value variable=lingering access=4
    int *flags = malloc(sizeof *flags); /* four bytes, whatever the request says */
    int here = open(".", O_RDONLY);
    if (ioctl(here, FS_IOC_GETFLAGS, flags) == 0)
        TEST(*flags & 1);
    unsigned size;
    hide(&size);
    fcntl(s, F_SETFL, size); // expect: uninitialized-value variable=size
    close(here);
    free(flags);
    free(room);
}

/* A request with one attribute of 3 bytes: the fourth fills it up. */
APART static void attributes(void) {
    int s = socket(AF_NETLINK, SOCK_RAW, NETLINK_ROUTE);
    struct {
        struct nlmsghdr header;
        struct ifinfomsg info;
        struct rtattr attribute;
        char name[4];
    } *m = malloc(sizeof *m);
    memset(m, 0, sizeof *m - 4);
    m->header.nlmsg_len = sizeof *m;
    m->header.nlmsg_type = RTM_GETLINK;
    m->header.nlmsg_flags = NLM_F_REQUEST;
    m->attribute.rta_len = sizeof m->attribute + 3;
    m->attribute.rta_type = IFLA_IFNAME;
    memcpy(m->name, "lo", 3);
    send(s, m, sizeof *m, 0);
    struct iovec piece = {m, sizeof *m};
    struct msghdr message = {.msg_iov = &piece, .msg_iovlen = 1};
    sendmsg(s, &message, 0);
    free(m);
    m = malloc(sizeof *m);
    memset(m, 0, sizeof *m - 4);
    m->header.nlmsg_len = sizeof *m;
    m->attribute.rta_len = sizeof m->attribute + 4;
    send(s, m, sizeof *m, 0); // expect: uninitialized-value
    send(s, m, sizeof *m + 1, 0); // expect: out-of-bounds-read
    free(m);
    close(s);
}

/* What fills every byte but padding and what only the kernel writes is silent; each part
   that counts is told when it alone was not set. */
APART static void parts(void) {
    int file = open("/tmp", O_TMPFILE | O_RDWR, 0600), pty = posix_openpt(O_RDWR | O_NOCTTY);
    for (int without = 0; without < 2; without++) {
        struct flock *lock = malloc(sizeof *lock);
        lock->l_type = F_UNLCK, lock->l_whence = lock->l_start = 0, lock->l_len = 1;
        if (!without)
            lock->l_pid = 0;
        hide(lock);
        fcntl(file, F_OFD_SETLK, lock); // expect: uninitialized-value
        fcntl(file, F_SETLK, lock);
        free(lock);
        struct termios *modes = malloc(sizeof *modes);
        tcgetattr(pty, modes);
        free(modes);
        modes = malloc(sizeof *modes);
        modes->c_iflag = modes->c_oflag = modes->c_line = 0, modes->c_cflag = CS8;
        if (!without)
            modes->c_lflag = 0;
        hide(modes);
        ioctl(pty, TCSETS, modes); // expect: uninitialized-value
        free(modes);
        struct mq_attr *queue = malloc(sizeof *queue);
        queue->mq_maxmsg = 2;
        if (!without)
            queue->mq_msgsize = 8;
        hide(queue);
        mq_open("/no such/queue", O_RDWR | O_CREAT, 0600, queue); // expect: uninitialized-value
        mq_open("/no such/queue", O_RDWR);
        free(queue);
        struct sock_fprog *program = malloc(sizeof *program);
        program->len = 0;
        if (!without)
            program->filter = NULL;
        hide(program);
        prctl(PR_SET_SECCOMP, SECCOMP_MODE_FILTER, program); // expect: uninitialized-value
        free(program);
        uint64_t *rules = malloc(sizeof *rules);
        if (!without)
            *rules = 0;
        hide(rules);
        syscall(SYS_landlock_create_ruleset, rules, sizeof *rules, 0); // expect: uninitialized-value
        free(rules);
    }
    close(pty);
    close(file);
}

int main(void) {
    attributes();
    parts();
    int s = socket(AF_INET, SOCK_DGRAM, 0);
    interfaces(s);
    options(s);
    controls();
    traced();
    discarded();
    mistakes(s);
    close(s);
    return 0;
}

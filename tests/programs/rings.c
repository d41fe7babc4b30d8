/* Buffers that the kernel finds in queues: io_uring's, mapped where the kernel likes, and
   io_submit's control blocks. Where the system has none of them, plain calls do the same. */
#define _GNU_SOURCE
#include <fcntl.h>
#include <linux/aio_abi.h>
#include <linux/io_uring.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <unistd.h>

static volatile int sink;
static __attribute__((noinline, noclone)) void seen(void) { sink++; }

static int ring = -1;
static char *queue;
static struct io_uring_sqe *submissions;
static struct io_uring_params params;

static unsigned *at(unsigned offset) { return (unsigned *)(queue + offset); }

static int set_up(void) {
    ring = (int)syscall(SYS_io_uring_setup, 4, &params);
    if (ring < 0)
        return 0;
    size_t size = params.sq_off.array + params.sq_entries * sizeof(unsigned);
    size_t other = params.cq_off.cqes + params.cq_entries * sizeof(struct io_uring_cqe);
    size = size > other ? size : other;
    queue = mmap(NULL, size, PROT_READ | PROT_WRITE, MAP_SHARED, ring, IORING_OFF_SQ_RING);
    submissions = mmap(NULL, params.sq_entries * sizeof *submissions, PROT_READ | PROT_WRITE,
                       MAP_SHARED, ring, IORING_OFF_SQES);
    if (queue == MAP_FAILED || (void *)submissions == MAP_FAILED)
        exit(2);
    return 1;
}

static void prepare(int operation, int file, void *buffer, unsigned size) {
    unsigned tail = *at(params.sq_off.tail), n = tail & *at(params.sq_off.ring_mask);
    memset(&submissions[n], 0, sizeof *submissions);
    submissions[n].opcode = (unsigned char)operation;
    submissions[n].fd = file;
    submissions[n].addr = (unsigned long)buffer;
    submissions[n].len = size;
    at(params.sq_off.array)[n] = n;
    __atomic_store_n(at(params.sq_off.tail), tail + 1, __ATOMIC_RELEASE);
}

static int wait_for_one(void) {
    unsigned head = *at(params.cq_off.head);
    struct io_uring_cqe *done = (struct io_uring_cqe *)at(params.cq_off.cqes);
    int result = done[head & *at(params.cq_off.ring_mask)].res;
    __atomic_store_n(at(params.cq_off.head), head + 1, __ATOMIC_RELEASE);
    return result;
}

static void by_ring(int file) {
    char *b = malloc(64), *w = malloc(16);
    if (ring >= 0) {
        prepare(IORING_OP_READ, file, b, 32);
        struct { /* by a number of its own, where the kernel knows that */
            unsigned number, reserved;
            unsigned long ring;
        } name = {~0u, 0, (unsigned long)ring};
        if (syscall(SYS_io_uring_register, ring, 20, &name, 1) == 1)
            syscall(SYS_io_uring_enter, name.number, 1, 1, IORING_ENTER_GETEVENTS | 1 << 4, NULL, 0);
        else
            syscall(SYS_io_uring_enter, ring, 1, 1, IORING_ENTER_GETEVENTS, NULL, 0);
        if (wait_for_one() != 32)
            exit(3);
    } else if (pread(file, b, 32, 0) != 32) {
        exit(3);
    }
    for (int i = 0; i < 32; i++)
        if (b[i] == 'x')
            seen();
    if (b[40] == 'x') // expect: uninitialized-value
        seen();
    memset(w, 1, 9);
    if (ring >= 0)
        prepare(IORING_OP_WRITE, file, w, 16);
    // clang-format off
    ring >= 0 ? syscall(SYS_io_uring_enter, ring, 1, 1, IORING_ENTER_GETEVENTS, NULL, 0) : pwrite(file, w, 16, 64); // expect: uninitialized-value
    // clang-format on
    free(b);
    free(w);
}

static void by_block(int file) {
    aio_context_t context = 0;
    char *b = malloc(64);
    struct iocb block, *list = &block;
    struct io_event event;
    if (syscall(SYS_io_setup, 2, &context) == 0) {
        if (((unsigned *)context)[4] != 0xa10a10a1) /* as libaio looks at it */
            exit(6);
        block.aio_rw_flags = 0;
        block.aio_lio_opcode = IOCB_CMD_PREAD;
        block.aio_reqprio = 0;
        block.aio_fildes = (unsigned)file;
        block.aio_buf = (unsigned long)b;
        block.aio_nbytes = 32;
        block.aio_offset = 0;
        block.aio_reserved2 = 0;
        block.aio_flags = 0;
        if (syscall(SYS_io_submit, context, 1, &list) != 1 ||
            syscall(SYS_io_getevents, context, 1, 1, &event, NULL) != 1 || event.res != 32)
            exit(4);
        syscall(SYS_io_destroy, context);
    } else if (pread(file, b, 32, 0) != 32) {
        exit(4);
    }
    for (int i = 0; i < 32; i++)
        if (b[i] == 'x')
            seen();
    if (b[33] == 'x') // expect: uninitialized-value
        seen();
    free(b);
}

int main(void) {
    char path[] = "/tmp/rings-XXXXXX", text[128];
    int file = mkstemp(path);
    memset(text, 'r', sizeof text);
    if (file < 0 || write(file, text, sizeof text) != sizeof text)
        return 5;
    unlink(path);
    set_up();
    by_ring(file);
    by_block(file);
    close(file);
    if (ring >= 0)
        close(ring);
    return 0;
}

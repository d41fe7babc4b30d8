/* What processes ask while they run: a process waits for its answer, so the question itself is seen
   to first; its neighbours in the source follow, as they are asked for soon. */
#define _GNU_SOURCE
#include "questions.h"

#include "collect.h"

#include <linux/futex.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/syscall.h>
#include <unistd.h>

struct place {
    struct symbols *symbols;
    struct ledger *ledger;
    char path[LEDGER_PATH];
    uint64_t hash; /* of the file */
};

static bool find_answer(const struct place *p, uint64_t link_address, uint32_t number,
                        struct ledger_answer **free, uint64_t *answer) {
    uint64_t key = ledger_answer_key(p->hash, link_address, number);
    *free = NULL;
    for (unsigned n = 0; n < LEDGER_ANSWER_SLOTS; n++) {
        struct ledger_answer *a = &p->ledger->answers[(key + n) % LEDGER_ANSWERS];
        if (a->key == key) {
            *answer = a->answer;
            return true;
        }
        if (!a->key && !*free)
            *free = a;
    }
    return false;
}

static void keep_answer(const struct place *p, uint64_t link_address, uint32_t number,
                        uint64_t answer) {
    struct ledger_answer *free;
    uint64_t before;
    if (find_answer(p, link_address, number, &free, &before) || !free)
        return;
    free->answer = answer;
    __atomic_store_n(&free->key, ledger_answer_key(p->hash, link_address, number), __ATOMIC_RELEASE);
}

static uint64_t room_answer(const struct fresh_room *r, uint64_t link_address) {
    enum { MOST = 1 << QUESTION_ROOM_BITS };
    uint64_t at = r->address - link_address;
    if (r->size >= MOST || r->offset >= 0 || r->offset <= -MOST || at >= MOST)
        return 0;
    return r->size | (uint64_t)-r->offset << QUESTION_ROOM_BITS | at << 2 * QUESTION_ROOM_BITS |
           (r->by_pointer ? QUESTION_BY_POINTER : 0);
}

/* All rooms of the function are found at once; those that cannot be told of are left out. */
static uint64_t answer_of(const struct place *p, uint64_t link_address, uint32_t number) {
    struct ledger_answer *free;
    struct fresh_room rooms[QUESTION_ROOMS];
    uint64_t answer = 0;
    uint32_t last = 0;
    if (find_answer(p, link_address, number, &free, &answer))
        return answer;
    if (!number) {
        answer = symbols_passed(p->symbols, p->path, link_address);
        keep_answer(p, link_address, 0, answer);
        return answer;
    }
    int count = symbols_fresh_rooms(p->symbols, p->path, link_address, rooms, QUESTION_ROOMS);
    for (int k = 0; k < count; k++) {
        uint64_t room = room_answer(&rooms[k], link_address);
        if (!room)
            continue;
        answer = ++last == number ? room : answer;
        keep_answer(p, link_address, last, room);
    }
    keep_answer(p, link_address, last + 1, 0);
    return answer;
}

/* Whether the file is the one that was mapped, and the one whose symbols are read from now on. */
static bool is_still(const char *path, uint64_t hash) {
    enum { FILES = 64 };
    static struct {
        char path[LEDGER_PATH];
        uint64_t hash;
    } read[FILES];
    static unsigned count;
    struct stat s;
    if (stat(path, &s) != 0 || ledger_file_hash(s.st_ino, (uint64_t)s.st_size,
                                                (uint64_t)s.st_mtim.tv_sec,
                                                (uint64_t)s.st_mtim.tv_nsec) != hash)
        return false;
    for (unsigned i = 0; i < count; i++)
        if (strcmp(read[i].path, path) == 0)
            return read[i].hash == hash;
    if (count == FILES)
        return false;
    snprintf(read[count].path, sizeof read[count].path, "%s", path);
    read[count++].hash = hash;
    return true;
}

/* Tells whether there was a question, and which place it was about. */
static bool answer_one(struct place *p, uint64_t *link_address) {
    struct ledger_question *q = &p->ledger->question;
    uint32_t state = __atomic_load_n(&q->state, __ATOMIC_ACQUIRE);
    if ((state & QUESTION_STATES) != QUESTION_ASKED || q->process >= LEDGER_PROCESSES)
        return false;
    const struct ledger_module *m =
        ledger_module_at(p->ledger, p->ledger->processes[q->process].image, q->entry);
    uint64_t found = 0;
    if (m) {
        snprintf(p->path, sizeof p->path, "%.*s", LEDGER_PATH - 1, m->path);
        p->hash = q->file;
        *link_address = q->entry - m->bias;
        if (is_still(p->path, q->file))
            found = answer_of(p, *link_address, q->number);
        else
            m = NULL;
    }
    q->answer = found;
    /* else it has been given up, and there may be another */
    __atomic_compare_exchange_n(&q->state, &state, (state & ~QUESTION_STATES) | QUESTION_ANSWERED,
                                false, __ATOMIC_ACQ_REL, __ATOMIC_RELAXED);
    syscall(SYS_futex, &q->state, FUTEX_WAKE, 64, NULL, NULL, 0);
    return m != NULL;
}

/* Beforehand, where the answer can be kept. */
static void answer_neighbour(uint64_t link_address, void *argument) {
    struct place *p = argument, other = *p;
    struct ledger_answer *free;
    uint64_t ignored;
    for (uint32_t number = 0; number < 2; number++) {
        answer_one(&other, &ignored);
        if (!find_answer(p, link_address, number, &free, &ignored) && free)
            answer_of(p, link_address, number);
    }
}

void questions_answer(struct symbols **symbols, struct ledger *ledger) {
    if ((__atomic_load_n(&ledger->question.state, __ATOMIC_ACQUIRE) & QUESTION_STATES) !=
        QUESTION_ASKED)
        return;
    if (!*symbols)
        *symbols = symbols_new();
    struct place p = {.symbols = *symbols, .ledger = ledger};
    uint64_t link_address;
    if (answer_one(&p, &link_address))
        symbols_each_neighbour(p.symbols, p.path, link_address, answer_neighbour, &p);
}

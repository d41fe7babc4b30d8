/* Sampling counters: when a list is full every other entry goes and the interval
   doubles, so a run of any length has a few hundred samples. */
#include "history.h"

#include <stdlib.h>
#include <string.h>

void history_start(struct history *h) {
    memset(h, 0, sizeof *h);
    h->interval = 0.004;
    h->point_interval = 0.05;
    h->next_point = h->point_interval;
}

static void total(const struct ledger *l, uint64_t *bytes, uint64_t *blocks) {
    uint32_t count = l->next_process < LEDGER_PROCESSES ? l->next_process : LEDGER_PROCESSES;
    *bytes = *blocks = 0;
    for (uint32_t i = 0; i < count; i++) {
        const struct ledger_process *p = &l->processes[i];
        bool lives = p->state == LEDGER_RUNNING || p->state == LEDGER_SEARCH || i == 0;
        if (!p->ready || !lives)
            continue;
        *bytes += p->live_bytes;
        *blocks += p->live_blocks;
    }
}

static void take(struct snapshot *s, const struct ledger *l, double now, uint64_t bytes,
                 uint64_t blocks) {
    uint32_t count = l->next_site < LEDGER_SITES ? l->next_site + 1 : LEDGER_SITES;
    uint64_t *sites = realloc(s->sites, count * sizeof *sites);
    if (!sites)
        return;
    for (uint32_t i = 0; i < count; i++)
        sites[i] = l->sites[i].live_bytes;
    *s = (struct snapshot){now, bytes, blocks, sites, count};
}

static void note(struct history *h, double now, uint64_t bytes, uint64_t blocks) {
    if (h->count == HISTORY_SAMPLES) {
        for (size_t i = 0; i < h->count / 2; i++) /* of two the higher: peaks stay */
            h->samples[i] = h->samples[2 * i].bytes >= h->samples[2 * i + 1].bytes
                                ? h->samples[2 * i]
                                : h->samples[2 * i + 1];
        h->count /= 2;
        h->interval *= 2;
    }
    h->samples[h->count++] = (struct sample){now, bytes, blocks};
}

static void point(struct history *h, const struct ledger *l, double now, uint64_t bytes,
                  uint64_t blocks) {
    if (h->point_count == HISTORY_POINTS) {
        for (size_t i = 0; i < HISTORY_POINTS; i++) {
            if (i % 2 == 0)
                free(h->points[i].sites);
            else
                h->points[i / 2] = h->points[i];
        }
        h->point_count /= 2;
        memset(h->points + h->point_count, 0, h->point_count * sizeof *h->points);
        h->point_interval *= 2;
    }
    take(&h->points[h->point_count++], l, now, bytes, blocks);
    h->next_point = now + h->point_interval;
}

void history_look(struct history *h, const struct ledger *l, double now, bool last) {
    if (now < h->next && !last)
        return;
    uint64_t bytes, blocks;
    total(l, &bytes, &blocks);
    note(h, now, bytes, blocks);
    h->next = now + h->interval;
    if (bytes > h->peak.bytes + h->peak.bytes / 32)
        take(&h->peak, l, now, bytes, blocks);
    if (now >= h->next_point || (last && h->point_count))
        point(h, l, now, bytes, blocks);
}

void history_free(struct history *h) {
    free(h->peak.sites);
    for (size_t i = 0; i < h->point_count; i++)
        free(h->points[i].sites);
    memset(h, 0, sizeof *h);
}

static uint64_t value(const struct snapshot *s, uint32_t site) {
    return site < s->count ? s->sites[site] : 0;
}

bool history_grows(const struct history *h, uint32_t site, uint64_t *from) {
    size_t n = h->point_count, rises = 0;
    if (n < 6)
        return false;
    const struct snapshot *end = &h->points[n - 1];
    uint64_t highest = 0, last = value(end, site);
    for (size_t i = n / 4; i < n; i++) {
        uint64_t v = value(&h->points[i], site);
        if (v + v / 8 < highest)
            return false; /* it goes down again */
        rises += i > n / 4 && v > highest;
        highest = v > highest ? v : highest;
    }
    *from = value(&h->points[n / 4], site);
    uint64_t least = end->bytes / 50 > 2048 ? end->bytes / 50 : 2048;
    return rises * 5 >= (n - 1 - n / 4) * 3 && last > *from + least && last > *from + *from / 4;
}

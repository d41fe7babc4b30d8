/* The berth planner of Port Avenlock, a harbour that does not exist. Built with
   -DMENDED it is correct; without, every function named in the comments of
   planner.c holds one mistake for Tondo to find. */
#ifndef BERTHS_H
#define BERTHS_H

#ifdef __cplusplus
extern "C" {
#endif

struct ship {
    char *name;
    int length, draught, hours;
};

struct berth {
    char *name;
    int length, depth;
    int *calendar; /* hours taken, one per ship */
    struct ship **queue;
};

struct harbour {
    struct ship *ships;
    int ship_count;
    struct berth *berths;
    int berth_count;
};

struct harbour *harbour_load(const char *folder);
void harbour_free(struct harbour *harbour);
int plan(struct harbour *harbour);
void tides_check(const struct harbour *harbour);
/* notices.cc */
int notices_post(const struct harbour *harbour);

#ifdef __cplusplus
}
#endif
#endif

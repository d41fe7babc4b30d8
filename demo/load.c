/* Reading the data files. */
#include "berths.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static char *copy_name(const char *name) {
#ifdef MENDED
    char *copy = malloc(strlen(name) + 1);
#else
    char *copy = malloc(strlen(name)); /* no room for the final zero */
#endif
    return strcpy(copy, name);
}

static FILE *open_file(const char *folder, const char *name) {
    char path[500];
    snprintf(path, sizeof path, "%s/%s", folder, name);
    FILE *file = fopen(path, "r");
    if (!file) {
        fprintf(stderr, "cannot read %s\n", path);
        exit(1);
    }
    return file;
}

static void load_ships(struct harbour *harbour, const char *folder) {
    FILE *file = open_file(folder, "ships.txt");
    char line[200], name[100];
    struct ship ship;
    while (fgets(line, sizeof line, file)) {
        if (sscanf(line, "%99s %d %d %d", name, &ship.length, &ship.draught, &ship.hours) != 4)
            continue;
        ship.name = copy_name(name);
        size_t size = (size_t)(harbour->ship_count + 1) * sizeof ship;
        harbour->ships = realloc(harbour->ships, size);
        harbour->ships[harbour->ship_count++] = ship;
    }
    fclose(file);
}

static void load_berths(struct harbour *harbour, const char *folder) {
    FILE *file = open_file(folder, "berths.txt");
    char line[200], name[100];
    struct berth berth = {0};
    while (fgets(line, sizeof line, file)) {
        if (sscanf(line, "%99s %d %d", name, &berth.length, &berth.depth) != 3)
            continue;
        berth.name = copy_name(name);
        berth.calendar = calloc((size_t)harbour->ship_count, sizeof *berth.calendar);
        berth.queue = calloc((size_t)harbour->ship_count, sizeof *berth.queue);
        size_t size = (size_t)(harbour->berth_count + 1) * sizeof berth;
        harbour->berths = realloc(harbour->berths, size);
        harbour->berths[harbour->berth_count++] = berth;
    }
    fclose(file);
}

struct harbour *harbour_load(const char *folder) {
    struct harbour *harbour = calloc(1, sizeof *harbour);
    load_ships(harbour, folder);
    load_berths(harbour, folder);
    return harbour;
}

void harbour_free(struct harbour *harbour) {
    for (int i = 0; i < harbour->ship_count; i++)
        free(harbour->ships[i].name);
    for (int i = 0; i < harbour->berth_count; i++) {
        struct berth *berth = &harbour->berths[i];
        free(berth->name);
        free(berth->calendar);
#ifdef MENDED
        free(berth->queue); /* forgotten: the queues are lost with their berths */
#endif
    }
    free(harbour->ships);
    free(harbour->berths);
    free(harbour);
}

/* berths FOLDER: plans the berths from the data files there. */
#include "berths.h"

#include <stdio.h>

int main(int argc, char **argv) {
    if (argc != 2) {
        fprintf(stderr, "berths FOLDER\n");
        return 2;
    }
    struct harbour *harbour = harbour_load(argv[1]);
    int status = plan(harbour);
    if (status == 0)
        status = notices_post(harbour);
    harbour_free(harbour);
    return status;
}

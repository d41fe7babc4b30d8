/* The tide at each berth: undefined values, and a frame that is gone. */
#include "berths.h"

#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

struct tide {
    char when; /* bytes of padding follow */
    int height;
};

/* uninitialized-value: a harbour without gauge leaves the height unset */
static void read_gauge(int working, struct tide *tide) {
    tide->when = 'n';
#ifdef MENDED
    tide->height = 0;
#endif
    if (working)
        tide->height = 3;
}

static int lowest(const struct tide *tides, int count) {
    int low = tides[0].height;
    for (int i = 1; i < count; i++)
        if (tides[i].height < low)
            low = tides[i].height;
    return low;
}

/* uninitialized-value in a system call: the whole record goes out, padding and all */
static void send_tide(const struct tide *tide) {
    int line = open("/dev/null", O_WRONLY);
#ifdef MENDED
    struct tide out;
    memset(&out, 0, sizeof out);
    out.when = tide->when;
    out.height = tide->height;
    write(line, &out, sizeof out);
#else
    write(line, tide, sizeof *tide);
#endif
    close(line);
}

/* use-after-return: the text lived in this frame */
static char *label(int height) {
#ifdef MENDED
    static
#endif
    char text[32];
    snprintf(text, sizeof text, "tide %d m", height);
    char *volatile shown = text;
    return shown;
}

void tides_check(const struct harbour *harbour) {
    struct tide tides[2];
    read_gauge(1, &tides[0]);
    read_gauge(harbour->ship_count < 0, &tides[1]);
    if (lowest(tides, 2) < 2)
        puts("low water: deep ships wait");
    send_tide(&tides[0]);
    char first = label(tides[0].height)[0];
    printf("%s\n", first == 't' ? "tide shown" : "tide unknown");
}

/* One finding of many kinds, for the report forms. */
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static char *ship(const char *name) {
    char *copy = malloc(strlen(name));
    strcpy(copy, name);
    return copy;
}

static int depth(int tide) {
    int table[4];
    return table[tide & 3] > 2;
}

int main(void) {
    char *name = ship("Mole & \"Pier\" <1>");
    free(name);
    putchar(name[0]);
    free(name);
    free(malloc(40) + 8);
    printf("%d\n", depth(2) ? 1 : 2);
    char *text = malloc(30);
    strcpy(text, "berth");
    memcpy(text + 1, text, 8);
    void **owner = malloc(sizeof *owner);
    *owner = malloc(100);
    open("/etc/passwd", O_RDONLY);
    int again = dup(1);
    close(again);
    close(again);
    return 0;
}

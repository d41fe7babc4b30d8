/* Bad ranges handed to the C library: one finding, at the caller. */
#define _GNU_SOURCE
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <wchar.h>

volatile int sink;

int main(void) {
    char *ten = malloc(10), *five = malloc(5), *plain = malloc(5);
    memcpy(ten, "0123456789abcdef", 16); // expect: out-of-bounds-write size=10 offset=10 access=16
    memset(five, 'x', 7); // expect: out-of-bounds-write size=5 offset=5 access=7
    memset(five, 'x', 5);
    sink = (int)strlen(five); // expect: out-of-bounds-read size=5 offset=5
    strcpy(plain, "wharf"); // expect: out-of-bounds-write size=5 offset=5 access=6
    char *s = malloc(6);
    strcpy(s, "quay");
    strcat(s, "side"); // expect: out-of-bounds-write size=6 offset=6
    sink = memcmp(ten, "0123456789ab", 12); // expect: out-of-bounds-read size=10 offset=10
    sink = memchr(five, 'q', 8) != NULL; // expect: out-of-bounds-read size=5
    char *o = malloc(30);
    strcpy(o, "low water at noon");
    memcpy(o + 3, o, 12); // expect: overlapping-copy access=12
    memmove(o, o + 2, 10);
    strncpy(s, "pilot boat", 9); // expect: out-of-bounds-write size=6 offset=6 access=9
    char *small = malloc(4);
    sprintf(small, "%d", 123456); // expect: out-of-bounds-write size=4 offset=4
    snprintf(small, 4, "%s", "fits");
    wchar_t *w = malloc(3 * sizeof *w);
    w[0] = w[1] = w[2] = L'a';
    sink = (int)wcslen(w); // expect: out-of-bounds-read size=12 offset=12
    wcsncpy(w, L"harbour", 5); // expect: out-of-bounds-write size=12 offset=12 access=20
    w[2] = 0;
    wcscat(w, L"pilot"); // expect: out-of-bounds-write size=12 offset=12
    FILE *in = fopen("/proc/self/comm", "r");
    char *line = malloc(3);
    fgets(line, 20, in); // expect: out-of-bounds-write size=3 offset=3
    fclose(in);
    free(line);
    char *word = malloc(2);
    sscanf("anchor", "%s", word); // expect: out-of-bounds-write size=2 offset=2 access=5
    free(word);
    FILE *file = tmpfile();
    fwrite(ten, 1, 12, file); // expect: out-of-bounds-read size=10 offset=10
    fclose(file);
    free(ten);
    free(five);
    free(plain);
    free(s);
    free(o);
    free(small);
    free(w);
    return 0;
}

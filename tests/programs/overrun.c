/* A text too long for a local array: where it begins is told with what it destroys. */
#include <string.h>
#include <unistd.h>

static void take(const char *text) {
    char name[16];
    strcpy(name, text); // expect: return-address-overwrite variable=name declared=6 access=72
    _exit(name[0] != 'a');
}

int main(void) {
    take("a name that no harbour's register of ships would ever have had room for");
}

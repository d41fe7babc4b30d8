/* The four classes, owners and dependents. */
#include <stdlib.h>
#include <string.h>

struct node {
    struct node *volatile next;
    char payload[24];
};

char *volatile kept, *volatile middle;

__attribute__((noinline)) static struct node *list(int n) {
    struct node *first = 0;
    while (n--) {
        struct node *node = malloc(sizeof *node); // expect: leak class=unreachable blocks=1 bytes=32 dependent=4
        node->next = first;
        first = node;
    }
    return first;
}

__attribute__((noinline)) static void lose(void) {
    struct node *volatile lost = list(5);
    lost = 0;
    char *volatile single = malloc(77); // expect: leak class=unreachable blocks=1 bytes=77
    single = 0;
    for (int i = 0; i < 10; i++)
        single = calloc(1, 10); // expect: leak class=unreachable blocks=10 bytes=100
    single = 0;
}

__attribute__((noinline)) static void circle(void) {
    struct node *a = malloc(sizeof *a); // expect: leak class=unreachable blocks=1 dependent=1
    struct node *b = malloc(sizeof *b);
    a->next = b;
    b->next = a;
}

__attribute__((noinline)) static void scrub(void) {
    volatile char room[4096];
    memset((void *)room, 0, sizeof room);
}

int main(void) {
    kept = malloc(40);
    middle = (char *)malloc(64) + 20; // expect: leak class=interior blocks=1 bytes=64
    lose();
    circle();
    scrub();
    exit(0);
}

// One block's values, printed at one line after another: each line is told, and once, though the
// library looks at a number in many places. What is handed on stays where it is over a call of a
// function that leaves its register alone: to the library (bound at the first call only), by a
// pointer to a function, by a virtual call.
#include <cstdio>
#include <cstdlib>
#define APART __attribute__((noinline))

static volatile int sink;
static APART void step() { sink++; }
static APART void show(int t) { printf("%d\n", t == 3 ? sink : sink + 1); }
static void (*volatile shown)(int) = show;

struct view {
    virtual ~view() {}
    virtual void draw(int depth) { sink = depth; }
};
struct flat_view : view {
    void draw(int depth) override {
        if (depth > 4) // expect: uninitialized-value from=heap origin=36
            sink = 3;
    }
};
static APART void draw(view *v, int depth) { v->draw(depth); }
static APART void show_at(int depth) {
    if (depth == 8) // expect: uninitialized-value from=heap origin=36
        sink = 4;
}
static void (*volatile shown_at)(int) = show_at;

int main(int count, char **) {
    view *v = count > 7 ? new view : new flat_view;
    int *a = (int *)malloc(80);
    __asm__ volatile("" : : "r"(a) : "memory");
    // The place where it is from counts, so one block for each kind of use.
    int *b = (int *)malloc(80);
    __asm__ volatile("" : : "r"(b) : "memory");
    double x = a[0];
    char text[80];
    snprintf(text, sizeof text, "%f\n", x); // expect: uninitialized-value from=heap origin=33 count=1
    snprintf(text, sizeof text, "%f, %f", 1.0, a[1] * 0.5); // expect: uninitialized-value from=heap origin=33 count=1
    int t = a[2] * 5;
    step();
    printf("%d\n", t); // expect: uninitialized-value from=heap origin=33 count=1
    t = a[3] * 3;
    step();
    fprintf(stdout, "%d and %d\n", 1, t); // expect: uninitialized-value from=heap origin=33 count=1
    double depth = a[7] * 3.0, tide = a[8] + 0.5;
    step();
    sprintf(text, "%f, %f, %f, %f", 1.0, 2.0, depth, tide); // expect: uninitialized-value
    for (int k = 4; k < 7; k++)
        printf("%d\n", a[k]); // expect: uninitialized-value from=heap origin=33 count=3
    t = b[0] * 5;
    step();
    shown_at(t);
    t = b[1] * 5;
    step();
    draw(v, t);
    shown(3);
    delete v;
    free(a);
    free(b);
    return 0;
}

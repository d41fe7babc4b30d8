/* exit: the program dies of its own signal, and the report is still there. */
// exit: 139
struct node {
    int a[10];
    struct node *next;
};

int main(int argc, char **argv) {
    struct node *volatile n = 0;
    return n->next != 0; // expect: null-dereference access=8
}

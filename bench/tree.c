/* Building, walking and freeing trees of small blocks. */
#include <stdio.h>
#include <stdlib.h>

struct node {
    struct node *left, *right;
    int value;
};

static struct node *make(int depth) {
    struct node *n = malloc(sizeof *n);
    n->value = depth;
    n->left = n->right = 0;
    if (depth) {
        n->left = make(depth - 1);
        n->right = make(depth - 1);
    }
    return n;
}

static int sum(const struct node *n) { return n ? n->value + sum(n->left) + sum(n->right) : 0; }

static void drop(struct node *n) {
    if (n) {
        drop(n->left);
        drop(n->right);
        free(n);
    }
}

int main(void) {
    int total = 0;
    for (int i = 0; i < 20; i++) {
        struct node *tree = make(16);
        for (int k = 0; k < 5; k++)
            total += sum(tree);
        drop(tree);
    }
    printf("%d\n", total);
    return 0;
}

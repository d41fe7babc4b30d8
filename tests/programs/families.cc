// Memory given back by another family than it came from.
#include <cstdlib>
#include <new>

volatile int sink;

struct Ship {
    virtual ~Ship() {}
    int draught = 3;
};

/* Not every compiler tells sizes without being asked to. */
void operator delete(void *, std::size_t) noexcept;

/* Given up as a part of itself: the size told is the part's. */
struct Part {
    int length = 1;
};
struct Whole : Part {
    char name[60];
};
__attribute__((noinline)) static Part *make_whole() { return new Whole; }

int main() {
    int *one = new int(1);
    free(one); // expect: mismatched-deallocation size=4
    int *many = new int[6];
    delete many; // expect: mismatched-deallocation size=24
    char *c = (char *)malloc(9);
    delete[] c; // expect: mismatched-deallocation size=9
    Ship *ship = new Ship;
    delete ship;
    sink = *(volatile int *)((char *)ship + 8); // expect: use-after-free size=16 offset=8
    Part *part = make_whole();
    ::operator delete(part, sizeof *part); // expect: mismatched-deallocation size=64 access=4
    Ship *fleet = new Ship[3];
    delete[] fleet;
    void *aligned = ::operator new(128, std::align_val_t(64));
    if ((unsigned long)aligned % 64)
        return 1;
    ::operator delete(aligned, std::align_val_t(64));
    void *quiet = ::operator new(10, std::nothrow);
    ::operator delete(quiet, std::nothrow);
    return 0;
}

// A program with allocation operators of its own: the library's other forms call them, and what
// they get and give back is malloc's.
#include <cstdio>
#include <cstdlib>
#include <memory>
#include <new>
#include <string>
#include <vector>

static int made, given_back;

void *operator new(std::size_t size) {
    made++;
    void *p = std::malloc(size ? size : 1);
    if (!p)
        throw std::bad_alloc();
    return p;
}
void operator delete(void *p) noexcept {
    given_back += p != nullptr;
    std::free(p);
}

struct berth {
    long length;
    virtual ~berth() {}
};

static volatile int sink;
static void seen() { sink++; }

int main() {
    {
        std::vector<std::string> names(3, std::string(100, 'x'));
        auto one = std::make_unique<berth>();
        auto some = std::make_unique<long[]>(20);
        berth *quiet = new (std::nothrow) berth;
        delete quiet;
        char *text = new char[40];
        delete[] text;
        int *open = new int;
        if (*open > 3) // expect: uninitialized-value from=heap
            seen();
        text = reinterpret_cast<char *>(open);
        sink += text[4]; // expect: out-of-bounds-read where=after
        delete open;
        sink += *open; // expect: use-after-free
    }
    // exit: 0
    return made != given_back || made < 9;
}

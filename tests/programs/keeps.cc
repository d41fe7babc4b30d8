// Blocks kept by pointers that are not to their first byte: no leaks.
#include <cstdio>
#include <cstdlib>
#include <cstdint>
#include <cstring>
#include <exception>
#include <map>
#if __cplusplus >= 201703
#include <memory_resource>
#endif
#include <search.h>
#include <stdexcept>
#include <string>
#include <sys/mman.h>
#include <vector>

struct Hull {
    virtual ~Hull() {}
    long tons = 1;
};
struct Crane {
    virtual ~Crane() {}
    long reach = 2;
};
struct CraneShip : Hull, Crane {};
struct Crew {
    ~Crew() { name[0] = 0; }
    char name[24];
};

Crane *volatile crane;
Crew *volatile crew;
std::map<std::string, std::vector<int>> *plan;

// A ring of links in the middle of its elements, whose head is static.
struct Link {
    Link *next, *previous;
} ships = {&ships, &ships};
struct Ship {
    char name[24];
    Link link;
};
void append(Ship *s) {
    s->link.next = &ships;
    s->link.previous = ships.previous;
    ships.previous->next = &s->link;
    ships.previous = &s->link;
}

// Search trees of the C library have marks in their pointers.
void *tree;
int compare(const void *a, const void *b) {
    return strcmp(static_cast<const char *>(a), static_cast<const char *>(b));
}

struct Late {
    std::exception_ptr why;
};
Late *late;
struct __attribute__((packed)) Packed {
    char kind;
    void *cargo;
} packed;
void *aligned; // to 64 bytes, with the way back before it

int main() {
    Link alone; // the head of a ring of one, in this frame
    Ship *only = new Ship;
    alone.next = alone.previous = &only->link;
    only->link.next = only->link.previous = &alone;
    only = nullptr;
    __asm__ volatile("" : : "r"(&alone) : "memory");
    for (int i = 0; i < 50; i++) {
        append(new Ship);
        char *name = static_cast<char *>(malloc(8));
        snprintf(name, 8, "%d", i * 7 % 50);
        tsearch(name, &tree, compare);
    }
    crane = new CraneShip; // kept through its second base
    crew = new Crew[7];    // kept behind the array's count
    plan = new std::map<std::string, std::vector<int>>;
    for (int i = 0; i < 300; i++)
        (*plan)["berth " + std::to_string(i)].push_back(i);
#if __cplusplus >= 201703
    static auto *pool = new std::pmr::monotonic_buffer_resource; // linked at its chunks' ends
    static auto *names = new std::pmr::vector<std::pmr::string>(pool);
    for (int i = 0; i < 500; i++)
        names->emplace_back("a name too long for the string itself");
#endif
    late = new Late;
    late->why = std::make_exception_ptr(std::runtime_error("tide"));
    packed.cargo = malloc(50);
    uintptr_t whole = reinterpret_cast<uintptr_t>(malloc(400));
    aligned = reinterpret_cast<void *>((whole + 72) & ~uintptr_t(63));
    static_cast<uintptr_t *>(aligned)[-1] = whole;
    void **page = static_cast<void **>(
        mmap(nullptr, 4096, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0));
    page[3] = malloc(60);
    mprotect(page, 4096, PROT_READ);
    try {
        throw std::runtime_error("storm");
    } catch (const std::exception &) {
        exit(0);
    }
}

// Blocks kept by pointers that are not to their first byte: no leaks.
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <map>
#include <search.h>
#include <string>
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

int main() {
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
    return 0;
}

// Mistakes made through the standard library, which optimisers put inline many
// levels deep: the user's own line must be found behind it.
#include <algorithm>
#include <cstdio>
#include <list>
#include <map>
#include <memory>
#include <string>
#include <vector>

#define APART __attribute__((noinline))

static volatile int sink;

struct Ship {
    int draught;
    std::string name;
};

APART static void sort_by_draught(std::vector<Ship *> &fleet) {
    auto deeper = [](const Ship *a, const Ship *b) { return a->draught < b->draught; };
    std::sort(fleet.begin(), fleet.end(), deeper); // expect: uninitialized-value from=heap
}

APART static void past_the_end(const std::vector<int> &berths) {
    auto last = berths.begin() + 7;
    sink += *last; // expect: out-of-bounds-read size=28 offset=28 allocated=41
}

APART static void stale(std::vector<int> &berths) {
    const int &first = berths.front();
    berths.reserve(100);
    sink += first; // expect: use-after-free offset=0 size=28 allocated=41
}

APART static void through_algorithm(std::vector<int> &berths) {
    auto end = berths.end();
    sink += (int)std::count(berths.begin(), ++end, 3); // expect: out-of-bounds-read
}

APART static std::vector<int> seven() { return std::vector<int>(7, 3); }

APART static void keep_and_lose() {
    auto *names = new std::map<int, std::string>; // expect: leak blocks=1 dependent=6
    for (int i = 0; i < 3; i++)
        (*names)[i] = std::string(40, 'x');
    sink += (int)names->size();
}

APART static void removed(std::list<Ship> &fleet) {
    auto first = fleet.begin();
    fleet.pop_front();
    sink += first->draught; // expect: use-after-free
}

int main() {
    std::vector<int> berths = seven();
    past_the_end(berths);
    stale(berths);
    std::vector<int> full = seven();
    through_algorithm(full);
    keep_and_lose();
    std::list<Ship> fleet;
    fleet.push_back({3, "Tern"});
    fleet.push_back({4, "Skua"});
    removed(fleet);
    std::vector<Ship *> waiting;
    waiting.push_back((Ship *)malloc(sizeof(Ship)));
    waiting.push_back((Ship *)malloc(sizeof(Ship)));
    waiting[0]->draught = 4;
    sort_by_draught(waiting);
    for (Ship *ship : waiting)
        free(ship);
    return 0;
}

// Blocks kept by pointers only C++ knows: no leaks.
#include <cstdlib>
#include <map>
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

int main() {
    crane = new CraneShip; // kept through its second base
    crew = new Crew[7];    // kept behind the array's count
    plan = new std::map<std::string, std::vector<int>>;
    for (int i = 0; i < 300; i++)
        (*plan)["berth " + std::to_string(i)].push_back(i);
    return 0;
}

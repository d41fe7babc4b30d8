// Notices to mariners: the C++ part.
#include "berths.h"

#include <cstdio>
#include <cstring>
#include <string>
#include <vector>

namespace harbour_office {

struct Notice {
    std::string text;
    Notice *next = nullptr;
};

// leak: the chain's first notice is dropped, and the others hang on it
static Notice *chain(const struct harbour *harbour) {
    Notice *first = nullptr;
    for (int i = 0; i < harbour->berth_count; i++) {
        Notice *notice = new Notice;
        notice->text = "Berth " + std::string(harbour->berths[i].name) + " is dredged next week.";
        notice->next = first;
        first = notice;
    }
    return first;
}

static std::size_t post(Notice *first) {
    std::size_t length = 0;
    while (first) {
        Notice *next = first->next;
        length += first->text.size();
#ifdef MENDED
        delete first;
#endif
        first = next;
    }
    return length;
}

// mismatched-deallocation: an array deleted as if it were one object
static void stamp(std::size_t length) {
    char *page = new char[40];
    std::snprintf(page, 40, "notices: %zu letters", length);
    std::puts(page);
#ifdef MENDED
    delete[] page;
#else
    delete page;
#endif
}

} // namespace harbour_office

extern "C" int notices_post(const struct harbour *harbour) {
    harbour_office::stamp(harbour_office::post(harbour_office::chain(harbour)));
    return 0;
}

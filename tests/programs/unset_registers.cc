// What C++ passes beside the parameters that stand in the program, or instead of them: none of it
// counts as unset. And local variables of methods and templates that nobody set are told.
#include <cstdio>
#include <cstdlib>
#include <functional>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#define APART __attribute__((noinline))
#define ELSEWHERE __attribute__((noinline, weak))

static volatile int sink, zero;
ELSEWHERE void seen() { sink = sink + 1; }
ELSEWHERE void look(long x) {
    if (x)
        seen();
}
ELSEWHERE int berth_of(int ship) { return ship + zero; }
ELSEWHERE bool moored(int ship) { return zero + (ship & 0); }

struct Quay {
    virtual ~Quay() { look(depth); }
    virtual long length() const { return depth; }
    virtual Quay *self(int) { return this; }
    long depth = 4;
};
struct Crane {
    virtual ~Crane() = default;
    virtual long reach(int a, double b) const { return a + (long)b; }
    long arm = 9;
};
struct Terminal : virtual Quay, Crane { // constructors with a table, thunks of both kinds
    Terminal(int a, double b) : name(a, 'q'), width(b) {}
    ~Terminal() override { look((long)width); }
    long length() const override { return (long)name.size(); }
    Terminal *self(int) override { return this; }
    long reach(int a, double b) const override { return (long)(a * b) + arm; }
    std::string name;
    double width;
};
struct Oil : Terminal {
    Oil(int a, double b, long c) : Quay(), Terminal(a, b), tons(c) {}
    long length() const override { return tons; }
    long tons;
};

struct Small {
    int a;
    char b;
};
struct Large {
    long all[6];
};

struct Planner {
    long base = 3;
    APART Large large(int a) const { return {{base, a}}; }
    APART std::string text(int a) const { return std::string((size_t)a, 'x'); }
    APART static long fixed(long a, long b) { return a * 10 + b; }
    APART auto found(int a) { return std::make_pair(a, base); }
    APART Planner &operator+=(long a) {
        base += a;
        return *this;
    }
    template <class T> APART long by(T a, T b) { return (long)(a * (T)base + b); }
    ELSEWHERE long counted(int ships) const { // the last of them that is moored
        int last;
        do {
            if (moored(ships))
                last = ships;
        } while (--ships > 0);
        return last * 2;
    }
};

template <class... A> APART long sum(A... a) { return (0 + ... + (long)a); }
template <class... A> APART long passed_on(A &&...a) { return sum(std::forward<A>(a)...); }

APART static long by_value(Small s, Large l, int a) { return s.a + l.all[1] + a; }
APART static long called(long (*f)(int, long), int a) { return f(a, 5); }
APART static long through(const std::function<long(int)> &f) { return f(3); }
APART static long member(long (Quay::*m)() const, const Quay &q) { return (q.*m)(); }
APART static void fails(int a) {
    if (a)
        throw std::string((size_t)a, 'e');
}
APART static long caught(int a, long b) {
    try {
        fails(a);
    } catch (const std::string &s) {
        return (long)s.size() + b;
    }
    return b;
}
APART static long defaulted(int a, int b = 3, const std::string &c = "abc") {
    return a + b + (long)c.size();
}
static thread_local std::vector<int> own(3, 1);

template <class T> ELSEWHERE T doubled(T ships) {
    T last;
    do {
        if (moored((int)ships))
            last = ships;
    } while (--ships > 0);
    return (T)(last * 2);
}

int main() {
    std::vector<std::unique_ptr<Quay>> all;
    all.emplace_back(new Quay);
    all.emplace_back(new Terminal(3, 2.5));
    all.emplace_back(new Oil(2, 1.5, 77));
    long l = 0;
    for (auto &q : all)
        l += q->length() + q->self(1)->depth;
    look(l);
    const Crane &c = dynamic_cast<Crane &>(*all[2]);
    look(c.reach(3, 2.0));
    all.clear();
    Planner p;
    look(p.large(2).all[1] + (long)p.text(5).size() + Planner::fixed(2, 3) + p.found(4).second);
    p += 4;
    look(p.by(2, 3) + p.by(2.5, 1.5) + p.by<short>(1, 2));
    look(sum(1, 2.0, 3L, 'c') + passed_on(4, 5.5f, (short)6, 7, 8, 9, 10, 11L));
    look(by_value({1, 'b'}, {{2, 3}}, 4));
    look(called([](int a, long b) { return a * b; }, 3));
    look(through([&](int a) { return a + p.base; }));
    look(member(&Quay::length, Quay()));
    look(caught(3, 4) + caught(0, 4) + defaulted(1) + (long)own.size());
    if (p.counted(3) > 7) // expect: uninitialized-value from=stack variable=last
        seen();
    if (doubled<long>(3) > 7) // expect: uninitialized-value from=stack variable=last
        seen();
    return 0;
}

"""Random C++ programs: containers, smart pointers, strings, classes with virtual functions,
exceptions, threads; some lines lose memory, use what was destroyed, or ask for a member that was
never set, and exactly those must be told, by kind and line. Some of the lines run in threads of
their own, several at a time.
objects.py TONDO [SEEDS] [FIRST]"""
import random

from programs import compare

COMPILERS = ["g++ -O0", "g++ -O1", "g++ -O2", "g++ -O3 -mavx2", "clang++ -O0", "clang++ -O2",
             "clang++ -O3 -mavx2"]
STEPS = 45
HEAD = """#include <algorithm>
#include <array>
#include <condition_variable>
#include <cstdlib>
#include <cstring>
#include <deque>
#include <functional>
#include <future>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <numeric>
#include <optional>
#include <set>
#include <sstream>
#include <stdexcept>
#include <string>
#include <thread>
#include <unordered_map>
#include <variant>
#include <vector>
#define APART __attribute__((noinline))
#define HIDE(p) __asm__ volatile("" : "+r"(p) : : "memory")
static volatile long sink;
template <class T> static APART void use(const T &v) { const volatile char *p = (const char *)&v; sink += *p; }
static APART void see(long v) { if (v) sink++; }
struct Berth { char kind; double depth; int number; Berth() : kind('b'), depth(1) {} };
struct Plain { int a; char b; long c; };
struct Ship { virtual ~Ship() {} virtual long length() const { return 5; } int tons = 3; };
struct Tanker : Ship { std::vector<int> tanks; long full; Tanker() : tanks(4, 7) {} long length() const override { return (long)tanks.size(); } };
struct Crane { virtual ~Crane() = default; long reach = 4; };
struct Ferry : virtual Ship, Crane { std::string name = "the ferry that goes to the far islands"; long length() const override { return (long)name.size() + reach; } };
struct Ring { std::shared_ptr<Ring> next; std::array<int, 5> room{}; };
struct Half { int set = 1; int unset; unsigned bits : 3; unsigned more : 9; Half() { bits = 2; } };
struct Throws { std::unique_ptr<int> first = std::make_unique<int>(3); Throws(bool now) { if (now) throw std::runtime_error("no room in the harbour tonight"); } };
struct Queue { std::mutex m; std::condition_variable c; std::deque<std::unique_ptr<Ship>> q; };
static thread_local std::vector<std::string> mine;
static thread_local Half own;
static std::vector<int> numbers(int n) { std::vector<int> v((size_t)n); std::iota(v.begin(), v.end(), 1); return v; }
static std::string words(int n) { return std::string((size_t)n, 'w'); }
"""
# {n}: 1 to 60; {m}: 2 to 9; {s}: 20 to 90; {t}: a type of numbers
FINE = [
    "auto v = numbers({n}); std::sort(v.begin(), v.end(), std::greater<int>()); see(v[0]);",
    "std::vector<{t}> v; for (int i = 0; i < {n}; i++) v.push_back(({t})i); see(v.back() > 3);",
    "std::vector<std::string> v; for (int i = 0; i < {n}; i++) v.push_back(words(i)); std::sort(v.begin(), v.end()); v.erase(v.begin()); see((long)v.size());",
    "std::map<std::string, std::vector<int>> m; for (int i = 0; i < {n}; i++) m[words(i % 25)].push_back(i); long s = 0; for (auto &[k, v] : m) s += (long)k.size() * v[0]; see(s);",
    "std::unordered_map<int, std::string> m; for (int i = 0; i < {n}; i++) m[i * 7] = words(i); m.erase(7); see((long)m.count(14));",
    "std::deque<Berth> d; for (int i = 0; i < {n}; i++) d.emplace_front(); d.pop_back(); see((long)d.size());",
    "std::list<Plain> l({n}, Plain{1, 2, 3}); l.splice(l.begin(), std::list<Plain>({m})); see(l.back().a);",
    "std::unique_ptr<Ship> p = std::make_unique<Tanker>(); see(p->length());",
    "std::unique_ptr<Ship> p(new Ferry); see(p->length()); see(dynamic_cast<Crane *>(p.get())->reach);",
    "std::unique_ptr<Crane> p(new Ferry); see(dynamic_cast<Ship *>(p.get())->length());",
    "auto a = std::make_shared<Ring>(); std::weak_ptr<Ring> w = a; a->next = std::make_shared<Ring>(); see(w.expired());",
    "auto a = std::make_shared<Ring>(), b = std::make_shared<Ring>(); a->next = b; b->next = a; a->next.reset(); see(b->room[2]);",
    "std::function<long(int)> f = [v = numbers({n}), s = words({s})](int i) { return (long)v.size() + (long)s.size() + i; }; auto g = f; see(g({m}));",
    "try { Throws t(true); see(1); } catch (const std::exception &e) { see((long)std::strlen(e.what())); }",
    "try { Tanker t; std::vector<Tanker> v({m}, t); v.at(v.size()).length(); } catch (std::out_of_range &) { sink += 2; }",
    "try { auto v = numbers({n}); std::for_each(v.begin(), v.end(), [](int i) { if (i == 1) throw words({s}); }); } catch (std::string &s) { see((long)s.size()); }",
    "std::variant<int, std::string, Berth> v = words({s}); v = 3; v = Berth(); see(std::get<Berth>(v).kind);",
    "std::optional<Half> o; see(o.has_value()); o.emplace(); see(o->set); see(o->bits);",
    "std::ostringstream o; for (int i = 0; i < {n}; i++) o << i << ' ' << i * 0.5 << ' ' << words(i); see((long)o.str().size());",
    "std::istringstream i(\"12 tons of 3.5 metres\"); int a; std::string b; i >> a >> b; see(a); see((long)b.size());",
    "Berth a, b = a; std::vector<Berth> v({n}, a); std::swap(a, v[0]); b = v.back(); auto w = v; see(w[0].kind); see(b.depth > 0);",
    "std::vector<Berth> v({n}); std::sort(v.begin(), v.end(), [](const Berth &a, const Berth &b) { return a.depth < b.depth; }); see(v[0].kind);",
    "std::vector<Half> v({n}); for (auto &h : v) { h.more = 5; h.set += (int)h.bits; } see(v[0].more); v.resize({m}); auto w = std::move(v); see(w[0].bits);",
    "std::array<Half, {m}> a; auto b = a; for (auto &h : b) see(h.set);",
    "{t} *p = new {t}[{n}](); HIDE(p); see(p[{n} - 1] > 0); delete[] p;",
    "{t} *p = new {t}[{n}]; HIDE(p); p[0] = 1; {t} q[{n}]; std::memcpy(q, p, sizeof q); see(q[0] > 0); delete[] p;",
    "alignas(Tanker) unsigned char room[sizeof(Tanker)]; auto *t = new (room) Tanker; see(t->length()); t->~Tanker();",
    "void *p = std::malloc(sizeof(Ferry)); auto *f = new (p) Ferry; see(f->length()); f->~Ferry(); std::free(p);",
    "struct alignas(64) Wide { char c[64]; }; auto *w = new Wide[{m}]; w[0].c[3] = 1; see(w[0].c[3]); delete[] w;",
    "std::set<std::pair<int, std::string>> s; for (int i = 0; i < {n}; i++) s.insert({i % 5, words(i % 20)}); s.erase(s.begin()); see((long)s.size());",
    "std::string s = words({s}); s.insert(3, \"xyz\"); s.erase(1, 2); s.replace(2, 3, words({m})); s.shrink_to_fit(); auto t = s.substr(4); see((long)s.find('z')); see((long)(t + s).size());",
    "auto *v = new std::vector<Tanker>({m}); HIDE(v); v->push_back(Tanker()); v->erase(v->begin()); delete v;",
    "std::vector<bool> v({n}); v[0] = true; v.flip(); see(v[0]); see((long)std::count(v.begin(), v.end(), true));",
    "std::vector<std::unique_ptr<Ship>> v; for (int i = 0; i < {m}; i++) v.emplace_back(i & 1 ? (Ship *)new Tanker : new Ferry); std::rotate(v.begin(), v.begin() + 1, v.end()); see(v[0]->length());",
    "std::multimap<int, Berth> m; for (int i = 0; i < {n}; i++) m.emplace(i % 4, Berth()); auto r = m.equal_range(0); see((long)std::distance(r.first, r.second));",
    "Half h; Half g = h; if (g.set && h.bits == 2) sink += g.set;",
    "Queue q; std::thread t([&] { for (int i = 0; i < {n}; i++) { std::unique_lock l(q.m); q.q.push_back(std::make_unique<Tanker>()); q.c.notify_one(); } }); long s = 0; for (int i = 0; i < {n}; i++) { std::unique_lock l(q.m); q.c.wait(l, [&] { return !q.q.empty(); }); s += q.q.front()->length(); q.q.pop_front(); } t.join(); see(s);",
    "auto f = std::async(std::launch::async, [] { return numbers({n}); }); see((long)f.get().size());",
    "auto f = std::async(std::launch::async, []() -> int { throw std::runtime_error(words({s})); }); try { see(f.get()); } catch (std::exception &e) { see(e.what()[0]); }",
    "std::vector<std::thread> v; std::vector<long> r({m}); for (int k = 0; k < {m}; k++) v.emplace_back([&r, k] { for (int i = 0; i < {n}; i++) mine.push_back(words(i)); r[(size_t)k] = (long)mine.size(); }); for (auto &t : v) t.join(); see(r[0]);",
    "std::promise<std::string> p; auto f = p.get_future(); std::thread([q = std::move(p)]() mutable { q.set_value(words({s})); }).detach(); see((long)f.get().size());",
    "long room[{m}]; std::thread([&] { for (auto &x : room) x = 3; }).join(); see(room[{m} - 1]);",
    "auto *p = new Tanker; HIDE(p); std::thread([p] { see(p->length()); delete p; }).join();",
    "see(own.set + (long)own.bits); mine.push_back(words({s}));",
    "std::optional<int> o; auto p = o; if (p) sink += *p;",
]
LEAKS = [
    "std::thread([] { auto *p = new {t}[{n}]; HIDE(p); }).join();",
    "auto f = std::async(std::launch::async, [] { return new Tanker; }); auto *p = f.get(); HIDE(p);",
    "auto *p = new {t}[{n}]; HIDE(p);",
    "auto *p = new Tanker; HIDE(p); see(p->length());",
    "auto p = std::make_unique<Plain>(); auto *q = p.release(); HIDE(q);",
    "auto a = std::make_shared<Ring>(); a->next = a;",
    "auto a = std::make_shared<Ring>(); a->next = std::make_shared<Ring>(); a->next->next = a;",
    "auto *m = new std::map<int, std::string>; HIDE(m); for (int i = 0; i < {n}; i++) (*m)[i] = words(i);",
    "Ship *p = new Ferry; HIDE(p); p->tons++;",
    "auto *l = new std::list<Berth>({m}); HIDE(l);",
    "std::vector<Ship *> v; for (int i = 0; i < {m}; i++) { v.push_back(new Ship); HIDE(v.back()); }",
    "auto *f = new std::function<int()>([v = numbers({n})] { return v[0]; }); HIDE(f); see((*f)());",
    "alignas(std::string) char room[sizeof(std::string)]; auto *s = new (room) std::string(words({s})); HIDE(s); see((long)s->size());",
    "char *p = strdup(words({s}).c_str()); HIDE(p); see(p[0]);",
    "struct Old { std::vector<int> v = numbers({n}); }; auto *p = std::malloc(sizeof(Old)); new (p) Old; HIDE(p); std::free(p);",
]
WRONG = [
    ("use-after-free", "auto *p = new Tanker; HIDE(p); std::thread([p] { delete p; }).join(); HIDE(p); use(p->full);"),
    ("use-after-free", "auto v = std::make_unique<std::vector<{t}>>({n}); auto *p = v->data(); HIDE(p); v.reset(); std::thread([p] { p[0] = 1; }).join();"),
    ("uninitialized-value", "auto *h = new Half; HIDE(h); std::thread([h] { if (h->unset) sink++; }).join(); delete h;"),
    ("uninitialized-value", "auto f = std::async(std::launch::async, [] { auto *h = new Half; HIDE(h); Half c = *h; delete h; return c; }); Half g = f.get(); auto *p = &g; HIDE(p); if (p->unset > 3) sink++;"),
    ("out-of-bounds-write", "auto *p = new {t}[{n}]; HIDE(p); std::thread([p] { p[{n}] = 1; }).join(); delete[] p;"),
    ("use-after-free", "std::vector<{t}> v({n}, 1); auto *p = &v[{n} - 1]; HIDE(p); v.reserve(v.capacity() + 1); use(*p);"),
    ("use-after-free", "auto *p = new Tanker; HIDE(p); delete p; use(p->full);"),
    ("use-after-free", "Ship *p = new Ship; HIDE(p); delete p; HIDE(p); see(p->length());"),
    ("use-after-free", "std::map<int, Plain> m; m[3] = {1, 2, 3}; auto i = m.find(3); m.erase(i); use(i->second);"),
    ("use-after-free", "const char *s = words({s}).c_str(); HIDE(s); sink += *s;"),
    ("use-after-free", "auto a = std::make_shared<Plain>(); Plain *p = a.get(); HIDE(p); a.reset(); sink += p->a;"),
    ("use-after-free", "auto a = std::make_unique<Berth>(); auto &r = *a; a = nullptr; use(r.depth);"),
    ("use-after-free", "std::list<Plain> l({m}); auto i = l.begin(); l.pop_front(); sink += i->a;"),
    ("use-after-free", "std::string s = words({s}); const char *p = s.data(); HIDE(p); s += words(200); sink += p[3];"),
    ("use-after-free", "auto v = numbers({n}); auto &r = v[0]; auto w = std::move(v); { auto gone = std::move(w); } int *p = &r; HIDE(p); *p = 4;"),
    ("use-after-free", "std::unordered_map<int, std::string> m{{1, words({s})}}; auto &r = m[1]; m.erase(1); use(r);"),
    ("use-after-free", "std::function<long()> f; { auto p = std::make_unique<long>(4); f = [q = p.get()] { return *q; }; } see(f());"),
    ("double-free", "auto *p = new {t}; HIDE(p); delete p; HIDE(p); delete p;"),
    ("double-free", "{t} *p = new {t}[{n}]; HIDE(p); std::unique_ptr<{t}[]> a(p), b(p);"),
    ("mismatched-deallocation", "int *p = new int[{n}]; HIDE(p); delete p;"),
    ("mismatched-deallocation", "int *p = (int *)std::malloc(sizeof(int)); HIDE(p); delete p;"),
    ("mismatched-deallocation", "auto *p = new Plain; HIDE(p); std::free(p);"),
    ("mismatched-deallocation", "{t} *p = new {t}; HIDE(p); delete[] p;"),
    ("mismatched-deallocation", "std::unique_ptr<{t}> p(new {t}[{n}]); auto *q = p.get(); HIDE(q);"),
    ("out-of-bounds-read", "std::vector<{t}> v({n}, 1); auto *p = v.data(); HIDE(p); use(p[{n}]);"),
    ("out-of-bounds-read", "std::vector<{t}> v({n}, 1); auto *p = v.data(); HIDE(p); use(p[-1]);"),
    ("out-of-bounds-read", "auto v = numbers({n}); auto e = v.end(); HIDE(e); sink += *e;"),
    ("out-of-bounds-write", "std::unique_ptr<{t}[]> a(new {t}[{n}]); auto *p = a.get(); HIDE(p); p[{n}] = 2;"),
    ("out-of-bounds-write", "std::string s({s}, 'a'); s.shrink_to_fit(); char *p = s.data(); HIDE(p); p[s.capacity() + 1] = 'b';"),
    ("out-of-bounds-write", "std::vector<{t}> v({n}, 1), w({n} + 1, 2); auto *p = v.data(); HIDE(p); std::copy(w.begin(), w.end(), p);"),
    ("out-of-bounds-write", "auto *p = new {t}[{n}]; HIDE(p); std::fill_n(p, {n} + 1, 1); HIDE(p); delete[] p;"),
    ("out-of-bounds-write", "auto *p = new Tanker[{m}]; HIDE(p); p[{m}].full = 3; HIDE(p); delete[] p;"),
    ("uninitialized-value", "Half h; auto *p = &h; HIDE(p); if (p->unset) sink++;"),
    ("uninitialized-value", "auto h = std::make_unique<Half>(); auto *p = h.get(); HIDE(p); if (p->unset == 5) sink++;"),
    ("uninitialized-value", "std::vector<Half> v({n}); auto w = v; auto *p = &w[{n} - 1]; HIDE(p); if (p->unset > 2) sink++;"),
    ("uninitialized-value", "auto *p = new {t}[{n}]; HIDE(p); if (p[{n} - 1] > 1) sink++; delete[] p;"),
    ("uninitialized-value", "auto t = std::make_unique<Tanker>(); auto *p = t.get(); HIDE(p); switch (p->full) { case 3: sink++; break; case 9: sink += 2; }"),
    ("uninitialized-value", "auto *h = new Half; HIDE(h); std::optional<Half> o(*h); delete h; auto q = o; auto *p = &*q; HIDE(p); if (p->unset) sink++;"),
    ("uninitialized-value", "Half h; auto *p = &h; HIDE(p); std::ostringstream o; o << p->unset; sink += (long)o.tellp();"),
    ("uninitialized-value", "std::map<int, Half> m; m[1]; m[2] = m[1]; auto *p = &m[2]; HIDE(p); if (p->unset) sink++;"),
    ("uninitialized-value", "auto *h = new Half; HIDE(h); std::function<bool()> f = [c = *h] { return c.unset > 7; }; delete h; if (f()) sink++;"),
    ("uninitialized-value", "std::unique_ptr<int[]> a(new int[{m} + 2]); auto *p = a.get(); HIDE(p); p[0] = 1; see(std::accumulate(p, p + {m}, 0));"),
    ("uninitialized-value", "auto *p = new char[{n} + 1]; HIDE(p); see((long)std::strlen(p)); delete[] p;"),
]


def program(seed):
    r = random.Random(seed)
    functions, wanted = [], set()
    start = HEAD.count("\n")
    for number in range(1, STEPS + 1):
        way = r.random()
        kind, text = ((None, r.choice(FINE)) if way < 0.5 else
                      ("leak", r.choice(LEAKS)) if way < 0.68 else r.choice(WRONG))
        for name, value in (("n", r.randrange(1, 61)), ("m", r.randrange(2, 10)),
                            ("s", r.randrange(20, 91)),
                            ("t", r.choice(["int", "long", "short", "double", "float", "unsigned"]))):
            text = text.replace("{" + name + "}", str(value))
        apart = "static APART" # what is left of those that share a place may count as set
        if kind != "uninitialized-value" and r.random() < 0.5:
            apart = "static inline __attribute__((always_inline))"
        functions.append(f'{apart} void f{number}() {{ __asm__ volatile("# {number}"); {{ {text} }} sink = sink + 1; }}')
        if kind:
            wanted.add((number + start, kind))
    calls, left = "", list(range(1, STEPS + 1))
    while left:
        group = left[:r.choice([1, 1, 1, 2, 4])]
        del left[:len(group)]
        threads = "".join(f"std::thread(f{n}), " for n in group)
        calls += (f"    for (auto &t : std::array{{{threads[:-2]}}}) t.join();\n" if r.random() < 0.5 else
                  "".join(f"    f{n}();\n" for n in group))
    return HEAD + "\n".join(functions) + "\nint main() {\n" + calls + "    return 0;\n}\n", wanted


def told(findings):
    found, start = set(), HEAD.count("\n")
    for f in findings:
        if f["kind"] != "descriptor-leak":
            lines = [s["line"] for s in f.get("stack") or f.get("allocated") or []
                     if s["own"] and (s["line"] or 0) in range(start + 1, start + STEPS + 1)]
            found.add((lines[0] if lines else None, f["kind"]))
    return found


def describe(lines, wanted, found):
    return [f"{'missed' if x in wanted else 'more'}: {x[1]}: {x[0]} {lines[x[0] - 1] if x[0] else ''}"
            for x in sorted(found ^ wanted, key=str)]


# gcc would make one function of lambdas that are alike: whose line is it then?
compare([f"{c} -std=c++20" + (" -fno-ipa-icf" if c.startswith("g++") else "") for c in COMPILERS],
        program, told, describe)

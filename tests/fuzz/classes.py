"""Random functions of C++ over bytes of which some bits are undefined: virtual functions,
exceptions, lambdas, containers, coroutines, threads; where a result varies with those bits it must
be undefined, or something told. classes.py TONDO [SEEDS] [FIRST]"""
from ways import COMPARES, NUMBERS, TYPES, check, functions

COMPILERS = ["g++ -O0", "g++ -O2", "g++ -O3 -march=haswell", "clang++ -O0", "clang++ -O2",
             "clang++ -O3 -march=haswell"]
FUNCTIONS, ROUNDS, SIZE = 16, 30, 44
OTHERS = """
#include <algorithm>
#include <array>
#include <atomic>
#include <bitset>
#include <condition_variable>
#include <coroutine>
#include <csetjmp>
#include <cstdarg>
#include <deque>
#include <functional>
#include <future>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <numeric>
#include <optional>
#include <string>
#include <thread>
#include <tuple>
#include <unordered_map>
#include <utility>
#include <variant>
#include <vector>
#define APART __attribute__((noinline))
typedef uint64_t number;
struct base {
    number kept;
    explicit base(number v) : kept(v) {}
    virtual ~base() {}
    virtual number of(number v) const { return v + kept; }
    virtual void take(number v) { kept = v; }
    virtual double real() const { return (double)(int32_t)kept; }
    number plain(number v) { return kept ^ v; }
};
struct counted {
    uint16_t count = 5;
    uint8_t flag : 3, rest : 5;
    explicit counted(number v) : flag((uint8_t)v), rest((uint8_t)(v >> 4)) {}
    virtual ~counted() {}
    virtual number counts() const { return flag + count; }
};
struct near_one : base, counted {
    uint32_t more;
    explicit near_one(number v) : base(v * 3), counted(v), more((uint32_t)(v >> 5)) {}
    number of(number v) const override { return v * 5 + more; }
    number counts() const override { return more + kept + rest; }
    double real() const override { return more * 0.25; }
};
struct shared : virtual base {
    int8_t small;
    explicit shared(number v) : base(v + 1), small((int8_t)v) {}
    number of(number v) const override { return base::of(v) ^ (number)small; }
};
struct last_one final : shared, virtual counted {
    double d;
    explicit last_one(number v) : base(v), shared(v), counted(v >> 2), d((int16_t)v) {}
    void take(number v) override { kept += v, small ^= 3, count++; }
    double real() const override { return d + 1; }
};
struct failure { number what; uint8_t small; };
struct tall_failure : failure { double d; uint32_t w[3]; };
template <class T> struct undone {
    T &of;
    number by;
    ~undone() { of = (T)(of * 3 + by); }
};
template <class T> undone(T &, number) -> undone<T>;
template <class T> APART T thrown(number v, int depth, number &seen) {
    undone u{seen, (number)v};
    if (depth > 0)
        return (T)(thrown<T>(v * 3 + 1, depth - 1, seen) + (T)seen);
    throw (T)v;
}
APART number failing(number v, int how, number &seen) {
    undone u{seen, v >> 1};
    if (how == 1)
        throw failure{v, (uint8_t)(v >> 3)};
    if (how == 2) {
        tall_failure f;
        f.what = v, f.small = (uint8_t)v, f.d = (int8_t)v;
        f.w[0] = (uint32_t)v, f.w[1] = 3, f.w[2] = (uint32_t)(v >> 8);
        throw f;
    }
    if (how == 3)
        throw std::string(4, (char)v);
    return v + 7;
}
template <class T> struct steps {
    struct promise_type {
        T value{};
        steps get_return_object() { return steps{std::coroutine_handle<promise_type>::from_promise(*this)}; }
        std::suspend_always initial_suspend() { return {}; }
        std::suspend_always final_suspend() noexcept { return {}; }
        std::suspend_always yield_value(T v) { value = v; return {}; }
        void return_void() {}
        void unhandled_exception() { throw; }
    };
    std::coroutine_handle<promise_type> handle;
    explicit steps(std::coroutine_handle<promise_type> h) : handle(h) {}
    steps(steps &&other) : handle(std::exchange(other.handle, nullptr)) {}
    ~steps() { if (handle) handle.destroy(); }
    T next() { handle.resume(); return handle.promise().value; }
};
template <class T> APART steps<T> stepping(T from, number by, const uint8_t *a) {
    T also = (T)(from >> 1);
    for (int i = 0; i < 4; i++) {
        co_yield (T)(from + (T)also);
        from = (T)(from * 3 + (T)by), also = (T)(also ^ a[i]);
    }
}
APART number variadic(int n, ...) {
    va_list list;
    number sum = 0;
    va_start(list, n);
    for (int i = 0; i < n; i++)
        sum = i % 3 == 2 ? sum + (number)(int64_t)va_arg(list, double) : sum * 3 + va_arg(list, number);
    va_end(list);
    return sum;
}
APART number jumped(number v, int how) {
    static jmp_buf place;
    volatile number kept = v * 5;
    if (setjmp(place) == 0) {
        kept = kept + 1;
        if (how)
            longjmp(place, 1);
        return v;
    }
    return kept ^ v;
}
template <class... T> APART number folded(T... v) { return (number)(... + (number)v); }
template <class F> APART number called(F f, number v) { return (number)f(v); }
APART number through(const std::function<number(number)> &f, number v) { return f(v); }
APART number virtually(const base &b, number v) { return b.of(v); }
APART std::tuple<uint8_t, number, float> three(number v) { return {(uint8_t)v, v * 7, (float)(int16_t)v}; }
APART std::optional<uint32_t> perhaps(number v, bool yes) {
    return yes ? std::optional<uint32_t>((uint32_t)v) : std::nullopt;
}
APART std::variant<uint8_t, number, double> either(number v, int how) {
    if (how == 0)
        return (uint8_t)v;
    if (how == 1)
        return v;
    return (double)(int32_t)v;
}
APART number visited(const std::variant<uint8_t, number, double> &v) {
    return std::visit([](auto x) { return (number)(int64_t)x; }, v);
}
static thread_local number own = 3;
static std::atomic<number> atomic_one;
static std::mutex guard;
static std::condition_variable wake;
static std::deque<std::function<void()>> work;
static int working;
struct post {
    bool stop = false;
    std::thread worker{[this] {
        for (std::unique_lock<std::mutex> lock(guard);;) {
            wake.wait(lock, [this] { return stop || !work.empty(); });
            if (work.empty())
                return;
            auto next = std::move(work.front());
            work.pop_front();
            lock.unlock();
            next();
            lock.lock();
            working--;
            wake.notify_all();
        }
    }};
    ~post() {
        { std::lock_guard<std::mutex> lock(guard); stop = true; }
        wake.notify_all();
        worker.join();
    }
    void run(std::function<void()> f) {
        std::unique_lock<std::mutex> lock(guard);
        working++;
        work.push_back(std::move(f));
        wake.notify_all();
        wake.wait(lock, [] { return working == 0; });
    }
};
static post *worker;
"""
VARIABLES = """    std::vector<uint32_t> vec{(uint32_t)v0, (uint32_t)(v1 + 1), (uint32_t)v2, 9, a[4]};
    std::array<uint16_t, 6> arr;
    memcpy(arr.data(), a + 3, 12);
    std::map<int, number> tree{{1, v0}, {2, v1}, {5, 8}, {7, v3}};
    std::string text((const char *)a + 2, 9);
    std::unique_ptr<base> b(a[20] & 1 ? (base *)new near_one(v0) : a[20] & 2 ? (base *)new last_one(v0) : new base(v1));
    near_one n(v2);
    last_one l(v3);
    std::pair<uint8_t, number> p(a[6], v1);
    double x = a[3];
    number seen = 1;
"""
RESULT = """    number y = (number)(v0 + v1 * 3 + v2 * 5 + v3 * 7);
    memcpy(o, &y, 8);
    y = 0;
    for (uint32_t e : vec)
        y = y * 3 + e;
    for (auto &e : tree)
        y ^= e.second << e.first;
    memcpy(o + 8, &y, 8);
    memcpy(o + 16, &x, 8);
    memcpy(o + 24, &seen, 8);
    y = b->kept + n.kept * 3 + n.more + l.kept + (number)l.small + n.rest + p.first + p.second;
    memcpy(o + 32, &y, 8);
    uint32_t z = 0;
    for (uint16_t e : arr)
        z = z * 5 + e;
    for (char c : text)
        z = z * 3 + (uint8_t)c;
    memcpy(o + 40, &z, 4);
"""
DEFINED = ["(a[20] & 1)", "(a[20] & 4)", "(a[21] & 1)", "(a[21] > 100)", "(a[22] < 128)", "(a[23] % 3 == 0)"]
SMALL = ["a[20] % 3", "a[21] % 3", "a[22] % 4", "a[23] & 1"]


def leaf(r):
    return r.choice([f"v{r.randrange(4)}"] * 6 + [f"a[{r.randrange(8)}]"] * 2 +
                    [f"vec[{r.randrange(4)}]", f"arr[{r.randrange(6)}]", f"tree[{r.choice([1, 2, 5, 7])}]",
                     f"(uint8_t)text[{r.randrange(9)}]", "b->kept", "n.more", "(number)n.flag", "(uint16_t)n.rest", "l.small",
                     "l.count", "p.first", "p.second", "(number)(int64_t)x", "seen", "vec.back()",
                     str(r.choice(NUMBERS))])


def condition(r, depth):
    if depth <= 0 or r.randrange(3):
        return r.choice(DEFINED)
    return f"({value(r, depth - 1)} {r.choice(COMPARES)} {value(r, depth - 1)})"


def value(r, depth):
    if depth <= 0:
        return leaf(r)
    v, w, c, n = value(r, depth - 1), value(r, depth - 1), condition(r, depth - 1), r.choice(SMALL)
    kind = r.choice(TYPES)
    return r.choice(
        [f"({v} {r.choice('+-*&|^&|')} {w})"] * 4 +
        [f"({v} {r.choice(['<<', '>>'])} {r.randrange(8)})", f"({c} ? (number)({v}) : (number)({w}))",
         f"(({kind}){v})"] + [leaf(r)] * 2 +
        [f"b->of({v})", f"n.of({v})", f"l.of({v})", f"((counted &)n).counts()", f"((base &)l).of({v})",
         f"virtually(l, {v})", f"virtually(*b, {v})", f"n.plain({v})", "(number)(int64_t)b->real()",
         f"called([&](number k) {{ return k * 3 + (number)({w}); }}, {v})",
         f"called([&](auto k) {{ v{r.randrange(4)} += ({kind})k; return k ^ (number)({w}); }}, {v})",
         f"through([&, m = (uint16_t)({w})](number k) {{ return k + m; }}, {v})",
         f"variadic(5, (number)({v}), (number)({w}), (double)(int16_t)v1, (number)a[2], (number)v2)",
         f"jumped({v}, {r.choice(['0', '1', 'a[20] & 1'])})",
         f"folded(({kind})({v}), (uint8_t)({w}), (int16_t)v2, (float)(int8_t)v0, a[3], v1, v2, v3)",
         f"(number)(int64_t)std::get<{r.randrange(3)}>(three({v}))", f"perhaps({v}, {c}).value_or((uint32_t)({w}))",
         f"visited(either({v}, {n}))", f"std::min<number>({v}, {w})", f"std::max<{kind}>({v}, {w})",
         f"std::bitset<40>({v}).to_ullong()", f"std::bitset<40>({v}).count()",
         f"std::accumulate(vec.begin(), vec.end(), (number)({v}))",
         f"std::inner_product(arr.begin(), arr.begin() + 5, vec.begin(), (number)({v}))",
         f"*std::make_unique<{kind}>(({kind})({v}))", f"std::make_shared<near_one>({v})->counts()",
         f"std::make_pair(({kind})({v}), ({w})).first",
         f"[&]() -> number {{ if ({c}) return (number)({v}); return (number)({w}); }}()"])


def caught(r, v, w):
    kind = r.choice(TYPES + ["double", "float"])
    how = r.choice(SMALL)
    to = r.randrange(4)
    return r.choice([
        f"try {{ v{to} += (number)thrown<{kind}>({v}, {r.choice(['0', '1', '2', 'a[21] & 3'])}, seen); }} "
        f"catch ({r.choice(['const ', ''])}{kind} {r.choice(['', '&'])}e) {{ v{to} ^= (uint32_t)(int64_t)e; x += 1; }}",
        f"try {{ v{to} = failing({v}, {how}, seen); }} "
        f"catch (const tall_failure &e) {{ v{to} ^= e.what + e.w[2]; x = e.d; }} "
        f"catch (failure e) {{ v{to} += e.what * 3 + e.small; }} "
        f"catch (const std::string &e) {{ v{to} -= (uint8_t)e[2]; }}",
        f"{{ number k = {w}; try {{ try {{ k += failing({v}, {how}, seen); vec[2] = (uint32_t)k; }} "
        f"catch (failure &e) {{ e.what += k; throw; }} catch (...) {{ k ^= 5; }} }} "
        f"catch (const failure &e) {{ k += e.what; }} v{to} ^= k; }}",
        f"{{ std::exception_ptr q; try {{ seen += failing({v}, {how}, seen); }} "
        f"catch (...) {{ q = std::current_exception(); }} "
        f"if (q) try {{ std::rethrow_exception(q); }} catch (failure &e) {{ v{to} += e.what; }} catch (...) {{}} }}",
        f"{{ undone u{{v{to}, (number)({w})}}; try {{ undone k{{seen, (number)({v})}}; "
        f"if ({r.choice(DEFINED)}) throw failure{{v1, a[5]}}; }} catch (failure e) {{ v{(to + 1) % 4} ^= e.what; }} }}",
        f"try {{ (void)vec.at({r.choice(['3', '77', 'a[21]'])}); v{to} = {v}; }} "
        f"catch (const std::out_of_range &) {{ v{to} ^= {w}; }}"])


def threaded(r, v, w):
    to = r.randrange(4)
    return r.choice([
        f"worker->run([&] {{ v{to} {r.choice(['=', '+=', '^='])} {v}; own = {w}; v{to} -= own * 3; }});",
        f"{{ number k = {v}; worker->run([&, m = (uint32_t)({w})] {{ own = k; seen ^= k + m; v{to} += own; }}); }}",
        f"{{ std::promise<number> q; auto f = q.get_future(); "
        f"worker->run([&q, m = (number)({v})] {{ q.set_value(m * 3); }}); v{to} += f.get(); }}",
        f"{{ std::thread t([&v{to}, m = (number)({v})](uint16_t k) {{ v{to} += m ^ k; }}, (uint16_t)({w})); t.join(); }}",
        f"v{to} ^= std::async(std::launch::async, [&] {{ return ({v}) + seen; }}).get();",
        f"try {{ std::async(std::launch::async, [&] {{ seen = failing({v}, {r.choice(SMALL)}, seen); }}).get(); }} "
        f"catch (const failure &e) {{ v{to} += e.what; }} catch (const std::string &e) {{ x += e[1]; }}"])


def container(r, v, w):
    to, kind = r.randrange(4), r.choice(TYPES)
    at = r.randrange(4)
    return r.choice([
        f"vec.push_back((uint32_t)({v}));", f"vec.insert(vec.begin() + {at}, (uint32_t)({v}));",
        f"vec.resize(vec.size() + 3, (uint32_t)({v}));", "std::reverse(vec.begin(), vec.end());",
        f"vec.erase(vec.begin() + {at});", f"std::rotate(arr.begin(), arr.begin() + {at}, arr.end());",
        "{ auto k = vec; k[1] ^= 7; vec = std::move(k); }", f"std::fill(arr.begin() + 1, arr.end() - 1, (uint16_t)({v}));",
        f"std::transform(arr.begin(), arr.end(), arr.begin(), [&](uint16_t e) {{ return (uint16_t)(e * 3 + v{to}); }});",
        f"std::swap(vec[{at}], vec[{r.randrange(4)}]);", f"tree[{r.randrange(9)}] = {v};", f"tree.erase({r.choice([1, 2, 5])});",
        f"tree.emplace({r.randrange(9)}, {v});", f"text += (char)({v});", f"text.insert(2, 3, (char)({v}));",
        "text = text + text.substr(3);", f"text[{r.randrange(9)}] ^= (char)({v});",
        f"{{ std::list<{kind}> k(3, ({kind})({v})); k.push_front(({kind})({w})); for (auto e : k) v{to} = v{to} * 3 + e; }}",
        f"{{ std::deque<number> k; for (int i = 0; i < 5; i++) k.push_front(({v}) + i); v{to} ^= k[1] + k.back(); }}",
        f"{{ std::unordered_map<int, {kind}> k{{{{3, ({kind})({v})}}, {{9, ({kind})({w})}}}}; v{to} += k[3] - k[9] + k[4]; }}",
        f"{{ std::vector<bool> k(70); k[{at}] = k[69] = ({v}) & 1; k.flip(); v{to} += (number)(std::count(k.begin(), k.begin() + 5, true)); }}",
        f"{{ auto [q, s, t] = three({v}); v{to} += q + s; x += t; }}", f"std::tie(p.first, p.second, std::ignore) = three({v});",
        f"p = std::make_pair((uint8_t)({v}), (number)({w}));", f"{{ auto s = stepping<{kind}>(({kind})({v}), {w}, a); "
        f"v{to} ^= (number)(s.next() + s.next()); {r.choice(['', f'v{(to + 1) % 4} += s.next();'])} }}",
        f"b->take({v});", f"((base &)l).take({v});", f"b.reset(new {r.choice(['near_one', 'last_one', 'shared', 'base'])}({v}));",
        "{ near_one k = n; k.take(v0); n = k; }", f"n.flag = (uint8_t)({v});", f"n.rest ^= (uint8_t)({v});",
        f"{{ auto k = std::make_shared<std::array<{kind}, 5>>(); k->fill(({kind})({v})); (*k)[2] = 1; v{to} += (*k)[{at}] + (*k)[2]; }}",
        f"{{ number (base::*f)(number) const = &base::of; v{to} = ((base &)n.*f)({v}); }}",
        f"{{ {kind} *k = new {kind}[6]{{}}; k[{at}] = ({kind})({v}); std::unique_ptr<{kind}[]> d(k); v{to} += d[{at}] - d[{r.randrange(6)}]; }}",
        f"{{ std::vector<std::string> k{{text, \"berth\"}}; k.emplace_back(30, (char)({v})); v{to} += (uint8_t)k[{r.randrange(3)}][3]; }}",
        f"atomic_one = {v}; v{to} += atomic_one.fetch_add({w}) ^ atomic_one.exchange(1);",
        f"x {r.choice(['=', '+=', '*='])} {r.choice(['(double)(int32_t)', '(float)(int8_t)', '(long double)(int64_t)'])}({v});",
        f"{{ static number once; once = {v}; own = once + 1; v{to} ^= own; }}"])


def statement(r, depth):
    v, w = value(r, 2), value(r, 1)
    kind = r.randrange(16) if depth > 0 else r.choice([0, 5, 5, 9])
    if kind < 3:
        return f"v{r.randrange(4)} {r.choice(['=', '+=', '^=', '|=', '&=', '-='])} {v};"
    if kind == 3:
        return f"if ({condition(r, 2)}) {{ {statement(r, depth - 1)} }} else {{ {statement(r, depth - 1)} }}"
    if kind == 4:
        return f"for (int i = 0; i < {r.choice(['2', '3', 'a[22] % 4'])}; i++) {{ {statement(r, depth - 1)} }}"
    if kind < 9:
        return container(r, v, w)
    if kind < 13:
        return caught(r, v, w)
    if kind == 13:
        return threaded(r, v, w)
    return statement(r, depth - 1) + " " + statement(r, depth - 1)


made = functions(OTHERS, VARIABLES, RESULT, SIZE, statement, FUNCTIONS, ROUNDS)


def program(seed):
    return made(seed).replace("int main(void) {", "int main() {\n    post here;\n    worker = &here;")


check([f"{compiler} -std=c++20 -Wno-narrowing" for compiler in COMPILERS], program, origins=False)

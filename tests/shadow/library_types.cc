// Differential test of what a C++ library does with values: some bits of the input are set in many
// ways, then marked undefined; what varied in the output must be undefined, unless something was
// told on the way. To be built at several levels; run under tondo with its test door open.
// library_types [ROUNDS [SEED]]
#include "ways.h"

#include <algorithm>
#include <any>
#include <array>
#include <atomic>
#include <bitset>
#include <charconv>
#include <chrono>
#include <cmath>
#include <complex>
#include <csetjmp>
#include <cstdarg>
#include <cstdio>
#include <deque>
#include <forward_list>
#include <functional>
#include <future>
#include <list>
#include <map>
#include <memory>
#include <numeric>
#include <optional>
#include <queue>
#include <random>
#include <set>
#include <sstream>
#include <string>
#include <string_view>
#include <thread>
#include <tuple>
#include <unordered_map>
#include <valarray>
#include <variant>
#include <vector>

using u8 = uint8_t;
using u32 = uint32_t;
using u64 = uint64_t;

struct ship {
    char kind;
    short berth;
    int length;
    double draught;
    bool operator<(const ship &o) const { return length < o.length; }
};

template <class T> static std::vector<T> taken(size_t count) {
    std::vector<T> v(count);
    memcpy(v.data(), in, count * sizeof(T));
    return v;
}
template <class C> static size_t given(const C &c) {
    u8 *to = out;
    for (const auto &x : c) {
        memcpy(to, &x, sizeof x);
        to += sizeof x;
    }
    return (size_t)(to - out);
}
template <class T> static size_t one(const T &x) {
    memcpy(out, &x, sizeof x);
    return sizeof x;
}
static std::string text(size_t n) {
    std::string s((const char *)in, n);
    for (char &c : s) c = (char)(' ' + (c & 63));
    return s;
}
static size_t text_out(const std::string &s) {
    size_t n = std::min(s.size(), (size_t)OUT);
    memcpy(out, s.data(), n);
    return n;
}

struct thrown {
    u64 a;
    std::array<u8, 24> b;
};
struct shape {
    virtual ~shape() = default;
    virtual double area() const = 0;
};
struct square : shape {
    double side;
    explicit square(double s) : side(s) {}
    double area() const override { return side * side; }
};
struct circle : shape {
    float radius;
    explicit circle(float r) : radius(r) {}
    double area() const override { return radius * radius * 3.0f; }
};
static __attribute__((noinline)) void throws(int n) {
    if (n) return throws(n - 1);
    thrown t;
    memcpy(&t.a, in, 8);
    memcpy(t.b.data(), in + 8, 24);
    throw t;
}
static __attribute__((noinline)) int added(int n, ...) {
    va_list l;
    va_start(l, n);
    int sum = 0;
    for (int k = 0; k < n; k++) sum += k & 1 ? (int)va_arg(l, double) : va_arg(l, int);
    va_end(l);
    return sum;
}
static jmp_buf back;
static __attribute__((noinline)) void jumps(int v) { longjmp(back, v | 1); }
static thread_local u64 own;

struct test {
    const char *name;
    size_t used;
    size_t (*run)();
};
static const test tests[] = {
    {"sort", 256,
     [] {
         auto v = taken<u32>(64);
         std::sort(v.begin(), v.end());
         return given(v);
     }},
    {"stable_sort", 256,
     [] {
         auto v = taken<u32>(64);
         std::stable_sort(v.begin(), v.end(),
                          [](u32 a, u32 b) { return (a & 0xffff) < (b & 0xffff); });
         return given(v);
     }},
    {"sort_ships", 240,
     [] {
         auto v = taken<ship>(10);
         std::sort(v.begin(), v.end());
         return given(v);
     }},
    {"nth", 256,
     [] {
         auto v = taken<u32>(64);
         std::nth_element(v.begin(), v.begin() + 20, v.end());
         return one(v[20]);
     }},
    {"heap", 256,
     [] {
         auto v = taken<int>(64);
         std::make_heap(v.begin(), v.end());
         return one(v[0]);
     }},
    {"sums", 256,
     [] {
         auto v = taken<u32>(64);
         std::partial_sum(v.begin(), v.end(), v.begin());
         return given(v);
     }},
    {"differences", 256,
     [] {
         auto v = taken<u32>(64);
         std::adjacent_difference(v.begin(), v.end(), v.begin());
         return given(v);
     }},
    {"map", 64,
     [] {
         std::map<int, int> m;
         for (int x : taken<int>(16)) m[x & 15]++;
         std::vector<int> v;
         for (auto &[k, n] : m) v.push_back(k * 100 + n);
         return given(v);
     }},
    {"map_values", 128,
     [] {
         std::map<int, u64> m;
         auto a = taken<u64>(16);
         for (int k = 0; k < 16; k++) m[k * 7 % 16] = a[k];
         std::vector<u64> v;
         for (auto &[k, n] : m) v.push_back(n);
         return given(v);
     }},
    {"unordered", 128,
     [] {
         std::unordered_map<int, u64> m;
         auto a = taken<u64>(16);
         for (int k = 0; k < 16; k++) m[k] = a[k];
         std::vector<u64> v;
         for (int k = 0; k < 16; k++) v.push_back(m[k]);
         return given(v);
     }},
    {"set", 64,
     [] {
         std::set<u8> s(in, in + 64);
         std::vector<u8> v(s.begin(), s.end());
         return given(v);
     }},
    {"multimap", 128,
     [] {
         std::multimap<int, ship> m;
         auto a = taken<ship>(5);
         for (int k = 0; k < 5; k++) m.emplace(k & 1, a[k]);
         u64 h = 0;
         for (auto &[k, s] : m) h = h * 31 + (u64)s.length;
         return one(h);
     }},
    {"find_text", 64,
     [] {
         auto s = text(64);
         size_t at = s.find("AB");
         return one(at);
     }},
    {"replace", 64,
     [] {
         auto s = text(64);
         s.replace(10, 5, "0123456789");
         s.erase(30, 3);
         s.insert(4, "xx");
         return text_out(s);
     }},
    {"append", 64,
     [] {
         std::string s;
         for (int k = 0; k < 64; k++) s += (char)in[k];
         s += s.substr(3, 9);
         return text_out(s);
     }},
    {"short_texts", 64,
     [] {
         std::vector<std::string> v;
         for (int k = 0; k < 16; k++) v.emplace_back((const char *)in + 4 * k, 4);
         std::rotate(v.begin(), v.begin() + 5, v.end());
         std::string s;
         for (auto &x : v) s += x;
         return text_out(s);
     }},
    {"moved_texts", 128,
     [] {
         std::vector<std::string> v;
         for (int k = 0; k < 4; k++) v.emplace_back((const char *)in + 32 * k, 32);
         auto w = std::move(v);
         std::swap(w[0], w[3]);
         std::string s;
         for (auto &x : w) s += x;
         return text_out(s);
     }},
    {"compare_texts", 64,
     [] {
         auto s = text(64);
         int c = s.compare(0, 32, s, 32, 32);
         return one(c < 0 ? -1 : c > 0);
     }},
    {"hash_text", 64,
     [] { return one(std::hash<std::string_view>()(std::string_view((const char *)in, 64))); }},
    {"stream", 16,
     [] {
         std::ostringstream s;
         for (int x : taken<int>(4)) s << x << ' ';
         return text_out(s.str());
     }},
    {"stream_hex", 16,
     [] {
         std::ostringstream s;
         s << std::hex;
         for (u32 x : taken<u32>(4)) s << x << ' ';
         return text_out(s.str());
     }},
    {"stream_in", 32,
     [] {
         std::string t;
         for (int k = 0; k < 8; k++) {
             t += (char)('0' + (in[k] & 7));
             t += k == 3 ? ' ' : (char)('0' + (in[k + 8] & 7));
         }
         std::istringstream s(t);
         u64 a = 0, b = 0;
         s >> a >> b;
         return one(a * 3 + b);
     }},
    {"to_chars", 8,
     [] {
         u64 v;
         memcpy(&v, in, 8);
         char t[40] = {};
         std::to_chars(t, t + 40, v);
         memcpy(out, t, 40);
         return (size_t)40;
     }},
    {"to_chars_hex", 8,
     [] {
         u64 v;
         memcpy(&v, in, 8);
         char t[40] = {};
         std::to_chars(t, t + 40, v, 16);
         memcpy(out, t, 40);
         return (size_t)40;
     }},
    {"from_chars", 8,
     [] {
         char t[8];
         for (int k = 0; k < 8; k++) t[k] = (char)('0' + (in[k] & 7));
         u64 v = 0;
         std::from_chars(t, t + 8, v);
         return one(v);
     }},
    {"bitset", 32,
     [] {
         std::bitset<256> b;
         for (int k = 0; k < 256; k++) b[k] = in[k / 8] >> (k % 8) & 1;
         b = (b << 7) ^ (b >> 9);
         u64 c = b.count();
         return one(c);
     }},
    {"bitset_text", 8,
     [] {
         u64 v;
         memcpy(&v, in, 8);
         return text_out(std::bitset<64>(v).to_string());
     }},
    {"bools", 32,
     [] {
         std::vector<bool> b(256);
         for (int k = 0; k < 256; k++) b[k] = in[k / 8] >> (k % 8) & 1;
         b.flip();
         std::vector<u8> v;
         for (bool x : b) v.push_back(x);
         return given(v);
     }},
    {"bools_moved", 32,
     [] {
         std::vector<bool> b;
         for (int k = 0; k < 256; k++) b.push_back(in[k / 8] >> (k % 8) & 1);
         std::vector<bool> c(b.begin() + 3, b.end());
         std::vector<u8> v;
         for (size_t k = 0; k < c.size(); k++) v.push_back(c[k]);
         return given(v);
     }},
    {"valarray", 256,
     [] {
         std::valarray<u32> a(64);
         memcpy(&a[0], in, 256);
         a = a * 3u + (a >> 3u);
         return given(std::vector<u32>(std::begin(a), std::end(a)));
     }},
    {"slices", 256,
     [] {
         std::valarray<u32> a(64);
         memcpy(&a[0], in, 256);
         std::valarray<u32> b = a[std::slice(3, 15, 4)];
         return given(std::vector<u32>(std::begin(b), std::end(b)));
     }},
    {"deque", 256,
     [] {
         std::deque<u32> d;
         for (u32 x : taken<u32>(64)) x & 0 ? d.push_back(x) : d.push_front(x);
         std::rotate(d.begin(), d.begin() + 11, d.end());
         return given(d);
     }},
    {"list", 256,
     [] {
         std::list<u32> l;
         for (u32 x : taken<u32>(64)) l.push_back(x);
         l.reverse();
         return given(l);
     }},
    {"forward_list", 256,
     [] {
         std::forward_list<u32> l;
         for (u32 x : taken<u32>(64)) l.push_front(x);
         return given(l);
     }},
    {"sorted_list", 64,
     [] {
         std::list<u32> l;
         for (u32 x : taken<u32>(16)) l.push_back(x);
         l.sort();
         return given(l);
     }},
    {"queue", 64,
     [] {
         std::priority_queue<u32> q;
         for (u32 x : taken<u32>(16)) q.push(x);
         std::vector<u32> v;
         while (!q.empty()) {
             v.push_back(q.top());
             q.pop();
         }
         return given(v);
     }},
    {"optional", 64,
     [] {
         std::vector<std::optional<u64>> v;
         for (u64 x : taken<u64>(8)) v.emplace_back(x);
         u64 h = 0;
         for (auto &x : v) h = h * 3 + *x;
         return one(h);
     }},
    {"variant", 64,
     [] {
         std::vector<std::variant<int, double, u64>> v;
         auto a = taken<u64>(8);
         for (int k = 0; k < 8; k++)
             if (k & 1)
                 v.emplace_back(a[k]);
             else
                 v.emplace_back((int)a[k]);
         u64 h = 0;
         for (auto &x : v) std::visit([&](auto y) { h = h * 5 + (u64)y; }, x);
         return one(h);
     }},
    {"any", 64,
     [] {
         std::vector<std::any> v;
         for (u64 x : taken<u64>(8)) v.emplace_back(std::array<u64, 3>{x, x + 1, 2});
         auto w = v;
         u64 h = 0;
         for (auto &x : w) h += std::any_cast<std::array<u64, 3>>(x)[1];
         return one(h);
     }},
    {"tuple", 24,
     [] {
         auto a = taken<u64>(3);
         auto t = std::make_tuple((char)a[0], (short)a[1], a[2]);
         auto u = std::tuple_cat(t, std::make_tuple(7));
         return one(std::get<1>(u) + (int)std::get<2>(u));
     }},
    {"random", 4,
     [] {
         u32 s;
         memcpy(&s, in, 4);
         std::mt19937 g(s);
         u64 h = 0;
         for (int k = 0; k < 5; k++) h = h * 3 + g();
         return one(h);
     }},
    {"minstd", 4,
     [] {
         u32 s;
         memcpy(&s, in, 4);
         std::minstd_rand g(s);
         u64 h = 0;
         for (int k = 0; k < 5; k++) h = h * 3 + g();
         return one(h);
     }},
    {"complex", 64,
     [] {
         auto v = taken<u32>(16);
         std::complex<double> c(1, 2);
         for (u32 x : v) c = c * std::complex<double>(x & 7, x >> 29) + 1.0;
         return one(c.real() + c.imag());
     }},
    {"doubles", 256,
     [] {
         auto v = taken<u32>(64);
         double s = 0;
         for (u32 x : v) s += x * 0.5;
         return one(s);
     }},
    {"floats", 256,
     [] {
         auto v = taken<u32>(64);
         float s = 0;
         for (u32 x : v) s += (float)(int)x;
         return one(s);
     }},
    {"mathematics", 64,
     [] {
         auto v = taken<u32>(16);
         std::vector<double> r;
         for (u32 x : v)
             r.push_back(std::sqrt((double)x) + std::fma((double)x, 2.0, 1.0) +
                         std::fabs((double)(int)x));
         return given(r);
     }},
    {"rounding", 64,
     [] {
         auto v = taken<u32>(16);
         std::vector<double> r;
         for (u32 x : v) r.push_back(std::floor(x / 7.0) + std::trunc(x / 3.0));
         return given(r);
     }},
    {"sines", 32,
     [] {
         auto v = taken<u32>(8);
         std::vector<double> r;
         for (u32 x : v) r.push_back(std::sin((x & 0xffff) / 1e4));
         return given(r);
     }},
    {"long_doubles", 64,
     [] {
         auto v = taken<u32>(16);
         long double s = 1;
         for (u32 x : v) s = s * 0.75L + x;
         return one((double)s);
     }},
    {"wide_integers", 64,
     [] {
         auto v = taken<u64>(8);
         unsigned __int128 p = 1;
         for (u64 x : v) p = p * x + 3;
         u64 r[2] = {(u64)p, (u64)(p >> 64)};
         return one(r);
     }},
    {"wide_quotient", 32,
     [] {
         auto v = taken<u64>(4);
         unsigned __int128 a = (unsigned __int128)v[0] << 64 | v[1];
         u64 r = (u64)(a / (v[2] | 1));
         return one(r);
     }},
    {"gcd", 8,
     [] {
         auto v = taken<u32>(2);
         return one(std::gcd(v[0], v[1]));
     }},
    {"chrono", 8,
     [] {
         u64 x;
         memcpy(&x, in, 8);
         auto d = std::chrono::nanoseconds(x & 0xffffffffff);
         u64 r[2] = {(u64)std::chrono::duration_cast<std::chrono::milliseconds>(d).count(),
                     (u64)(d % std::chrono::seconds(1)).count()};
         return one(r);
     }},
    {"shuffle", 256,
     [] {
         auto v = taken<u32>(64);
         std::minstd_rand g(3);
         std::shuffle(v.begin(), v.end(), g);
         return given(v);
     }},
    {"intersection", 64,
     [] {
         auto a = taken<u8>(32), b = a;
         for (auto &x : b) x ^= 1;
         std::sort(a.begin(), a.end());
         std::sort(b.begin(), b.end());
         std::vector<u8> c;
         std::set_intersection(a.begin(), a.end(), b.begin(), b.end(), std::back_inserter(c));
         return given(c);
     }},
    {"lower_bound", 64,
     [] {
         std::vector<u32> v(100);
         std::iota(v.begin(), v.end(), 5);
         std::vector<u32> r;
         for (u8 x : taken<u8>(64))
             r.push_back((u32)(std::lower_bound(v.begin(), v.end(), x) - v.begin()));
         return given(r);
     }},
    {"copy_if", 64,
     [] {
         std::vector<u8> r;
         std::copy_if(in, in + 64, std::back_inserter(r), [](u8 x) { return x & 1; });
         return given(r);
     }},
    {"transform", 64,
     [] {
         std::vector<u8> r;
         std::transform(in, in + 64, std::back_inserter(r),
                        [](u8 x) { return (u8)(x & 1 ? x * 3 : x); });
         return given(r);
     }},
    {"minmax", 256,
     [] {
         auto v = taken<u32>(64);
         auto [a, b] = std::minmax_element(v.begin(), v.end());
         u32 r[2] = {*a, *b};
         return one(r);
     }},
    {"clamp", 256,
     [] {
         auto v = taken<int>(64);
         for (int &x : v) x = std::clamp(x, -1000, 1000);
         return given(v);
     }},
    {"unique", 64,
     [] {
         auto v = taken<u8>(64);
         for (u8 &x : v) x &= 3;
         v.erase(std::unique(v.begin(), v.end()), v.end());
         return given(v);
     }},
    {"counts", 256,
     [] {
         u32 n[16] = {};
         for (int k = 0; k < 256; k++) n[in[k] & 15]++;
         return one(n);
     }},
    {"thrown", 32,
     [] {
         try {
             throws(5);
         } catch (const thrown &t) {
             memcpy(out, &t.a, 8);
             memcpy(out + 8, t.b.data(), 24);
             return (size_t)32;
         }
         return (size_t)0;
     }},
    {"what", 64,
     [] {
         try {
             throw std::runtime_error(text(40));
         } catch (const std::exception &e) {
             return text_out(e.what());
         }
     }},
    {"virtual", 64,
     [] {
         std::vector<std::unique_ptr<shape>> v;
         auto a = taken<u32>(16);
         for (int k = 0; k < 16; k++)
             if (k & 1)
                 v.push_back(std::make_unique<square>(a[k]));
             else
                 v.push_back(std::make_unique<circle>((float)a[k]));
         double s = 0;
         for (auto &x : v) s += x->area();
         return one(s);
     }},
    {"function", 64,
     [] {
         std::vector<std::function<u64(u64)>> v;
         for (u64 x : taken<u64>(8)) v.push_back([x](u64 y) { return x * y + 1; });
         u64 h = 1;
         for (auto &f : v) h = f(h);
         return one(h);
     }},
    {"shared", 120,
     [] {
         std::vector<std::shared_ptr<ship>> v;
         for (auto &s : taken<ship>(5)) v.push_back(std::make_shared<ship>(s));
         auto w = v;
         u64 h = 0;
         for (auto &p : w) h = h * 7 + (u64)p->length + (u64)p->berth;
         return one(h);
     }},
    {"varargs", 32,
     [] {
         auto v = taken<int>(8);
         return one(added(6, v[0], v[1] * 1.0, v[2], v[3] * 0.5, v[4], 2.0));
     }},
    {"longjmp", 8,
     [] {
         int v;
         memcpy(&v, in, 4);
         int r = setjmp(back);
         if (!r) jumps(v);
         return one(r);
     }},
    {"atomics", 64,
     [] {
         std::atomic<u64> a{0};
         u64 h = 0;
         for (u64 x : taken<u64>(8)) {
             h ^= a.exchange(x);
             a.fetch_add(3);
             a.fetch_xor(x >> 5);
         }
         u64 e = a;
         a.compare_exchange_strong(e, h);
         return one(a.load() + h);
     }},
    {"thread", 64,
     [] {
         auto v = taken<u64>(8);
         u64 h = 0;
         std::thread([&] {
             own = 0;
             for (u64 x : v) own = own * 3 + x;
             h = own;
         }).join();
         return one(h);
     }},
    {"future", 64,
     [] {
         auto v = taken<u64>(8);
         auto f = std::async(std::launch::async, [v] {
             u64 h = 0;
             for (u64 x : v) h = h * 3 + x;
             return h;
         });
         return one(f.get());
     }},
    {"views", 64,
     [] {
         std::string_view s((const char *)in, 64);
         s.remove_prefix(5);
         s = s.substr(2, 30);
         memcpy(out, s.data(), s.size());
         return s.size();
     }},
    {"wide_text", 64,
     [] {
         std::wstring s;
         for (int k = 0; k < 64; k++) s += (wchar_t)in[k];
         std::reverse(s.begin(), s.end());
         return given(s);
     }},
    {"u16_text", 64,
     [] {
         std::u16string s;
         for (int k = 0; k < 64; k++) s += (char16_t)(in[k] * 257);
         return given(s + s.substr(3, 5));
     }},
    {"array_of_array", 256,
     [] {
         std::array<std::array<u32, 8>, 8> a, b;
         memcpy(&a, in, 256);
         for (int i = 0; i < 8; i++)
             for (int k = 0; k < 8; k++) b[i][k] = a[k][i] + 1;
         return one(b);
     }},
    {"matrix", 256,
     [] {
         double a[4][4], b[4][4] = {};
         auto v = taken<u32>(16);
         for (int i = 0; i < 16; i++) a[i / 4][i % 4] = v[i] & 1023;
         for (int i = 0; i < 4; i++)
             for (int k = 0; k < 4; k++)
                 for (int j = 0; j < 4; j++) b[i][k] += a[i][j] * a[j][k];
         return one(b);
     }},
    {"popcounts", 64,
     [] {
         auto v = taken<u64>(8);
         std::vector<int> r;
         for (u64 x : v) {
             r.push_back(__builtin_popcountll(x));
             r.push_back(__builtin_clzll(x | 1));
             r.push_back(__builtin_ctzll(x | 1ull << 63));
             r.push_back(__builtin_parityll(x));
         }
         return given(r);
     }},
    {"overflow", 64,
     [] {
         auto v = taken<int>(16);
         std::vector<int> r;
         for (int k = 0; k + 1 < 16; k++) {
             int s;
             bool o = __builtin_add_overflow(v[k], v[k + 1], &s);
             r.push_back(s);
             r.push_back(o);
             o = __builtin_mul_overflow(v[k], v[k + 1], &s);
             r.push_back(o);
         }
         return given(r);
     }},
    {"ternaries", 64,
     [] {
         auto v = taken<int>(16);
         std::vector<int> r;
         for (int x : v) r.push_back(x > 100 ? x - 100 : x < -100 ? -x : 7);
         return given(r);
     }},
    {"switches", 64,
     [] {
         std::vector<int> r;
         for (u8 x : taken<u8>(64)) switch (x & 7) {
             case 0:
                 r.push_back(3);
                 break;
             case 1:
                 r.push_back(8);
                 break;
             case 2:
                 r.push_back(1);
                 break;
             case 5:
                 r.push_back(9);
                 break;
             default:
                 r.push_back(0);
             }
         return given(r);
     }},
    {"table", 64,
     [] {
         static const u8 t[16] = {3, 1, 4, 1, 5, 9, 2, 6, 5, 3, 5, 8, 9, 7, 9, 3};
         std::vector<u8> r;
         for (u8 x : taken<u8>(64)) r.push_back(t[x & 15]);
         return given(r);
     }},
    {"crc", 64,
     [] {
         u32 c = ~0u;
         for (u8 x : taken<u8>(64)) {
             c ^= x;
             for (int k = 0; k < 8; k++) c = c >> 1 ^ (0xedb88320 & -(c & 1));
         }
         return one(~c);
     }},
    {"base64", 48,
     [] {
         static const char t[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
         std::string s;
         for (int k = 0; k < 48; k += 3) {
             u32 v = (u32)(in[k] << 16 | in[k + 1] << 8 | in[k + 2]);
             for (int b = 18; b >= 0; b -= 6) s += t[v >> b & 63];
         }
         return text_out(s);
     }},
    {"hex", 32,
     [] {
         std::string s;
         for (int k = 0; k < 32; k++)
             for (int b = 4; b >= 0; b -= 4) {
                 int d = in[k] >> b & 15;
                 s += (char)(d < 10 ? '0' + d : 'a' + d - 10);
             }
         return text_out(s);
     }},
    {"upper", 64,
     [] {
         auto s = text(64);
         for (char &c : s)
             if (c >= 'A' && c <= 'Z') c = (char)(c + 32);
         return text_out(s);
     }},
    {"run_lengths", 64,
     [] {
         std::string s;
         for (int k = 0; k < 64;) {
             int n = 1;
             while (k + n < 64 && (in[k + n] & 1) == (in[k] & 1)) n++;
             s += (char)n;
             k += n;
         }
         return text_out(s);
     }},
    {"utf8", 64,
     [] {
         std::string s;
         for (int k = 0; k < 64; k++) {
             unsigned c = in[k] * 5u;
             if (c < 128)
                 s += (char)c;
             else
                 s += (char)(0xc0 | c >> 6), s += (char)(0x80 | (c & 63));
         }
         return text_out(s);
     }},
    {"fields", 64,
     [] {
         struct f {
             u32 a : 3, b : 7, c : 11, d : 1;
             u64 e : 40, g : 24;
         } x;
         std::vector<u32> r;
         for (int k = 0; k < 4; k++) {
             memcpy(&x, in + 16 * k, 16);
             x.b += x.a;
             x.e ^= x.g;
             f y = x;
             r.push_back(y.b);
             r.push_back(y.c);
             r.push_back((u32)y.e);
             r.push_back(y.d);
         }
         return given(r);
     }},
};

int main(int argc, char **argv) {
    int rounds = argc > 1 ? atoi(argv[1]) : 3, bad = 0, told_times = 0;
    srand(argc > 2 ? (unsigned)atoi(argv[2]) : 1);
    for (const test &t : tests)
        for (int k = 0; k < rounds; k++) {
            bool told;
            int missed = missed_ways([](const void *which) { return ((const test *)which)->run(); },
                                     &t, t.used, &told);
            told_times += told;
            bad += missed != 0;
            if (missed) printf("%s: %d bytes vary and are said to be defined\n", t.name, missed);
        }
    printf("%zu uses, %d rounds each, %d told, %d failed\n", sizeof tests / sizeof *tests, rounds,
           told_times, bad);
    return bad != 0;
}

"""Random functions that keep what they compute in arrays, structures, vectors and behind pointers,
over bytes of which some bits are undefined, compiled in many ways: where a result varies with
those bits it must be undefined, or something told. places.py TONDO [SEEDS] [FIRST]"""
import pathlib
import re

from ways import COMPARES, NUMBERS, TYPES, check, functions

COMPILERS = ["gcc -O0", "gcc -Os", "gcc -O2", "gcc -O3 -march=haswell", "gcc -O3 -funroll-all-loops",
             "clang -O0", "clang -O2", "clang -O3 -march=haswell"]
if re.search(r"\bavx512bw\b.*\bavx512vl\b", pathlib.Path("/proc/cpuinfo").read_text()):
    COMPILERS.append("gcc -O3 -march=x86-64-v4")
APART = "static __attribute__((noinline)) "
OTHERS = f"""
typedef uint8_t bytes __attribute__((vector_size(16)));
typedef int16_t halves __attribute__((vector_size(16)));
typedef uint32_t words __attribute__((vector_size(16)));
typedef int64_t longs __attribute__((vector_size(16)));
typedef float floats __attribute__((vector_size(16)));
struct pair {{ uint16_t x; uint32_t y; }};
struct three {{ uint8_t b; uint16_t h; uint64_t q; int32_t w[2]; }};
{APART}struct pair paired(uint64_t v) {{
    struct pair p = {{(uint16_t)v, (uint32_t)(v >> 7)}};
    return p;
}}
{APART}struct three threed(uint64_t v) {{
    struct three p = {{(uint8_t)v, (uint16_t)(v >> 3), v * 3, {{(int)v, (int)(v >> 9)}}}};
    return p;
}}
{APART}void add_to(uint64_t *p, uint64_t v) {{ *p += v; }}
{APART}void exchange(uint32_t *p, uint32_t *q) {{ uint32_t t = *p; *p = *q; *q = t; }}
{APART}uint64_t picked(int n, uint64_t x, uint64_t y) {{ return n ? x : y; }}
{APART}double halved(double v) {{ return v * 0.5 + 1.0; }}
{APART}uint64_t summed(const uint8_t *p, int n) {{
    uint64_t s = 0;
    for (int i = 0; i < n; i++)
        s += p[i];
    return s;
}}
{APART}uint64_t deep(int n, uint64_t v) {{ return n ? deep(n - 1, v * 3 + 1) ^ v : v; }}
static volatile int four = 4, eight = 8;
"""
VARIABLES = """    uint8_t t[20];
    uint16_t u[9];
    uint64_t w[4];
    uint32_t q[2];
    struct three s;
    double x = a[3];
    float g = (int8_t)a[5];
    bytes B;
    halves H;
    words W;
    longs L;
    floats F = {a[0], a[1], a[2], 4};
    memcpy(t, a, 20);
    memcpy(u, a + 2, 18);
    memcpy(w, a + 1, 32);
    memcpy(q, a + 7, 8);
    memcpy(&s, a + 3, sizeof s);
    memcpy(&B, a + 2, 16);
    memcpy(&H, a + 4, 16);
    memcpy(&W, a + 1, 16);
    memcpy(&L, a + 3, 16);
"""
SIZE = 84
RESULT = """end:;
    uint64_t y = (uint64_t)(v0 + v1 * 3 + v2 * 5 + v3 * 7);
    memcpy(o, &y, 8);
    memcpy(o + 8, &x, 8);
    memcpy(o + 16, &g, 4);
    memcpy(o + 20, q, 8);
    B ^= (bytes)H ^ (bytes)W ^ (bytes)L;
    memcpy(o + 28, &B, 16);
    memcpy(o + 44, &F, 16);
    w[0] ^= w[1] * 3;
    w[0] += w[2] ^ w[3];
    memcpy(o + 60, w, 8);
    s.q = (s.q ^ (uint32_t)s.w[0]) + (uint32_t)s.w[1];
    memcpy(o + 68, &s.q, 8);
    uint32_t z = s.b + s.h * 3, c = 0;
    memcpy(o + 76, &z, 4);
    for (int i = 0; i < 16; i++)
        c = c * 5 + t[i];
    for (int i = 0; i < 8; i++)
        c ^= u[i] << i;
    memcpy(o + 80, &c, 4);
"""
ARRAYS = [("t", 16), ("u", 8), ("w", 4), ("q", 2), ("B", 16), ("W", 4), ("H", 8)]
VECTORS = [("bytes", "B", 16), ("halves", "H", 8), ("words", "W", 4), ("longs", "L", 2)]
BUILTINS = ["popcountll(%s)", "bswap16(%s)", "bswap32(%s)", "bswap64(%s)", "ffsll(%s)",
            "parityll(%s)", "clz((uint32_t)(%s) | 1)", "ctzll((%s) | 256)", "llabs((int64_t)%s)",
            "abs((int32_t)%s)"]
CALLS = ["paired(%s).x", "paired(%s).y", "threed(%s).h", "threed(%s).q", "threed(%s).w[1]",
         "deep(2, %s)", "(int64_t)halved((int32_t)(%s))"]
DECIDES = ["(memcmp(t, u, 3) == 0)", "(x < 4.0)", "(g > x)", "(a[20] > 3)", "(a[21] & 1)",
           "(memcmp(&s.q, w, 8) == 0)", "(a[22] < 128)"]
MOVES = ["memcpy(u, t + 3, 9);", "memmove(t + 1, t, 11);", "memcpy(w, &s, 17);", "memcpy(&s, u, 7);",
         "memset(t, (int)v1, 5);", "memcpy(&x, w, 8);", "memcpy(q, &g, 4);", "s = threed(v0);",
         "{ struct pair p = paired(v2); memcpy(t, &p.x, 2); memcpy(t + 3, &p.y, 4); }", "add_to(&w[1], v3);",
         "exchange((uint32_t *)w, (uint32_t *)u);", "{ struct three k = s; k.h ^= 5; s = k; }",
         "{ uint8_t c[16]; memcpy(c, t, 16); for (int i = 0; i < 16; i++) t[i] = c[15 - i]; }"]
FLOATS = ["F = F * 0.5f + 1.0f;", "F = __builtin_convertvector(W, floats);", "F += (float)(int)v0;",
          "W = (words)(F > 3.0f);", "F = (floats)((words)F & W);", "F[2] = (int)v1;",
          "v2 += (int)F[1];", "g = g * 2 + 1;", "g = (float)x;", "g = fabsf(g);", "g = -g;",
          "g = g < 3 ? g : 3;", "g = (int)u[1] > 9 ? g : x;"]


def leaf(r):
    return r.choice([f"v{r.randrange(4)}"] * 4 + [f"a[{r.randrange(8)}]"] * 2 +
                    [f"t[{r.randrange(16)}]"] * 2 + [f"u[{r.randrange(8)}]"] * 2 +
                    [f"w[{r.randrange(4)}]"] * 2 +
                    [f"q[{r.randrange(2)}]", "s.b", "s.h", "s.q", f"s.w[{r.randrange(2)}]",
                     "(uint64_t)x", "(int)g", f"B[{r.randrange(16)}]", f"W[{r.randrange(4)}]",
                     str(r.choice(NUMBERS))])


def overflowing(r, v, v2):
    kind, what = r.choice(TYPES), r.choice(["add", "sub", "mul"])
    return (f"({{ {kind} z; int c = __builtin_{what}_overflow(({kind})({v}), ({kind})({v2}), &z); "
            f"c ? ({kind}){r.choice(['7', 'z', '-z'])} : z; }})")


def value(r, depth):
    if depth <= 0:
        return leaf(r)
    v, v2, c = value(r, depth - 1), value(r, depth - 1), condition(r, depth - 1)
    return r.choice(
        [f"({v} {r.choice('+-*&|^&|')} {v2})"] * 6 +
        [f"({v} {r.choice(['<<', '>>'])} {r.randrange(8)})", f"({c} ? {v} : {v2})",
         f"(({r.choice(TYPES)}){v})", c, f"(~{v})",
         f"({v} {r.choice('/%')} {r.choice([3, 7, 10, 16, 255])})",
         f"(int64_t)({v} * {r.choice(['0.5', '1.25f', '3.0', 'x'])})", r.choice(CALLS) % v,
         f"picked({c}, {v}, {v2})", f"__builtin_{r.choice(BUILTINS)}" % v,
         f"((uint64_t)(((unsigned __int128)(uint64_t)({v}) * (uint64_t)({v2})) >> "
         f"{r.choice([0, 3, 32, 70])}))",
         f"summed({r.choice(['t', '(uint8_t *)u', '(uint8_t *)w', 'a'])}, {r.choice(['four', '3', '16'])})",
         f"({v} < {v2} ? {v} : {r.choice(NUMBERS)})", overflowing(r, v, v2),
         f"((uint32_t)({v}) << ({v2} & 7))",
         f"({r.choice(['(uint32_t)', '(uint64_t)', '(int16_t)'])}{v} >> {r.randrange(1, 15)})"] +
        [leaf(r)] * 3)


def condition(r, depth):
    v, v2 = value(r, depth - 1), value(r, depth - 1)
    both = f"({v} {r.choice(['&&', '||'])} {condition(r, depth - 1)})" if depth > 0 else v
    return r.choice([f"({v} {r.choice(COMPARES)} {v2})"] * 4 +
                    [f"({v} & {1 << r.randrange(8)})", both, f"(!{v})", v, r.choice(DECIDES)])


def place(r):
    name, size = r.choice(ARRAYS)
    return r.choice([f"{name}[{r.randrange(size)}]"] * 5 + [f"v{r.randrange(4)}"] * 3 +
                    ["s.b", "s.h", "s.q", "s.w[1]"])


def each_element(r):
    to, size = r.choice(ARRAYS[:4])
    name, other = r.choice(ARRAYS)
    count, of = min(size, other), f"{name}[i]"
    what = r.choice([of, f"{of} {r.choice('+-*&|^')} v{r.randrange(4)}", "a[i] * 3", f"{of} >> 3",
                     f"({of} > {r.choice(NUMBERS)} ? {r.choice(NUMBERS)} : {of})",
                     f"({of} < {to}[i] ? {of} : {to}[i])", f"({of} == {r.choice(NUMBERS)})",
                     f"({r.choice(TYPES)}){of}", f"{name}[{count - 1} - i]", f"(int)((int){of} * 0.5f)"])
    then, into = r.choice(["=", "+=", "^=", "|="]), r.choice(["+=", "^=", "|=", "&="])
    return r.choice([f"for (int i = 0; i < {count}; i++) {to}[i] {then} {what};",
                     f"for (int i = 0; i < {size}; i++) v{r.randrange(4)} {into} "
                     f"{to}[i] {r.choice(['', '* 3', '& 31', '>> 1', '^ i'])};"])


def vector(r):
    kind, name, lanes = r.choice(VECTORS)
    other = f"({kind}){r.choice('BHWL')}"
    order = ", ".join(str(r.randrange(2 * lanes)) for _ in range(lanes))
    what = r.choice([f"{other} {r.choice('+-*&|^')} {r.choice([name, '3', f'({kind})W'])}",
                     f"{other} >> 1", f"{other} << 2", f"({kind})({name} > {other})",
                     f"({kind})({name} == {other})", f"~{other}", f"-{other}", f"{other} - 1",
                     f"__builtin_shufflevector({name}, {other}, {order})"])
    return f"{name} {r.choice(['=', '+=', '^=', '|=', '&=', '-='])} {what};"


def behind_pointer(r, c, v):
    bytes_of = r.choice(["t", "(uint8_t *)w", "(uint8_t *)&s"])
    return r.choice([
        f"{{ uint64_t *p = {c} ? &w[{r.randrange(2)}] : &s.q; *p {r.choice(['=', '+=', '^='])} {v}; }}",
        f"t[{v} & 15] = {leaf(r)};", f"{place(r)} = w[a[{20 + r.randrange(3)}] & 3];",
        f"t[a[{20 + r.randrange(3)}] & 15] {r.choice(['=', '+=', '^='])} {v};",
        f"{{ uint8_t *p = {bytes_of}; for (int n = 0; n < {r.choice(['four', 'eight', '6'])}; n++, p++) "
        f"*p {r.choice(['^=', '+=', '='])} {r.choice(['p[1]', 'a[n]', 'n', '(uint8_t)v1'])}; }}",
        f"{{ int n = 0; while (n < 6 && t[n] {r.choice(['!=', '<', '>'])} {r.choice(NUMBERS)}) n++; "
        f"v{r.randrange(4)} += n; }}"])


def atomic(r, v):
    return r.choice([
        f"__atomic_fetch_{r.choice(['add', 'or', 'xor', 'and', 'sub'])}(&w[{r.randrange(4)}], {v}, 5);",
        f"v{r.randrange(4)} += __atomic_exchange_n(&u[{r.randrange(8)}], (uint16_t)({v}), 5);",
        f"{{ uint32_t e = {v}; v{r.randrange(4)} += __atomic_compare_exchange_n(&q[{r.randrange(2)}], "
        f"&e, (uint32_t)({leaf(r)}), 0, 5, 5); w[1] ^= e; }}"])


def wide(r, v):
    what = r.choice(["* (int64_t)w[0]", "+ (__int128)s.q", "- 3", "<< 7", "<< 20"])
    return (f"{{ __int128 z = (__int128)(int64_t)({v}) {what}; "
            f"w[2] ^= (uint64_t)(z >> {r.choice([0, 13, 64])}); }}")


def statement(r, depth):
    def inner():
        return "{ " + statement(r, depth - 1) + " }"
    c, v = condition(r, 2), value(r, 2)
    kind = r.randrange(24) if depth > 0 else r.choice([0, 10, 11, 12])
    if kind < 3:
        return f"{place(r)} {r.choice(['=', '=', '+=', '^=', '|=', '&=', '-='])} {v};"
    if kind == 3:
        return f"if ({c}) {inner()} else {inner()}"
    if kind == 4:
        return f"if ({c}) {inner()}"
    if kind == 5:
        return f"if ({c}) goto end;"
    if kind == 6:
        return (f"switch ({v} & 3) {{ case 0: {inner()} break; case 1: {inner()} break; "
                f"default: {inner()} }}")
    if kind == 7:
        rounds = r.choice(["2", "3", "four"])
        return f"for (int i = 0; i < {rounds}; i++) {{ {inner()} if ({condition(r, 1)}) break; }}"
    if kind < 12:
        return each_element(r)
    if kind == 12:
        return r.choice(MOVES)
    if kind < 15:
        return vector(r)
    if kind == 15:
        return r.choice(FLOATS)
    if kind == 16:
        how = r.choice(["(double)(int32_t)", "(float)(int16_t)", "(double)(uint64_t)",
                        "(double)(uint32_t)"])
        return f"x {r.choice(['=', '+=', '*=', '-='])} {how}({v});"
    if kind < 20:
        return behind_pointer(r, condition(r, 1), value(r, 1))
    if kind == 20:
        return atomic(r, value(r, 1))
    if kind == 21:
        return wide(r, value(r, 1))
    return inner() + " " + inner()


program = functions(OTHERS, VARIABLES, RESULT, SIZE, statement)
check(COMPILERS, program)

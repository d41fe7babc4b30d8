"""Random functions of floating-point numbers - scalars, vectors, complex, x87, structures that are
handed over in registers - over bytes of which some bits are undefined: where a result varies with
those bits it must be undefined, or something told. floats.py TONDO [SEEDS] [FIRST]"""

from ways import COMPARES, check, functions

COMPILERS = ["gcc -O0", "gcc -O2", "gcc -O3 -march=haswell", "gcc -O2 -mfpmath=387",
             "gcc -O3 -ffast-math -march=haswell", "clang -O0", "clang -O2", "clang -O3 -march=haswell"]
APART = "static __attribute__((noinline)) "
OTHERS = f"""#include <complex.h>
typedef float fours __attribute__((vector_size(16)));
typedef double doubles __attribute__((vector_size(32)));
typedef int ints __attribute__((vector_size(32)));
struct mixed {{ float f; double d; int i; }};
struct two {{ double x, y; }};
struct point {{ float x, y, z; }};
{APART}struct two twice(double a, float b) {{ return (struct two){{a * 2, b}}; }}
{APART}struct point pointed(float a, int b) {{ return (struct point){{a, b, a + b}}; }}
{APART}struct mixed mixed(double a, int b) {{ return (struct mixed){{a, a * b, b}}; }}
{APART}long double longer(long double a, int b) {{ return a + b; }}
{APART}double many(int a, double b, float c, long d, double e, float f, double g, double h, double i,
                   double j, double k, int l) {{
    return a + b * c + d - e + f + g + h * i + j + k + l;
}}
{APART}double _Complex product(double _Complex a, float _Complex b) {{ return a * b; }}
{APART}void exchange(double *a, double *b) {{ double t = *a; *a = *b; *b = t; }}
{APART}doubles sum_of(doubles a, doubles b) {{ return a + b; }}
static volatile int four = 4;
"""
VARIABLES = """    float f[8];
    double d[4];
    long double l = a[6];
    double _Complex c = a[3] + a[4] * 1.0i;
    struct mixed m = {a[1], a[2], a[3]};
    int k[8];
    fours F = {a[1], a[2], a[3], a[4]};
    doubles D = {a[5], a[6], a[7], a[0]};
    ints J;
    for (int i = 0; i < 8; i++)
        f[i] = (int8_t)a[i], k[i] = a[i] | a[i + 4] << 8;
    for (int i = 0; i < 4; i++)
        d[i] = a[i + 2] * 0.25;
    memcpy(&J, a, 32);
"""
SIZE = 96
RESULT = """end:;
    uint64_t y = (uint64_t)(v0 + v1 * 3 + v2 * 5 + v3 * 7);
    memcpy(o, &y, 8);
    memcpy(o + 8, f, 8);
    float q = f[2] + f[3] * 3, x = m.f + m.i, w = F[0] + F[1] - F[2];
    memcpy(o + 16, &q, 4);
    int z = k[0] ^ k[1] * 3 ^ k[2] * 5 ^ k[7];
    memcpy(o + 20, &z, 4);
    memcpy(o + 24, d, 16);
    double e = d[2] - d[3], n = (double)l, re = creal(c), im = cimag(c), u = D[1] + D[2] * D[3];
    memcpy(o + 40, &e, 8);
    memcpy(o + 48, &n, 8);
    memcpy(o + 56, &re, 8);
    memcpy(o + 64, &im, 8);
    memcpy(o + 72, &x, 4);
    memcpy(o + 76, &m.d, 8);
    memcpy(o + 84, &w, 4);
    memcpy(o + 88, &u, 8);
"""
ONE = ["sqrt(fabs(%s))", "floor(%s)", "ceil(%s)", "rint(%s)", "fabs(%s)", "trunc(%s)", "round(%s)",
       "sqrtf(fabsf(%s))", "(double)llrint(%s)", "nearbyint(%s)", "logb(fabs(%s) + 1)",
       "copysign(3.0, %s)", "signbit((double)%s)", "isnan((double)%s)", "exp2(fmin(%s, 10))", "sin(%s)",
       "(double)longer(%s, 3)", "twice(%s, 2).x", "twice(1, %s).y", "pointed(%s, 4).z", "mixed(%s, 2).d",
       "ldexp(%s, 2)", "fma(%s, 3.0, 1.0)"]
TWO = ["fmin(%s, %s)", "fmax(%s, %s)", "fmod(%s, fabs(%s) + 1)", "copysign(%s, %s)", "hypot(%s, %s)",
       "many(1, %s, 2, 3, %s, 1, 2, 3, 4, 5, 6, 7)", "many(1, 2, 2, 3, 1, %s, 2, 3, 4, %s, 6, 7)",
       "fdim(%s, %s)"]
LOOPS = ["for (int i = 0; i < 8; i++) f[i] = f[i] * 2 + k[i];", "for (int i = 0; i < 4; i++) d[i] += f[i];",
         "for (int i = 0; i < 8; i++) k[i] = (int)f[i];", "for (int i = 0; i < 4; i++) d[0] += d[i] * d[i];",
         "for (int i = 0; i < 8; i++) f[i] = f[i] > 3 ? f[i] : 3;",
         "for (int i = 0; i < 8; i++) if (f[i] < 0) f[i] = -f[i];", "for (int i = 0; i < 4; i++) D[i] = k[i];",
         "for (int i = 0; i < 4; i++) d[i] = sqrt(d[i] * d[i] + 1);",
         "for (int i = 0; i < 8; i++) v0 += f[i] < 10;", "for (int i = 0; i < 4; i++) f[i] = (float)d[i];"]
MOVES = ["c = product(c, f[0]);", "c *= 2.0 + 1.0i;", "c = conj(c);", "l *= 1.5L;", "l = longer(l, k[0]);",
         "m = mixed(d[1], k[2]);", "exchange(d, d + 2);", "memcpy(f, d, 7);", "memcpy(d, f + 1, 16);",
         "m.i ^= k[3];", "l = sqrtl(fabsl(l));", "d[0] = (double)l;", "f[1] = cabs(c);",
         "{ long double t = l; l = d[1]; d[1] = (double)t; }"]
VECTORS = ["F = F * 2 + 1;", "F = __builtin_shufflevector(F, F, 2, 1, 7, 0);", "D += D;",
           "D = sum_of(D, D * 0.5);", "F = F / (F * F + 1);", "D = __builtin_shufflevector(D, D, 3, 1, 4, 6);",
           "J = J * 3;", "J = (ints)(J > 5);", "F -= f[0];", "D *= d[0];",
           "for (int i = 0; i < 8; i++) k[i] += J[i];", "F[1] = d[2];", "D[2] = f[3];"]


def leaf(r):
    return r.choice([f"f[{r.randrange(8)}]"] * 3 + [f"d[{r.randrange(4)}]"] * 3 +
                    [f"v{r.randrange(4)}"] * 3 + [f"k[{r.randrange(8)}]"] * 2 +
                    ["(double)l", "creal(c)", "cimag(c)", "m.f", "m.d", "m.i", f"F[{r.randrange(4)}]",
                     f"D[{r.randrange(4)}]", f"a[{r.randrange(8)}]", "1.5", "0.25f", "3", "100"])


def value(r, depth):
    if depth <= 0:
        return leaf(r)
    v, w, c = value(r, depth - 1), value(r, depth - 1), condition(r, depth - 1)
    return r.choice(
        [f"({v} {r.choice('+-*')} {w})"] * 5 +
        [f"({v} / ({w} * {w} + 1))", f"({c} ? {v} : {w})", f"((float)({v}))", f"((int)fmod({v}, 1000))",
         f"(-{v})", f"((uint8_t)(int)fmod({v}, 200))", f"((double)(float)({v}))", r.choice(ONE) % v,
         r.choice(ONE) % v, r.choice(TWO) % (v, w), leaf(r), f"({v} < {w} ? {v} : {w})",
         f"(double)(unsigned)fabs(fmod({v}, 1e6))", f"(double)(uint64_t)fabs(fmod({v}, 1e6))",
         f"(double)((long double)({v}) * l)"])


def condition(r, depth):
    v, w = value(r, depth - 1), value(r, depth - 1)
    return r.choice([f"({v} {r.choice(COMPARES)} {w})"] * 4 +
                    [f"(!({v}))", f"isgreater((double){v}, (double){w})", "(a[20] > 3)", "(a[21] & 1)",
                     f"((int)fmod({v}, 100) & {1 << r.randrange(4)})"])


def statement(r, depth):
    def inner():
        return "{ " + statement(r, depth - 1) + " }"
    v, c = value(r, 2), condition(r, 2)
    kind = r.randrange(18) if depth > 0 else r.choice([0, 8, 9, 10])
    if kind < 3 or kind > 15:
        to = r.choice([f"f[{r.randrange(8)}]", f"d[{r.randrange(4)}]", "m.f", "m.d", "l", "c"])
        return f"{to} {r.choice(['=', '+=', '-=', '*='])} {v};"
    if kind == 3:
        return f"v{r.randrange(4)} {r.choice(['=', '+=', '^='])} (int64_t)fmod({v}, 1e9);"
    if kind == 4:
        return f"if ({c}) {inner()} else {inner()}"
    if kind == 5:
        return f"if ({c}) {inner()}"
    if kind == 6:
        return f"if ({c}) goto end;"
    if kind == 7:
        return (f"for (int i = 0; i < {r.choice(['3', 'four'])}; i++) {{ {inner()} "
                f"if ({condition(r, 1)}) break; }}")
    if kind < 11:
        return r.choice((LOOPS, MOVES, VECTORS)[kind - 8])
    if kind == 11:
        return f"f[a[20] & 7] {r.choice(['=', '+='])} {v};"
    if kind == 12:
        return (f"switch ((int)fmod({v}, 4) & 3) {{ case 0: {inner()} break; case 1: {inner()} break; "
                f"default: {inner()} }}")
    return inner() + " " + inner()


program = functions(OTHERS, VARIABLES, RESULT, SIZE, statement)
check([f"{compiler} -Wno-psabi -Wl,--no-as-needed -lm" for compiler in COMPILERS], program)

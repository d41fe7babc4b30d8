"""Random expressions over values that are undefined in some bits, each deciding a branch, and
compiled in many ways. Run natively with thousands of choices of those bits, a branch that
goes both ways must be told; how many others are told is counted (some go both ways for
choices that were not tried).
expressions.py TONDO [SEEDS] [FIRST]"""
import pathlib
import random
import subprocess
import sys
import tempfile

from programs import arguments, compiled, findings

COMPILERS = ["gcc -O0", "gcc -O2", "gcc -O3 -mavx2 -mbmi -mbmi2", "clang -O0", "clang -O2",
             "clang -O3 -mavx2 -mbmi -mbmi2"]
BRANCHES, CHOICES = 60, 3000
UNSIGNED, SIGNED = ["u8", "u16", "u32", "u64"], ["i8", "i16", "i32", "i64"]
FIELDS = {"a": 3, "b": 5, "c": 9, "d": 40}
ODD = [0, 1, 3, 7, 8, 15, 16, 0xff, 0x7f, 0x80, 0xff00, 0xffff, 1 << 31, (1 << 32) - 1, 1 << 63]
HEAD = """#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
typedef uint8_t u8; typedef uint16_t u16; typedef uint32_t u32; typedef uint64_t u64;
typedef int8_t i8; typedef int16_t i16; typedef int32_t i32; typedef int64_t i64;
struct fields { unsigned a : 3, b : 5, c : 9; u64 d : 40; };
#ifdef CHOOSE
static u64 state = 88172645463325252u;
static int turn;
static u64 next(void) { state ^= state << 13; state ^= state >> 7; return state ^= state << 17; }
static APART u64 source(void) {
    switch (turn % 6) {
    case 0: return next();
    case 1: return 0;
    case 2: return ~0ull;
    case 3: return 1ull << (next() & 63);
    case 4: return ~(1ull << (next() & 63));
    default: return next() & next();
    }
}
#else
static APART u64 source(void) {
    u64 *p = malloc(8), v;
    __asm__ volatile("" : "+r"(p) : : "memory");
    v = *p;
    free(p);
    return v;
}
#endif
static APART u64 known(u64 x) { __asm__ volatile("" : "+r"(x)); return x; }
static unsigned char went[256];
static APART void yes(int n) { went[n] |= 1; }
static APART void no(int n) { went[n] |= 2; }
"""


def expression(r, depth):
    if depth == 0:
        number = r.choice(ODD + [r.getrandbits(8), r.getrandbits(32), r.getrandbits(64)])
        return r.choice(["u", "u", "v", "k", f"{number}ull"])
    a, b = expression(r, depth - 1), expression(r, r.randrange(depth))
    n = r.randrange(64)
    return r.choice(
        [f"({a} {o} {b})" for o in "&&&&|||^^++--"] +
        [f"((u64)({r.choice(UNSIGNED + SIGNED)}){a})"] * 3 +
        [f"({a} << {n})", f"({a} >> {n})", f"((u64)((i64){a} >> {n}))", f"(~{a})", f"(-{a})",
         f"({a} * {r.choice([2, 3, 4, 5, 8, 10, 16, 255, 256, 65536])}ull)",
         f"((u64)({a} {r.choice(['<', '>', '==', '!=', '<=', '>='])} {b}))",
         f"((u64)__builtin_popcountll({a}))", f"((u64)__builtin_bswap64({a}))",
         f"(known({r.getrandbits(1)}) ? {a} : {b})"])


def condition(r):
    if r.random() < 0.15: # bit-fields
        steps = []
        for _ in range(r.randrange(1, 4)):
            f = r.choice("abcd")
            n = r.getrandbits(FIELDS[f])
            steps.append(r.choice([f"x.{f} = {n};", f"x.{f} |= {n};", f"x.{f} &= {n};", f"x.{f}++;"]))
        f = r.choice("abc")
        return ("struct fields x; memcpy(&x, &u, 8); " + " ".join(steps),
                f"x.{f} {r.choice(['==', '!=', '<', '>='])} {r.getrandbits(FIELDS[f])}")
    e, way = expression(r, r.randrange(1, 5)), r.random()
    if way < 0.4:
        mask = r.choice([1, 2, 0x80, 0xff, 0xf0, 0x8000, 0xffff, 0xffff0000, 1 << 63, r.getrandbits(64)])
        return "", f"({e} & {mask}ull) {r.choice(['==', '!='])} {r.choice([0, 0, 0, 1, 0xff])}"
    if way < 0.7:
        number = r.choice([0, 1, 5, 100, 127, 128, 200, 255, 1000, 65535, 1 << 31, r.getrandbits(16)])
        return "", (f"({r.choice(UNSIGNED + SIGNED)})({e}) "
                    f"{r.choice(['==', '!=', '<', '>', '<=', '>='])} {number}")
    return "", f"({e}) {r.choice(['==', '!=', '<', '>'])} ({expression(r, 1)})"


def program(seed):
    r = random.Random(seed)
    functions, calls = [], []
    for n in range(BRANCHES):
        before, c = condition(r)
        functions.append(f"static APART void f{n}(u64 u, u64 v, u64 k) {{ {before} "
                         f"if ({c}) yes({n}); else no({n}); }}")
        u = r.choice(["source()", "source()", f"(source() & {r.getrandbits(64)}ull)",
                      f"(source() | {r.getrandbits(64)}ull)"])
        v = r.choice(["source()", f"known({r.getrandbits(64)}ull)", f"(source() << {r.randrange(64)})",
                      "(source() & 0xff)", f"(source() >> {r.randrange(64)})"])
        calls.append(f"f{n}({u}, {v}, known({r.choice([0, 1, 0xff, r.getrandbits(64)])}ull));")
    text = HEAD + "\n".join(functions) + "\nint main(void) {\n#ifdef CHOOSE\n"
    text += f"for (turn = 0; turn < {CHOICES}; turn++) {{\n#endif\n" + "\n".join(calls)
    text += "\n#ifdef CHOOSE\n}\n" + f'for (int i = 0; i < {BRANCHES}; i++) printf("%d\\n", went[i]);'
    return text + "\n#endif\nreturn 0; }\n", HEAD.count("\n") + 1, functions


def main():
    tondo, seeds = arguments()
    varying = steady = missed = more = 0
    with tempfile.TemporaryDirectory() as folder:
        here = pathlib.Path(folder)
        for seed in seeds:
            text, start, functions = program(seed)
            compiled(here, "gcc -O1 -DCHOOSE", text)
            went = subprocess.run("./p", cwd=here, capture_output=True, text=True).stdout.split()
            for compiler in COMPILERS:
                compiled(here, compiler, text)
                told = {f["stack"][0]["line"] - start for f in findings(here, tondo)
                        if f["kind"] == "uninitialized-value"}
                for n in range(BRANCHES):
                    if went[n] == "3":
                        varying += 1
                        if n not in told:
                            missed += 1
                            print(f"seed {seed}, {compiler}: missed: {functions[n]}")
                    else:
                        steady += 1
                        more += n in told
    print(f"{varying - missed} passed, {missed} failed; of {steady} that went one way {more} told")
    sys.exit(missed > 0)


main()

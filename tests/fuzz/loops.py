"""Random loops over structures of which some members were never set, compiled in many
ways: nothing they print depends on those, so every finding is a false alarm.
loops.py TONDO [SEEDS] [FIRST]"""
import pathlib
import random
import subprocess
import sys
import tempfile

COMPILERS = [
    "gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -mavx2 -mbmi2 -mfma",
    "gcc -O3 -march=haswell -ffast-math", "clang -O0", "clang -O1", "clang -O2",
    "clang -O3 -mavx2 -mbmi2", "clang -O3 -march=haswell -ffast-math",
]
if "avx512bw" in pathlib.Path("/proc/cpuinfo").read_text():
    COMPILERS += [
        "gcc -O3 -march=skylake-avx512", "clang -O3 -march=skylake-avx512",
        "gcc -O3 -march=skylake-avx512 -mprefer-vector-width=512 -ffast-math",
        "clang -O3 -march=skylake-avx512 -mprefer-vector-width=512 -ffast-math",
    ]
WHOLE = ["signed char", "unsigned char", "short", "unsigned short", "int", "unsigned", "long"]
TYPES = WHOLE + ["float", "double"]
HEAD = """#include <stdio.h>
#include <stdlib.h>
#include <string.h>
static volatile int sink;
"""


def expression(r, members, depth=0):
    """Over the members that are set, of p[i]."""
    choice = r.random()
    if depth > 2 or choice < 0.3:
        return f"p[i].{r.choice(members)}"
    a, b = (expression(r, members, depth + 1) for _ in "ab")
    if choice < 0.55:
        return f"({a} {r.choice('+-*')} {b})"
    if choice < 0.7:
        return f"({a} {r.choice('<>')} {b} ? {a} : {b})"
    if choice < 0.8:
        return f"((long)({a}) & {r.choice([1, 7, 15, 255])})"
    if choice < 0.9:
        return f"((int)({a}) >> {r.randint(1, 3)})"
    return f"({r.choice(TYPES)})({a})"


def body(r, types, members):
    value = expression(r, members)
    one = r.choice(members)
    total, step = r.choice(TYPES), r.choice([1, 1, 2, 3, 4])
    return r.choice([
        f"{total} a = 0; for (int i = 0; i < n; i += {step}) a += ({total}){value}; return a;",
        f"int a = 0; for (int i = 0; i < n; i += {step}) a += {value} > 2; return a;",
        f"for (int i = 0; i < n; i += {step}) if ({value} > 1000000) return i; return -1;",
        f"for (int i = 0; i < n; i++) q[i].{one} = ({types[one]}){value}; double a = 0; "
        f"for (int i = 0; i < n; i++) a += q[i].{one}; return a;",
        f"for (int i = 0; i < n; i++) q[n - 1 - i] = p[i]; double a = 0; "
        f"for (int i = 0; i < n; i++) a += q[i].{one}; return a;",
        f"{total} a = p[0].{one}; for (int i = 0; i < n; i++) if (({total}){value} > a) "
        f"a = ({total}){value}; return a;",
    ])


def program(seed):
    r = random.Random(seed)
    text, calls = [HEAD], []
    for k in range(24):
        types = {f"m{i}": r.choice(TYPES) for i in range(r.randint(2, 5))}
        members = [m for m in types if r.random() < 0.5] or ["m0"]
        n = r.choice([16, 31, 40, 64, 77, 133])
        fields = " ".join(f"{t} {m};" for m, t in types.items())
        set_all = " ".join(
            f"p[i].{m} = ({types[m]})(i * {r.randint(1, 9)} % {r.randint(3, 120)});" for m in members)
        place = (f"struct s{k} *p = malloc({n} * sizeof *p), *q = malloc({n} * sizeof *q);"
                 if r.random() < 0.5 else f"struct s{k} p[{n}], q[{n}];")
        text.append(
            f"struct s{k} {{ {fields} }};\n"
            f"__attribute__((noinline)) static double k{k}(const struct s{k} *p, struct s{k} *q, "
            f"int n) {{ {body(r, types, members)} }}\n"
            f"__attribute__((noinline)) static void run{k}(void) {{ {place} "
            f"for (int i = 0; i < {n}; i++) {{ {set_all} }} "
            f'__asm__ volatile("" : : "r"(p) : "memory"); double v = k{k}(p, q, {n}); '
            f'if (v > 5) sink++; printf("%g\\n", v); }}\n')
        calls.append(f"run{k}();")
    return "".join(text) + "int main(void) { " + " ".join(calls) + " return 0; }\n"


def main():
    tondo, seeds, first = sys.argv[1], int((sys.argv[2:] or [10])[0]), int((sys.argv[3:] or [1])[0])
    good = bad = 0
    with tempfile.TemporaryDirectory() as folder:
        here = pathlib.Path(folder)
        for seed in range(first, first + seeds):
            (here / "loops.c").write_text(program(seed))
            for compiler in COMPILERS:
                build = subprocess.run(f"{compiler} -g -w loops.c -o loops -lm", shell=True, cwd=here)
                native = subprocess.run("./loops", cwd=here, capture_output=True)
                run = subprocess.run(
                    [tondo, "run", "-q", "--findings-status", "0", "-r", "line:findings", "./loops"],
                    cwd=here, capture_output=True)
                found = [line for line in (here / "findings").read_text().splitlines()
                         if ": leak: " not in line]
                if build.returncode or found or native.stdout != run.stdout:
                    bad += 1
                    print(f"seed {seed}, {compiler}: {found[:1] or 'output differs'}")
                else:
                    good += 1
    print(f"{good} passed, {bad} failed")
    sys.exit(bad > 0)


main()

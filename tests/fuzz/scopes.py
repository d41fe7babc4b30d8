"""Functions that compilers put into others, blocks beside each other, in loops and behind branches,
whose arrays and structures share places in one frame: what was set counts as set, and what was not
is told in most cases. A variable of the function itself that shares its place with those of blocks
before it holds what these left there: only lines are asked for, or that of its declaration, where
clang at times says that a branch is. scopes.py TONDO [SEEDS] [FIRST]"""
import pathlib
import random
import re
import sys
import tempfile

from programs import arguments, compiled, findings

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3", "gcc -O3 -mavx2", "gcc -Os", "clang -O1",
             "clang -O2", "clang -O3 -mavx2"]
FUNCTIONS, LEAST = 40, 0.6  # of what is wanted
TYPES = ["int", "long", "short", "char", "double", "float"]
HEAD = """#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink, four = 4, one = 1, zero;
static APART void seen(int line) { sink = line; } /* else the ends of branches are made one */
static APART void nothing(void) { sink++; }
static APART void look(const void *p) { hide(p); }
static APART void fill(void *p, int size) { memset(p, 100, size); hide(p); }
struct pair { int a, b; };
struct wide { long set; char name[12]; double d; };
static APART struct wide made(int n) { struct wide w = {n, "berth", n * 0.5}; return w; }
static APART int taken(struct wide w) { return (int)w.set + w.name[0]; }
static APART int deep(int n) { volatile char room[40]; room[n & 31] = 1; return n > 0 ? deep(n - 1) + room[n & 31] : 0; }
"""


class Writer:
    def __init__(self, seed):
        self.r = random.Random(seed)
        self.text, self.wanted, self.names = [], set(), 0

    def add(self, line):
        self.text.append(line)
        return HEAD.count("\n") + len(self.text)

    def name(self):
        self.names += 1
        return f"v{self.names}"

    def ask(self, what, is_set):
        line = self.add(f"if ({what} == {self.r.randrange(3, 90)}) seen(__LINE__);")
        if not is_set:
            self.wanted.add(line)

    def array(self):
        """One that is set in part or wholly, in one of several ways."""
        r, t, n, v = self.r, self.r.choice(TYPES), self.r.choice([2, 3, 4, 6, 9, 16, 30]), self.name()
        way = r.randrange(9)
        is_set = set(range(n)) if way < 6 else set(r.sample(range(n), r.randrange(n)))
        add, text = self.add, f"{t} {v}[{n}]"
        if way == 0:
            add(f"{text} = {{{', '.join(str(100 + k) for k in range(n))}}}; hide({v});")
        elif way == 1:
            add(f"{text}; fill({v}, sizeof {v});")
        elif way == 2:
            add(f"{text}; for (int i = 0; i < {n}; i++) {v}[i] = i % 20 + 100;")
            add(r.choice([f"hide({v});", ""]))
        elif way == 3:
            add(f"{text} = {{0}}; hide({v});")
        elif way == 4:
            add(f"{text}; memset({v}, 101, sizeof {v}); look({v});")
        elif way == 5:
            add(f"{text}; if (one) fill({v}, sizeof {v}); else memset({v}, 1, sizeof {v});")
        else:
            add(f"{text}; hide({v});")
            for k in sorted(is_set):
                add(f"{v}[{k}] = {k + 100};")
        return v, n, is_set

    def quiet(self):
        """One whose address goes nowhere, and what it leaves is asked for at the end."""
        r, t, n, v = self.r, self.r.choice(TYPES), self.r.choice([2, 4, 5, 8, 16]), self.name()
        self.add(r.choice([f"{t} {v}[{n}] = {{{', '.join(str(7 + k) for k in range(n))}}};",
                           f"{t} {v}[{n}] = {{0}};",
                           f"{t} {v}[{n}]; for (int i = 0; i < {n}; i++) {v}[i] = i * 3 + 1;",
                           f"{t} {v}[{n}]; memset({v}, 9, sizeof {v});"]))
        for _ in range(r.randrange(1, 4)):
            self.add(r.choice([f"{v}[four & {1 if n < 4 else 3}] += 2;", f"left += {v}[one];",
                               f"left ^= (long){v}[four % {n}];", f"for (int i = 0; i < {n}; i++) left += {v}[i];",
                               f"{v}[one] = {v}[zero];", "sink = (int)left;"]))

    def same(self, depth, callable_now):
        """Branches that begin alike."""
        r, t, n, v, w = self.r, self.r.choice(TYPES), self.r.choice([2, 4, 6, 10, 24]), self.name(), self.name()
        how = r.choice(["{5, 6}", "{0}", "{1, 2, 3}", "{100, 101, 102, 103}"]) if n > 3 else "{3, 4}"
        end = r.choice(["hide(%s);", "look(%s);", "left += %s[one];"])
        taken = r.choice(["one", "zero", "four > 3"])
        for start, name in ((f"if ({taken}) {{", v), ("} else {", w)):
            self.add(f"{start} {t} {name}[{n}] = {how}; {end % name}")
            self.ask(f"{name}[{r.randrange(n)}]", True)
            runs = name == (w if taken == "zero" else v)
            before = set(self.wanted)
            if depth:
                self.statements(depth - 1, callable_now)
            self.wanted = self.wanted if runs else before
        self.add("}")

    def structure(self):
        r, v = self.r, self.name()
        way = r.randrange(5)
        if way == 0:
            self.add(f"struct wide {v} = made(four); hide(&{v});")
        elif way == 1:
            self.add(f"struct wide {v}; fill(&{v}, sizeof {v});")
        elif way == 2:
            self.add(f"struct wide {v} = {{100, \"xyz\", 2}}; sink += taken({v}); hide(&{v});")
        elif way == 3:
            self.add(f"struct wide {v}; {v}.set = 5; hide(&{v});")
        else:
            self.add(f"struct wide {v}, w{v} = made(3); hide(&w{v}); {v} = w{v}; look(&{v});")
        for _ in range(r.randrange(3)):
            if r.random() < 0.5:
                self.ask(f"{v}.set", True)
            else:
                self.ask(f"{v}.d", way != 3)

    def statements(self, depth, callable_now):
        r, add = self.r, self.add
        for _ in range(r.randrange(1, 4)):
            way = r.randrange(16)
            if way < 3:
                v, n, is_set = self.array()
                if r.random() < 0.5:
                    self.between(callable_now)
                for k in r.sample(range(n), min(n, r.randrange(1, 4))):
                    self.ask(f"{v}[{k}]", k in is_set)
            elif way == 3:
                self.structure()
            elif way >= 14:
                self.quiet()
            elif way == 13:
                self.same(0, callable_now)
            elif way < 6 and depth:
                add(r.choice(["{", "if (one) {", "for (int i = 0; i < 2; i++) {", "do {",
                              "for (int i = 0; i < four; i++) { if (i == 1) continue; if (i == 3) break;"]))
                opened = self.text[-1]
                self.statements(depth - 1, callable_now)
                add("} while (zero);" if opened == "do {" else "}")
            elif way == 12 and depth:
                self.same(depth, callable_now)
            elif way == 6 and depth:
                add("if (zero) {")
                before = set(self.wanted)
                self.statements(depth - 1, callable_now)
                self.wanted = before
                add("} else {")
                self.statements(depth - 1, callable_now)
                add("}")
            elif way == 7 and depth:
                add("switch (four) { case 3: nothing(); break; case 4: {")
                self.statements(depth - 1, callable_now)
                add("} break; default: sink = 2; }")
            else:
                self.between(callable_now)

    def between(self, callable_now):
        r = self.r
        calls = [f"f{k}();" for k in callable_now] or ["nothing();"]
        self.add(r.choice(calls + ["nothing();", f"deep({r.randrange(6)});", "sink += taken(made(2));", "sink++;"]))


def program(seed):
    w = Writer(seed)
    for k in range(FUNCTIONS):
        how = w.r.choice(["static inline __attribute__((always_inline))", "static", "static", "static APART"])
        w.add(f"{how} void f{k}(void) {{ long left = 0;")
        w.statements(2, w.r.sample(range(k), min(k, 2)))
        w.add("if (left == 1234567) seen(__LINE__); }")
    w.add(f"int main(void) {{ {' '.join(f'f{k}();' for k in range(FUNCTIONS))} return 0; }}")
    return HEAD + "\n".join(w.text) + "\n", w.wanted


def main():
    tondo, seeds = arguments()
    asked = found = bad = 0
    with tempfile.TemporaryDirectory() as folder:
        here = pathlib.Path(folder)
        for seed in seeds:
            text, wanted = program(seed)
            lines = text.split("\n")
            for compiler in COMPILERS:
                compiled(here, compiler, text)
                told = {f["stack"][0]["line"] for f in findings(here, tondo)}
                asked_for = {name for n in wanted for name in re.findall(r"v\d+", lines[n - 1])}
                wrong = [f"{n} {lines[n - 1]}" for n in sorted(told - wanted)
                         if not asked_for & set(re.findall(r"^\w+ (v\d+)\[\d+\];", lines[n - 1]))]
                asked += len(wanted)
                found += len(wanted & told)
                bad += bool(wrong)
                if wrong:
                    print(f"seed {seed}, {compiler}:", *wrong, sep="\n    ")
    print(f"{bad} wrong; {found} of {asked} told")
    sys.exit(bad > 0 or found < asked * LEAST)


main()

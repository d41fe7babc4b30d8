"""Random functions whose local variables are set on some ways only, and used only where what
remembers that they were set says so: a flag, a bit of a mask, a kind, a count, an early way out.
Optimizers keep both in registers and move the tests about; nothing may be told.
unset.py TONDO [SEEDS] [FIRST]"""
import random

from programs import compare

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3", "gcc -Os", "clang -O1", "clang -O2",
             "clang -O3", "clang -Oz"]
FUNCTIONS = 14
HEAD = """#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline))
#define ELSEWHERE __attribute__((noinline, weak))
static volatile int sink, zero;
ELSEWHERE int step(int i) { sink++; return i * 7 % 11 + zero; }
ELSEWHERE int holds(int i) { sink++; return (i * 5 + 3) % 4 == 1 && !zero; }
ELSEWHERE double depth(int i) { return i * 0.5 + zero; }
ELSEWHERE const char *name(int i) { return i & 1 ? "Auk" : "Tern"; }
ELSEWHERE void note(long x) { if (x > 1000) sink += 2; }
ELSEWHERE int found(int i, int *out) { if (i % 3) return 0; *out = i + zero; return 1; }
ELSEWHERE void leave(int i) { if (i == 12345) exit(3); }
struct pair { long first; int second; };
static APART struct pair pair_of(int i) { struct pair p = {i * 3, i}; return p; }
"""


class Function:
    """One function: its variables, and how each one's being set is remembered."""

    def __init__(self, r, number):
        self.r = r
        self.number = number
        self.types = [r.choice(["int", "long", "unsigned char", "double", "const char *"])
                      for _ in range(r.randrange(2, 5))]
        self.ways = [r.choice(["flag", "bit", "kind", "count"]) for _ in self.types]

    def value(self, v):
        r = self.r
        if self.types[v] == "double":
            return r.choice(["depth(i + k)", "k * 1.5", "depth(k) + a"])
        if self.types[v] == "const char *":
            return "name(i + k)"
        return r.choice(["step(i)", "i + k", "a * 3 + i", "step(a) + step(k)", "b ^ i", "step(b) & 31"])

    def set(self, v):
        remember = {"flag": f"h{v} = 1;", "bit": f"mask |= {1 << v};", "kind": f"kind{v} = {v + 3};",
                    "count": f"n{v}++;"}[self.ways[v]]
        lines = [f"v{v} = ({self.types[v]})({self.value(v)});", remember]
        if self.r.random() < 0.3 and self.types[v] not in ("double", "const char *"):
            lines[0] = f"{{ int t; if (found(i, &t)) {{ v{v} = t; {remember} }} }}"
            lines.pop()
        self.r.shuffle(lines)
        return " ".join(lines)

    def known(self, v):
        return {"flag": f"h{v}", "bit": f"mask & {1 << v}", "kind": f"kind{v} == {v + 3}",
                "count": f"n{v} > 0"}[self.ways[v]]

    def use(self, v):
        r, x, known = self.r, f"v{v}", self.known(v)
        if self.types[v] == "const char *":
            return r.choice([f"if (({known}) && *{x} == 'A') acc += 3;",
                             f"acc += ({known}) ? (long)strlen({x}) : k;",
                             f"if ({known}) {{ note({x}[1]); acc += {x}[0]; }}"])
        if self.types[v] == "double":
            return r.choice([f"if (({known}) && {x} > 2.5) acc += 4;",
                             f"acc += (long)(({known}) ? {x} * 2 : 1.0);",
                             f"if (!({known})) acc++; else if ({x} < k) acc += 2;"])
        return r.choice([f"if (({known}) && {x} > k) acc += {x};",
                         f"acc += ({known}) ? {x} : a;",
                         f"if ({known}) {{ if ({x} & 1) acc += 5; note({x}); }}",
                         f"acc += ({known}) ? step((int){x}) : 1;",
                         f"if (!({known}) || {x} == 4) acc += 7;",
                         f"switch (({known}) ? (int){x} % 5 : 9) {{ case 0: acc += 1; break; case 2: acc += step(2); break; case 4: acc ^= 3; break; case 9: break; }}",
                         f"for (int j = 0; ({known}) && j < (int)({x} & 3); j++) acc += step(j);"])

    def statement(self, depth):
        r = self.r
        v = r.randrange(len(self.types))
        kind = r.randrange(9) if depth else r.randrange(3)
        condition = r.choice(["holds(i + k)", "(i + a) % 3 == 1", "k > 2", "b & 4", "holds(a)"])
        if kind == 0:
            return f"if ({condition}) {{ {self.set(v)} }}"
        if kind in (1, 2):
            return self.use(v)
        if kind == 3:
            return (f"for (i = 0; i < n; i++) {{ {self.statement(depth - 1)} "
                    f"{self.statement(depth - 1)} }}")
        if kind == 4:
            return (f"switch ((i + k) & 3) {{ case 0: {self.set(v)} break; case 1: acc += 2; break; "
                    f"case 2: {self.statement(depth - 1)} break; }}")
        if kind == 5:
            return f"if ({condition}) {{ {self.statement(depth - 1)} }} else {{ {self.statement(depth - 1)} }}"
        if kind == 6:
            return f"if (acc > 100000) goto out; {self.statement(depth - 1)}"
        if kind == 7:
            return f"{{ struct pair p; int has = 0; if ({condition}) {{ p = pair_of(i); has = 1; }} leave(k); if (has && p.second > 1) acc += p.first; }}"
        return f"do {{ {self.statement(depth - 1)} i++; }} while (i < n && !({self.known(v)}));"

    def text(self):
        kinds = {"flag": "int h%d = 0;", "bit": "", "kind": "int kind%d = 0;", "count": "int n%d = 0;"}
        lines = ["int i = 0; long acc = 0; unsigned mask = 0; (void)mask; (void)a; (void)b;"]
        for v, t in enumerate(self.types):
            lines.append(f"{t} v{v}; " + (kinds[self.ways[v]] % v if kinds[self.ways[v]] else ""))
        lines += [self.statement(3) for _ in range(self.r.randrange(4, 9))]
        lines += [self.use(v) for v in range(len(self.types))]
        link = self.r.choice(["static APART", "ELSEWHERE", "APART"])
        return (f"{link} long f{self.number}(int n, int k, int a, unsigned b) {{\n    "
                + "\n    ".join(lines) + "\n    goto out;\nout:\n    return acc;\n}\n")


def program(seed):
    r = random.Random(seed)
    calls = "".join(f"        all += f{n}(n, k, n * k, (unsigned)(n ^ k)) * {n + 1};\n"
                    for n in range(FUNCTIONS))
    text = (HEAD + "".join(Function(r, n).text() for n in range(FUNCTIONS))
            + "int main(void) {\n    long all = 0;\n    for (int n = 0; n < 5; n++)\n"
            + "    for (int k = 0; k < 6; k++) {\n" + calls + "    }\n"
            + '    if (all == 42)\n        puts("?");\n    return 0;\n}\n')
    return text, set()


def told(findings):
    return {(f["stack"][0]["line"] if f.get("stack") else None, f["kind"]) for f in findings}


def describe(lines, wanted, found):
    return [f"more: {x[1]}: {x[0]} {lines[x[0] - 1] if x[0] else ''}" for x in sorted(found, key=str)]


compare(COMPILERS, program, told, describe)

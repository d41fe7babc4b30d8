"""Ordinary functions that carry values along, over calls and through variables, and use them at a
line each, mostly by the library: exactly the lines that use one never set must be told, as from
where it was made.
uses.py TONDO [SEEDS] [FIRST]"""
import random

from programs import Wanted, compare

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -mavx2", "gcc -Os", "clang -O0", "clang -O2",
             "clang -O3 -mavx2", "g++ -O2", "clang++ -O1"]
FLAGS = " -std=gnu++17" # of C++
HEAD = """#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#define APART __attribute__((noinline))
static volatile int sink;
static volatile double real_sink;
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static APART void seen(void) { sink++; }
static APART void step(void) { sink += 2; }
static APART int passed(int v) { return v + sink; }
static APART long summed(long a, long b, int c) { return a * 3 + b + c + sink; }
static APART double halved(double v) { real_sink = v; return v * 0.5; }
static APART int deep(int n) { return n > 0 ? deep(n - 1) + sink : n; }
static APART void lines(char *to, int size) { snprintf(to, (size_t)size, "berth %d", sink); }
static APART void *unset(size_t size) { void *p = malloc(size); hide(p); return p; }
static APART void *cleared(size_t size) { void *p = calloc(1, size); hide(p); return p; }
char text[200];
int table[16];
"""
WHOLE, REAL = ["int", "unsigned", "long", "unsigned long", "short", "unsigned char"], ["double", "float"]
STEPS = ["step();", "sink = passed(4);", "sink += (int)summed(1, sink, 2);", "real_sink = halved(2);",
         "sink += deep(3);", "lines(text, 40);", "free(malloc(30));", "memset(text, 7, 30);",
         "sink += (int)strlen(\"harbour\");", "sink ^= abs(sink);"]


class Program:
    def __init__(self, seed):
        self.r = random.Random(seed)
        self.text, self.lines, self.wanted = [HEAD], HEAD.count("\n"), Wanted()
        self.origins = {}  # of each variable: the block's, or the name of one
        self.number = 0

    def add(self, line):
        self.text.append(line + "\n")
        self.lines += 1

    def name(self):
        self.number += 1
        return f"v{self.number}"

    def source(self, kind, is_set):
        """Lines that declare a variable."""
        r, v = self.r, self.name()
        made, n = "cleared" if is_set else "unset", r.randrange(1, 5)
        ways = [f"{kind} {v} = *({kind} *){made}(sizeof({kind}));",
                f"{kind} *{v}_p = ({kind} *){made}(8 * sizeof *{v}_p); {kind} {v} = {v}_p[{n}];",
                f"struct {{ char c; {kind} m; }} *{v}_p = ({self.cast()}){made}(sizeof *{v}_p); "
                f"{kind} {v} = {v}_p->m;",
                f"{kind} {v}{' = 3' if is_set else ''}; hide(&{v});",
                f"struct {{ {kind} a; long b; }} {v}_s; {v}_s.b = 4; {f'{v}_s.a = 5; ' if is_set else ''}"
                f"hide(&{v}_s); {kind} {v} = {v}_s.a;",
                f"{kind} {v}_a[5]; {f'memset({v}_a, 1, sizeof {v}_a); ' if is_set else ''}hide({v}_a); "
                f"{kind} {v} = {v}_a[{n}];"]
        way = r.randrange(len(ways))
        self.origins[v] = ["heap", "heap", "heap", v, f"{v}_s", f"{v}_a"][way]
        return v, ways[way]

    def cast(self):
        return f"__typeof__(v{self.number}_p)"

    def changed(self, kind, v):
        """Another variable made of it: all its bits matter."""
        r, w = self.r, self.name()
        n = r.choice([3, 5, 7, 11])
        if kind in REAL:
            ways = [f"{v} + {n}", f"{v} * {n}", f"-{v}", f"({kind})halved({v})", f"{n} - {v}"]
        else:
            ways = [f"({kind})({v} + {n})", f"({kind})((unsigned long){v} * {n})", f"({kind})({v} ^ {n})", f"({kind})~{v}",
                    f"({kind})({n} - {v})", f"({kind})passed((int){v})", f"({kind})summed({v}, 1, 2)"]
        self.origins[w] = self.origins[v]
        return w, f"{kind} {w} = {r.choice(ways)};"

    def use(self, kind, v):
        """A line that uses it; True: it does so in a function of its own, above."""
        r, n, number = self.r, self.r.choice([3, 17, 100]), self.number
        form = {"double": "%f", "float": "%g", "long": "%ld", "unsigned long": "%lu", "unsigned": "%u"}.get(kind, "%d")
        calls = [f'printf("{form}\\n", {v});', f'printf("%s {form}\\n", "depth", {v});',
                 f'snprintf(text, sizeof text, "{form}", {v});', f'fprintf(stdout, "%d {form} %d\\n", sink, {v}, 3);',
                 f'printf("%d %d %d {form}\\n", sink, sink, 4, {v});', f"if ({v} == {n}) seen();",
                 f"if ({v} > {n}) seen(); else step();"]
        if kind not in REAL:
            calls += [f"sink = table[{v} & 7];", f"switch ({v}) {{ case 3: step(); break; case 9: seen(); }}",
                      f"memset(text, 1, {v} & 31);",
                      f"table[{v} & 7] = 1;", f"for (int i = 0; i < ((int){v} & 3); i++) seen();",
                      f"write(-1, &{v}, sizeof {v});"]
            calls += [f"APART {number}"] * 3
        else:
            calls += [f"sink = (int)fmod({v}, 3) > 1 ? passed(3) : (int)deep(1);", f"if ((int){v} == 4) seen();"]
        return r.choice(calls)

    def function(self, k):
        r, alive, body, above = self.r, [], [], []
        for _ in range(r.randint(6, 16)):
            kind = r.randrange(8)
            if kind < 2 or not alive:
                t, is_set = r.choice(WHOLE + REAL), r.random() < 0.4
                v, line = self.source(t, is_set)
                alive.append((t, v, is_set))
                body.append((line, None, None))
            elif kind < 4:
                body.append((r.choice(STEPS), None, None))
            elif kind == 4:
                t, v, is_set = alive.pop(r.randrange(len(alive)))
                w, line = self.changed(t, v)
                alive.append((t, w, is_set))
                body.append((line, None, None))
            else:
                t, v, is_set = alive.pop(r.randrange(len(alive)))
                line, apart = self.use(t, v), None
                if line.startswith("APART"):
                    f = f"used_{v}"
                    way = r.randrange(3)
                    apart = (f'static APART void {f}({t} v) {{ __asm__ volatile("# {v}"); ' # else made one
                             f"if (v == {self.number % 100}) seen(); }}")
                    if way == 1:
                        apart += f" static void (*volatile by_{f})({t}) = {f};"
                    line = f"{'by_' if way == 1 else ''}{f}({v});"
                body.append((line, None if is_set else self.origins[v], apart))
        for line, told, apart in body:
            if apart:
                self.add(apart)
                if told:
                    self.wanted[self.lines] = {told}
        self.add(f"static APART void run{k}(void) {{")
        for line, told, apart in body:
            self.add("    " + line)
            if told and not apart:
                self.wanted[self.lines] = {told}
        self.add("}")


def program(seed):
    p = Program(seed)
    for k in range(10):
        p.function(k)
    p.add("int main(void) { " + " ".join(f"run{k}();" for k in range(10)) + " _exit(0); }")
    return "".join(p.text), p.wanted


def told(findings):
    """The line of the program's own where each stands."""
    found = {}
    for f in findings:
        if f["kind"] == "uninitialized-value":
            line = next((s["line"] for s in f["stack"] if (s.get("file") or "").startswith(("p.c", "/")) and
                         s["line"] and "p.c" in s["file"]), 0)
            origin = f["origin"].get("variable") or f["origin"]["from"]
            found.setdefault(line, set()).add(origin)
        elif f["kind"] != "leak":
            found[f["kind"]] = {f["kind"]}
    return found


def describe(lines, wanted, found):
    return [f"line {n}: {sorted(wanted.get(n, []))}, told {sorted(found.get(n, []))}: "
            f"{lines[n - 1].strip() if isinstance(n, int) else ''}"
            for n in sorted(found.keys() | wanted.keys(), key=str) if found.get(n) != wanted.get(n)]


compare([c + (FLAGS if "++" in c else "") + " -fno-strict-aliasing -Wno-psabi -Wl,--no-as-needed -lm"
         for c in COMPILERS], program, told, describe)

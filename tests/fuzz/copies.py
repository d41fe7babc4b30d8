"""Arrays of structures with padding and members from several places that were never set,
copied, turned about, exchanged and sorted round after round, while single members change:
each must still say where it is from, and what was set must be silent.
copies.py TONDO [SEEDS] [FIRST]"""
import copy
import random

from programs import COMPILERS, HEAD, SOURCES, TYPES, compare


class Kind:
    """A structure, its arrays and what is done to them."""

    def __init__(self, r, number):
        self.r, self.number, self.n = r, number, r.choice([5, 8, 13, 20])
        self.members = {}
        fields = ["int key;"]
        for i in range(r.randint(2, 6)):
            if r.random() < 0.35:
                fields.append(f"{r.choice(['char', 'short'])} small{i};")
            else:
                self.members[f"m{i}"] = r.choice(TYPES)
                fields.append(f"{self.members[f'm{i}']} m{i};")
        r.shuffle(fields)
        self.fields = " ".join(fields)
        self.small = [f.split()[1][:-1] for f in fields if "small" in f]
        self.arrays = ["a", "b", "c"]
        self.state = {}  # array -> element -> (key, {member: source or None})
        self.steps = []  # (function's body, its parameters, arrays it is called with, what it does)

    def operation(self):
        r, n, t = self.r, self.n, f"struct s{self.number}"
        m = r.choice(list(self.members)) if self.members else None
        to, other = r.sample(self.arrays, 2)
        what = r.choice(["copy", "turn", "swap", "rotate", "shift", "some", "sort", "define", "touch",
                         "undefine", "halves", "through", "pointers", "bubble", "either",
                         "each", "all", "parts", "parts turned", "walk", "fill", "fill and number",
                         "fill by turns"])
        if not m and what in ("define", "touch", "undefine"):
            what = "copy"
        i = r.randrange(n)
        k = r.randrange(SOURCES)
        loop = f"for (int i = 0; i < {n}; i++)"

        def assign(pairs):
            def run(s):
                old = s[other] if other in s else None
                new = copy.deepcopy(s[to])
                for d, e in pairs:
                    new[d] = copy.deepcopy(old[e])
                s[to] = new
            return run

        if what == "copy":
            return f"{loop} x[i] = y[i];", (to, other), assign([(j, j) for j in range(n)])
        if what == "pointers":
            return (f"{t} *e = x + {n}; while (x < e) *x++ = *y++;", (to, other),
                    assign([(j, j) for j in range(n)]))
        if what == "each":
            return f"{loop} move(x + i, y + i, sizeof *x);", (to, other), assign([(j, j) for j in range(n)])
        if what == "all":
            return f"move(x, y, {n} * sizeof *x);", (to, other), assign([(j, j) for j in range(n)])
        if what.startswith("parts"): # as a hand-written memcpy would, sometimes not made one
            u = r.choice(["unsigned char", "unsigned char", "signed char", "unsigned short", "unsigned"])
            turned, still = what != "parts", r.choice(["", '__asm__ volatile("" : "+r"(k));'])
            source = f"{n - 1} - i" if turned else "i"
            return (f"typedef {u} __attribute__((may_alias)) u; "
                    f"{loop} {{ u *to = (u *)(x + i); const u *from = (const u *)(y + ({source})); "
                    f"for (unsigned long k = 0; k < sizeof *x / sizeof(u); k++) {{ {still} to[k] = from[k]; }} }}",
                    (to, other), assign([(j, n - 1 - j if turned else j) for j in range(n)]))
        if what == "walk": # over all of it by pointers, what is left by bytes
            u = r.choice(["unsigned char", "unsigned short", "unsigned", "unsigned long"])
            still = r.choice(["", '__asm__ volatile("" : "+r"(k));'])
            return (f"typedef {u} __attribute__((may_alias)) u; unsigned long k = {n} * sizeof *x; "
                    f"u *to = (u *)x; const u *from = (const u *)y; "
                    f"while (k >= sizeof(u)) {{ k -= sizeof(u); {still} *to++ = *from++; }} "
                    f"char *last = (char *)to; while (k--) last[k] = ((const char *)from)[k];",
                    (to, other), assign([(j, j) for j in range(n)]))
        if what.startswith("fill"): # from what a compiler keeps in registers
            j = r.randrange(n)

            def run(s):
                from_, last = copy.deepcopy(s[other][i]), copy.deepcopy(s[other][j])
                for d in range(n):
                    s[to][d] = copy.deepcopy(last if what == "fill by turns" and d % 2 else from_)
                    if what == "fill and number":
                        s[to][d][0] = d
            copies = {"fill": "x[i] = u;", "fill and number": "x[i] = u; x[i].key = i;",
                      "fill by turns": "if (i % 2) x[i] = v; else x[i] = u;"}[what]
            return f"{t} u = y[{i}], v = y[{j}]; (void)v; {loop} {{ {copies} }}", (to, other), run
        if what == "turn":
            return (f"{loop} x[i] = y[{n - 1} - i];", (to, other),
                    assign([(j, n - 1 - j) for j in range(n)]))
        if what == "some":
            return (f"{loop} if (i % 3) x[i] = y[i];", (to, other),
                    assign([(j, j) for j in range(n) if j % 3]))
        if what == "halves":
            return (f"for (int i = 0; i + 1 < {n}; i += 2) {{ {t} u = y[i]; x[i] = y[i + 1]; x[i + 1] = u; }}",
                    (to, other), assign([p for j in range(0, n - 1, 2) for p in ((j, j + 1), (j + 1, j))]))
        if what == "through":
            return (f"{t} z[4]; {loop} {{ z[i & 3] = y[i]; hide(z); x[i] = z[i & 3]; }}", (to, other),
                    assign([(j, j) for j in range(n)]))
        if what == "swap":
            def run(s):
                s[to].reverse()
            return (f"for (int i = 0; i < {n // 2}; i++) {{ {t} u = x[i]; x[i] = x[{n - 1} - i]; "
                    f"x[{n - 1} - i] = u; }}", (to, to), run)
        if what == "rotate":
            def run(s):
                s[to].append(s[to].pop(0))
            return (f"{t} u = x[0]; for (int i = 0; i + 1 < {n}; i++) x[i] = x[i + 1]; x[{n - 1}] = u;",
                    (to, to), run)
        if what == "shift":
            def run(s):
                s[to][1:] = copy.deepcopy(s[to][:-1])
            return (f"for (int i = {n - 1}; i > 0; i--) x[i] = x[i - 1];", (to, to), run)
        if what == "sort":
            def run(s):
                s[to].sort(key=lambda e: e[0])
            return (f"for (int i = 1; i < {n}; i++) {{ {t} u = x[i]; int j = i; "
                    "for (; j > 0 && x[j - 1].key > u.key; j--) x[j] = x[j - 1]; x[j] = u; }",
                    (to, to), run)
        if what == "bubble":
            def run(s):
                s[to].sort(key=lambda e: e[0])
            return (f"for (int i = 0; i < {n}; i++) for (int j = 0; j + 1 < {n} - i; j++) "
                    f"if (x[j].key > x[j + 1].key) {{ {t} u = x[j]; x[j] = x[j + 1]; x[j + 1] = u; }}",
                    (to, to), run)
        if what == "either":
            def run(s):
                for d, e in zip(s[to], s[other]):
                    if e[0] & 1:
                        d[0], d[1] = e[0], dict(e[1])
                    else:
                        e[0], e[1] = d[0], dict(d[1])
            return f"{loop} if (y[i].key & 1) x[i] = y[i]; else y[i] = x[i];", (to, other), run
        if what == "define":
            def run(s):
                s[to][i][1][m] = None
            return f"x[{i}].{m} = 1;", (to, to), run
        if what == "touch":
            def run(s):
                for e in s[to]:
                    e[0] ^= 1
            return f"{loop} x[i].key ^= 1;", (to, to), run

        def run(s):
            s[to][i][1][m] = f"source{k}"
        return f"x[{i}].{m} = *({self.members[m]} *)source{k}();", (to, to), run

    def write(self, add, wanted, line):
        r, t, number = self.r, f"struct s{self.number}", self.number
        add(f"{t} {{ {self.fields} }};")
        for extra, a in enumerate(self.arrays): # else compilers make one function of several
            add(f"static APART {t} *make{number}{a}(void) "
                f"{{ sink = {3 * number + extra}; return malloc({self.n} * sizeof({t})); }}")
            add(f"static APART void fill{number}{a}({t} *x) {{")
            self.state[a] = []
            for i in range(self.n):
                key, origins = r.randrange(100), {}
                text = f"x[{i}].key = {key}; " + "".join(f"x[{i}].{s} = 1; " for s in self.small)
                for m, kind in self.members.items():
                    origins[m] = f"make{number}{a}"
                    if r.random() < 0.5:
                        origins[m] = None
                        text += f"x[{i}].{m} = 1; "
                    elif r.random() < 0.5:
                        k = r.randrange(SOURCES)
                        origins[m] = f"source{k}"
                        text += f"x[{i}].{m} = *({kind} *)source{k}(); "
                add("    " + text)
                self.state[a].append([key, origins])
            add("}")
        calls, runs = [], []
        for k in range(r.randint(3, 8)):
            body, arrays, run = self.operation()
            add(f"static APART void step{number}_{k}({t} *x, {t} *y) {{ {body} }}")
            calls.append(f"step{number}_{k}({arrays[0]}, {arrays[1]});")
            runs.append(run)
        rounds = r.choice([1, 2, 3, 7, 40])
        for _ in range(rounds):
            for run in runs:
                run(self.state)
        add(f"static APART void run{number}(void) {{")
        for a in self.arrays:
            add(f"    {t} *{a} = make{number}{a}(); fill{number}{a}({a});")
        add(f"    for (int r = 0; r < {rounds}; r++) {{ {' '.join(calls)} }}")
        for a in self.arrays:
            for i in range(self.n):
                for m in self.members:
                    if r.random() < 0.7:
                        continue
                    add(f"    if ({a}[{i}].{m} > 0)")
                    source = self.state[a][i][1][m]
                    if source:
                        wanted[line()] = source
                    add("        seen();")
        add("}")


def program(seed):
    r = random.Random(seed)
    lines, wanted, text = HEAD.count("\n"), {}, [HEAD]

    def add(line):
        nonlocal lines
        text.append(line + "\n")
        lines += 1

    for k in range(6):
        Kind(r, k).write(add, wanted, lambda: lines)
    calls = " ".join(f"run{k}();" for k in range(6))
    return "".join(text) + f"int main(void) {{ {calls} return 0; }}\n", wanted


def told(findings):
    found = {}
    for f in findings:
        if f["kind"] == "uninitialized-value":
            names = [x["function"] for x in f["origin"]["stack"] or []]
            found[f["stack"][0]["line"]] = next(
                (n for n in names if n and n.startswith(("source", "make"))), f["origin"]["variable"])
    return found


def describe(lines, wanted, found):
    return [f"line {n}: {found.get(n)}, not {wanted.get(n)}: {lines[n - 1].strip()}"
            for n in sorted(found.keys() | wanted.keys()) if found.get(n) != wanted.get(n)]


compare(COMPILERS, program, told, describe)

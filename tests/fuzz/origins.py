"""Structures and arrays whose members come from several places that were never set, moved
about in many ways and compiled in many ways: each must still say where it is from.
origins.py TONDO [SEEDS] [FIRST]"""
import random

from programs import COMPILERS, HEAD, SOURCES, TYPES, compare

NARROW = ["signed char", "unsigned char", "short", "unsigned short"] # several in a word; in vectors they share one


def moves(r, k, members):
    """From x to y, both struct s{k}."""
    some = [f"y.{m} = x.{m};" for m in members]
    r.shuffle(some)
    return r.choice([
        "y = x;",
        f"copy{k}(&y, &x);",
        f"y = value{k}(x);",
        f"struct s{k} z = x; hide(&z); y = z;",
        f"struct s{k} z[3]; z[1] = x; hide(z); z[2] = z[1]; hide(z); y = z[2];",
        "memcpy(&y, &x, sizeof x);",
        f"struct s{k} *p = malloc(2 * sizeof *p); p[0] = x; hide(p); p[1] = p[0]; hide(p); "
        "y = p[1]; free(p);",
        " ".join(some),
        f"struct s{k} z; memset(&z, 0, sizeof z); hide(&z); y = x; hide(&y); swap{k}(&y, &z); "
        f"hide(&z); swap{k}(&y, &z);",
    ])


LOOPS = ["to[i] = from[i]", "to[i] = from[N - 1 - i]", "to[i] = from[i] + 1", "to[i] = from[i ^ 1]",
         "to[i] = from[(i + 3) % N]", "to[i] = -from[i]"]


def array(r, k, add, wanted, at):
    """Elements from several places, by loops that compilers make vectors of."""
    t, n = r.choice(TYPES), r.choice([8, 16, 24, 32])
    loops = [r.choice(LOOPS) for _ in range(r.randint(1, 3))]
    for number, loop in enumerate(loops):
        add(f"static APART void loop{k}_{number}({t} *restrict to, const {t} *restrict from) {{ "
            f"for (int i = 0; i < {n}; i++) {loop.replace('N', str(n))}; }}")
    origin = {i: r.randrange(SOURCES) for i in range(n) if r.random() < 0.4}
    add(f"static APART void array{k}(void) {{")
    add(f"    {t} x[{n}], y[{n}];")
    for i in range(n):
        add(f"    x[{i}] = {f'*({t} *)source{origin[i]}()' if i in origin else 1};")
    for number, loop in enumerate(loops):
        add(f"    hide(x); loop{k}_{number}(y, x); hide(y); memcpy(x, y, sizeof x);")
        where = {"from[N - 1 - i]": lambda i: n - 1 - i, "from[i ^ 1]": lambda i: i ^ 1,
                 "from[(i + 3) % N]": lambda i: (i + 3) % n}.get(loop.split(" = ")[1], lambda i: i)
        origin = {i: origin[where(i)] for i in range(n) if where(i) in origin}
    add("    hide(x);")
    for i in range(n):
        add(f"    if (x[{i}] > 0)")
        if i in origin:
            wanted[at()] = f"source{origin[i]}"
        add("        seen();")
    add("}")


def program(seed):
    r = random.Random(seed)
    lines, wanted = HEAD.count("\n"), {}
    text, calls = [HEAD], []

    def add(line):
        nonlocal lines
        text.append(line + "\n")
        lines += 1

    for k in range(12):
        kinds = r.choice([TYPES, TYPES + NARROW, NARROW])
        members = {f"m{i}": r.choice(kinds) for i in range(r.randint(2, 6))}
        fields = " ".join(f"{t} {m};" for m, t in members.items())
        add(f"struct s{k} {{ {fields} }};")
        add(f"static APART void copy{k}(struct s{k} *to, const struct s{k} *from) {{ *to = *from; }}")
        add(f"static APART struct s{k} value{k}(struct s{k} x) {{ return x; }}")
        add(f"static APART void swap{k}(struct s{k} *a, struct s{k} *b) "
            f"{{ struct s{k} t = *a; *a = *b; *b = t; }}")
        add(f"static APART void make{k}(struct s{k} *to) {{")
        origin = {}
        for m, t in members.items():
            if r.random() < 0.6:
                origin[m] = r.randrange(SOURCES)
                add(f"    to->{m} = *({t} *)source{origin[m]}();")
            else:
                add(f"    to->{m} = 1;")
        add("}")
        add(f"static APART void run{k}(void) {{")
        add(f"    struct s{k} x, y;")
        add(f"    make{k}(&x);")
        for _ in range(r.randint(1, 3)):
            add(f"    {{ hide(&x); {moves(r, k, members)} hide(&y); x = y; }}")
        add("    hide(&x);")
        for m in members:
            add(f"    if (x.{m} > 0)")
            if m in origin:
                wanted[lines] = f"source{origin[m]}"
            add("        seen();")
        add("}")
        calls.append(f"run{k}();")
    for k in range(6):
        array(r, k, add, wanted, lambda: lines)
        calls.append(f"array{k}();")
    return "".join(text) + "int main(void) { " + " ".join(calls) + " return 0; }\n", wanted


def told(findings):
    found = {}
    for f in findings:
        if f["kind"] == "uninitialized-value":
            names = [x["function"] for x in f["origin"]["stack"] or []]
            source = next((n for n in names if n and n.startswith("source")), f["origin"]["variable"])
            found[f["stack"][0]["line"]] = source
    return found


def describe(lines, wanted, found):
    return [f"line {n}: {found.get(n)}, not {wanted.get(n)}"
            for n in sorted(found.keys() | wanted.keys()) if found.get(n) != wanted.get(n)]


compare(COMPILERS, program, told, describe)

"""Structures in frames and on the heap, some of whose members were never set, copied and
passed about (by value, by pointer, as variable arguments, across calls and by functions that
leave undefined frames behind), compiled in many ways: exactly the undefined members must be
told where they are compared, and where they are from: a variable by its name.
frames.py TONDO [SEEDS] [FIRST]"""
import random

from programs import Wanted, compare, describe_origins, told_origins

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -mavx2", "clang -O0", "clang -O1", "clang -O2",
             "clang -O3 -mavx2"]
FUNCTIONS = 10
TYPES = ["int", "long", "short", "char", "double", "float", "long double"]
HEAD = """#include <alloca.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink;
static APART void seen(void) { sink++; }
static APART void nothing(void) { sink++; }
static APART void deep(int n) { volatile char room[64]; room[n & 63] = 1; if (n) deep(n - 1); sink += room[n & 63]; }
static APART long pick_long(int n, ...) { va_list l; va_start(l, n); long r = 0; while (n--) r = va_arg(l, long); va_end(l); return r; }
static APART double pick_double(int n, ...) { va_list l; va_start(l, n); double r = 0; while (n--) r = va_arg(l, double); va_end(l); return r; }
"""


def function(r, k, add, wanted):
    kind, n = r.choice(TYPES), r.choice([1, 2, 3, 4, 6, 9])
    s, given, left = f"struct s{k}", r.randrange(n), r.randrange(n)
    add(f"{s} {{ {kind} m[{n}]; }};")
    add(f"static APART {s} by{k}({s} x) {{ x.m[{given}] = 7; return x; }}")
    add(f"static APART void set{k}({s} *x, int i) {{ x->m[i] = 5; }}")
    add(f"static APART void leave{k}({s} *to) {{ {s} x; hide(&x); x.m[{left}] = 9; hide(&x); *to = x; }}")
    add(f"static APART {kind} get{k}({s} *x, int i) {{ return x->m[i]; }}")
    add(f"static APART void f{k}(void) {{")
    names = list("abcd")[:r.randrange(2, 5)]
    for v in names:
        add(f"{s} {v}; hide(&{v});")
    if r.random() < 0.3:
        add(f"{s} *heap = malloc(sizeof *heap); hide(heap);")
        names.append("(*heap)")
    if r.random() < 0.3:
        add(f"{s} *room = alloca(sizeof *room); hide(room);")
        names.append("(*room)")
    # of each member what it may be from, if it is not set
    own = {"(*heap)": "heap", "(*room)": "stack"}
    state = {v: [{own.get(v, v)}] * n for v in names}
    for _ in range(r.randrange(4, 12)):
        v, w, i, j = r.choice(names), r.choice(names), r.randrange(n), r.randrange(n)
        # gcc reads eight bytes of a smaller block to pass it by value
        small = w == "(*heap)" and kind in ("char", "short")
        way = r.choice(["set", "copy", "value", "pointer", "leave", "get", "bytes", "deep", "nothing",
                        "variable", "swap", "array", "reverse", "double"])
        if way == "set":
            add(f"{v}.m[{i}] = 4;")
            state[v][i] = set()
        elif way == "copy":
            add(f"{v} = {w};")
            state[v] = state[w][:]
        elif way == "value" and not small:
            add(f"{v} = by{k}({w});")
            state[v] = state[w][:]
            state[v][given] = set()
        elif way == "pointer":
            add(f"set{k}(&{v}, {i});")
            state[v][i] = set()
        elif way == "leave":
            add(f"leave{k}(&{v});")
            state[v] = [set() if m == left else {"x"} for m in range(n)]
        elif way == "get":
            add(f"{v}.m[{i}] = get{k}(&{w}, {j});")
            state[v][i] = state[w][j]
        elif way == "bytes" and v != w:
            add(f"memcpy(&{v}, &{w}, sizeof {v});")
            state[v] = state[w][:]
        elif way == "deep":
            add("deep(20);")
        elif way == "variable" and kind in ("long", "double"):
            add(f"{v}.m[{i}] = pick_{kind}(3, ({kind})1, ({kind})2, {w}.m[{j}]);")
            state[v][i] = state[w][j]
        elif way == "swap":
            add(f"{{ {kind} q = {v}.m[{i}]; nothing(); {v}.m[{i}] = {w}.m[{j}]; {w}.m[{j}] = q; }}")
            state[v][i], state[w][j] = state[w][j], state[v][i]
        elif way == "array":
            add(f"{{ {s} x[3]; x[0] = {v}; x[1] = {w}; x[2] = x[0]; hide(x); {v} = x[1]; }}")
            state[v] = state[w][:]
        elif way == "reverse" and v != w:
            add(f"for (int i = 0; i < {n}; i++) {v}.m[i] = {w}.m[{n - 1} - i];")
            state[v] = state[w][::-1]
        elif way == "double" and kind not in ("char", "short"):
            add(f"for (int i = 0; i < {n}; i++) {v}.m[i] += {w}.m[i];")
            state[v] = [a | b for a, b in zip(state[v], state[w])]
        else:
            add("nothing();")
        if r.random() < 0.4:
            add(f"hide(&{v}); hide(&{w});")
    for v in names:
        add(f"hide(&{v});")
        for i in range(n):
            if r.random() < 0.6:
                line = add(f"if ({v}.m[{i}] >= 6) seen();")
                if state[v][i]:
                    wanted[line] = state[v][i]
    add("}")


def program(seed):
    r = random.Random(seed)
    text, wanted = [], Wanted()

    def add(line):
        text.append(line)
        return HEAD.count("\n") + len(text)

    for k in range(FUNCTIONS):
        function(r, k, add, wanted)
    calls = " ".join(f"f{k}();" for k in range(FUNCTIONS))
    return HEAD + "\n".join(text) + f"\nint main(void) {{ {calls} return 0; }}\n", wanted


compare(COMPILERS, program, told_origins, describe_origins)

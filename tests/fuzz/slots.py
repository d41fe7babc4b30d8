"""Functions that leave copies of half set structures on the stack, by value, in arrays of varying
length, by alloca, in the red zone, and others that find their unset locals there: each must be
told as its own variable, by name, whatever was there before. slots.py TONDO [SEEDS] [FIRST]"""
import random

from programs import compare

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -mavx2", "gcc -Os", "clang -O0", "clang -O1", "clang -O2",
             "clang -O3 -mavx2"]
KINDS, GIVERS, ASKERS, CALLERS = 4, 8, 14, 5
TYPES = ["int", "long", "short", "char", "double", "float"]
HEAD = """#include <alloca.h>
#include <setjmp.h>
#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink, four = 4;
static jmp_buf back;
static APART void seen(void) { sink++; }
static APART void nothing(void) { sink++; }
static APART void look(const void *p) { hide(p); }
static APART int deep(int n) { volatile char room[40]; room[n & 31] = 1; return n > 0 ? deep(n - 1) + room[n & 31] : 0; }
static APART int many(int a, int b, int c, int d, int e, int f, int g, int h, int i) { return a + b + c + d + e + f + g * h - i; }
"""


def kind(r, k, add):
    """A structure, a block of them of which the first member alone is set, and what takes it."""
    t, n = r.choice(TYPES), r.choice([1, 2, 3, 4, 5, 7, 9, 12])
    s = f"struct s{k}"
    add(f"{s} {{ int set; {t} m[{n}]; char last; }};")
    add(f"static {s} *block{k};")
    add(f"static APART void make{k}(void) {{ block{k} = malloc(16 * sizeof *block{k}); hide(block{k}); "
        f"for (int i = 0; i < 16; i++) block{k}[i].set = i; }}")
    add(f"static APART int by_value{k}({s} x) {{ return x.set; }}")
    add(f"static APART int between{k}(int a, {s} x, double b, {s} y, int c) {{ return x.set + y.set + a + c + (int)b; }}")
    add(f"static APART {s} handed{k}(int i) {{ return block{k}[i & 15]; }}")
    add(f"static APART {s} changed{k}({s} x) {{ x.set++; hide(&x); return x; }}")
    add(f"static APART int listed{k}(int n, ...) {{ va_list l; va_start(l, n); int all = 0; "
        f"while (n--) all += va_arg(l, {s}).set; va_end(l); return all; }}")


def giver(r, k, add):
    """Leaves what was copied to the stack there."""
    at, n = r.randrange(KINDS), r.choice([1, 2, 3, 5, 8])
    s = f"struct s{at}"
    body = {
        "array": f"{s} all[{n}]; for (int i = 0; i < {n}; i++) all[i] = block{at}[i]; look(all);",
        "memcpy": f"{s} all[{n}]; memcpy(all, block{at}, sizeof all); look(all);",
        "varying": f"{s} all[four + {n}]; memcpy(all, block{at}, sizeof all); look(all);",
        "alloca": f"{s} *all = alloca({n} * sizeof *all); for (int i = 0; i < {n}; i++) all[i] = block{at}[i]; look(all);",
        "leaf": f"{s} one = block{at}[{n}]; hide(&one); block{at}[{n - 1}] = one;",
        "recursive": f"{s} one = block{at}[{n}]; hide(&one); if (sink < 0) give{k}(); deep({n}); hide(&one);",
        "jump": f"if (!setjmp(back)) {{ {s} all[{n}]; memcpy(all, block{at}, sizeof all); look(all); longjmp(back, 1); }}",
        "value": f"sink = by_value{at}(block{at}[{n}]); ",
        "between": f"sink = between{at}(1, block{at}[{n}], 2, block{at}[1], 3);",
        "handed": f"{s} one = handed{at}({n}); hide(&one);",
        "changed": f"{s} one = changed{at}(changed{at}(block{at}[{n}])); hide(&one);",
        "listed": f"sink = listed{at}(3, block{at}[{n}], block{at}[2], block{at}[0]);",
        "exchange": f"{s} t = block{at}[0]; block{at}[0] = block{at}[{n}]; block{at}[{n}] = t;",
    }
    way = r.choice(sorted(body))
    add(f"static APART void give{k}(void) {{ {body[way]} }}")


def ask(r, add, wanted, name, t, n, is_set):
    for i in r.sample(range(n), min(n, 3)):
        line = add(f"if ({name}[{i}] == {r.randrange(3, 90)}) seen();")
        if i not in is_set:
            wanted.add((line, name))


def local(r, add, name):
    """A local array, of which some elements are set."""
    t, n = r.choice(TYPES), r.choice([1, 2, 3, 4, 6, 9, 16, 30])
    add(f"{t} {name}[{n}]; hide({name});")
    is_set = set(r.sample(range(n), r.randrange(n))) if r.random() < 0.5 else set()
    for i in sorted(is_set):
        add(f"{name}[{i}] = {i % 50 + 100};")
    return name, t, n, is_set


def call(r):
    k = r.randrange(KINDS)
    return r.choice([
        f"give{r.randrange(GIVERS)}();",
        f"give{r.randrange(GIVERS)}();",
        f"sink = by_value{k}(block{k}[{r.randrange(16)}]);",
        f"sink = between{k}(2, block{k}[{r.randrange(16)}], 1, block{k}[{r.randrange(16)}], 3);",
        f"{{ struct s{k} here[four]; memcpy(here, block{k}, sizeof here); look(here); }}",
        f"{{ struct s{k} one = changed{k}(block{k}[3]); hide(&one); }}",
        "sink = many(1, 2, 3, 4, 5, 6, four, 8, 9);",
        "nothing();",
        f"deep({r.randrange(9)});",
    ])


def asker(r, k, add, wanted):
    add(f"static APART void ask{k}(void) {{")
    rooms = [local(r, add, f"v{k}_{x}") for x in range(r.randrange(1, 3))]
    if r.random() < 0.3:
        add(call(r))
    for room in rooms:
        ask(r, add, wanted, *room)
    add("}")


def caller(r, k, add, wanted):
    """Calls askers with something in between, and has unset locals as well."""
    add(f"static APART void call{k}(void) {{")
    room = local(r, add, f"w{k}")
    for _ in range(r.randrange(4, 9)):
        add(call(r))
        if r.random() < 0.7:
            add(f"ask{r.randrange(ASKERS)}();")
    ask(r, add, wanted, *room)
    add("}")


def program(seed):
    r = random.Random(seed)
    text, wanted = [], set()

    def add(line):
        text.append(line)
        return HEAD.count("\n") + len(text)

    for k in range(KINDS):
        kind(r, k, add)
    for k in range(GIVERS):
        giver(r, k, add)
    for k in range(ASKERS):
        asker(r, k, add, wanted)
    for k in range(CALLERS):
        caller(r, k, add, wanted)
    calls = [f"ask{k}();" for k in range(ASKERS)] + [f"call{k}();" for k in range(CALLERS)] * 2
    r.shuffle(calls)
    made = " ".join(f"make{k}();" for k in range(KINDS))
    add(f"int main(void) {{ {made} {' '.join(calls)} return 0; }}")
    return HEAD + "\n".join(text) + "\n", wanted


def told(findings):
    all = set()
    for f in findings:
        own = [frame for frame in f["stack"] if frame["file"]]
        line = own[0]["line"] if own else 0
        if f["kind"] == "uninitialized-value":
            all.add((line, f["origin"].get("variable") or f["origin"]["from"]))
        elif "leak" not in f["kind"]:
            all.add((line, f["kind"]))
    return all


def describe(lines, wanted, found):
    for line, name in sorted(wanted ^ found):
        yield f"{'missed' if (line, name) in wanted else 'more'}: {line} {name}: {lines[line - 1][:150]}"


if __name__ == "__main__":
    compare(COMPILERS, program, told, describe)

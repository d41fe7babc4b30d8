"""Random structures of mixed members, some of which are never set, passed on and handed back by
value, in registers or on the stack, alone and among other arguments: just the lines that ask for
a member nobody set must be told, as from where the structure was made. passing.py TONDO [SEEDS] [FIRST]"""
import random

from programs import COMPILERS, Wanted, compare, describe_origins, told_origins

KINDS = 14
TYPES = ["char", "unsigned char", "short", "int", "unsigned", "long", "float", "double", "_Bool", "char *"]
OTHERS = ["int {0}", "double {0}", "long {0}", "float {0}", "char {0}"]
HEAD = """#include <stdarg.h>
#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink, one = 1;
static APART void seen(void) { sink++; }
static APART void *block(unsigned long size) { void *p = malloc(size); hide(p); return p; }
"""


def question(r, kind, name):
    if kind == "_Bool":
        return f"if ({name}) seen();"
    if kind == "char *":
        return f"if ({name} == 0) seen();"
    return f"if ({name} {r.choice(['==', '!=', '>', '<='])} {r.choice(['3', '7', 'one'])}) seen();"


class Program:
    def __init__(self, r):
        self.r, self.text, self.lines, self.wanted = r, [HEAD], HEAD.count("\n"), Wanted()
        self.places = set()  # of the kind at hand

    def add(self, line, told=False):
        self.text.append(line + "\n")
        self.lines += 1
        if told:
            self.wanted[self.lines] = self.places

    def ask(self, members, unset, name):
        self.add(f'    __asm__ volatile("# {self.lines}");')  # functions that are alike are made one
        for m in self.r.sample(list(members), len(members)):
            self.add("    " + question(self.r, members[m], f"{name}{m}"), m in unset)

    def kind(self, k):
        """One structure, with the ways it goes."""
        r, s = self.r, f"struct s{k}"
        self.places = set()
        members = {f"m{n}": r.choice(TYPES) for n in range(r.choice([1, 2, 2, 3, 3, 4, 5, 7]))}
        unset = {m for m in members if r.random() < 0.45}
        inner = "" if r.random() < 0.8 else f"struct {{ {r.choice(['char', 'int', 'float'])} first; }} in; "
        self.add(f"{s} {{ {inner}{' '.join(f'{t} {m};' for m, t in members.items())} }};")
        first, last = ([o.format(f"x{n}") for n, o in enumerate(r.choices(OTHERS, k=r.choice([0, 0, 1, 3, 6])))],
                       [o.format(f"y{n}") for n, o in enumerate(r.choices(OTHERS, k=r.choice([0, 0, 1])))])
        takes = ", ".join(first + [f"{s} v"] + last)
        gives = "".join("one, " for _ in first) + "{0}" + "".join(", one" for _ in last)
        self.add(f"static APART void make{k}({s} *p) {{")
        if inner:
            self.add("    p->in.first = one;")
        for m, t in members.items():
            if m not in unset:
                self.add(f"    p->{m} = {'(char *)&sink' if t == 'char *' else 'one'};")
        self.add("}")
        self.add(f"static APART void ask{k}({takes}) {{")
        self.ask(members, unset, "v.")
        self.add("}")
        self.add(f"static APART {s} back{k}({takes}) {{ sink++; return v; }}")
        self.add(f"static APART {s} on{k}({takes}) {{ return back{k}("
                 f"{', '.join([f'x{n}' for n in range(len(first))] + ['v'] + [f'y{n}' for n in range(len(last))])}); }}")
        self.add(f"static void (*volatile slot{k})({takes}) = ask{k};")
        if unset and r.random() < 0.5:
            m = r.choice(sorted(unset))
            unset = unset - {m}
            self.add(f"static APART {s} set{k}({s} v) {{ v.{m} = {'0' if members[m] == 'char *' else '5'}; return v; }}")
            changed = f"set{k}({{0}})"
        else:
            changed = "{0}"
        self.add(f"static APART void later{k}({takes}) {{")
        self.ask(members, unset, "v.")
        self.add("}")
        self.add(f"static APART void member{k}({s} v) {{")
        if r.random() < 0.5:
            self.add(f"    {s} w = v; v = w;")
        self.ask(members, unset, "v.")
        self.add("}")
        self.add(f"static APART void any{k}(int n, ...) {{")
        self.add(f"    va_list l; va_start(l, n); while (n--) (void)va_arg(l, int); {s} v = va_arg(l, {s}); va_end(l);")
        self.ask(members, unset, "v.")
        self.add("}")
        self.add(f"static APART void run{k}(void) {{")
        place = r.choice(["heap", "frame", "array"])
        self.places.add({"heap": "heap", "frame": "local", "array": "all"}[place])
        if place == "heap":
            self.add(f"    {s} *p = block(sizeof *p + 8);")
        elif place == "frame":
            self.add(f"    {s} local, *p = &local; hide(p);")
        else:
            self.add(f"    {s} all[3], *p = &all[{r.randrange(3)}]; hide(all);")
        self.add(f"    make{k}(p); hide(p);")
        self.add(f"    {r.choice([f'ask{k}', f'slot{k}'])}({gives.format('*p')});")
        through = r.choice([f"back{k}({gives.format('*p')})", f"on{k}({gives.format('*p')})", "*p"])
        self.add(f"    {s} w = {changed.format(through)};")
        self.add(f"    hide(&w); later{k}({gives.format('w')}); hide(&w);")  # one value is told once
        self.add(f"    member{k}({r.choice(['w', changed.format('*p')])}); hide(&w);")
        counts = r.choice([0, 1, 4, 7])
        self.add(f"    any{k}({counts}, {''.join('1, ' for _ in range(counts))}w);")
        if place == "heap":
            self.add("    free(p);")
        self.add("}")


def program(seed):
    p = Program(random.Random(seed))
    for k in range(KINDS):
        p.kind(k)
    calls = " ".join(f"run{k}();" for k in range(KINDS))
    return "".join(p.text) + f"int main(void) {{ {calls} return 0; }}\n", p.wanted


compare(COMPILERS, program, told_origins, describe_origins)

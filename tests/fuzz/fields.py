"""Random structures of bit fields and plain members, on the heap and on the stack, of which only
some members are ever set: just the lines that ask for one of the others must be told, as from
where it was made, whatever shares its bytes, and those that ask for a member of what is gone. fields.py TONDO [SEEDS] [FIRST]"""
import random

from programs import COMPILERS, compare

FUNCTIONS, COUNT = 30, 40
BASES = {"unsigned": 32, "int": 32, "unsigned char": 8, "unsigned short": 16, "long": 64,
         "unsigned long": 64, "_Bool": 1}
PLAIN = ["char", "short", "int", "long"]
HEAD = """#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline))
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static volatile int sink, one = 1, number = 3;
static APART void seen(void) { sink++; }
static APART void *made(unsigned long size) { void *p = malloc(size); hide(p); return p; }
"""


class Kind:
    def __init__(self, r, number):
        self.name, self.members = f"struct s{number}", {}
        for n in range(r.randint(3, 9)):
            if r.random() < 0.8:
                base = r.choice(list(BASES))
                width = r.randint(1, min(BASES[base], r.choice([1, 2, 5, 9, 33, 64])))
                self.members[f"m{n}"] = (base, width)
            else:
                self.members[f"m{n}"] = (r.choice(PLAIN), 0)

    def text(self):
        fields = " ".join(f"{t} {m} : {w};" if w else f"{t} {m};" for m, (t, w) in self.members.items())
        return f"{self.name} {{ {fields} }};"

    def value(self, r, member):
        base, width = self.members[member]
        bits = width or 7
        low, high = ((-(1 << bits - 1), (1 << bits - 1) - 1) if not base.startswith("un") and base != "_Bool"
                     else (0, (1 << bits) - 1))
        return r.choice([low, high, 0 if low > 1 or high < 1 else 1, r.randint(low, high)])


class Thing:
    """What a name stands for, and which of its members are set."""
    def __init__(self, name, kind):
        self.name, self.kind, self.set, self.live = name, kind, set(), True
        self.source = "heap"  # or the variable that what is not set is from
        self.told = set()  # beside one that was asked for: may count as defined since


def sets(r, t, m):
    """A statement that sets the member."""
    v = t.kind.value(r, m)
    t.set.add(m)
    return r.choice([f"{t.name}->{m} = {v};", f"{t.name}->{m} = one;", f"{t.name}->{m} = number & {v};"])


def changes(r, t, m):
    boolean = t.kind.members[m][0] == "_Bool"
    name = f"{t.name}->{m}"
    return r.choice([f"{name} {r.choice('|&^')}= {1 if boolean else t.kind.value(r, m)};",
                     f"{name} = !{name};"] + ([] if boolean else [f"{name} += {t.kind.value(r, m)};",
                                                                  f"{name} ^= number;"]))


def asks(r, t, m):
    v = t.kind.value(r, m)
    name = f"{t.name}->{m}"
    if t.kind.members[m][1] == 1 or r.random() < 0.2:
        return f"if ({name}) seen();"
    return r.choice([f"if ({name} == {v}) seen();", f"if ({name} != number) seen();",
                     f"sink += {name} > one ? sink : 7, seen();" if m in t.set else f"if ({name}) seen();"])


def statement(r, things):
    """A statement, and where from what it asks for is that was never set."""
    t = r.choice(things)
    have, lack = sorted(t.set), sorted(t.kind.members.keys() - t.set - t.told)
    like = [x for x in things if x.kind is t.kind and x is not t]
    way = r.random()
    if way < 0.35 or not have:
        return sets(r, t, r.choice(list(t.kind.members))), False
    if way < 0.5:
        return changes(r, t, r.choice(have)), False
    if way < 0.6 and like:
        o = r.choice(like)
        t.set, t.told, t.source = set(o.set), set(o.told), o.source
        return f"*{t.name} = *{o.name};", False
    if way < 0.68 and like:
        o = r.choice(like)
        both = sorted(t.set & o.set)
        if both:
            m = r.choice(both)
            return r.choice([f"if ({t.name}->{m} == {o.name}->{m}) seen();",
                             f"{t.name}->{m} = {o.name}->{m};"]), False
    if way < 0.75 and len(have) > 1:
        m, n = r.sample(have, 2)
        return (f"if ({t.name}->{m} == {t.kind.value(r, m)} {r.choice(['&&', '||'])} "
                f"{t.name}->{n} == {t.kind.value(r, n)}) seen();"), False
    if way < 0.88 or not lack:
        return asks(r, t, r.choice(have)), False
    t.told.update(lack)
    return asks(r, t, r.choice(lack)), t.source


def each(r, kind):
    """A function over an array whose elements have some members set, and which lines ask for others."""
    t = Thing("p", kind)
    lines = [(f"    {kind.name} *all = made({COUNT} * sizeof *all), *p;", False)]
    for _ in range(r.randint(2, 6)):
        text, told = statement(r, [t])
        lines += [("    hide(all);", False),
                  (f"    for (p = all; p < all + {COUNT}; p++) {{ {text} }}", told)]
    return lines + [("    free(all);", False)]


def program(seed):
    r = random.Random(seed)
    kinds = [Kind(r, n) for n in range(5)]
    text = HEAD + "".join(k.text() + "\n" for k in kinds)
    heap = [Thing(f"h{n}", r.choice(kinds)) for n in range(6)]
    for h in heap:
        text += f"static {h.kind.name} *{h.name};\n"
    wanted, lines = set(), text.count("\n")
    parts = [text]

    def add(line, told=None):
        nonlocal lines
        parts.append(line + "\n")
        lines += 1
        if told:
            wanted.add((lines, told))

    for n in range(FUNCTIONS):
        add(f"static APART void f{n}(void) {{")
        things = [h for h in heap if h.live]
        local = [Thing(f"a{k}", r.choice(kinds)) for k in range(r.randrange(3))]
        for x in local:
            x.source = f"local_{x.name}"
            add(f"    {x.kind.name} local_{x.name}, *{x.name} = &local_{x.name}; hide({x.name});")
        if r.random() < 0.25:
            for line, told in each(r, r.choice(kinds)):
                add(line, told)
            things = []
        for _ in range(r.randint(2, 12)):
            if not things + local:
                break
            line, told = statement(r, r.choice([things, local, things + local]) or things + local)
            add(f"    {line}", told)
            if told or r.random() < 0.7:
                add('    __asm__ volatile("" : : : "memory");')
        dead = [h for h in heap if not h.live and h.set]
        if dead and r.random() < 0.5:
            h = r.choice(dead)
            add("    " + asks(r, h, r.choice(sorted(h.set))), "use-after-free")
        if things and r.random() < 0.06:
            h = r.choice(things)
            add(f"    free({h.name});")
            h.live = False
        add("}")
    start = " ".join(f"{h.name} = made(sizeof *{h.name});" for h in heap)
    end = " ".join(f"f{n}();" for n in range(FUNCTIONS))
    return "".join(parts) + f"int main(void) {{ {start} {end} return 0; }}\n", wanted


def told(findings):
    found = set()
    for f in findings:
        if f["kind"] not in ("leak", "descriptor-leak"):
            own = next((s for s in f["stack"] if s["own"] and s["line"]), None)
            origin = f.get("origin", {})
            name = origin.get("variable") or origin.get("from") or f["kind"]
            found.add((own and own["line"], name))
    return found


def describe(lines, wanted, found):
    return [f"{'missed' if x in wanted else 'more'}: {x[1]}: {x[0]} {lines[x[0] - 1] if x[0] else ''}"
            for x in sorted(found ^ wanted, key=str)]


compare(COMPILERS, program, told, describe)

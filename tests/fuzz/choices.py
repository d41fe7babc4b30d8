"""Random functions with branches over bytes of which some bits are undefined, compiled in many
ways: where their result varies with those bits it must be undefined, or something told.
choices.py TONDO [SEEDS] [FIRST]"""
import random

from ways import COMPARES, FUNCTIONS, HEAD, NUMBERS, TYPES, check, start, tail

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -march=haswell", "clang -O0", "clang -O1",
             "clang -O2"]
FIELDS = ["s.kind", "s.place", "s.depth", "s.rest"]
STRUCT = "struct fields { unsigned kind : 3, place : 7; int depth : 9; uint64_t rest : 40; };\n"
RESULT = "(uint64_t)(v0 + v1 * 3 + v2 * 5 + v3 * 7 + (s.kind ^ s.depth) + s.rest * s.place)"


def value(r, depth):
    kind = r.randrange(17) if depth > 0 else 16
    if kind < 6:
        return f"({value(r, depth - 1)} {r.choice('+-*&|^&|')} {value(r, depth - 1)})"
    if kind == 6:
        return f"({value(r, depth - 1)} {r.choice(['<<', '>>'])} {r.randrange(8)})"
    if kind == 7:
        return f"({condition(r, depth - 1)} ? {value(r, depth - 1)} : {value(r, depth - 1)})"
    if kind == 8:
        return f"(({r.choice(TYPES)}){value(r, depth - 1)})"
    if kind == 9:
        return f"({condition(r, depth - 1)})"
    if kind == 10:
        return f"(~{value(r, depth - 1)})"
    if kind == 11:
        return f"({value(r, depth - 1)} {r.choice('/%')} {r.choice([3, 7, 10, 16, 255])})"
    if kind == 12:
        return f"(int64_t)({value(r, depth - 1)} * {r.choice(['0.5', '1.25f', '3.0'])})"
    if kind == 13 and r.made:
        return f"(uint32_t)r{r.randrange(r.made)}(a + {r.randrange(2)})"
    if kind == 14:
        return r.choice(FIELDS)
    return r.choice(["v%d" % r.randrange(4)] * 3 + [str(r.choice(NUMBERS))] + ["a[%d]" % r.randrange(8)] * 2)


def condition(r, depth):
    kind = r.randrange(8)
    if kind < 4:
        return f"({value(r, depth - 1)} {r.choice(COMPARES)} {value(r, depth - 1)})"
    if kind == 4:
        return f"({value(r, depth - 1)} & {1 << r.randrange(8)})"
    if kind == 5 and depth > 0:
        return f"({condition(r, depth - 1)} {r.choice(['&&', '||'])} {condition(r, depth - 1)})"
    return ("(!%s)" if kind == 6 else "%s") % value(r, depth - 1)


def statement(r, depth):
    kind = r.randrange(10) if depth > 0 else 0
    if kind == 9:
        return f"{r.choice(FIELDS)} {r.choice(['=', '+=', '^='])} {value(r, 2)};"
    if kind < 3:
        return f"v{r.randrange(4)} {r.choice(['=', '+=', '^=', '|=', '&=', '-='])} {value(r, 2)};"
    if kind == 3:
        return f"if ({condition(r, 2)}) {{ {statement(r, depth - 1)} }} else {{ {statement(r, depth - 1)} }}"
    if kind == 4:
        return f"if ({condition(r, 2)}) {{ {statement(r, depth - 1)} }}"
    if kind == 5:
        return f"if ({condition(r, 2)}) return {value(r, 2)};"
    if kind == 6:
        ways = [statement(r, depth - 1) for _ in range(3)]
        return (f"switch ({value(r, 1)} & 3) {{ case 0: {ways[0]} break; case 1: {ways[1]} break; "
                f"default: {ways[2]} }}")
    if kind == 7:
        return (f"for (int i = 0; i < {r.randrange(2, 5)}; i++) {{ {statement(r, depth - 1)} "
                f"if ({condition(r, 1)}) break; }}")
    return statement(r, depth - 1) + " " + statement(r, depth - 1)


def program(seed):
    r = random.Random(seed)
    text = [HEAD, STRUCT]
    for k in range(FUNCTIONS):
        r.made = k
        text.append(f"static __attribute__((noinline)) uint64_t r{k}(const uint8_t *a) {{\n")
        text += [f"    {start(r) % f'v{v}'}\n" for v in range(4)]
        text.append("    struct fields s;\n    memcpy(&s, a, sizeof s);\n")
        text += [f"    {statement(r, 2)}\n" for _ in range(r.randrange(1, 5))]
        text.append(f"    return {RESULT};\n}}\n")
        text.append(f"static void f{k}(const uint8_t *a, uint8_t *to) {{\n"
                    f"    uint64_t v = r{k}(a);\n    memcpy(to, &v, sizeof v);\n}}\n")
    return "".join(text) + tail(8)


check(COMPILERS, program)

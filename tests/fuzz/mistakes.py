"""Random accesses to random blocks, half of them wrong and each in a line of its own, compiled
in many ways: exactly the wrong ones must be told, by kind and line.
mistakes.py TONDO [SEEDS] [FIRST]"""
import random

from programs import compare

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -mavx2", "clang -O0", "clang -O2",
             "clang -O3 -mavx2"]
SIZES = [1, 2, 3, 5, 7, 8, 9, 12, 15, 16, 17, 24, 31, 32, 33, 40, 63, 64, 65, 100, 127, 128, 129, 200,
         255, 256, 300, 511, 513, 1000, 1024, 4000, 4096, 5000, 70000]
NEAR = 16  # bytes beside a block that never belong to another
STEPS = 40
HEAD = """#include <emmintrin.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/uio.h>
#include <unistd.h>
#define APART __attribute__((noinline, noclone))
#define hide(p) __asm__ volatile("" : "+r"(p) : : "memory")
struct s3 { char c[3]; }; struct s12 { int a, b, c; }; struct s24 { long a, b, c; };
struct s40 { char c[40]; };
static volatile long sink;
static char other[4096], text[2048];
static int null, zeros;
"""
MAKERS = {"malloc": "{b} = malloc({n});", "calloc": "{b} = calloc(1, {n});",
          "realloc": "{b} = realloc(0, {n});", "aligned": "{b} = aligned_alloc(64, {n});",
          "posix": "void *p; posix_memalign(&p, 128, {n}); {b} = p;",
          "strdup": "memset(text, 'q', {n} - 1); text[{n} - 1] = 0; {b} = strdup(text);"}
# of so many bytes: statement with {p}, whether it writes
LIBRARY = [("memset({p}, 1, {n});", True), ("memcpy({p}, other, {n});", True),
           ("volatile int n = {n}; memcpy({p}, other, n);", True),
           ("memmove(other, {p}, {n});", False), ("read(zeros, {p}, {n});", True),
           ("write(null, {p}, {n});", False),
           ("struct iovec v; v.iov_base = {p}; v.iov_len = {n}; writev(null, &v, 1);", False),
           ("volatile int n = {n}; for (int i = 0; i < n; i++) ({p})[i] = other[i];", True),
           ("volatile int n = {n}; long s = 0; for (int i = 0; i < n; i++) s += ({p})[i]; sink += s;",
            False)]
TYPES = {"char": 1, "short": 2, "int": 4, "long": 8, "float": 4, "double": 8, "struct s3": 3,
         "struct s12": 12, "struct s24": 24, "vector": 16, "struct s40": 40}


class Block:
    def __init__(self, number, size, filled):
        self.name, self.size, self.filled, self.live = f"b{number}", size, filled, True


def access(r, kind):
    """A statement with {p}, its size, whether it writes."""
    if kind == "library":
        text, writes = r.choice(LIBRARY)
        size = r.choice([1, 3, 8, 13, 16, 30, 64, 100])
        return text.replace("{n}", str(size)), size, writes
    name, size = r.choice(list(TYPES.items()))
    if kind == "load":
        if name == "vector":
            text = "__m128i v = _mm_loadu_si128((void *)({p})); _mm_storeu_si128((void *)other, v);"
        elif name.startswith("struct"):
            text = f"{name} v = *({name} *)({{p}}); memcpy(other, &v, sizeof v);"
        else:
            text = f"{name} v = *(volatile {name} *)({{p}}); sink += (long)v;"
        return text, size, False
    if name == "vector":
        return "_mm_storeu_si128((void *)({p}), _mm_set1_epi8(1));", size, True
    if name.startswith("struct"):
        return f"*({name} *)({{p}}) = *({name} *)text;", size, True
    return f"*(volatile {name} *)({{p}}) = 1;", size, True


def program(seed):
    r = random.Random(seed)
    functions, blocks, wanted = [], [], set()

    def line(text, kind=None):
        functions.append(f'static APART void f{len(functions)}(void) '
                         f'{{ __asm__ volatile("# {len(functions)}"); {text} }}')
        if kind:
            wanted.add((len(functions), kind))

    for _ in range(STEPS):
        live, dead = [b for b in blocks if b.live], [b for b in blocks if not b.live]
        way = r.random()
        if way < 0.2 or not live:
            maker = r.choice(list(MAKERS))
            size = r.choice([n for n in SIZES if maker != "strdup" or n < 2000])
            blocks.append(Block(len(blocks), size, maker in ("calloc", "strdup")))
            line(MAKERS[maker].format(b=blocks[-1].name, n=size))
            if not blocks[-1].filled and r.random() < 0.8:
                line(f"memset({blocks[-1].name}, 65, {size});")
                blocks[-1].filled = True
        elif way < 0.26:
            b = r.choice(live)
            line(f"free({b.name});")
            b.live = False
        elif way < 0.3:
            b = r.choice(live)
            if b.filled:
                b.size = r.choice([1, 8, 20, 64, 100, 500, 3000])
                line(f"{b.name} = realloc({b.name}, {b.size}); memset({b.name}, 66, {b.size});")
        elif way < 0.33 and dead:
            line(f"free({r.choice(dead).name});", "double-free")
        elif way < 0.36:
            b, off = r.choice(live), r.choice([1, 4, 8, 16])
            if b.size > off:
                line(f"free({b.name} + {off});", "invalid-free")
        else:
            stale = dead and r.random() < 0.25
            b = r.choice(dead if stale else live)
            text, size, writes = access(r, r.choice(["load", "load", "store", "store", "library"]))
            if not writes and not b.filled:
                continue
            outside = not stale and r.random() < 0.5
            if outside and r.random() < 0.5:
                off = -r.randrange(1, NEAR + 1)
            elif outside:
                off = b.size - size + r.randrange(1, NEAR + 1)
                if off < 0 or off > b.size + NEAR - 1:
                    continue
            elif b.size >= size:
                off = r.randrange(0, b.size - size + 1)
            else:
                continue
            kind = ("use-after-free" if stale else None if not outside else
                    "out-of-bounds-write" if writes else "out-of-bounds-read")
            line(f"char *p = {b.name}; hide(p); " + text.replace("{p}", f"p + ({off})"), kind)
    declared = "".join(f"static char *{b.name};\n" for b in blocks)
    start = (HEAD + declared).count("\n")
    calls = "".join(f"    f{n}();\n" for n in range(len(functions)))
    main = '    null = open("/dev/null", O_WRONLY);\n    zeros = open("/dev/zero", O_RDONLY);\n'
    return (HEAD + declared + "\n".join(functions) + "\nint main(void) {\n" + main + calls +
            "    return 0;\n}\n", {(n + start, kind) for n, kind in wanted})


def told(findings):
    found = set()
    for f in findings:
        if f["kind"] not in ("leak", "descriptor-leak"):
            own = next((s for s in f["stack"] if (s["function"] or "").startswith("f") and
                        s["line"] and s["own"]), None)
            found.add((own and own["line"], f["kind"]))
    return found


def describe(lines, wanted, found):
    return [f"{'missed' if x in wanted else 'more'}: {x[1]}: {x[0]} {lines[x[0] - 1] if x[0] else ''}"
            for x in sorted(found ^ wanted, key=str)]


compare([f"{c} -fno-builtin" for c in COMPILERS], program, told, describe)

"""What the generators of random programs share: each program has an answer that is known, is
compiled in many ways, and must get just that answer."""
import json
import os
import pathlib
import subprocess
import sys
import tempfile

COMPILERS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3 -mavx2", "clang -O0", "clang -O1",
             "clang -O2", "clang -O3 -mavx2"]
TYPES = ["int", "unsigned", "float", "long", "double"]
SOURCES = 6
HEAD = """#include <stdlib.h>
#include <string.h>
#define APART __attribute__((noinline))
static volatile int sink;
#define hide(p) __asm__ volatile("" : : "r"(p) : "memory")
static APART void seen(void) { sink++; }
static APART void move(void *to, const void *from, size_t size) { memcpy(to, from, size); }
""" + "".join(f"static APART void *source{k}(void) {{ void *p = malloc({16 + 8 * k}); hide(p); return p; }}\n"
              for k in range(SOURCES))


def arguments():
    """SCRIPT TONDO [SEEDS] [FIRST]: the tondo program, the seeds."""
    seeds, first = int((sys.argv[2:] or [5])[0]), int((sys.argv[3:] or [1])[0])
    return sys.argv[1], range(first, first + seeds)


def compiled(here, compiler, text):
    """With TICKS in the environment the program gets a signal every so many microseconds."""
    if "TICKS" in os.environ:
        header = pathlib.Path(__file__).resolve().parent / "ticks.h"
        compiler += f" -DTICKS={os.environ['TICKS']} -include {header}"
    name = "p.cc" if "++" in compiler else "p.c"
    (here / name).write_text(text)
    subprocess.run(f"{compiler} -g -w {name} -o p", shell=True, cwd=here, check=True)


def findings(here, tondo):
    """Of the program compiled last."""
    subprocess.run([tondo, "run", "-q", "--findings-status", "0", "-r", "json:found", "./p"], cwd=here,
                   stderr=subprocess.DEVNULL)
    return json.loads((here / "found").read_text())["findings"]


class Wanted(dict):
    """Lines, and the names that what is told there may be from: variables, else heap or stack."""

    def __eq__(self, found):
        return self.keys() == found.keys() and all(found[line] <= self[line] for line in self)

    def __ne__(self, found):
        return not self == found


def told_origins(findings):
    """Of each line that something is told at; to be compared with Wanted."""
    all = {}
    for f in findings:
        if f["kind"] != "leak":
            origin = f.get("origin", {})
            name = origin.get("variable") or origin.get("from") or f["kind"]
            all.setdefault(f["stack"][0]["line"], set()).add(name)
    return all


def describe_origins(lines, wanted, found):
    for n in sorted(wanted.keys() | found.keys()):
        if not found.get(n, set()) <= wanted.get(n, set()) or (n in wanted and n not in found):
            yield f"{n} {lines[n - 1]}: {sorted(wanted.get(n, []))}, told {sorted(found.get(n, []))}"


def compare(compilers, program, told, describe):
    """program(seed): the text and what is wanted; told(findings): the same of a run;
    describe(text, wanted, found): lines about a difference. Exits."""
    tondo, seeds = arguments()
    good = bad = 0
    with tempfile.TemporaryDirectory() as folder:
        here = pathlib.Path(folder)
        for seed in seeds:
            text, wanted = program(seed)
            for compiler in compilers:
                compiled(here, compiler, text)
                found = told(findings(here, tondo))
                good += found == wanted
                if found != wanted:
                    bad += 1
                    print(f"seed {seed}, {compiler}:", *describe(text.split("\n"), wanted, found),
                          sep="\n    ")
    print(f"{good} passed, {bad} failed")
    sys.exit(bad > 0)

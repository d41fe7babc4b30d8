"""What choices.py, places.py and the like share: programs of random functions over bytes of which some bits
are undefined; where a result varies with those bits it must be undefined, or something told."""
import os
import pathlib
import random
import subprocess
import sys
import tempfile

from programs import arguments, compiled

FUNCTIONS, ROUNDS = 25, 40
TYPES = ["uint8_t", "int8_t", "uint16_t", "int16_t", "uint32_t", "int32_t", "uint64_t", "int64_t"]
NUMBERS = [0, 1, 2, 3, 7, 8, 15, 16, 100, 127, 128, 255, 256, 1000]
COMPARES = ["==", "!=", "<", ">", "<=", ">="]
HEAD = f"""#define _GNU_SOURCE
#include "{pathlib.Path(__file__).resolve().parent.parent}/shadow/ways.h"
#include <math.h>
#include <stdio.h>
"""
TAIL = """
static void (*const all[])(const uint8_t *, uint8_t *) = {%s};
static size_t run(const void *which) {
    all[*(const unsigned *)which](in, out);
    return %d;
}
int main(void) {
    for (unsigned k = 0; k < sizeof all / sizeof *all; k++)
        for (int round = 0; round < %d; round++) {
            bool told;
            int missed = missed_ways(run, &k, %d, &told);
            if (missed)
                printf("f%%u: %%d bytes vary and are said to be defined, or undefined by others\\n", k, missed);
        }
    return 0;
}
"""


def results(names, size, rounds, used):
    """Runs functions that take the bytes, of which so many are used, and where their result of
    `size` bytes goes."""
    return TAIL % (", ".join(names), size, rounds, used)


def tail(size, functions=FUNCTIONS, rounds=ROUNDS):
    return results([f"f{k}" for k in range(functions)], size, rounds, used=20)


def start(r):
    """What a variable begins with."""
    kind = r.choice(TYPES)
    a, b = r.randrange(8), r.randrange(8)
    text = r.choice([f"a[{a}]", f"(a[{a}] | a[{b}] << 8)", "(a[0] | a[1] << 8 | a[2] << 16)"])
    return f"{kind} %s = ({kind}){text};"


def functions(others, variables, result, size, statement, count=FUNCTIONS, rounds=ROUNDS):
    """Programs of functions that begin with such variables and end with such a result."""
    def program(seed):
        r = random.Random(seed)
        text = [HEAD, others]
        for k in range(count):
            text.append(f"static __attribute__((noinline)) void f{k}(const uint8_t *a, uint8_t *o) {{\n")
            text += [f"    {start(r) % f'v{v}'}\n" for v in range(4)]
            text.append(variables)
            text += [f"    {{ {statement(r, 2)} }}\n" for _ in range(r.randrange(1, 6))]
            text.append(result + "}\n")
        return "".join(text) + tail(size, count, rounds)
    return program


def check(compilers, program, origins=True):
    """Origins are not asked where bits of one byte come from several, and not of AVX-512."""
    tondo, seeds = arguments()
    good = bad = 0
    with tempfile.TemporaryDirectory() as folder:
        here = pathlib.Path(folder)
        for seed in seeds:
            text = program(seed)
            for compiler in compilers:
                asks = "-DASKS_ORIGINS " if origins and "v4" not in compiler else ""
                compiled(here, f"{compiler} {asks}-fwrapv -fno-strict-aliasing -ffp-contract=off", text)
                run = subprocess.run([tondo, "run", "-q", "--findings-status", "0", "./p"], cwd=here,
                                     env=dict(os.environ, TONDO_TEST_DOOR="1"), capture_output=True,
                                     text=True)
                failed = run.returncode != 0 or run.stdout != ""
                good += not failed
                bad += failed
                if failed:
                    print(f"seed {seed}, {compiler}: {run.stdout.splitlines()[:1] or run.returncode}")
    print(f"{good} passed, {bad} failed")
    sys.exit(bad > 0)

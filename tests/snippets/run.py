"""Lines of C, one program each, under Tondo.
kernel.txt, library.txt: what a line does with values that were never set is `told` or `quiet`;
the same where the line has run before with all of them set. held.txt: values that were never
set, and some that were, are kept in registers while the line runs, and asked for behind it.
run.py TONDO [COMPILER AND OPTIONS]..."""
import os
import re
import subprocess
import sys
import tempfile
from concurrent.futures import ThreadPoolExecutor

HERE = os.path.dirname(os.path.abspath(__file__))
HEAD = f'#include "{HERE}/head.h"\n'
WARM = """#define U U_never
static int left = 12;
static void *U_or_set(size_t n) { return left ? memset(U_never(n), 0, n) : U_never(n); }
#undef U
#define U U_or_set
static void once(void);
static APART void go(void) { for (; left; left--) once(); once(); }
static APART void once(void) {
/*HERE*/ %s
}
"""
HELD = """static APART void held(int *a, double *d, char *s, int *set) {
    int v1 = a[0], v2 = a[1], v3 = a[2], z1 = set[0], z2 = set[1];
    long v4 = *(long *)(a + 4);
    double d1 = d[0], d2 = d[1], z3 = set[2];
    char c1 = s[0];
    __asm__ volatile("" : "+r"(v1), "+r"(v2), "+r"(v4), "+r"(z1), "+r"(z2), "+x"(d1), "+x"(z3));
    %s
    if (v1 > 3) sink = 0; /*told*/
    if (v2 > 3) sink = 0; /*told*/
    if (v3 > 3) sink = 0; /*told*/
    if (v4 > 3) sink = 0; /*told*/
    if (d1 > 3) sink = 0; /*told*/
    if (d2 > 3) sink = 0; /*told*/
    if (c1 > 3) sink = 0; /*told*/
    if (z1 > 3 || z2 > 3 || z3 > 3) sink = 0;
}
static APART void go(void) {
    static int set[3] = {1, 2, 3};
    int *kept = set;
    hide(kept);
    held(U(32), U(16), U(2), kept);
}
"""


def told_lines(tondo, command, text, folder):
    """Line numbers of uninitialized values; None and why where there is anything else."""
    source, program, report = (os.path.join(folder, n) for n in ("p.c", "p", "report"))
    with open(source, "w") as f:
        f.write(text)
    built = subprocess.run(f"{command} -g -w -mavx2 {source} -o {program} -lm -lpthread -ldl", shell=True,
                           capture_output=True, text=True)
    if built.returncode:
        return None, built.stderr[:300]
    done = subprocess.run(["timeout", "-s", "KILL", "120", tondo, "run", "-r", "line:" + report,
                           "--findings-status", "0", program], cwd=folder,
                          stdin=subprocess.DEVNULL, capture_output=True)
    if done.returncode or not os.path.exists(report):
        return None, f"status {done.returncode}"
    with open(report) as f:
        lines = [line for line in f if "leak" not in line]
    other = [line for line in lines if "uninitialized-value" not in line]
    if other:
        return None, other[0].strip()
    return [int(n) for line in lines for n in re.findall(r"p\.c:(\d+):", line)] or [0] * len(lines), ""


def check(job):
    tondo, command, kind, code = job
    with tempfile.TemporaryDirectory() as folder:
        if kind == "held":
            text = HEAD + HELD.replace("%s", code)
            wanted = {n for n, line in enumerate(text.split("\n"), 1) if "/*told*/" in line}
            told, why = told_lines(tondo, command, text, folder)
            if told is not None and set(told) != wanted:
                why = f"told at {sorted(set(told))}, not {sorted(wanted)}"
            return why and f"{command}: {why}: {code}"
        for text in (HEAD + "static APART void go(void) {\n%s\n}\n".replace("%s", code),
                     HEAD.replace("#include", "#define U U_never\n#include") + WARM.replace("%s", code)):
            told, why = told_lines(tondo, command, text, folder)
            if told is not None and bool(told) != (kind == "told"):
                why = "told" if told else "not told"
            if why:
                return f"{command}: {why}: {code}"
    return ""


def main():
    tondo, commands = sys.argv[1], sys.argv[2:] or ["gcc -O0", "gcc -O2", "clang -O2"]
    lines = []
    for name in ("kernel", "library", "held"):
        with open(os.path.join(HERE, name + ".txt")) as f:
            for line in f.read().splitlines():
                lines.append(("held", line) if name == "held" else tuple(line.split(None, 1)))
    jobs = [(tondo, command, kind, code) for kind, code in lines for command in commands]
    failed = 0
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        for k, wrong in enumerate(pool.map(check, jobs), 1):
            if wrong:
                failed += 1
                print(wrong, flush=True)
            if sys.stderr.isatty():
                print(f"\r{k} of {len(jobs)}", end="", file=sys.stderr)
    print(f"{len(jobs) - failed} passed, {failed} failed")
    return failed > 0


if __name__ == "__main__":
    sys.exit(main())

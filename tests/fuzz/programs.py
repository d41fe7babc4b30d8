"""What the generators of random programs share: each program has an answer that is known, is
compiled in many ways, and must get just that answer."""
import json
import pathlib
import subprocess
import sys
import tempfile


def arguments():
    """SCRIPT TONDO [SEEDS] [FIRST]: the tondo program, the seeds."""
    seeds, first = int((sys.argv[2:] or [5])[0]), int((sys.argv[3:] or [1])[0])
    return sys.argv[1], range(first, first + seeds)


def compiled(here, compiler, text):
    (here / "p.c").write_text(text)
    subprocess.run(f"{compiler} -g -w p.c -o p", shell=True, cwd=here, check=True)


def findings(here, tondo):
    """Of the program compiled last."""
    subprocess.run([tondo, "run", "-q", "--findings-status", "0", "-r", "json:found", "./p"], cwd=here,
                   stderr=subprocess.DEVNULL)
    return json.loads((here / "found").read_text())["findings"]


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

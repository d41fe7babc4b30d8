"""Damaged input: sessions, rule files and the ledger itself. Tondo may refuse, in one
line, but neither crash nor hang. run.py TONDO SCRIBBLE ROUNDS [SEED]"""
import os
import random
import re
import subprocess
import sys
import tempfile

tondo, scribble, rounds = sys.argv[1], sys.argv[2], int(sys.argv[3])
seed = int(sys.argv[4]) if len(sys.argv) > 4 else 1
folder = tempfile.mkdtemp(prefix="tondo-fuzz-")
os.chdir(folder)
os.environ["XDG_STATE_HOME"] = folder + "/state"
rng = random.Random(seed)
passed = failed = 0


def survives(what, command, limit=60):
    global passed, failed
    try:
        r = subprocess.run(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, timeout=limit)
        good = 0 <= r.returncode < 128
        why = "status %d" % r.returncode
    except subprocess.TimeoutExpired:
        good, why = False, "hangs"
    if good:
        passed += 1
    else:
        failed += 1
        print(what, why, " ".join(command), file=sys.stderr)
    return good


def damage(data):
    data = bytearray(data)
    for _ in range(rng.choice([1, 1, 2, 5, 40])):
        if not data:
            break
        at = rng.randrange(len(data))
        how = rng.randrange(6)
        if how == 0:
            data[at] = rng.randrange(256)
        elif how == 1:
            del data[at:at + rng.randrange(1, 60)]
        elif how == 2:
            data[at:at] = bytes(rng.choice([b'"', b"{", b"[", b"null", b"-1", b"99999999999999999999",
                                            b"1e999", b"\\u0000", b"\xff", b" < ", b"**", b"}", b"#"]))
        elif how == 3:
            other = rng.randrange(len(data))
            data[at:at] = data[other:other + rng.randrange(1, 200)]
        elif how == 4:
            data[at:at + 1] = b"%d" % rng.choice([0, -1, 2**31, 2**63, 2**64 - 1])
        else:
            del data[at:]
    return bytes(data)


# as run.sh does, but a finding is enough to start from
subprocess.run([tondo, "run", "-q", "-o", "good.json", "-o", "good.zst", scribble, "1", "0"],
               stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
plain, packed = open("good.json", "rb").read(), open("good.zst", "rb").read()
rules = b'''suppress "a b" {
  kind = {leak.reachable, use-after-free}
  stack = "* < main@lib*.so < :f.c:12 < **"
  reason = "x"
  expires = "2027-06-30"
  blocks = 12
}
'''
for i in range(rounds):
    open("bad.json", "wb").write(damage(packed if i % 5 == 0 else plain))
    forms = rng.choice(["text", "html:h", "sarif:s", "junit:j", "line", "json:k"])
    kept = survives("session", [tondo, "show", "--no-pager", "--reachable", "-r", forms, "bad.json"])
    survives("tree", [tondo, "show", "--tree", "bad.json"])
    if not kept:
        os.rename("bad.json", "crash-%d.json" % i)
    open("bad.rules", "wb").write(damage(rules))
    if not survives("rules", [tondo, "rules", "check", "bad.rules"]):
        os.rename("bad.rules", "crash-%d.rules" % i)
for i in range(max(1, rounds // 10)):
    survives("ledger", [tondo, "run", "-q", "--findings-status", "0", "-r", "json:out.json",
                        scribble, str(seed * 1000 + i)], 120)
# the program's own symbols and debugging information
sections = subprocess.run(["readelf", "-SW", scribble], capture_output=True, text=True).stdout
places = [(int(m[1], 16), int(m[2], 16)) for m in
          re.finditer(r"\] \.(?:debug_\w+|symtab|strtab|eh_frame)\s+\w+\s+\w+ (\w+) (\w+)", sections)]
program = open(scribble, "rb").read()
for i in range(rounds):
    data = bytearray(program)
    for _ in range(rng.choice([1, 3, 20, 200])):
        offset, size = rng.choice(places)
        if size:
            data[offset + rng.randrange(size)] = rng.randrange(256)
    open("damaged", "wb").write(bytes(data))
    os.chmod("damaged", 0o755)
    if not survives("symbols", [tondo, "run", "-q", "--findings-status", "0", "-r", "json:out.json",
                                folder + "/damaged", "1", "0"], 60):
        os.rename("damaged", "crash-%d.elf" % i)
print(passed, "passed,", failed, "failed", "" if not failed else "(in %s)" % folder)
sys.exit(failed != 0)

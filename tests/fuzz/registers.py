"""Random functions in assembly that keep values in registers across calls wherever the called
function leaves them alone, as compilers do that see its code, and hand arguments and results over as
the psABI has it, over registers of which some bits are undefined: where a register varies with those
bits in the end it must be undefined, or something told. Every second program is one of AVX-512,
where there is such a processor. registers.py TONDO [SEEDS] [FIRST]"""
import itertools
import pathlib
import random
import re

from ways import HEAD, check, results

ARGUMENTS = ["rsi", "rdx", "rcx", "r8", "r9"]  # RDI is where the bytes are
KEPT = ["rbx", "r12", "r13", "r14"]
GENERAL = ["rax", *ARGUMENTS, "r10", "r11", *KEPT, "rbp"]
VECTORS = [f"xmm{i}" for i in range(32)]
MASKS = [f"k{i}" for i in range(1, 8)]
HAS_AVX512 = re.search(r"\bavx512bw\b", pathlib.Path("/proc/cpuinfo").read_text())
RESULTS = {"rax", "rdx", "xmm0", "xmm1"}
LOWER = {r: "e" + r[1:] if r.isalpha() else r + "d" for r in GENERAL}
FULL = {low: r for r, low in LOWER.items()}
FULL.update((f"{size}mm{i}", f"xmm{i}") for size in "yz" for i in range(32))
CALLED, FUNCTIONS, ROUNDS = 12, 25, 30
DECIDES, COUNTS = 500, 508  # bytes that are always defined
SIZE = 8 * len(GENERAL) + 64 * len(VECTORS) + 8 * len(MASKS)


class Function:
    """Its code; general, vector and mask registers it may name; slots of its own from RSP + base."""

    def __init__(self, r, labels, general, vectors, masks, callees, slots=0, base=0):
        self.r, self.labels, self.general = r, labels, general
        self.vectors, self.masks = vectors, masks
        self.callees, self.slots, self.base = callees, slots, base

    def slot(self):
        return f"{self.base + 8 * self.r.randrange(self.slots)}(%rsp)"

    def move(self):
        r, a, b, c = self.r, *self.r.choices(self.general, k=3)
        place = f"{8 * r.randrange(40)}(%rdi)"
        lines = [f"mov %{a}, %{b}"] * 3 + [
            f"mov %{LOWER[a]}, %{LOWER[b]}", f"add %{a}, %{b}", f"lea (%{a},%{b},2), %{c}",
            f"xor %{LOWER[a]}, %{LOWER[a]}", f"movl ${r.randrange(99)}, %{LOWER[a]}",
            f"mov {place}, %{a}", f"xchg %{a}, %{b}"]
        if self.slots:
            lines += [f"mov %{a}, {self.slot()}", f"mov {self.slot()}, %{a}"]
        x, y, z = r.choices(self.vectors, k=3)
        return r.choice(lines + (self.wide_moves(a, x, y, z, place) if self.masks else
                                 self.moves(a, x, y, place)))

    def moves(self, a, x, y, place):
        return [f"movq %{a}, %{x}", f"movq %{x}, %{a}", f"movaps %{x}, %{y}", f"paddd %{x}, %{y}",
                f"pxor %{x}, %{x}", f"movss %{x}, %{y}", f"movups {place}, %{x}"]

    def wide_moves(self, a, x, y, z, place):
        k, n = self.r.choices(self.masks, k=2)
        size, quarter = self.r.choice(["x", "y", "z"]), self.r.randrange(4)
        x, y, z = self.r.choices(self.vectors, k=3)
        u, v, w = (size + name[1:] for name in (x, y, z))
        lines = self.moves(a, x, y, place) if int(x[3:]) < 16 and int(y[3:]) < 16 else []
        return lines + [
            f"vmovdqa64 %{u}, %{v}", f"vpaddd %{u}, %{v}, %{w}", f"vpxorq %{x}, %{x}, %{x}",
            f"vmovdqu8 %{u}, %{v} {{%{k}}}", f"vmovdqu16 {place}, %{u} {{%{k}}} {{z}}",
            f"vmovdqu64 {place}, %{u}", f"vpcmpgtd %{u}, %{v}, %{k}", f"vpmovm2b %{k}, %{u}",
            f"vextracti64x2 ${quarter}, %z{x[1:]}, %{y}", f"vpbroadcastq %{x}, %{v}",
            f"vinserti64x2 ${quarter}, %{x}, %z{y[1:]}, %z{z[1:]}", f"vmovss %{x}, %{y}, %{z}",
            f"vmovq %{a}, %{x}", f"vmovq %{x}, %{a}", f"kmovq %{a}, %{k}", f"kmovq %{k}, %{a}",
            f"kmovd %{LOWER[a]}, %{k}", f"korq %{k}, %{n}, %{n}", f"kshiftrq $5, %{k}, %{n}"]

    def cleared(self, register):
        if register in MASKS:
            return f"kxorq %{register}, %{register}, %{register}"
        if register in VECTORS and self.masks:
            return f"vpxorq %{register}, %{register}, %{register}"
        if register in VECTORS:
            return f"pxor %{register}, %{register}"
        return f"xor %{LOWER[register]}, %{LOWER[register]}"

    def call(self):
        """What the function changes and does not hand back means nothing behind it."""
        k = self.r.randrange(len(self.callees))
        return [f"call f{k}"] + [self.cleared(x) for x in sorted(self.callees[k] - RESULTS)]

    def body(self, count, depth=0):
        lines = []
        for _ in range(count):
            kind = self.r.randrange(20)
            label = f".Lregisters{next(self.labels)}"
            if kind < 3 and self.callees and depth < 2:
                lines += self.call()
            elif kind == 3 and depth < 2:
                lines += [f"testb ${1 << self.r.randrange(3)}, {DECIDES}(%rdi)",
                          f"{self.r.choice(['je', 'jne'])} {label}", *self.body(3, depth + 1), f"{label}:"]
            elif kind == 4 and depth == 0:
                lines += [f"movl $3, {COUNTS}(%rdi)", f"{label}:", *self.body(3, 2),
                          f"decl {COUNTS}(%rdi)", f"jne {label}"]
            elif kind == 5 and self.base >= 0:
                a, b = self.r.choices(self.general, k=2)
                self.base += 8
                lines += [f"push %{a}", self.move(), f"pop %{b}"]
                self.base -= 8
            else:
                lines.append(self.move())
        return lines


def written(line, callees):
    """The registers that it changes."""
    if line.startswith("call"):
        return callees[int(line[6:])]
    names = re.findall(r"%(\w+)(?!})", re.sub(r" {.*", "", line))
    if line.startswith(("push", "test", "dec", "j", ".")) or line.endswith(")") or not names:
        return set()
    return {FULL.get(n, n) for n in (names if line.startswith("xchg") else names[-1:])}


def function(r, labels, k, callees, wide):
    """Function k, and which registers it changes."""
    style = r.choice(["pushes", "pushes", "pointer", "aligned", "room", "red zone"])
    kept = r.sample(KEPT, r.randrange(4)) if style in ("pushes", "pointer", "room") else []
    spare = r.sample(["rax", "r10", "r11"], r.randrange(4))
    high = r.sample(VECTORS[8:32 if wide else 16], r.randrange(4))
    low = r.sample(VECTORS[:8], r.choice([3, 8]))
    slots = 0 if style == "pushes" else r.randrange(1, 6)
    f = Function(r, labels, ARGUMENTS + spare + kept, low + high, r.sample(MASKS, 2) if wide else [],
                 [] if style == "red zone" else callees, slots, -64 if style == "red zone" else 0)
    begin, end = [f"push %{x}" for x in kept], [f"pop %{x}" for x in reversed(kept)]
    if style == "room":
        begin, end = begin + [f"sub ${8 * slots}, %rsp"], [f"add ${8 * slots}, %rsp"] + end
    elif style in ("pointer", "aligned"):
        align = ["and $-64, %rsp"] if style == "aligned" else []
        begin = ["push %rbp", "mov %rsp, %rbp", *begin, *align, f"sub ${8 * slots + 64}, %rsp"]
        end = [f"lea {-8 * len(kept)}(%rbp), %rsp", *end, "pop %rbp"] if kept else ["leave"]
    inside = [f"mov %{r.choice(ARGUMENTS)}, {f.base + 8 * s}(%rsp)" for s in range(slots)]
    inside += [f"mov %{r.choice(ARGUMENTS)}, %{x}" for x in spare + kept]
    inside += [f"vmovdqa64 %z{r.choice(low)[1:]}, %z{x[1:]}" if wide else
               f"movaps %{r.choice(low)}, %{x}" for x in high]
    inside += [f"kmovq %{r.choice(ARGUMENTS)}, %{x}" for x in f.masks]
    inside += f.body(r.randrange(2, 14)) + ["nop"]
    changed = set().union(*(written(line, callees) for line in inside))
    return [f"f{k}:", *begin, *inside, *end, "ret"], changed - set(kept)


def outermost(r, labels, k, callees, wide):
    """All registers come from the bytes, and go to where the result is."""
    vectors, masks = (VECTORS, MASKS) if wide else (VECTORS[:16], [])
    f = Function(r, labels, GENERAL, vectors, masks, callees)
    begin, end = len(GENERAL) * 8, len(GENERAL) * 8 + 64 * len(VECTORS)
    lines = [f"top{k}:", *(f"push %{x}" for x in KEPT + ["rbp", "r15", "rsi"])]
    lines += [f"mov {8 * i}(%rdi), %{x}" for i, x in enumerate(GENERAL)]
    lines += [f"vmovdqu64 {8 * i}(%rdi), %z{x[1:]}" if wide else f"movups {begin + 16 * i}(%rdi), %{x}"
              for i, x in enumerate(vectors)]
    lines += [f"kmovq {8 * i}(%rdi), %{x}" for i, x in enumerate(masks)]
    for _ in range(r.randrange(1, 5)):
        lines += [f.move() for _ in range(r.randrange(4))] + f.call()
    lines += ["pop %r15", *(f"mov %{x}, {8 * i}(%r15)" for i, x in enumerate(GENERAL))]
    lines += [f"vmovdqu64 %z{x[1:]}, {begin + 64 * i}(%r15)" if wide else f"movups %{x}, {begin + 64 * i}(%r15)"
              for i, x in enumerate(vectors)]
    lines += [f"kmovq %{x}, {end + 8 * i}(%r15)" for i, x in enumerate(masks)]
    return lines + [f"pop %{x}" for x in ["r15", "rbp"] + KEPT[::-1]] + ["ret"]


def program(seed):
    r, labels, callees, lines = random.Random(seed), itertools.count(), [], [".text"]
    wide = HAS_AVX512 and seed % 2 == 0
    for k in range(CALLED):
        code, changed = function(r, labels, k, callees, wide)
        callees.append(changed)
        lines += code + [f".type f{k}, @function", f".size f{k}, . - f{k}"]
    for k in range(FUNCTIONS):
        lines += outermost(r, labels, k, callees, wide)
        lines += [f".type top{k}, @function", f".size top{k}, . - top{k}"]
    names = [f"top{k}" for k in range(FUNCTIONS)]
    return "".join([HEAD, *(f"void {n}(const uint8_t *, uint8_t *);\n" for n in names), "__asm__(\n",
                    *(f'    "{line}\\n"\n' for line in lines), ");\n",
                    results(names, SIZE, ROUNDS, used=360)])


check(["gcc -O1"], program, origins=False)

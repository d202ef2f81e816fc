"""Whether an edit that changes what is computed is ever called the same.

Small functions are made, and of each a second one with another operator, width or sign. Both are
compiled for every target here, and compared as before and after an edit. Whether they really
compute the same is found by running both on this machine. Prints for each target how many pairs
differ, in how many a reason or a state claims that they do not, and how many are named.

    python benchmarks/edits.py [--pairs 300] [--seed 1]
"""

import argparse
import ctypes
import random
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.api import compare_sources, open_source
from hot_anvil.core.build.records import COMPILED
from hot_anvil.core.diff.records import RENAMED, REORDERED, SAME, Explained
from hot_anvil.core.reasons import arithmetic, plain

BUILDS = (
    "gcc -O1", "clang-16 -O2", "gcc -Os -m32", "aarch64-linux-gnu-gcc -O2",
    "arm-none-eabi-gcc -Os -mthumb -mcpu=cortex-m4", "arm-linux-gnueabihf-gcc -O2 -marm",
    "riscv64-linux-gnu-gcc -O2", "clang-16@riscv32 -O2", "avr-gcc -Os -mmcu=atmega328p",
    "clang-16@msp430 -Os", "clang-16@nvptx64 -O2",
)  # fmt: skip
# Reasons that say that two pieces of code do the same.
CLAIMS = (plain.WRITTEN, plain.LAYOUT, plain.ALIKE, arithmetic.SHIFTS, arithmetic.POWER)
_SWAPS: dict[str, tuple[str, ...]] = {
    "+": ("-", "|", "^", "&"), "-": ("+", "^"), "*": ("+", "/"), "&": ("|", "^", "+"),
    "|": ("&", "^", "+"), "^": ("|", "&", "-"), "/": ("%", "*"), "%": ("/",),
    "<": ("<=", ">", ">="), "<=": ("<", ">"), ">": (">=", "<"), "==": ("!=",), "!=": ("==",),
    "<<": (">>",), ">>": ("<<",),
}  # fmt: skip
_TYPES = ("int32_t", "uint32_t", "int16_t", "uint16_t", "int8_t", "uint8_t")


class Edit(NamedTuple):
    """Two functions of one name: before and after an edit."""

    before: str
    after: str


def edits(count: int, seed: int) -> list[Edit]:
    """Return pairs of functions ``uint32_t fN(a, b)``."""
    rng = random.Random(seed)
    made: list[Edit] = []
    seen: set[tuple[str, str]] = set()
    while len(made) < count:
        shape = rng.choice(_SHAPES)
        one, other = shape(rng)
        if one != other and (one, other) not in seen:
            seen.add((one, other))
            made.append(Edit(one, other))
    return made


def _type(rng: random.Random) -> str:
    return rng.choice(_TYPES[:2])


def _operator(rng: random.Random) -> tuple[str, str]:
    one = rng.choice(list(_SWAPS))
    return one, rng.choice(_SWAPS[one])


def _second(rng: random.Random, operators: Sequence[str]) -> str:
    """Return a second operand that is fine for both operators."""
    if set(operators) & {"<<", ">>"}:
        return rng.choice(("3", "7", "13", "(b & 15)"))
    if set(operators) & {"/", "%"}:
        return rng.choice(("(b | 1)", "10u", "8u", "(b & 63) + 1"))
    return rng.choice(("b", "b", "5", "100", "0x0ff0"))


def _plain(rng: random.Random) -> tuple[str, str]:
    kind = _type(rng)
    one, other = _operator(rng)
    b = _second(rng, (one, other))
    c = rng.choice(("", " + a", " ^ b", " * 3u"))
    body = "return ((%s)a %s (%s)(%s))%s;"
    return tuple(body % (kind, op, kind, b, c) for op in (one, other))  # type: ignore[return-value]


def _cast(rng: random.Random) -> tuple[str, str]:
    one, other = rng.sample(_TYPES, 2)
    c = rng.choice(("", " + b", " * (b | 3)"))
    return f"return (uint32_t)({one})a{c};", f"return (uint32_t)({other})a{c};"


def _signs(rng: random.Random) -> tuple[str, str]:
    operator = rng.choice(("<", ">", "/", "%", ">>", ">="))
    b = _second(rng, (operator,))
    kinds = rng.sample(("int32_t", "uint32_t"), 2)
    return tuple(f"return (({k})a {operator} ({k})({b})) + 7u;" for k in kinds)  # type: ignore[return-value]


def _rotates(rng: random.Random) -> tuple[str, str]:
    n = rng.choice((3, 8, 13))
    turns = (f"(a << {n} | a >> {32 - n})", f"(a >> {n} | a << {32 - n})")
    c = rng.choice(("", " + b"))
    return f"return {turns[0]}{c};", f"return {turns[1]}{c};"


def _constants(rng: random.Random) -> tuple[str, str]:
    operator = rng.choice(("+", "*", "&", "^", "|", "<", "=="))
    one, other = rng.sample((1, 2, 3, 4, 7, 8, 10, 15, 16, 100, 255, 256, 1000), 2)
    return f"return (a {operator} {one}u) + b;", f"return (a {operator} {other}u) + b;"


def _swapped(rng: random.Random) -> tuple[str, str]:
    operator = rng.choice(("-", "<", ">", "<<"))
    b, a = ("(b & 15)", "(a & 15)") if operator == "<<" else ("b", "a")
    return f"return a {operator} {b};", f"return b {operator} {a};"


def _chosen(rng: random.Random) -> tuple[str, str]:
    kind = _type(rng)
    one, other = rng.choice((("<", ">"), ("<", "<="), (">", ">="), ("==", "!=")))
    ends = rng.choice((("a", "b"), ("a + 1", "b - 1"), ("3", "a")))
    return tuple(f"return ({kind})a {op} ({kind})b ? {ends[0]} : {ends[1]};" for op in (one, other))  # type: ignore[return-value]


def _loop(rng: random.Random) -> tuple[str, str]:
    one, other = rng.choice((("+=", "-="), ("+=", "^="), ("|=", "&="), ("^=", "|=")))
    inner = rng.choice(("a >> i", "a * i", "(a ^ b) + i"))
    n = rng.choice(("(b & 7)", "5", "(b & 31)"))
    body = "uint32_t s = a; for (uint32_t i = 0; i < %s; i++) s %s %s; return s;"
    return body % (n, one, inner), body % (n, other, inner)


_SHAPES: tuple[Callable[[random.Random], tuple[str, str]], ...] = (
    _plain, _plain, _plain, _cast, _signs, _rotates, _constants, _swapped, _chosen, _loop,
)  # fmt: skip


def source(made: Sequence[Edit], after: bool) -> str:
    """Return one side's source, a function a line."""
    lines = [f"typedef __{kind.upper().removesuffix('_T')}_TYPE__ {kind};" for kind in _TYPES]
    lines += [
        f"uint32_t f{k}(uint32_t a, uint32_t b) {{ {one.after if after else one.before} }}"
        for k, one in enumerate(made)
    ]
    return "\n".join(lines) + "\n"


def really_differ(made: Sequence[Edit], folder: Path) -> list[bool]:
    """Return for each pair whether some input gives another result, on this machine."""
    loaded = []
    for side in ("before", "after"):
        file, library = folder / f"{side}_run.c", folder / f"{side}.so"
        file.write_text(source(made, side == "after"))
        flags = ["-O1", "-fwrapv", "-shared", "-fPIC", "-w"]
        subprocess.run(["gcc", *flags, "-o", str(library), str(file)], check=True)
        loaded.append(ctypes.CDLL(str(library)))
    return [_differ(loaded, f"f{k}") for k in range(len(made))]


def _differ(loaded: Sequence[ctypes.CDLL], name: str) -> bool:
    functions = [getattr(one, name) for one in loaded]
    for function in functions:
        function.argtypes, function.restype = [ctypes.c_uint32] * 2, ctypes.c_uint32
    return any(functions[0](a, b) != functions[1](a, b) for a, b in _values())


def _values() -> Iterator[tuple[int, int]]:
    rng = random.Random(0)
    edges = [0, 1, 2, 3, 7, 8, 9, 100, 127, 128, 255, 256, 32767, 32768, 65535, 2**31 - 1, 2**31]
    edges += [2**32 - n for n in (1, 2, 100, 128, 32768)]
    yield from ((a, b) for a in edges for b in edges)
    yield from ((rng.getrandbits(32), rng.getrandbits(32)) for _ in range(400))


class Judged(NamedTuple):
    """What a target's diff said of all pairs."""

    build: str
    differ: int  # pairs that really differ and whose code does
    false: list[str]  # of them: said to be the same
    named: int
    kinds: Counter[str]


def judge(made: Sequence[Edit], differs: Sequence[bool], build: str, folder: Path) -> Judged | None:
    """Compare all pairs under one build; None where its compiler is not here."""
    sides = []
    for name, after in (("before", False), ("after", True)):
        file = folder / f"{name}.c"
        file.write_text(source(made, after))
        try:
            anvil = open_source(file, [build])
            (built,) = anvil.compile()
        except Exception as error:
            print(f"{build}: {error}", file=sys.stderr)
            return None
        if built.status != COMPILED:
            print(f"{build}: {built.why}", file=sys.stderr)
            return None
        sides.append(anvil)
    names = [anvil.builds[0].name for anvil in sides]
    found = compare_sources(sides[0], sides[1], (names[0], names[1]))[0]
    return _tally(made, differs, build, found.explained)


def _tally(
    made: Sequence[Edit], differs: Sequence[bool], build: str, explained: Explained
) -> Judged:
    kinds: Counter[str] = Counter()
    false = []
    count = named = 0
    states: dict[str, set[str]] = {}
    for row in explained.diff.rows:
        for part in row.parts:
            states.setdefault(part.function, set()).add(part.state)
    for k, one in enumerate(made):
        name = f"f{k}"
        if not differs[k] or name not in states:
            continue
        count += 1
        own = [reason for reason in explained.reasons if reason.function == name]
        claims = [reason.kind for reason in own if reason.kind in CLAIMS]
        if states[name] <= {SAME, RENAMED, REORDERED}:
            claims += states[name]
        if claims:
            false.append(f"{build} {name}: {claims}: {one.before}  ->  {one.after}")
        named += bool(own)
        kinds.update({reason.kind for reason in own})
    return Judged(build, count, false, named, kinds)


def main() -> int:
    """Print the table; return 1 when a pair that differs was called the same."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pairs", type=int, default=300)
    parser.add_argument("--seed", type=int, default=1)
    options = parser.parse_args()
    made = edits(options.pairs, options.seed)
    false: list[str] = []
    total = 0
    with tempfile.TemporaryDirectory() as folder:
        differs = really_differ(made, Path(folder))
        for build in BUILDS:
            found = judge(made, differs, build, Path(folder))
            if found is None:
                continue
            total += found.differ
            false += found.false
            most = ", ".join(f"{kind} {n}" for kind, n in found.kinds.most_common(6))
            print(f"{build:<48}{found.differ:>5} differ, {len(found.false)} called the same, "
                  f"{found.named} named: {most}")  # fmt: skip
    print(*false, sep="\n")
    print(f"{total} pairs that differ, {len(false)} called the same")
    return 1 if false else 0


if __name__ == "__main__":
    sys.exit(main())

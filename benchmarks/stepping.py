"""Whether loops run as their facts say: steps through functions and counts every pass.

Each function is called once, by a small program linked to the very object
whose facts are read. From the trace, every pass from a loop's start back to it
must have as many instructions as the fact says (or lie in its range, where a
pass has several paths). All passes and what runs beside them must add up to
the instructions executed; what the assembler fills in to align loops is not
counted. Needs x86-64 and the right to trace processes.

    python benchmarks/stepping.py
"""

import subprocess
import sys
import tempfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import NamedTuple

from hot_anvil.api import open_source
from hot_anvil.core.binary.image import read_symbols
from hot_anvil.core.code.records import parts_by_owner
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.passes import Pass, pass_of

ROOT = Path(__file__).parent.parent
CORPUS = ROOT / "tests" / "corpus"
BUILDS = ["gcc -O0", "gcc -O1", "gcc -O2", "gcc -O3", "clang -O0", "clang -O2", "clang -O3"]
ARRAYS = "static int a[64], c[64]; static float f[64]; static unsigned char u[64];"
# Source -> function -> a call of it, with the declaration it needs.
CALLS = {
    "levels.c": {
        "sum_levels": ("int sum_levels(const int *, int);", "sum_levels(a, 37)"),
        "lift": ("void lift(int *, const int *, int);", "lift(c, a, 37)"),
        "blend": ("void blend(int *, const int *, const int *, int);", "blend(c, a, a + 60, 37)"),
        "crossings": ("int crossings(const short *, int, int);", "crossings((short *)u, 30, 9)"),
        "divide_all": ("void divide_all(int *, int, int);", "divide_all(a, 19, 3)"),
        "triangle": ("int triangle(int);", "triangle(23)"),
        "pause_gauge": ("void pause_gauge(int);", "pause_gauge(23)"),
    },
    "gate.c": {
        "power": ("int power(int, int);", "power(3, 29)"),
        "gain": ("void gain(float *, int, float);", "gain(f, 41, 2.0f)"),
        "find_code": ("int find_code(const char *, char);", "find_code(\"quay east\", 'e')"),
        "accumulate": ("void accumulate(long *, const int *, int);", "accumulate(&l, a, 13)"),
    },
    "tide.c": {
        "nested": ("int nested(const int *, int, int);", "nested(a, 3, 17)"),
        "bit_count": ("int bit_count(unsigned);", "bit_count(0x7f0f1u)"),
        "weigh": ("unsigned weigh(const unsigned char *, unsigned long);", "weigh(u, 47)"),
        "first_quiet": ("int first_quiet(const int *, int);", "first_quiet(a + 1, 40)"),
        "smooth": ("void smooth(float *, const float *, unsigned);", "smooth(f, f + 8, 21)"),
    },
}


class Tally(NamedTuple):
    """What was counted of one function."""

    steps: int
    loops: int
    passes: int
    wrong: tuple[str, ...]


def main() -> int:
    """Step through every function under every build; return 1 if a count is not as said."""
    tallies = []
    with tempfile.TemporaryDirectory() as name:
        stepper = make_stepper(Path(name))
        for source, calls in CALLS.items():
            tallies += check_source(CORPUS / source, BUILDS, calls, stepper, print)
    steps = sum(t.steps for t in tallies)
    loops, passes = sum(t.loops for t in tallies), sum(t.passes for t in tallies)
    wrong = sum(len(t.wrong) for t in tallies)
    print(
        f"{len(tallies)} functions stepped through, {steps} instructions executed, {loops} loops, "
        f"{passes} passes: {wrong} not as their facts say"
    )
    return 1 if wrong or not passes else 0


def make_stepper(folder: Path) -> Path:
    """Compile the program that steps; it also makes room for those stepped through."""
    out = folder / "stepping"
    subprocess.run(["gcc", "-O1", "-o", out, ROOT / "benchmarks" / "stepping.c"], check=True)
    return out


def check_source(
    source: Path,
    builds: Sequence[str],
    calls: dict[str, tuple[str, str]],
    stepper: Path,
    say: Callable[[str], object],
) -> list[Tally]:
    """Return the tallies of a source's functions under each build."""
    out = []
    anvil = open_source(source, builds)
    for built in anvil.compile():
        code = anvil.code(built)
        owners = parts_by_owner(code.functions)
        made = anvil.workspace.store.artefact(built.units[0].artefact).object
        for function, (declaration, call) in calls.items():
            body = Body(function, owners[function], code.isa)
            trace = run_trace(stepper, made, function, declaration, call)
            found = compare(body, trace)
            for text in found.wrong:
                say(f"{source.name} {function} {built.build.name}: {text}")
            out.append(found)
    return out


def run_trace(stepper: Path, made: Path, function: str, declaration: str, call: str) -> list[int]:
    """Return the offsets of the instructions that one call of a function executes."""
    folder = stepper.parent
    driver = folder / "driver.c"
    driver.write_text(
        f"{ARRAYS}\nstatic long l;\n{declaration}\n"
        "int probe(int v) { return v; }\n"
        "int sensor(int v, int w) { return v + w; }\n"
        f"int main(void) {{ for (int i = 0; i < 64; i++) a[i] = i % 23, u[i] = i * 7; (void)c; "
        f"(void)f; (void)l; {call}; return 0; }}\n"
    )
    program = folder / "program"
    extra = ["-Wl,--unresolved-symbols=ignore-all", "-static", "-no-pie"]
    subprocess.run(["gcc", "-w", driver, made, *extra, "-lm", "-o", program], check=True)
    symbol = next(s for s in read_symbols(program.read_bytes(), False) if s.name == function)
    said = subprocess.run(
        [stepper, str(symbol.address), str(symbol.size), program],
        check=True, capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    return [int(line) for line in said.stdout.split()]


def compare(body: Body, trace: Sequence[int]) -> Tally:
    """Compare the passes in a trace with what the facts say of each loop."""
    first = body.items[0].address
    place = {item.address - first: k for k, item in enumerate(body.items)}
    gaps = {at for at in trace if at not in place}  # what the assembler put in to align loops
    path = [place[at] for at in trace if at in place]
    known = {at for k, item in enumerate(body.items) for at in _gap_before(body, k, first)}
    wrong = [f"offset {at} is no instruction of the text" for at in sorted(gaps - known)]
    passes = 0
    counted = 0
    for number, loop in enumerate(body.loops):
        own = {k for k, inner in enumerate(body.loop_of) if inner == number}
        said = pass_of(body, number)
        lengths, rest = _passes(path, body, loop.blocks, own, body.leaders[loop.header])
        wrong += [
            f"loop {number + 1}: a pass of {length} instructions, said {_words(said)}"
            for length in lengths
            if not said.fewest <= length <= said.most
        ]
        passes += len(lengths)
        counted += sum(lengths) + rest
    outside = sum(body.loop_of[k] < 0 for k in path)
    if counted + outside != len(path):
        wrong.append(f"{counted} in loops and {outside} outside are not {len(path)} executed")
    return Tally(len(path), len(body.loops), passes, tuple(wrong))


def _gap_before(body: Body, k: int, first: int) -> range:
    """Return the offsets between an instruction and the one before it."""
    before = body.items[k - 1] if k else body.items[0]
    return range(before.address + before.size - first, body.items[k].address - first)


def _words(said: Pass) -> str:
    if said.fewest == said.most:
        return str(said.fewest)
    return f"{said.fewest} to {said.most}"


def _passes(
    path: Sequence[int], body: Body, blocks: frozenset[int], own: set[int], header: int
) -> tuple[list[int], int]:
    """Return the lengths of a loop's whole passes, and the instructions of those left early."""
    lengths: list[int] = []
    rest = 0
    current = -1  # instructions of the pass so far, -1 outside the loop
    for k in path:
        if body.block_of[k] not in blocks:
            rest += max(current, 0)
            current = -1
            continue
        if k == header:
            if current >= 0:
                lengths.append(current)
            current = 0
        if k in own:
            current = max(current, 0) + 1
    return lengths, rest + max(current, 0)


if __name__ == "__main__":
    sys.exit(main())

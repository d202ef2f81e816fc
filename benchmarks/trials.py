"""Does the tool call equal code different, and does it find work really added?

    python benchmarks/trials.py [--trials 60] [--seconds 2.5] [--form builds] [--load]
                                [--only KERNEL]

Each trial measures four candidates of one kernel with the whole tool: two that
are equal, one whose code is moved by 16 bytes, and one that does 3 % more
passes. By ``--form`` they are builds (equal ones differ in the bytes of an
unused constant only, so that they are timed and not recognised as the same
code), entries of one source under one build, or builds in processes of their
own. A naive script (each candidate once, one after the other, medians of ten
samples compared at 1 %) times the same programs for comparison. ``--load``
keeps one CPU busy meanwhile.
"""

import argparse
import json
import os
import statistics
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import NamedTuple

from hot_anvil.api import Anvil, open_source
from hot_anvil.core.calling.timing import Asked
from hot_anvil.core.inputs.input_sets import make_input_set
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.measure.options import Options
from hot_anvil.core.measure.summary import Result
from hot_anvil.system.execute.workers import Worker
from hot_anvil.usecases.entries import find_callable
from hot_anvil.usecases.linking import link_builds


class Kernel(NamedTuple):
    """Code whose work is known: so many passes, or 3 % more."""

    loop: str
    passes: int
    levels: int  # elements of the buffer it reads
    long: bool = False  # over 50 us a call, or bound by memory
    writes: bool = False  # what the next call reads: each call is made on a copy of its own


KERNELS = {
    # 67 instructions that wait for each other, or 69; {passes} is of ten thousand.
    "in place, 20 ns": Kernel(
        '__asm__ volatile(".rept %c1\\n\\tlea (%0), %0\\n\\t.endr" : "+r"(s)'
        ' : "i"(67 * PASSES / 10000)); levels[n & 1] += (int)s;',
        10,
        4,
        writes=True,
    ),
    "sum, 100 ns": Kernel("for (long i = 0; i < n; i++) s += levels[i & 255] ^ i;", 200, 256),
    "chain, 1 us": Kernel(
        "for (long i = 0; i < n; i++) s = s * 25214903917 + levels[i & 255];", 700, 256
    ),
    "branches missed, 20 us": Kernel(
        # Goes on from call to call: no predictor learns these branches.
        "static unsigned long r = 1; for (long i = 0; i < n; i++) {"
        " r = r * 6364136223846793005 + 1442695040888963407;"
        " if (r >> 63) s += levels[i & 4095]; else s ^= i; }",
        3000,
        4096,
    ),
    "divide, 50 us": Kernel(
        "for (long i = 0; i < n; i++) s += (s ^ levels[i & 4095]) / (i | 7);", 6000, 4096
    ),
    "memory, 2 ms": Kernel(
        "for (long i = 0; i < n; i++) s += levels[(i * 16) & 2097151];", 300_000, 2_097_152, True
    ),
    "matrix, 20 ms": Kernel(
        "for (long i = 0; i < n; i++) for (int k = 0; k < 256; k++)"
        " s += levels[(i * 7 + k * 256) & 65535] * (long)k;",
        90_000,
        65_536,
        True,
    ),
}
TRUTHS = ("equal", "moved", "3 % more")
FUNCTION = """__asm__(".text; .skip {moved}, 0xcc");
long {name}({kind} *levels, long times)
{{
    unsigned long s = 1; /* sums wrap around */
    long n = times * {passes} / 10000;
    {loop}
    __asm__ volatile("" : "+r"(s)); /* the loop's result counts as used, whatever n is */
    return 0;
}}
"""
BUILDS, ENTRIES, APART = FORMS = ("builds", "entries", "apart")
WORDS = ("tied", "slower", "faster", "not enough data")


class Variant(NamedTuple):
    """What one candidate of a trial differs in."""

    tag: str
    moved: int  # bytes
    passes: int  # of ten thousand


VARIANTS = (
    Variant("ebb", 0, 10001),
    Variant("sea", 0, 10001),
    Variant("fog", 16, 10001),
    Variant("bay", 0, 10301),
)


class Row(NamedTuple):
    """One pair of one trial."""

    kernel: str
    truth: str
    who: str
    word: str
    visible: float  # the difference that would have been told, as a share
    depends: str
    as_built: str  # the word at the placement that the linker gives by itself


def open_kernel(folder: Path, kernel: Kernel, form: str) -> Anvil:
    """Return one kernel opened with its four candidates."""
    source = folder / "kernel.c"
    levels = f'levels = {{ fill = "uniform(0, 999)", count = {kernel.levels} }}'
    inputs = [levels, f"times = {kernel.passes}"]
    kind = "int" if kernel.writes else "const int"
    if form == ENTRIES:
        source.write_text(
            "".join(
                FUNCTION.format(
                    name=v.tag,
                    moved=v.moved,
                    passes=v.passes,
                    kind=kind,
                    loop=kernel.loop.replace("PASSES", str(v.passes)),
                )
                for v in VARIANTS
            )
        )
        tags = [v.tag for v in VARIANTS]
        return open_source(source, ["gcc -O2 -fno-ipa-icf"], tags, inputs=inputs)
    named = FUNCTION.format(
        name="kernel", moved='" MOVED "', passes="PASSES", kind=kind, loop=kernel.loop
    )
    source.write_text("const char TAG[] = NAME;\n" + named)
    builds = [
        f"gcc -O2 -DNAME='\"{v.tag}\"' -DMOVED='\"{v.moved}\"' -DPASSES={v.passes}"
        for v in VARIANTS
    ]
    return open_source(source, builds, inputs=inputs)


def naive(anvil: Anvil) -> list[str]:
    """Time each candidate once, one after the other, and compare the medians at 1 %."""
    (snippet,) = anvil.bench.snippets
    signatures = find_callable(anvil.workspace, snippet).signatures
    inputs = make_input_set(anvil.bench, snippet, signatures[0], InputSpec({}), {})
    medians = []
    for program in link_builds(anvil.workspace, anvil.compile(), signatures, 0).values():
        with Worker(program.path) as worker:
            for entry in range(len(signatures)):
                worker.prepare(entry, 0, entry, inputs)
                calls = worker.calibrate(entry, 0.002, False, 60).calls
                (batch,) = worker.batches([Asked(entry, 10, False, calls)], 60)
                medians.append(statistics.median(s.wall for s in batch.samples) / calls)
    ratios = [m / medians[0] for m in medians[1:]]
    return ["slower" if r > 1.01 else "faster" if r < 1 / 1.01 else "tied" for r in ratios]


def trial(anvil: Anvil, seconds: float, seed: int, form: str) -> list[Result]:
    """Return the results of the three candidates that are compared with the first."""
    (measured,) = anvil.measure(options=Options(seconds, seed, apart=form == APART))
    (summary,) = measured.summaries
    names = [verdict.candidate for verdict in measured.checked.verdicts]
    assert len(measured.checked.correct) == 4, measured.checked.verdicts
    return [summary.result(name) for name in names[1:]]


@contextmanager
def background(wanted: bool) -> Iterator[None]:
    """Keep the first CPU busy."""
    burner = None
    if wanted:
        cpu = min(os.sched_getaffinity(0))
        code = f"import os\nos.sched_setaffinity(0, {{{cpu}}})\nwhile True: pass"
        burner = subprocess.Popen([sys.executable, "-c", code])
    try:
        yield
    finally:
        if burner:
            burner.kill()


def rows_of(name: str, seconds: float, seed: int, form: str) -> list[Row]:
    """Run one trial and the naive script on the same programs."""
    with tempfile.TemporaryDirectory() as folder:
        anvil = open_kernel(Path(folder), KERNELS[name], form)
        ours = trial(anvil, seconds, seed, form)
        theirs = naive(anvil)
    rows = []
    for truth, result, word in zip(TRUTHS, ours, theirs, strict=True):
        against = result.comparison
        built = against.as_built.word if against.as_built else ""
        rows.append(
            Row(
                name,
                truth,
                "hot-anvil",
                against.verdict.word,
                against.visible,
                against.depends,
                built,
            )
        )
        rows.append(Row(name, truth, "naive script", word, 0.01, "", ""))
    return rows


def report(rows: list[Row]) -> int:
    """Print the table and return 1 when equal code was called different too often."""
    print(f"{'kernel':<24}{'truth':<10}{'who':<14}" + "".join(f"{w:>17}" for w in WORDS)
          + f"{'visible':>9}")  # fmt: skip
    for key in sorted({row[:3] for row in rows}, key=lambda k: (list(KERNELS).index(k[0]), k)):
        own = [row for row in rows if row[:3] == key]
        counts = Counter(row.word for row in own)
        numbers = "".join(f"{counts[word]:>17}" for word in WORDS)
        visible = statistics.median(row.visible for row in own)
        print(f"{key[0]:<24}{key[1]:<10}{key[2]:<14}{numbers}{visible:>9.1%}")
    for who in ("hot-anvil", "naive script"):
        equal = [r for r in rows if r.who == who and r.truth != "3 % more"]
        false = sum(r.word in ("slower", "faster") for r in equal)
        more = [r for r in rows if r.who == who and r.truth == "3 % more"]
        short = [r for r in more if not KERNELS[r.kernel].long]
        found = sum(r.word == "slower" for r in short)
        print(
            f"{who}: equal code called different: {false} of {len(equal)}; 3 % found in kernels up "
            f"to 50 us: {found} of {len(short)}; wrong direction: "
            f"{sum(r.word == 'faster' for r in more)} of {len(more)}"
        )
    ours = [r for r in rows if r.who == "hot-anvil" and r.truth != "3 % more"]
    return int(sum(r.word in ("slower", "faster") for r in ours) > max(1, 0.01 * len(ours)))


def main() -> int:
    """Print the counts of each word per kernel; return 1 for too many false claims."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--trials", type=int, default=60)
    parser.add_argument("--seconds", type=float, default=2.5)
    parser.add_argument("--form", choices=FORMS, default=BUILDS)
    parser.add_argument("--load", action="store_true")
    parser.add_argument("--only", action="append", choices=KERNELS, default=[])
    parser.add_argument("--jsonl", type=Path, help="keep every pair of every trial here")
    parser.add_argument("--told", type=Path, nargs="+", help="only report on pairs that were kept")
    args = parser.parse_args()
    if args.told:
        lines = [line for file in args.told for line in file.read_text().splitlines()]
        return report([Row(**json.loads(line)) for line in lines])
    names = args.only or list(KERNELS)
    rows: list[Row] = []
    with background(args.load):
        for number in range(args.trials):
            made = rows_of(names[number % len(names)], args.seconds, number, args.form)
            rows += made
            if args.jsonl:
                with args.jsonl.open("a") as file:
                    file.writelines(json.dumps(row._asdict()) + "\n" for row in made)
    return report(rows)


if __name__ == "__main__":
    sys.exit(main())

"""Does the tool call equal code different, and does it find work really added?

    python benchmarks/equal_pairs.py [--pairs 60] [--seconds 1]

Each trial measures four builds of one kernel with the whole tool: two that
differ in the bytes of an unused constant only (so that they are timed, not
recognised as the same code), one whose code is moved by 16 bytes, and one that
does 3 % more passes. A naive script (each build once, one after the other,
medians of ten samples compared at 1 %) times the same programs for comparison.
"""

import argparse
import statistics
import sys
import tempfile
from collections import Counter
from pathlib import Path

from hot_anvil.api import Workshop, open_source
from hot_anvil.core.inputs import make_input_set
from hot_anvil.core.wanted import Wanted
from hot_anvil.system.workers import Worker

KERNELS = {
    "sum, 300 ns": """
for (int i = 0; i < n * PASSES / 1000; i++)
    s += levels[i & 255] ^ i;
""",
    "branches learnt, 15 us": """
for (int i = 1; i < n * 16 * PASSES / 1000; i++)
    if (levels[i & 4095] > levels[(i - 1) & 4095]) s += i; else s -= levels[i & 7];
""",
    "branches missed, 30 us": """
for (int i = 1; i < n * 8 * PASSES / 1000; i++) {
    s = s * 6364136223846793005 + 1442695040888963407;
    if (s >> 63) s += levels[i & 4095]; else s ^= i;
}
""",
    "divide, 40 us": """
for (int i = 0; i < n * 16 * PASSES / 1000; i++)
    s += (s ^ levels[i & 4095]) / 7 + i;
""",
}
# Predictors learn these branches from call to call; more passes are another pattern to learn
# and no slower for sure, so only the equal pair has a known truth.
ONLY_EQUAL = "branches learnt, 15 us"
TRUTHS = ("equal", "moved", "3 % more")
SOURCE = """const char TAG[] = NAME;
__asm__(".text; .skip " MOVED ", 0xcc");
long kernel(const int *levels, int n)
{{
    long s = 1;
    {loop}
    __asm__ volatile("" : "+r"(s)); /* the loop's result counts as used, whatever PASSES is */
    return 0;
}}
"""


def workshop_for(folder: Path, text: str) -> Workshop:
    """Return a workshop on one kernel with the three builds."""
    source = folder / "kernel.c"
    source.write_text(SOURCE.format(loop=text))
    builds = [
        f"gcc -O2 -DNAME='\"{name}\"' -DMOVED='\"{moved}\"' -DPASSES={passes}"
        for name, moved, passes in (
            ("ebb", 0, 1000),
            ("sea", 0, 1000),
            ("ebb", 16, 1000),
            ("ebb", 0, 1030),
        )
    ]
    inputs = ['levels = { fill = "uniform(0, 999)", count = 4096 }', "n = 500"]
    return open_source(source, builds, inputs=inputs)


def naive(workshop: Workshop) -> list[str]:
    """Time each build once, one after the other, and compare the medians at 1 %."""
    (snippet,) = workshop.bench.snippets
    signatures = workshop.signatures(snippet)
    inputs = make_input_set(workshop.bench, snippet, signatures[0], Wanted({}), {})
    medians = []
    for program in workshop.link(workshop.compile(), signatures, 0).values():
        with Worker(program.path) as worker:
            worker.prepare(0, 0, inputs)
            calls, _ = worker.calibrate(0, 0.002, 60)
            medians.append(statistics.median(worker.visit(0, calls, 10, 60).samples) / calls)
    ratios = [m / medians[0] for m in medians[1:]]
    return ["slower" if r > 1.01 else "faster" if r < 1 / 1.01 else "tied" for r in ratios]


def main() -> int:
    """Print the counts of each word per kernel; return 1 for too many false claims."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--pairs", type=int, default=60)
    parser.add_argument("--seconds", type=float, default=1.0)
    args = parser.parse_args()
    counts: dict[tuple[str, str, str], Counter[str]] = {}
    for number in range(args.pairs):
        name = list(KERNELS)[number % len(KERNELS)]
        with tempfile.TemporaryDirectory() as folder:
            workshop = workshop_for(Path(folder), KERNELS[name])
            ours = trial(workshop, args.seconds, number)
            for who, words in (("hot-anvil", ours), ("naive script", naive(workshop))):
                for truth, word in zip(TRUTHS, words, strict=True):
                    if truth == "3 % more" and name == ONLY_EQUAL:
                        continue
                    counts.setdefault((name, truth, who), Counter())[word] += 1
    return report(counts)


def trial(workshop: Workshop, seconds: float, seed: int) -> list[str]:
    """Return the words for the equal build and the one with more work."""
    (measured,) = workshop.measure(seconds=seconds, seed=seed)
    (standing,) = measured.standings
    words = {result.candidate: result.word for result in standing.results}
    names = [built.build.name for built in workshop.compile()]
    assert len(measured.checked.correct) == 4, measured.checked.verdicts
    return [words[name] for name in names[1:]]


def report(counts: dict[tuple[str, str, str], Counter[str]]) -> int:
    """Print the table and return 1 when equal code was called different too often."""
    heads = ("tied", "slower", "faster", "not enough data")
    print(f"{'kernel':<24}{'truth':<10}{'who':<14}" + "".join(f"{head:>17}" for head in heads))
    for (name, truth, who), words in sorted(counts.items()):
        numbers = "".join(f"{words[head]:>17}" for head in heads)
        print(f"{name:<24}{truth:<10}{who:<14}{numbers}")
    equal = [
        c for (_, truth, who), c in counts.items() if truth != "3 % more" and who == "hot-anvil"
    ]
    false = sum(c["slower"] + c["faster"] for c in equal)
    total = sum(sum(c.values()) for c in equal)
    print(f"equal code called different: {false} of {total}")
    return int(false > max(1, total * 0.02))


if __name__ == "__main__":
    sys.exit(main())

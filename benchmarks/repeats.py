"""Do the intervals of one measurement agree when it is made again and again?

    python benchmarks/repeats.py [--repeats 20] [--seconds 1.5] [--load N] [--only KERNEL]

Measures the four candidates of a kernel of ``trials.py`` so often, beside N busy loops, and
compares every pair of intervals of one ratio: two that do not overlap cannot both hold. Intervals
hold for all pairs of candidates at once with 99 %, so at most 1 % of pairs may be apart.
"""

import argparse
import os
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from itertools import combinations
from pathlib import Path

from trials import BUILDS, KERNELS, TRUTHS, open_kernel, trial

Interval = tuple[float, float]


@contextmanager
def busy(loops: int) -> Iterator[None]:
    """Keep so many busy loops running, on any CPU."""
    burners = [subprocess.Popen([sys.executable, "-c", "while True: pass"]) for _ in range(loops)]
    try:
        yield
    finally:
        for burner in burners:
            burner.kill()


def intervals(name: str, repeats: int, seconds: float) -> dict[str, list[Interval]]:
    """Return the interval of each truth's ratio in every repeat; open ones are left out."""
    out: dict[str, list[Interval]] = {truth: [] for truth in TRUTHS}
    with tempfile.TemporaryDirectory() as folder:
        anvil = open_kernel(Path(folder), KERNELS[name], BUILDS)
        for seed in range(repeats):
            for truth, result in zip(TRUTHS, trial(anvil, seconds, seed, BUILDS), strict=True):
                told = result.comparison.verdict
                out[truth].append((told.low, told.high))
    return out


def apart(pairs: list[Interval]) -> tuple[int, int]:
    """Return (pairs that do not overlap, all pairs)."""
    every = list(combinations(pairs, 2))
    return sum(a[1] < b[0] or b[1] < a[0] for a, b in every), len(every)


def main() -> int:
    """Print how many pairs are apart; return 1 for more than 1 %."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--repeats", type=int, default=20)
    parser.add_argument("--seconds", type=float, default=1.5)
    parser.add_argument("--load", type=int, default=0)
    parser.add_argument("--only", action="append", choices=KERNELS, default=[])
    args = parser.parse_args()
    lost = total = 0
    with busy(args.load):
        for name in args.only or [name for name, kernel in KERNELS.items() if not kernel.long]:
            for truth, found in intervals(name, args.repeats, args.seconds).items():
                bad, every = apart(found)
                widths = sorted(high / low - 1 for low, high in found)
                print(
                    f"load {args.load}  {name:<24}{truth:<10}{bad:>5} of {every} apart; "
                    f"width {widths[len(widths) // 2]:.1%} (largest {widths[-1]:.1%})",
                    flush=True,
                )
                lost, total = lost + bad, total + every
    print(f"load {args.load} on {os.cpu_count()} CPUs: {lost} of {total} pairs apart")
    return int(lost > 0.01 * total)


if __name__ == "__main__":
    sys.exit(main())

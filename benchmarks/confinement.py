"""Does holding the code change what is measured, and what does a start cost?

    python benchmarks/confinement.py [--generations 30] [--only KERNEL]

Each kernel of ``trials.py`` (the candidate that does least) is timed in fresh processes, held and
free in random order, a second held one as control. Printed: the ratio of free to held and of
control to held, medians over generations with 99 % intervals (bootstrap), and the median time from
the start of a process to its first answer.
"""

import argparse
import random
import statistics
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from trials import BUILDS, KERNELS, open_kernel

from hot_anvil.api import Anvil, Limits
from hot_anvil.core.calling.timing import Asked
from hot_anvil.core.inputs.input_sets import make_input_set
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.system.build.launcher import confine_by
from hot_anvil.system.execute.workers import Worker
from hot_anvil.system.process.scope import Scope
from hot_anvil.usecases.entries import find_callable
from hot_anvil.usecases.linking import link_builds

HELD, FREE, CONTROL = WAYS = ("held", "free", "control")
SAMPLES = 12


def interval(ratios: list[float], seed: int = 1) -> tuple[float, float, float]:
    """Return (median, low, high) of ratios."""
    drawn = np.random.default_rng(seed).choice(ratios, (4000, len(ratios)))
    low, high = np.percentile(np.median(drawn, axis=1), [0.5, 99.5])
    return statistics.median(ratios), float(low), float(high)


def times_of(anvil: Anvil, generations: int) -> tuple[dict[str, list[float]], dict[str, float]]:
    """Return seconds per call of each way in each generation, and median seconds of a start."""
    (snippet,) = anvil.bench.snippets
    signatures = find_callable(anvil.workspace, snippet).signatures
    inputs = make_input_set(anvil.bench, snippet, signatures[0], InputSpec({}), {})
    program = next(iter(link_builds(anvil.workspace, anvil.compile(), signatures, 0).values()))
    chains, store = anvil.workspace.found.toolchains, anvil.workspace.store
    scopes = {way: Scope(Limits(), None, confine_by(chains, store, way != FREE)) for way in WAYS}
    for scope in scopes.values():
        scope.confinement()
    calls = 0
    times: dict[str, list[float]] = {way: [] for way in WAYS}
    starts: dict[str, list[float]] = {way: [] for way in WAYS}
    chance = random.Random(7)
    for _ in range(generations):
        for way in chance.sample(WAYS, len(WAYS)):
            began = time.perf_counter()
            with scopes[way].entered(), Worker(program.path) as worker:
                worker.prepare(0, 0, 0, inputs)
                starts[way].append(time.perf_counter() - began)
                alone = worker.state(0, 60)
                calls = calls or worker.calibrate(0, 0.002, alone, 60).calls
                (batch,) = worker.batches([Asked(0, SAMPLES, alone, calls)], 60)
                kept = [sample.wall for sample in batch.samples[2:]]
                times[way].append(statistics.median(kept) / calls)
    return times, {way: statistics.median(found) for way, found in starts.items()}


def main() -> int:
    """Print a line a kernel; return 1 where an interval of free to held clears the control's."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--generations", type=int, default=30)
    parser.add_argument("--only", action="append", choices=KERNELS, default=[])
    args = parser.parse_args()
    apart = 0
    for name in args.only or KERNELS:
        with tempfile.TemporaryDirectory() as folder:
            anvil = open_kernel(Path(folder), KERNELS[name], BUILDS)
            times, starts = times_of(anvil, args.generations)
        told = []
        for way in (FREE, CONTROL):
            ratios = [a / b for a, b in zip(times[way], times[HELD], strict=True)]
            told.append(interval(ratios))
        (free, low, high), (same, floor_low, floor_high) = told
        floor = max(floor_high, 1 / floor_low)
        differs = low > floor or high < 1 / floor
        apart += differs
        print(
            f"{name:<24} free/held {free:.4f} ({low:.4f} to {high:.4f})  control/held {same:.4f} "
            f"({floor_low:.4f} to {floor_high:.4f})  {'APART' if differs else 'within noise'}  "
            f"start {starts[HELD] * 1e3:.1f} ms held, {starts[FREE] * 1e3:.1f} ms free",
            flush=True,
        )
    return int(apart > 0)


if __name__ == "__main__":
    sys.exit(main())

"""What a fleet costs: 96 builds compiled on two local workers against ``--jobs 2`` here.

    python benchmarks/fleet.py [FILE.c] [--rounds 5]

In each round, in random order, with an empty store each: ``hot-anvil compile`` on a scheduler with
two workers of one thread on this machine, whose own stores are emptied too, and the same with
``--jobs 2`` and no fleet. What is compared is the wall time from outside: loading the engine,
joining, sending sources and taking back what was made are all in it. Both sides share the same
cores, as workers elsewhere would not.
"""

import argparse
import random
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.system.toolchain.finding import find_toolchains

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from made_fleet import MadeFleet  # the tests' own

BIN = Path(sys.executable).parent
DEMO = Path(__file__).parent.parent / "src" / "hot_anvil" / "data" / "demo"
LEVELS = ["-O0", "-O1", "-O2", "-O3", "-Os", "-Ofast"]
MORE = ["", "-march=x86-64-v3", "-fno-inline", "-fno-strict-aliasing"]
LIMIT = 1.25
BUILDS = 96


def main() -> int:
    """Print the ratio; return 1 when the limit is exceeded."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("file", nargs="?", type=Path, default=DEMO / "frame_whole.c")
    parser.add_argument("--rounds", type=int, default=5)
    args = parser.parse_args()
    native = [c.name for c in find_toolchains().toolchains if c.can["run"] and "c" in c.drivers]
    flags = [f"{level} {more}".strip() for level in LEVELS for more in MORE]
    builds = [f"{chain} {flag}" for flag in flags for chain in native][:BUILDS]
    words = [word for build in builds for word in ("--build", build)]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for file in [args.file, *args.file.parent.glob("*.h")]:
            shutil.copy(file, folder)
        source = folder / args.file.name
        (folder / "anvil.toml").write_text(
            f'[flags]\nplain = "-O1"\n[[snippet]]\nname = "one"\nsources = ["{source.name}"]\n'
        )
        fleet = MadeFleet(folder, networks=False)
        try:
            fleet.worker("quay1")
            fleet.worker("quay2")
            fleet.wait(2)
            sides = {
                "here": [str(BIN / "hot-anvil"), "compile", name, "--jobs", "2", *words],
                "fleet": [str(BIN / "hot-anvil"), "compile", name, "--on", fleet.address, *words],
            }
            ratios = rounds(folder, sides, args.rounds)
        finally:
            fleet.close()
    median = statistics.median(ratios)
    each = ", ".join(f"{ratio:.2f}" for ratio in ratios)
    print(
        f"{len(builds)} builds of {args.file.name}, a fleet over --jobs 2: {median:.2f}x ({each})"
    )
    print(f"limit {LIMIT}x")
    return int(median > LIMIT)


def rounds(folder: Path, sides: dict[str, list[str]], count: int) -> list[float]:
    """Return the ratio of each round, a first one that warms caches left out."""
    ratios = []
    for number in range(count + 1):
        took = {}
        for side in random.sample(list(sides), len(sides)):
            for store in (folder / ".hot-anvil", *folder.glob("cache-*/hot-anvil/fleet")):
                shutil.rmtree(store, ignore_errors=True)
            started = time.perf_counter()
            subprocess.run(sides[side], check=True, stdout=subprocess.DEVNULL)
            took[side] = time.perf_counter() - started
        if number:
            ratios.append(took["fleet"] / took["here"])
            print(f"  here {took['here']:.1f} s, fleet {took['fleet']:.1f} s", file=sys.stderr)
    return ratios


if __name__ == "__main__":
    sys.exit(main())

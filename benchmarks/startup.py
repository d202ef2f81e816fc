"""How long the command takes to start, as ratios to ``python -c pass`` in the same run.

    python benchmarks/startup.py [--runs 21]

Each round runs all commands once, in random order; the ratio is the median of
the rounds' ratios. Python writes its bytecode first, as after an install.
"""

import argparse
import os
import random
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

BIN = Path(sys.executable).parent
LIMITS = {"--version": 2.5, "warm diff of the demo": 10.0, "warm compile of the demo": None}


def seconds(argv: list[str], env: dict[str, str]) -> float:
    """Run a command and return how long it took, as the caller sees it."""
    started = time.perf_counter()
    subprocess.run(argv, env=env, stdout=subprocess.DEVNULL, check=True)
    return time.perf_counter() - started


def main() -> int:
    """Print the table; return 1 when a limit is exceeded."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--runs", type=int, default=21)
    runs = parser.parse_args().runs
    env = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    tool = str(BIN / "hot-anvil")
    with tempfile.TemporaryDirectory() as folder:
        bench = str(Path(folder, "tide-gauge"))
        demo = Path(__file__).parent.parent / "src" / "hot_anvil" / "data" / "demo"
        subprocess.run(["cp", "-r", str(demo), bench], check=True)
        commands = {
            "python -c pass": [sys.executable, "-c", "pass"],
            "--version": [tool, "--version"],
            "warm diff of the demo": [tool, "diff", bench, "gcc:plain", "gcc:fast"],
            "warm compile of the demo": [tool, "compile", bench],
        }
        for argv in reversed(commands.values()):
            seconds(argv, env)
        times: dict[str, list[float]] = {name: [] for name in commands}
        for _ in range(runs):
            for name in random.sample(list(commands), len(commands)):
                times[name].append(seconds(commands[name], env))
    return report(times)


def report(times: dict[str, list[float]]) -> int:
    """Print medians and ratios; return 1 when a limit is exceeded."""
    base = times["python -c pass"]
    code = 0
    print(f"{'command':<28}{'median':>10}{'ratio':>8}{'limit':>8}")
    for name, values in times.items():
        ratio = statistics.median(v / b for v, b in zip(values, base, strict=True))
        limit = LIMITS.get(name)
        code |= limit is not None and ratio > limit
        shown = f"{limit:.1f}" if limit else ""
        print(f"{name:<28}{statistics.median(values) * 1e3:>7.1f} ms{ratio:>8.2f}{shown:>8}")
    return int(code)


if __name__ == "__main__":
    sys.exit(main())

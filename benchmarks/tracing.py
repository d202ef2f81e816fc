"""How fast calls are stepped through, and in how much memory: x86-64 itself, AArch64 emulated.

    python benchmarks/tracing.py

Needs a gcc for AArch64 and QEMU's user emulation for the second. Prints steps a second of
recording, and of telling what was recorded; then the peak of memory of a million steps.
"""

import resource
import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.api import Anvil, open_source

SOURCE = """#include <stdint.h>
int64_t total(const int32_t *levels, int32_t n)
{
    int64_t sum = 0;
    for (int r = 0; r < 40; r++)
        for (int32_t i = 0; i < n; i++)
            sum += levels[i] ^ r;
    return sum;
}
"""
BUILDS = {"x86-64": "gcc -O1", "AArch64": "aarch64-linux-gnu-gcc -O1"}
LEAST = 20_000  # steps a second that are promised


def main() -> int:
    """Measure; return 1 where less than is promised was reached."""
    short = False
    with tempfile.TemporaryDirectory() as folder:
        for target, build in BUILDS.items():
            source = Path(folder, f"{target}.c")
            source.write_text(SOURCE)
            _opened(source, build, 2).step()  # compiles and links what it needs
            began = time.perf_counter()
            (stepped,) = _opened(source, build, 1500).step()
            recorded = stepped.tape.count / (time.perf_counter() - began)
            began = time.perf_counter()
            count = sum(1 for _ in stepped.moments())
            told = count / (time.perf_counter() - began)
            short |= recorded < LEAST
            print(f"{target:8} {count:>8,} steps: {recorded:>8,.0f} a second recorded, start and "
                  f"debug info included, {told:>8,.0f} a second told")  # fmt: skip
        source = Path(folder, "long.c")
        source.write_text(SOURCE)
        (stepped,) = _opened(source, "gcc -O0", 4000).step()
        for _ in stepped.moments():
            pass
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        print(f"{stepped.tape.count:,} steps recorded and told: at most {peak >> 10} MiB of memory")
    return 1 if short else 0


def _opened(source: Path, build: str, n: int) -> Anvil:
    values = [f"n = {n}", 'levels = { fill = "uniform(-500, 500)", count = "n" }']
    return open_source(source, [build], ["total"], values)


if __name__ == "__main__":
    sys.exit(main())

"""What does running code for other machines cost beside running it here?

    python benchmarks/emulating.py

Prints, from one run on this machine: the time of a first check of one build under emulation over
that of one build here; instructions that are counted in a second under AArch64 emulation; cycles
that the simulated AVR and MSP430 chips make in a second, every access looked at.
"""

import sys
import tempfile
import time
from pathlib import Path

from hot_anvil.api import Anvil, open_source
from hot_anvil.system.measure.chip_costs import chip_costs
from hot_anvil.usecases.elsewhere import count_elsewhere
from hot_anvil.usecases.evidence import sets_of
from hot_anvil.usecases.linking import link_builds

SOURCE = """#include <stdint.h>
uint32_t turned(uint32_t level, uint32_t times)
{
    for (uint32_t i = 0; i < times; i++)
        level = (level << 5 | level >> 27) ^ i;
    return level;
}
"""
INPUTS = ["level = 1", "times = {times}"]
HERE, THERE = "gcc -O2", "aarch64-linux-gnu-gcc -O2"
CHIPS = {"AVR": "avr-gcc -O2 -mmcu=atmega328p", "MSP430": "clang-16@msp430 -O2"}
ON_LINUX, ON_CHIP = 20_000_000, 1_000_000  # passes of the loop


def opened(folder: Path, builds: list[str], times: int) -> Anvil:
    """Return the loop opened under some builds."""
    folder.mkdir()
    source = folder / "turned.c"
    source.write_text(SOURCE)
    return open_source(source, builds, [], inputs=[i.format(times=times) for i in INPUTS])


def seconds_of_check(folder: Path, builds: list[str]) -> float:
    """Return what a first check takes."""
    anvil = opened(folder, builds, 100)
    began = time.perf_counter()
    (checked,) = anvil.check()
    assert len(checked.correct) == len(builds), checked.verdicts
    return time.perf_counter() - began


def rate(folder: Path, build: str, times: int, calls: int) -> float:
    """Return how many instructions or cycles run in a second of counting, the start taken off."""
    took, counts = [], []
    for number, passes in enumerate((10, times)):
        anvil = opened(folder / str(number), [HERE, build], passes)
        (checked,) = anvil.check(call_seconds=60)
        began = time.perf_counter()
        with anvil.workspace.scope.entered():
            (found,) = count_elsewhere(anvil.workspace, checked)
        took.append(time.perf_counter() - began)
        counts.append(found.candidates[0].counts[0][1].instructions or 0)
    return calls * (counts[1] - counts[0]) / (took[1] - took[0])


def chip_rate(folder: Path, build: str, times: int) -> float:
    """Return how many cycles a simulated chip makes in a second, the start taken off."""
    took, counts = [], []
    for number, passes in enumerate((10, times)):
        anvil = opened(folder / str(number), [HERE, build], passes)
        (checked,) = anvil.check(call_seconds=60)
        workspace = anvil.workspace
        with workspace.scope.entered():
            built = workspace.compile([checked.snippet.name])
            (program,) = link_builds(workspace, built[-1:], checked.signatures, 0).values()
            began = time.perf_counter()
            (cost,) = chip_costs(program, 0, sets_of(workspace, checked)[0])
        took.append(time.perf_counter() - began)
        counts.append(cost.cycles.instructions or 0)
    return (counts[1] - counts[0]) / (took[1] - took[0])


def main() -> int:
    """Print the figures."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        seconds_of_check(folder / "warm", [HERE, THERE, *CHIPS.values()])  # compiled once
        here = seconds_of_check(folder / "here", [HERE, "gcc -O1"])
        for what, build in (("AArch64", THERE), *CHIPS.items()):
            (folder / what).mkdir()
            there = seconds_of_check(folder / what / "check", [HERE, build])
            print(f"check: one build here and one for {what}, over two here: {there / here:.2f}x")
        # The counted call has one before it that is not counted.
        counted = rate(folder / "AArch64", THERE, ON_LINUX, 2)
        print(f"AArch64: {counted / 1e6:.0f} million instructions a second, counted")
        for what, build in CHIPS.items():
            cycles = chip_rate(folder / what, build, ON_CHIP)
            print(f"{what}: {cycles / 1e6:.1f} million cycles a second, every access looked at")
    return 0


if __name__ == "__main__":
    sys.exit(main())

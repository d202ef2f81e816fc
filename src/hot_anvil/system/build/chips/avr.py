"""AVR: linked by its gcc with the chip's own start code, simulated by a library."""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.chips.kit import ChipKit, last_flag
from hot_anvil.system.process.running import Outcome, run

_CHIP_FLAG = "-mmcu="


def _linker(chain: Toolchain, toolchains: Sequence[Toolchain]) -> Toolchain | str:
    own = [c for c in toolchains if c.isa == chain.isa and c.family == "gcc"]
    return own[0] if own else f"code for {chain.target} needs a gcc for it to run here"


def _compiler(linker: Toolchain, chip: str) -> list[str]:
    return [linker.drivers["c"].path, f"{_CHIP_FLAG}{chip}", "-Os", "-w", "-c"]


def _link(linker: Toolchain, chip: str, objects: Sequence[str], image: Path, work: Path) -> Outcome:
    driver = [linker.drivers["c"].path, f"{_CHIP_FLAG}{chip}"]
    return run([*driver, *objects, "-o", str(image), "-lm"], work)


KIT = ChipKit(
    linker=_linker,
    chip_of=lambda flags: last_flag(flags, _CHIP_FLAG),
    no_chip=f"no chip is named: say it in the flags ({_CHIP_FLAG}atmega328p)",
    simulator=("avr.c",),
    simulator_flags=("-I/usr/include/simavr", "-lsimavr", "-lelf"),
    pins="pins.c",
    simulator_missing="the simulator's library is not here (apt install libsimavr-dev libelf-dev)",
    compiler=_compiler,
    objcopy=lambda linker: f"{linker.binutils}-objcopy",
    link=_link,
    identity=lambda: "",
)

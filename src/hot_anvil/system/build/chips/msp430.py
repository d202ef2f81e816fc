"""MSP430: linked by LLVM's linker with a start-up and helpers of ours, simulated by ours.

No compiler that comes with Debian brings a library for it.
"""

from collections.abc import Sequence
from pathlib import Path

from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.system.build.chips.kit import ChipKit, last_flag
from hot_anvil.system.build.worker_objects import NATIVE
from hot_anvil.system.process.running import Outcome, run
from hot_anvil.system.toolchain.binutils import find_tool

_NAME = Path(__file__).stem
_OURS = NATIVE / _NAME
_SOURCES = ("start.s", "helpers.c")
_FLAGS = ("-Os", "-ffreestanding", "-fno-builtin", "-w", "-c")


def _linker(chain: Toolchain, toolchains: Sequence[Toolchain]) -> Toolchain | str:
    if chain.family != "clang" or not find_tool(chain, "ld"):
        return f"code for {chain.target} needs clang and lld to run here (apt install lld-16)"
    return chain


def _compiler(linker: Toolchain, chip: str) -> list[str]:
    return [linker.drivers["c"].path, *linker.flags, *_FLAGS]


def _link(linker: Toolchain, chip: str, objects: Sequence[str], image: Path, work: Path) -> Outcome:
    ours = []
    for source in _SOURCES:
        ours.append(f"{Path(source).stem}.o")
        said = run([*_compiler(linker, chip), str(_OURS / source), "-o", ours[-1]], work)
        if said.failed:
            return said
    script = str(_OURS / "link.ld")
    tool = find_tool(linker, "ld")
    return run([str(tool), "-T", script, *ours, *objects, "-o", str(image)], work)


def _identity() -> str:
    return "".join((_OURS / name).read_text() for name in (*_SOURCES, "link.ld"))


KIT = ChipKit(
    linker=_linker,
    chip_of=lambda flags: last_flag(flags, "-mmcu=") or _NAME,
    no_chip="",
    simulator=("msp430.c",),
    simulator_flags=(),
    pins="",
    simulator_missing="the simulator does not compile here",
    compiler=_compiler,
    objcopy=lambda linker: f"llvm-objcopy-{linker.major}",
    link=_link,
    identity=_identity,
)

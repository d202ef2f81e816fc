"""The tools beside a compiler: assembler, linker, disassembler, emulator."""

import platform
import shutil
from functools import cache

from hot_anvil.core.arch import has_objects
from hot_anvil.core.toolchain.records import Toolchain


class Tool(str):
    """The path of a tool; ``is_llvm`` tells whose it is, for the options differ."""

    @property
    def is_llvm(self) -> bool:
        """True for one of LLVM's."""
        name = self.rpartition("/")[2]
        return "llvm" in name or "lld" in name


def find_tool(chain: Toolchain, name: str) -> Tool | None:
    """Return the tool ``name`` ("as", "ld", "objdump") for a toolchain's target, or None.

    GNU's is taken where there is one for the target, else LLVM's of the
    compiler's own version; LLVM has no assembler of its own to find.
    """
    return _find(chain.binutils, name, chain.major if chain.family == "clang" else 0, chain.isa)


@cache
def _find(prefix: str | None, name: str, major: int, isa: str) -> Tool | None:
    if not isa or not has_objects(isa):
        return None
    names = []
    if prefix is not None:
        names.append(f"{prefix}-{name}" if prefix else name)
    if name == "objdump" and major:
        names += [f"llvm-objdump-{major}", "llvm-objdump"]
    if name == "ld" and major:
        names += [f"ld.lld-{major}", "ld.lld", "ld.lld-16"]
    for candidate in names:
        path = shutil.which(candidate)
        if path:
            return Tool(path)
    return None


def emulator_command() -> str:
    """Return the emulator that counts instructions of this machine's own instruction set."""
    return f"qemu-{platform.machine()}"

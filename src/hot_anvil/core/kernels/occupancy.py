"""How many warps of a kernel fit on a multiprocessor at once: arithmetic, not speed.

Source: "CUDA C++ Programming Guide", appendix "Compute Capabilities", table "Technical
Specifications per Compute Capability"; units of allocation from the occupancy calculator that comes
with the toolkit.
"""

from collections.abc import Mapping
from typing import NamedTuple

from hot_anvil.core.arch.ptx.device.schedule import WARP

_REGISTERS = 65536  # of a multiprocessor, in all generations listed here
_REGISTER_UNIT = 256  # that registers of a warp are handed out in
_SHARED_UNIT = 128  # bytes
_KIB = 1024


class Limits(NamedTuple):
    """What a multiprocessor of one generation holds."""

    warps: int
    blocks: int
    shared: int  # bytes
    reserved: int  # bytes of shared memory that each block takes for the system


LIMITS: Mapping[str, Limits] = {
    "sm_70": Limits(64, 32, 96 * _KIB, 0),
    "sm_75": Limits(32, 16, 64 * _KIB, 0),
    "sm_80": Limits(64, 32, 164 * _KIB, _KIB),
    "sm_86": Limits(48, 16, 100 * _KIB, _KIB),
    "sm_89": Limits(48, 24, 100 * _KIB, _KIB),
    "sm_90": Limits(64, 32, 228 * _KIB, _KIB),
}


class Occupancy(NamedTuple):
    """What fits on a multiprocessor at once."""

    blocks: int
    warps: int
    most: int  # warps that it holds of any kernel
    limited_by: tuple[str, ...]  # "warps", "blocks", "registers", "shared memory"


def occupancy(target: str, threads: int, registers: int, shared: int) -> Occupancy | None:
    """Return how many blocks of ``threads`` fit at once; None for a target that is not known.

    ``registers`` are of a thread, ``shared`` bytes of a block, with what the launch adds.
    """
    limits = LIMITS.get(target)
    if limits is None:
        return None
    warps = -(-threads // WARP)
    fits = {"warps": limits.warps // warps, "blocks": limits.blocks}
    if registers:
        of_warp = _rounded(registers * WARP, _REGISTER_UNIT)
        fits["registers"] = _REGISTERS // of_warp // warps
    taken = _rounded(shared + limits.reserved, _SHARED_UNIT)
    if shared and taken:
        fits["shared memory"] = limits.shared // taken
    blocks = min(fits.values())
    limiting = tuple(name for name, many in fits.items() if many == blocks)
    return Occupancy(blocks, blocks * warps, limits.warps, limiting)


def _rounded(number: int, unit: int) -> int:
    return -(-number // unit) * unit

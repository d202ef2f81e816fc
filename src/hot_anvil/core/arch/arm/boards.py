"""Boards with Cortex-M processors.

Tags and their values: "Addenda to, and Errata in, the ABI for the Arm Architecture", section 3.
"""

from collections.abc import Sequence

from hot_anvil.core.arch.boards import Attributes, Board, Boards

_EMULATOR = "qemu-system-arm"
_ARCHITECTURE, _PROFILE = "TAG_CPU_ARCH", "TAG_CPU_ARCH_PROFILE"
_FLOATS, _IN_REGISTERS = "TAG_FP_ARCH", "TAG_ABI_VFP_ARGS"
_V6_M = (11, 12)
_V7_M = (10, 13)  # with and without the DSP instructions
_DOUBLE = 7  # a TAG_FP_ARCH from which on there are doubles
_VALUES, _VALUES_OF_M7 = 0x21000000, 0x60000000  # where the boards have 16 MiB more
_THUMB = ("-mthumb",)
_HARD = ("-mfloat-abi=hard",)


def _choose(objects: Sequence[Attributes]) -> Board | str:
    """Return the smallest board whose processor has all that a build's objects ask for."""
    for one in objects:
        newest = one.get(_ARCHITECTURE)
        if newest not in _V6_M and (newest not in _V7_M or not _is_m(one)):
            return (
                "the emulated boards have a Cortex-M3, M4 or M7, and it is not built for one of "
                "those or an M0 (-mcpu=cortex-m4 builds for it)"
            )
    hard = all(one.get(_IN_REGISTERS) == 1 for one in objects)
    floats = max(_number(one.get(_FLOATS)) for one in objects)
    if floats >= _DOUBLE:
        flags = ("-mcpu=cortex-m7", "-mfpu=fpv5-d16")
        return Board(_EMULATOR, "mps2-an500", "Cortex-M7", _VALUES_OF_M7, _with_floats(flags, hard))
    if floats or any(one.get(_ARCHITECTURE) == _V7_M[1] for one in objects):
        flags = ("-mcpu=cortex-m4", "-mfpu=fpv4-sp-d16")
        return Board(_EMULATOR, "mps2-an386", "Cortex-M4", _VALUES, _with_floats(flags, hard))
    flags = ("-mcpu=cortex-m3", *_THUMB)
    # A Cortex-M0 takes no misaligned address, which the worker then has to do without as well.
    strict = any(one.get(_ARCHITECTURE) in _V6_M for one in objects)
    own = ("-DSTRICT_ALIGNMENT", "-mno-unaligned-access") if strict else ()
    return Board(_EMULATOR, "mps2-an385", "Cortex-M3", _VALUES, flags, own)


def _is_m(one: Attributes) -> bool:
    return _number(one.get(_PROFILE)) == ord("M")


def _number(value: object) -> int:
    return value if isinstance(value, int) else 0


def _with_floats(flags: tuple[str, ...], hard: bool) -> tuple[str, ...]:
    return (*flags, *_THUMB, *(_HARD if hard else ("-mfloat-abi=softfp",)))


BOARDS = Boards(_EMULATOR, "qemu-system-arm", _choose)

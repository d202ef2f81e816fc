"""32-bit ARM and Thumb."""

from hot_anvil.core.arch.arm.boards import BOARDS
from hot_anvil.core.arch.images import ImageKind

TARGETS = r"arm(?!64)|thumb"  # how target triples start that it is for
HAS_OBJECT = True

_EMULATOR = ("qemu-arm", "-cpu", "max")
_FILLED = {102: (0, 2), 103: (0, 2)}
# Of the M profile, or a question to whatever catches exceptions; programs have neither.
_BEYOND = r"(?:svc|bkpt|wfi|wfe|cps\w*|(?:msr|mrs)\b(?!.*[ac]psr))\b"
# All but the compiler's own helpers, and what a linker makes.
_OF_A_C_LIBRARY = r"(?!__|_GLOBAL_OFFSET_TABLE_)|__aeabi_mem"
IMAGES = (
    ImageKind(
        machine=40,
        bits=32,
        emulator=_EMULATOR,
        filled=_FILLED,
        low_bit_is_mode=True,
        claims=".ARM.attributes",
        beyond=_BEYOND,
        stands_in=_OF_A_C_LIBRARY,
        boards=BOARDS,
    ),
)

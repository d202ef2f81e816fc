"""MSP430."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"msp430"  # how target triples start that it is for
HAS_OBJECT = True
CYCLES_ARE_FIXED = True  # see cycles.py
_FILLED = dict.fromkeys(range(1, 15), (0, 2))
IMAGES = (  # no library of helpers comes with its compilers
    ImageKind(105, 32, ("msp430 simulator",), _FILLED, chip=True, stands_in="."),
)

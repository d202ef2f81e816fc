"""AVR."""

from hot_anvil.core.arch.images import ImageKind

TARGETS = r"avr"  # how target triples start that it is for
HAS_OBJECT = True
CYCLES_ARE_FIXED = True  # see cycles.py
_FILLED = {**dict.fromkeys(range(2, 40), (0, 2)), 18: (0, 4)}
IMAGES = (ImageKind(83, 32, ("simavr",), _FILLED, chip=True, constants_in_ram=True),)

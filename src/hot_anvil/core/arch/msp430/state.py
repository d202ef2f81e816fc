"""Registers and flags of MSP430 chips while they are stepped through.

Flags: "MSP430x2xx Family User's Guide", section 3.2.3. The others of the status register say how
the chip runs.
"""

import re

from hot_anvil.core.arch.state import (
    MachineState,
    Register,
    flag_letters,
    not_logged,
)

# In the order in which native/msp430.c writes them.
_PLAIN = (Register("r1", 16), *(Register(f"r{number}", 16) for number in range(4, 16)),
          Register("r2", 16))  # fmt: skip

STATE = MachineState(
    plain=lambda bits: _PLAIN,
    wide=(),
    names_wide=re.compile(r"(?!)"),
    stack=lambda bits: "r1",
    flags="r2",
    flag_text=flag_letters(((8, "V"), (3, "GIE"), (2, "N"), (1, "Z"), (0, "C"))),
    logged=not_logged,
    called=lambda name, value: name,
    debug_name=lambda name: {"sp": "r1", "sr": "r2"}.get(name, name),
)

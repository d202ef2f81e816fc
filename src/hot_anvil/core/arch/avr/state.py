"""Registers and flags of AVR chips while they are stepped through.

Flags: "AVR Instruction Set Manual", the status register.
"""

import re

from hot_anvil.core.arch.state import (
    MachineState,
    Register,
    flag_letters,
    not_logged,
)

# In the order in which native/avr.c writes them.
_PLAIN = (*(Register(f"r{number}", 8) for number in range(32)), Register("sp", 16),
          Register("sreg", 8))  # fmt: skip

STATE = MachineState(
    plain=lambda bits: _PLAIN,
    wide=(),
    names_wide=re.compile(r"(?!)"),
    stack=lambda bits: "sp",
    flags="sreg",
    flag_text=flag_letters(((7, "I"), (6, "T"), (5, "H"), (4, "S"), (3, "V"), (2, "N"), (1, "Z"),
                            (0, "C"))),
    logged=not_logged,
    called=lambda name, value: name,
    debug_name=lambda name: name.lower(),
)  # fmt: skip

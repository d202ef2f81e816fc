"""Which function an instruction calls."""

import re
from collections.abc import Sequence

from hot_anvil.core.arch.records import Isa
from hot_anvil.core.code.records import Instruction


def callee(instruction: Instruction, isa: Isa) -> str:
    """Return the function that a call or a jump out of the function names, "" for others."""
    last = instruction.mnemonic.rpartition(" ")[2]
    if not (isa.calls.match(last) or isa.jumps.match(last)) or not instruction.operands:
        return ""
    name = instruction.operands[-1].lstrip("*#").replace("@GOTPCREL(%rip)", "")
    name = re.sub(r"@(?:plt|PLT)$", "", name)
    return "" if not re.match(r"[A-Za-z_]", name) or isa.register.fullmatch(name) else name


def only_jump(instructions: Sequence[Instruction], isa: Isa) -> str:
    """Return the function that code is nothing but a jump to, "" for other code."""
    if len(instructions) != 1 or isa.calls.match(instructions[0].mnemonic):
        return ""
    return callee(instructions[0], isa)

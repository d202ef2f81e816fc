"""Which function an instruction calls."""

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.code.records import Instruction

if TYPE_CHECKING:  # names of calls are looked for where no instruction set is loaded
    from hot_anvil.core.arch.records import Syntax


def callee(instruction: Instruction, syntax: "Syntax") -> str:
    """Return the function that a call or a jump out of the function names, "" for others."""
    last = instruction.mnemonic.rpartition(" ")[2]
    if not (syntax.calls.match(last) or syntax.jumps.match(last)) or not instruction.operands:
        return ""
    name = instruction.operands[-1].lstrip("*#")
    name = syntax.linkage.sub("", name)
    name = re.sub(r"@(?:plt|PLT)$", "", name)
    return "" if not re.match(r"[A-Za-z_]", name) or syntax.register.fullmatch(name) else name


def only_jump(instructions: Sequence[Instruction], syntax: "Syntax") -> str:
    """Return the function that code is nothing but a jump to, "" for other code."""
    if len(instructions) != 1 or syntax.calls.match(instructions[0].mnemonic):
        return ""
    return callee(instructions[0], syntax)

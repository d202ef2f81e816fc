"""What a function reaches: itself and the functions of its build that its code names."""

import re

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.calls import only_jump
from hot_anvil.core.code.records import Code, Function, join_parts, parts_by_owner

_NAME = re.compile(r"[A-Za-z_.$][\w.$]*")


def reached(code: Code, symbol: str) -> tuple[Function, ...]:
    """Return a function with its cold part and all it calls or refers to, the nearest first.

    Calls through pointers kept in data, and into libraries, are not followed.
    """
    by_owner = parts_by_owner(code.functions)
    order = [symbol] if symbol in by_owner else []
    for name in order:  # grows while it is gone through
        for part in by_owner[name]:
            for instruction in part.instructions:
                for operand in instruction.operands:
                    named = (word for word in _NAME.findall(operand) if word in by_owner)
                    order += [word for word in named if word not in order]
    return tuple(part for name in order for part in by_owner[name])


def folded_into(code: Code, symbol: str) -> str:
    """Return the function whose code a compiler uses for an equal one, itself where it has its own.

    What is left of a folded function is a jump.
    """
    by_owner = parts_by_owner(code.functions)
    other = only_jump(join_parts(by_owner.get(symbol, ())), syntax_of(code.isa))
    return other if other in by_owner else symbol

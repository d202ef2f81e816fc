"""What of a build's code can make an entry's time, told by texts that are equal for equal code."""

import re
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.code.records import Function

_LABEL = re.compile(r"\.L\w+")


class Body(NamedTuple):
    """What of a candidate's code can make its time."""

    instructions: tuple[str, ...]  # of its entry and of all functions it reaches, in order
    data_bytes: int  # that the build's code refers to by itself: tables, constants, variables


def instructions_of(functions: Sequence[Function], symbol: str) -> tuple[str, ...]:
    """Return the instructions of an entry and of the functions it reaches, in order."""
    return tuple(line for f in functions for line in _lines(f, symbol))


def _lines(function: Function, symbol: str) -> Sequence[str]:
    """Return a function's instructions; labels go by their order, constants by what they hold."""
    labels: dict[str, str] = {}

    def stand_in(found: re.Match[str]) -> str:
        label = found[0]
        return function.constants.get(label) or labels.setdefault(label, f".{len(labels)}")

    out = []
    for instruction in function.instructions:
        names = ("itself" if o in (function.name, symbol) else o for o in instruction.operands)
        words = (_LABEL.sub(stand_in, name) for name in names)
        out.append(f"{instruction.mnemonic} {' '.join(words)}")
    return out

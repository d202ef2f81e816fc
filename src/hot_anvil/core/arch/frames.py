"""What instruction sets have in common in how they take room on the stack."""

import re
from collections.abc import Callable, Sequence

_LISTED = re.compile(r"\b([a-z]+)(\d+)(?:-\1(\d+))?|\b(?:lr|fp|ip|sl|sb|ra|pc)\b")


def steps(grows: Sequence[str], shrinks: Sequence[str]) -> Callable[[str, str], int]:
    """Return a function from an instruction to the bytes that the frame grows by.

    The patterns' first group is the number of bytes.
    """
    patterns = [(1, re.compile(p)) for p in grows] + [(-1, re.compile(p)) for p in shrinks]

    def step(text: str, following: str) -> int:
        for sign, pattern in patterns:
            found = pattern.match(text)
            if found:
                return sign * int(found[1])
        return 0

    return step


def no_push(text: str) -> None:
    """Say that pushes and pops have no rule of their own."""


def listed(operand: str) -> list[str]:
    """Return the registers that an operand lists: ``{r4-r7,lr}``."""
    out = []
    for found in _LISTED.finditer(operand):
        if not found[2]:
            out.append(found[0])
            continue
        last = int(found[3] or found[2])
        out += [f"{found[1]}{number}" for number in range(int(found[2]), last + 1)]
    return out

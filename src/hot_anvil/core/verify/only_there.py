"""What code for a chip does that a program on the same processor cannot stand in for."""

import re
from collections.abc import Iterable

from hot_anvil.core.arch.images import ImageKind
from hot_anvil.core.code.records import Function


def why_only_there(functions: Iterable[Function], kind: ImageKind) -> str:
    """Return which instruction of functions only the chip itself answers, "" for none."""
    beyond = re.compile(kind.beyond)
    for function in functions:
        for instruction in function.instructions:
            if beyond.match(instruction.text.lower()):
                place = f" at {instruction.file}:{instruction.line}" if instruction.line else ""
                return (
                    f"{function.owner} has '{instruction.text}'{place}, which only the chip itself "
                    "can do"
                )
    return ""

"""Same code or not, same time or not: what a difference cannot come from.

Two candidates whose instructions are the same may still differ in time; then
it is where the code or its data lie, or what the data are, not what was
compiled. Two that tie may be made of other instructions altogether.
"""

import re
from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.code.records import Code, Function
from hot_anvil.core.measure.summary import Comparison
from hot_anvil.core.measure.verdict_words import FASTER, SLOWER, TIED
from hot_anvil.core.model.call_graph import folded_into, reached

_LABEL = re.compile(r"\.L\w+")


class Body(NamedTuple):
    """What of a candidate's code can make its time."""

    instructions: tuple[str, ...]  # of its entry and of all functions it reaches, in order
    data_bytes: int  # that the build's code refers to by itself: tables, constants, variables


class CodeIdentity(NamedTuple):
    """One candidate beside the one it is compared with."""

    candidate: str
    other: str
    same_instructions: bool
    text: str  # what follows for the reader, "" for nothing worth saying


def body_of(code: Code, symbol: str, data_bytes: int) -> Body:
    """Return what of a build's code can make an entry's time."""
    symbol = folded_into(code, symbol)
    functions = reached(code, symbol)
    return Body(tuple(line for f in functions for line in _lines(f, symbol)), data_bytes)


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


def compare(
    candidate: str, other: str, own: Body, theirs: Body, against: Comparison
) -> CodeIdentity:
    """Return what the instructions of two candidates say about their times."""
    same = own.instructions == theirs.instructions
    word = against.verdict.word
    text = ""
    if same and (word in (FASTER, SLOWER) or against.depends):
        rest = ["where code and data lie"]
        if own.data_bytes != theirs.data_bytes:
            rest.append(f"their data ({own.data_bytes} B against {theirs.data_bytes} B)")
        text = f"the same instructions: not the code, but {' or '.join(rest)}"
    elif not same and word == TIED and not against.depends:
        text = "other instructions, same time"
    return CodeIdentity(candidate, other, same, text)

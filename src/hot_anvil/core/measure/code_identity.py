"""Same code or not, same time or not: what a difference cannot come from.

Two candidates whose instructions are the same may still differ in time; then
it is where the code or its data lie, or what the data are, not what was
compiled. Two that tie may be made of other instructions altogether.
"""

from typing import NamedTuple

from hot_anvil.core.measure.summary import Comparison
from hot_anvil.core.measure.verdict_words import FASTER, SLOWER, TIED
from hot_anvil.core.model.entry_body import Body


class CodeIdentity(NamedTuple):
    """One candidate beside the one it is compared with."""

    candidate: str
    other: str
    same_instructions: bool
    text: str  # what follows for the reader, "" for nothing worth saying


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

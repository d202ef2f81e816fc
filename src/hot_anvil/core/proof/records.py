"""The outcome of proving that the code shown is the code that runs."""

from typing import Literal, NamedTuple

State = Literal["proved", "broken", "unknown"]
PROVED: State = "proved"
BROKEN: State = "broken"
UNKNOWN: State = "unknown"


class Proof(NamedTuple):
    """The outcome of the check that what is shown is what runs."""

    state: State
    why: str  # first disagreement, or why nothing is known
    instructions: int
    padding: int
    data: int = 0  # data among the code, as the disassembler counts it
    extra: int = 0  # machine instructions beyond one for each instruction shown


class DebugProof(NamedTuple):
    """Whether our debug flag left a build's code alone."""

    state: State
    why: str
    functions: tuple[str, ...]  # those whose code it changed

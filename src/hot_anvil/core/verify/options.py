"""What a check may be asked to do beyond the ordinary."""

from typing import NamedTuple

CALL_SECONDS = 5.0  # that a call may take before it counts as hung
REPEAT = 2  # calls on each input set


class CheckOptions(NamedTuple):
    """How to check."""

    call_seconds: float = CALL_SECONDS
    repeat: int = REPEAT  # calls on each input set of the bench
    values: bool = False  # keep what each candidate puts out
    draw: int = 0  # more input sets to try, of which those are kept that reach other lines


DEFAULTS = CheckOptions()


class Value(NamedTuple):
    """What a candidate puts out for one input set."""

    candidate: str
    inputs: str
    output: str

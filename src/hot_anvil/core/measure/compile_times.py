"""How long compiling takes, from several runs."""

import statistics
from collections.abc import Sequence
from typing import NamedTuple


class CompileTime(NamedTuple):
    """What compiling takes: the median of its runs, and an interval for it."""

    seconds: float
    low: float  # seconds
    high: float
    runs: int

    def more_than(self, other: "CompileTime") -> bool:
        """Tell whether it is told to take longer: their intervals are apart."""
        return self.low > other.high


def compile_time(seconds: Sequence[float]) -> CompileTime:
    """Return the time of compiling that was run more than once.

    The interval is the range of all runs: it holds the median with probability 1 - 2^(1 - runs)
    (the sign test; 94 % for 5), whatever the distribution of times.
    """
    return CompileTime(statistics.median(seconds), min(seconds), max(seconds), len(seconds))


def once(seconds: float) -> CompileTime:
    """Return a time that was taken once: how far it is off is not known."""
    return CompileTime(seconds, 0.0, float("inf"), 1)

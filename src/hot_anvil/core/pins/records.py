"""What one pin did, and what that says of its period."""

from collections.abc import Sequence
from itertools import pairwise
from statistics import median
from typing import NamedTuple


class Edge(NamedTuple):
    """One change of a pin."""

    at: float  # in ticks from the start
    level: int  # 0 or 1 from then on


class Trace(NamedTuple):
    """All changes of one pin, in the order of time."""

    pin: str
    edges: tuple[Edge, ...]

    @property
    def rises(self) -> list[float]:
        """When it goes up, in ticks."""
        return [edge.at for edge in self.edges if edge.level]


class Recording(NamedTuple):
    """What the pins did in one run, or under an instrument."""

    source: str  # the build, or the file that an instrument wrote
    traces: tuple[Trace, ...]
    end: float  # ticks that were looked at
    tick: float | None  # seconds, None where the clock is not known
    unit: str  # what a tick is: "cycles", or "s" for an instrument's
    note: str = ""  # how it ended, where that is worth a word


class Pins(NamedTuple):
    """The recordings of one program."""

    snippet: str
    recordings: tuple[Recording, ...]
    left_out: tuple[str, ...]  # builds that did not run so, and why


class Period(NamedTuple):
    """From one rise of a pin to the next; in ticks."""

    whole: int  # periods, first rise to last
    middle: float  # median
    shortest: float
    longest: float
    first: float  # the first one, which start-up may stretch
    high: float  # share of the time that it is high, over whole periods

    @property
    def jitter(self) -> float:
        """By how much the periods after the first differ."""
        return self.longest - self.shortest


def period_of(trace: Trace) -> Period | None:
    """Return a pin's period; None for one that does not rise twice.

    Shortest, longest and median are of those after the first, where there are others.
    """
    rises = trace.rises
    if len(rises) < 2:
        return None
    periods = [after - before for before, after in pairwise(rises)]
    rest = periods[1:] or periods
    return Period(
        len(periods), median(rest), min(rest), max(rest), periods[0],
        _high(trace.edges, rises[0], rises[-1]) / (rises[-1] - rises[0]),
    )  # fmt: skip


def _high(edges: Sequence[Edge], first: float, last: float) -> float:
    """Return how long a pin is high between two of its rises."""
    inside = [edge for edge in edges if first <= edge.at <= last]
    return sum(after.at - before.at for before, after in pairwise(inside) if before.level)

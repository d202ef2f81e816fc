"""What runs on other machines: no times, but exact counts, a ranking for each target.

Counts of one target are compared with each other only: another's instructions do other work.
"""

import math
import re
from collections.abc import Iterable, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.measure.measurements import Count

_CLOCK = re.compile(r"-DF_CPU=(\d+)[uUlL]*")
INSTRUCTIONS, CYCLES = "instructions", "cycles"
SAID = {
    INSTRUCTIONS: "instructions executed by one warm call, what it calls and its return included; "
    "exact, and no time: caches, pipelines and how many run at once count for nothing here",
    CYCLES: "cycles of one call on the simulated chip, from its first instruction through its "
    "return; exact, where no interrupt comes in between; least, most and the deepest "
    "stack: over all inputs that it was checked with",
}


class ChipCost(NamedTuple):
    """What one call costs on a chip."""

    cycles: Count
    stack: int  # bytes at the deepest, the return address included


class OnChip(NamedTuple):
    """What a candidate takes of a chip without a system."""

    flash: int  # bytes of its build's own sources, start code and libraries left out
    ram: int
    stack: int | None = None  # bytes at the deepest over all inputs, where that is known
    clock_hz: float | None = None  # where that is known
    # Cycles and the inputs that took them, over all that it was checked with; None: not known.
    least: tuple[int, str] | None = None
    most: tuple[int, str] | None = None
    stand_ins: tuple[str, ...] = ()  # functions it calls that are not what would run on the chip


_NO_CHIP = OnChip(0, 0)


class CountedCandidate(NamedTuple):
    """A candidate, by the instructions it executes."""

    candidate: str
    counts: tuple[tuple[str, Count], ...]  # (inputs, of one warm call)
    # Geometric mean of its counts to the first's, over the inputs that all were counted with.
    to_fewest: float | None
    chip: OnChip | None = None  # None where there is a system

    @property
    def stack(self) -> int | None:
        """Bytes of stack at the deepest, where that is known."""
        return (self.chip or _NO_CHIP).stack

    @property
    def clock_hz(self) -> float | None:
        """The chip's clock, where that is known."""
        return (self.chip or _NO_CHIP).clock_hz

    def seconds(self, count: Count) -> float | None:
        """Return the time of so many cycles, None where the clock or the count is not known."""
        if not self.clock_hz or count.instructions is None:
            return None
        return count.instructions / self.clock_hz


class Elsewhere(NamedTuple):
    """The correct candidates of one target, the fewest instructions first."""

    target: str
    counted_by: str
    unit: str  # INSTRUCTIONS or CYCLES
    candidates: tuple[CountedCandidate, ...]
    swept: str = ""  # the one number that the sweep changes, "" for none or several
    sizes: tuple[int, ...] = ()  # its values, as the counts go

    @property
    def stand_ins(self) -> tuple[str, ...]:
        """Functions that candidates call and that are not what would run on the chip."""
        found = {name for c in self.candidates if c.chip for name in c.chip.stand_ins}
        return tuple(sorted(found))

    @property
    def fewest(self) -> tuple[str, ...]:
        """The candidates that execute the fewest, none where nothing was counted."""
        return tuple(c.candidate for c in self.candidates if c.to_fewest == 1.0)


def clock_of(flags: Iterable[str], otherwise: float) -> float | None:
    """Return the hertz that flags give a chip as ``F_CPU``, else what the bench says."""
    told = [found for flag in flags if (found := _CLOCK.fullmatch(flag))]
    return float(told[-1][1]) if told else otherwise or None


def extremes(costs: Iterable[tuple[Count, str]]) -> tuple[tuple[int, str], tuple[int, str]] | None:
    """Return the least and the most cycles with the inputs that took them, None where none did."""
    known = [(count.instructions, inputs) for count, inputs in costs if count.instructions]
    if not known:
        return None
    return min(known, key=lambda pair: pair[0]), max(known, key=lambda pair: pair[0])


def rank_counts(
    target: str,
    counted_by: str,
    names: Sequence[str],
    counts: Mapping[tuple[str, str], Count],
    unit: str = INSTRUCTIONS,
    chips: Mapping[str, OnChip] = MappingProxyType({}),
) -> Elsewhere:
    """Rank the candidates of a target; those that could not be counted come last."""
    own = {name: tuple((at, c) for (n, at), c in counts.items() if n == name) for name in names}
    common = _counted_for_all(own)
    means = {
        name: _log_mean([count for label, count in found if label in common])
        for name, found in own.items()
    }
    known = [mean for mean in means.values() if mean is not None]
    least = min(known, default=0.0)
    rows = [
        CountedCandidate(
            name, own[name], None if mean is None else math.exp(mean - least), chips.get(name)
        )
        for name, mean in means.items()
    ]
    order = sorted(rows, key=lambda row: (row.to_fewest is None, row.to_fewest or 0.0))
    return Elsewhere(target, counted_by, unit, tuple(order))


def _counted_for_all(own: Mapping[str, Sequence[tuple[str, Count]]]) -> set[str]:
    """Return the inputs that every candidate was counted with which was counted at all."""
    known = [{label for label, count in found if count.instructions} for found in own.values()]
    return set.intersection(*filter(None, known)) if any(known) else set()


def _log_mean(counts: Sequence[Count]) -> float | None:
    known = [c.instructions for c in counts if c.instructions]
    if not counts or len(known) < len(counts):
        return None
    return math.fsum(map(math.log, known)) / len(known)

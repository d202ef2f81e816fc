"""How time grows over a sweep: a fixed cost per call, a cost per element, and crossings."""

import math
from collections.abc import Callable, Mapping, Sequence
from itertools import pairwise
from typing import NamedTuple

from hot_anvil.core.measure.elsewhere import Elsewhere
from hot_anvil.core.measure.summary import Summary
from hot_anvil.core.measure.verdict_words import SLOWER

FEWEST_SIZES = 3  # two sizes fit any straight line
STRAIGHT = 0.15  # misfit up to which times count as a straight line over the sizes


class Scaling(NamedTuple):
    """The straight line nearest to a candidate's times, in relative terms."""

    candidate: str
    per_call: float  # seconds, whatever the size
    per_element: float  # seconds
    misfit: float  # the largest |time / line - 1|
    curve: str = ""  # what tells the times where the line does not, such as "n log n"
    curve_misfit: float = 0.0  # the largest |time / curve - 1|

    @property
    def straight(self) -> bool:
        """True where the line tells the times."""
        return self.misfit <= STRAIGHT


# Other ways to grow; the sizes must differ by FAR before one is told from a line.
CURVES: Mapping[str, Callable[[float], float]] = {
    "log n": lambda n: math.log(n),
    "n log n": lambda n: n * math.log(n),
    "n^2": lambda n: n**2,
    "n^3": lambda n: n**3,
}
FEWEST_FOR_CURVES = 4
FAR = 8.0  # largest size over the smallest
CLEARER = 3.0  # times nearer than the line that a curve must be


class Crossing(NamedTuple):
    """Between two sizes the fastest candidate changes."""

    below: str  # fastest at the smaller size
    above: str
    smaller: int
    larger: int
    at: float  # about where their times are equal


def sizes_of(summaries: Sequence[Summary]) -> tuple[str, tuple[int, ...]]:
    """Return the one number that a sweep changes and its values; ("", ()) for none or several."""
    points = [s.measurements[0].numbers for s in summaries]
    changing = [name for name in points[0] if len({p[name] for p in points}) > 1] if points else []
    if len(changing) != 1:
        return "", ()
    return changing[0], tuple(point[changing[0]] for point in points)


def elements_of(summary: Summary, name: str) -> int:
    """Return how many elements a call works on: what the snippet says, else the swept number."""
    measurements = summary.measurements[0]
    return measurements.elements or measurements.numbers[name]


def scalings(summaries: Sequence[Summary]) -> tuple[Scaling, ...]:
    """Return each timed candidate's line; none without a sweep over enough sizes of one number."""
    name, sizes = sizes_of(summaries)
    if len(set(sizes)) < FEWEST_SIZES:
        return ()
    elements = [elements_of(summary, name) for summary in summaries]
    if len(set(elements)) < FEWEST_SIZES:
        return ()
    out = []
    for candidate in summaries[0].measurements[0].candidates:
        times = [summary.result(candidate).seconds_per_call for summary in summaries]
        if all(times):
            out.append(_scaling(candidate, elements, [t for t in times if t]))
    return tuple(out)


def _scaling(candidate: str, elements: Sequence[int], costs: Sequence[float]) -> Scaling:
    line = Scaling(candidate, *fit_line(elements, costs))
    if line.straight:
        return line
    name, misfit = fit_curve(elements, costs)
    clear = misfit <= STRAIGHT and misfit * CLEARER <= line.misfit
    return line._replace(curve=name, curve_misfit=misfit) if clear else line


def count_scalings(one: Elsewhere) -> tuple[Scaling, ...]:
    """Return the lines of what was counted elsewhere: its seconds are cycles or instructions."""
    if len(set(one.sizes)) < FEWEST_SIZES:
        return ()
    out = []
    for candidate in one.candidates:
        costs = [count.instructions for _, count in candidate.counts]
        if all(costs):
            out.append(_scaling(candidate.candidate, one.sizes, [float(c) for c in costs if c]))
    return tuple(out)


def fit_curve(sizes: Sequence[int], seconds: Sequence[float]) -> tuple[str, float]:
    """Return (name, misfit) of the nearest of CURVES with a fixed cost; infinite where none fits.

    Too few sizes, or too near to each other, carry no curve.
    """
    least, most = min(sizes), max(sizes)
    if len(set(sizes)) < FEWEST_FOR_CURVES or least < 1 or most < FAR * least:
        return "", math.inf
    fits = {name: _fit([grows(n) for n in sizes], seconds)[2] for name, grows in CURVES.items()}
    best = min(fits, key=lambda name: fits[name])
    return best, fits[best]


def fit_line(sizes: Sequence[int], seconds: Sequence[float]) -> tuple[float, float, float]:
    """Return (seconds per call, seconds per element, misfit) of the nearest line.

    Least squares of time / line - 1, neither cost below zero (scipy.optimize.nnls).
    """
    return _fit(sizes, seconds)


def _fit(sizes: Sequence[float], seconds: Sequence[float]) -> tuple[float, float, float]:
    import numpy as np
    from scipy.optimize import nnls

    n, t = np.array(sizes, dtype=float), np.array(seconds)
    (fixed, each), _ = nnls(np.column_stack([1 / t, n / t]), np.ones(len(t)))
    misfit = float(np.max(np.abs((fixed + each * n) / t - 1)))
    return float(fixed), float(each), misfit


def crossings(summaries: Sequence[Summary]) -> tuple[Crossing, ...]:
    """Return where the fastest candidate changes from one size to the next.

    Only where each is told faster than the other at its own size. Where they
    cross is where their lines meet, if these tell the times and meet between the
    sizes, else read off a straight line between the log ratios over log size.
    """
    name, sizes = sizes_of(summaries)
    if not sizes:
        return ()
    plain = all(elements_of(s, name) == n for s, n in zip(summaries, sizes, strict=True))
    lines = {line.candidate: line for line in scalings(summaries) if plain and line.straight}
    ordered = sorted(zip(sizes, summaries, strict=True), key=lambda pair: pair[0])
    out = []
    for (smaller, before), (larger, after) in pairwise(ordered):
        below, above = before.best, after.best
        behind = before.to_best[above].verdict if above != below else None
        ahead = after.to_best[below].verdict if above != below else None
        if behind and ahead and behind.word == SLOWER and ahead.word == SLOWER:
            at = _meeting(lines.get(below), lines.get(above))
            if not smaller < at < larger:
                first, last = math.log(behind.ratio), math.log(ahead.ratio)
                share = first / (first + last)
                at = math.exp(math.log(smaller) * (1 - share) + math.log(larger) * share)
            out.append(Crossing(below, above, smaller, larger, at))
    return tuple(out)


def _meeting(one: Scaling | None, other: Scaling | None) -> float:
    """Return the size at which two lines meet, NaN for none."""
    if one is None or other is None or one.per_element == other.per_element:
        return math.nan
    return (other.per_call - one.per_call) / (one.per_element - other.per_element)


def gain_of(ratio: float, share: float) -> float:
    """Return the whole program's time over what it was, when a part of it changes.

    ``share`` is the part's share of the whole, ``ratio`` its time over what it
    was (Amdahl, AFIPS 1967).
    """
    return 1 - share + share * ratio

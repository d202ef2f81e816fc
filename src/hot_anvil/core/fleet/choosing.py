"""One build for all machines: how far it is behind the best of each class, and what more gain."""

import math
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations
from typing import NamedTuple

from hot_anvil.core.measure.summary import Summary

_MOST_TOGETHER = 4  # builds that a dispatch chooses among
_MOST_SETS = 200_000  # of builds that are gone through


class Ratio(NamedTuple):
    """A ratio of two times with its interval."""

    value: float
    low: float
    high: float


class ClassTimes(NamedTuple):
    """What was measured on one class of machines: each candidate's time over the fastest one's."""

    name: str
    weight: float  # what a time there counts beside one elsewhere
    ratios: Mapping[str, Ratio]
    best: str


class Everywhere(NamedTuple):
    """One candidate on all classes."""

    candidate: str
    worst: Ratio  # over the fastest, where it is furthest behind
    worst_class: str
    mean: Ratio  # geometric, weighted
    by_class: Mapping[str, Ratio]


class Dispatch(NamedTuple):
    """Several builds shipped together, of which each class runs the one that suits it."""

    by_class: Mapping[str, str]  # class -> candidate
    worst: float
    mean: float
    gain: Ratio  # mean time over that of the one build for all

    @property
    def candidates(self) -> tuple[str, ...]:
        """The builds to ship."""
        return tuple(dict.fromkeys(self.by_class.values()))


class Turnover(NamedTuple):
    """Two candidates, of which another one is faster on another class."""

    one: str
    other: str
    first: str  # class where ``one`` is faster
    second: str  # class where ``other`` is
    ratio_first: Ratio  # time of ``one`` over that of ``other``
    ratio_second: Ratio


class Choice(NamedTuple):
    """What to ship for one snippet."""

    snippet: str
    ranking: tuple[Everywhere, ...]  # what is correct on every class, the best for all first
    tied: tuple[str, ...]  # that cannot be told from the first, it included
    dispatches: tuple[Dispatch, ...]  # the best of 2, 3 ... builds that noise does not explain
    turnovers: tuple[Turnover, ...]
    missing: Mapping[str, tuple[str, ...]]  # candidate measured on some -> classes without it

    @property
    def choice(self) -> str | None:
        """The one build for all, None where none is correct on every class."""
        return self.ranking[0].candidate if self.ranking else None


def class_times(name: str, weight: float, summary: Summary) -> ClassTimes:
    """Return what a summary of one class says of each candidate beside the fastest."""
    ratios = {
        candidate: Ratio(one.verdict.ratio, one.verdict.low, one.verdict.high)
        for candidate, one in summary.to_best.items()
    }
    return ClassTimes(name, weight, ratios, summary.best)


def choose(snippet: str, classes: Sequence[ClassTimes]) -> Choice:
    """Return the build whose worst ratio to each class's best is the smallest, and what more gain.

    Intervals of a worst ratio are exact for simultaneous ones (the largest of the lows and of the
    highs); those of means add the classes' half widths in quadrature, as independent.
    """
    every = dict.fromkeys(name for one in classes for name in one.ratios)
    shared = [name for name in every if all(name in one.ratios for one in classes)]
    missing = {
        name: tuple(one.name for one in classes if name not in one.ratios)
        for name in every
        if name not in shared
    }
    ranking = sorted((_everywhere(name, classes) for name in shared), key=_order)
    tied = tuple(e.candidate for e in ranking if e.worst.low <= ranking[0].worst.high)
    dispatches = tuple(_dispatches(ranking[0], classes)) if ranking else ()
    return Choice(
        snippet, tuple(ranking), tied, dispatches, tuple(_turnovers(shared, classes)), missing
    )


def _order(one: Everywhere) -> tuple[float, float]:
    return one.worst.value, one.mean.value


def _everywhere(candidate: str, classes: Sequence[ClassTimes]) -> Everywhere:
    ratios = {one.name: one.ratios[candidate] for one in classes}
    at = max(ratios, key=lambda name: ratios[name].value)
    worst = Ratio(
        ratios[at].value, max(r.low for r in ratios.values()), max(r.high for r in ratios.values())
    )
    weights = {one.name: one.weight for one in classes}
    whole = sum(weights.values())
    centre = sum(weights[n] * math.log(r.value) for n, r in ratios.items()) / whole
    half = math.sqrt(sum((weights[n] * _half(r)) ** 2 for n, r in ratios.items())) / whole
    return Everywhere(candidate, worst, at, _ratio(centre, half), ratios)


def _half(ratio: Ratio) -> float:
    return math.log(ratio.high / ratio.low) / 2 if ratio.low > 0 else math.inf


def _ratio(centre: float, half: float) -> Ratio:
    high = math.exp(centre + half) if centre + half < 700 else math.inf
    return Ratio(math.exp(centre), math.exp(centre - half), high)


def _dispatches(one: Everywhere, classes: Sequence[ClassTimes]) -> Iterator[Dispatch]:
    """Give for 2, 3 ... builds the best set, while it gains more than noise leaves open."""
    every = list(dict.fromkeys(name for own in classes for name in own.ratios))
    before = 1.0
    for count in range(2, min(len(classes), _MOST_TOGETHER) + 1):
        if math.comb(len(every), count) > _MOST_SETS:
            # The best somewhere first: nothing else can be the best of a class.
            every = list(dict.fromkeys(own.best for own in classes))
        found = [_dispatch(names, one, classes) for names in combinations(every, count)]
        able = [dispatch for dispatch in found if dispatch]
        best = min(able, key=lambda d: (d.mean, d.worst), default=None)
        if best is None or best.gain.high >= before:
            return
        yield best
        before = best.gain.value


def _dispatch(
    names: Sequence[str], one: Everywhere, classes: Sequence[ClassTimes]
) -> Dispatch | None:
    """Return what these builds give, None where a class can run none of them."""
    chosen = {}
    for own in classes:
        able = [name for name in names if name in own.ratios]
        if not able:
            return None
        chosen[own.name] = min(able, key=lambda name: own.ratios[name].value)
    if len(set(chosen.values())) < len(names):
        return None  # as good with fewer
    whole = sum(own.weight for own in classes)
    ratios = {own.name: own.ratios[chosen[own.name]] for own in classes}
    mean = math.exp(sum(o.weight * math.log(ratios[o.name].value) for o in classes) / whole)
    centre, half = 0.0, 0.0
    for own in classes:
        if chosen[own.name] == one.candidate:
            continue
        theirs, ours = ratios[own.name], one.by_class[own.name]
        centre += own.weight * math.log(theirs.value / ours.value) / whole
        half += (own.weight * (_half(theirs) + _half(ours)) / whole) ** 2
    worst = max(ratio.value for ratio in ratios.values())
    return Dispatch(chosen, worst, mean, _ratio(centre, math.sqrt(half)))


def _turnovers(names: Sequence[str], classes: Sequence[ClassTimes]) -> list[Turnover]:
    """Return the pairs whose order is told, and told otherwise on another class.

    The largest of such differences first.
    """
    found = []
    for one, other in combinations(names, 2):
        over = {own.name: _between(own.ratios[one], own.ratios[other]) for own in classes}
        first = min(over, key=lambda name: over[name].value)
        second = max(over, key=lambda name: over[name].value)
        if over[first].high < 1 < over[second].low:
            found.append(Turnover(one, other, first, second, over[first], over[second]))
    return sorted(found, key=lambda t: t.ratio_first.value / t.ratio_second.value)


def _between(one: Ratio, other: Ratio) -> Ratio:
    """Return the ratio of two candidates, each known beside the fastest; no narrower than it is."""
    if other.low <= 0:
        return Ratio(one.value / other.value, 0.0, math.inf)
    return Ratio(one.value / other.value, one.low / other.high, one.high / other.low)

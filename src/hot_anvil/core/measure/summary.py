"""From what was measured to ratios with intervals and words."""

import math
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Literal, NamedTuple

from hot_anvil.core.measure.differences import Between, Differences
from hot_anvil.core.measure.measurements import Measurements, Usage
from hot_anvil.core.measure.statistics import Estimate, floor_of, word_for
from hot_anvil.core.measure.verdict_words import (
    BASELINE,
    BEST,
    FASTER,
    SLOWER,
    TIED,
    Word,
)

ON_LOAD, ON_PLACEMENT = "load", "placement"
_MOST = 50.0  # log ratio; what is wider says nothing


class RatioVerdict(NamedTuple):
    """A ratio of two times, its interval and the word for it."""

    ratio: float
    low: float
    high: float
    word: Word


class Comparison(NamedTuple):
    """One candidate's time over another's."""

    verdict: RatioVerdict  # whatever the placement
    visible: float  # the smallest difference that would have been told, as a share
    depends: str  # what turns the answer over: "load", "placement", or "" for nothing
    as_built: RatioVerdict | None  # where the linker puts the code by itself
    quiet: RatioVerdict | None  # while the machine was quiet, and while it was busy
    busy: RatioVerdict | None
    placements: tuple[float, ...]  # the ratio at each placement, () where too few were seen


class Result(NamedTuple):
    """One candidate at one sweep point, or over all of them."""

    snippet: str
    inputs: str  # "" without a sweep, "all" over several points
    candidate: str
    seconds_per_call: float | None  # median, mean over placements; None over several points
    quiet_seconds: float | None  # the same of the 10th percentile: the machine at its quietest
    first_seconds: float | None  # median of the first calls in fresh processes
    seconds_per_element: float | None  # None where the snippet does not say what an element is
    comparison: Comparison  # the baseline
    same_as: str  # the candidate whose very same code was timed, "" for its own
    placement_spread: float | None  # time at its worst placement over time at its best
    usage: Usage | None = None  # of a whole program


class Summary(NamedTuple):
    """Results of one measurement, with the pairwise view that ranking needs."""

    results: tuple[Result, ...]
    to_best: Mapping[str, Comparison]
    best: str
    floor: float  # log ratio
    generations: int
    rounds: int
    disturbed: float  # share of batches during which the process was put off the CPU
    busy: float  # share of batches during which the machine was slower than at its quietest
    measurements: tuple[Measurements, ...]

    def result(self, candidate: str) -> Result:
        """Return the result of one candidate."""
        return next(r for r in self.results if r.candidate == candidate)


def settled(all_measurements: Sequence[Measurements]) -> frozenset[int]:
    """Return the candidates that need no more measuring to be placed behind the best.

    At every sweep point they are slower by more than their interval and by
    five times what noise leaves open.
    """
    out = set(range(len(all_measurements[0].candidates)))
    for measurements in all_measurements:
        pairs = _Pairs([measurements])
        for k in list(out):
            behind = pairs.compare(k, pairs.best).over
            most = max(behind.estimate.half_width, 5 * behind.noise)
            if behind.estimate.centre <= most or k == measurements.generations[-1].control_of:
                out.discard(k)
    return frozenset(out)


def compare_two(measurements: Measurements, one: str, other: str) -> Comparison:
    """Return one candidate's time over another's."""
    pairs = _Pairs([measurements])
    a, b = (
        measurements.candidates.index(measurements.same_as.get(name, name)) for name in (one, other)
    )
    return _comparison(pairs.compare(a, b), floor_of(pairs.differences.control()))


def undecided(
    measurements: Measurements,
    baseline: str | None,
    narrow: float,
    watched: Sequence[tuple[str, str]] = (),
) -> float:
    """Return how far the widest interval that matters is from narrow enough (<= 0: done).

    An interval is narrow enough when noise leaves less than ``narrow`` (a log
    ratio) open, or less than a fifth of the difference, which no noise
    explains. Looks at all pairs with the best and at those ``watched``; unless
    ``baseline`` is None also at those with it, and where the linker puts the
    code by itself, where twice as much may be open.
    """
    pairs = _Pairs([measurements])
    anchors = {pairs.best} if baseline is None else {
        pairs.best, measurements.candidates.index(baseline)
    }  # fmt: skip
    asked = {(k, anchor) for anchor in anchors for k in range(len(measurements.candidates))}
    places = {name: k for k, name in enumerate(measurements.candidates)}
    for names in watched:
        one, other = (places[measurements.same_as.get(name, name)] for name in names)
        asked.add((one, other))
    worst = -narrow
    for one, other in asked:
        if one != other:
            between = pairs.compare(one, other)
            wanted = max(narrow, abs(between.over.estimate.centre) / 5)
            worst = max(worst, between.over.noise - wanted)
            if baseline is not None and between.as_built:
                worst = max(worst, between.as_built.half_width - 2 * wanted)
    return worst


def current_best(measurements: Measurements) -> int:
    """Return the column of the candidate that looks fastest so far."""
    return _Pairs([measurements]).best


def summarise(all_measurements: Sequence[Measurements], baseline: str) -> Summary:
    """Return the results of measurements against ``baseline`` (a timed candidate).

    Over several sweep points ratios are the mean of their log ratios.
    """
    first = all_measurements[0]
    alone = len(all_measurements) == 1
    names = first.candidates
    pairs = _Pairs(all_measurements)
    floor = floor_of(pairs.differences.control())
    at_baseline, best = names.index(baseline), pairs.best
    times = _Times(first) if alone else None
    results, to_best = [], {}
    for k, name in enumerate(names):
        seconds = times.typical(k, 0.5) if times else None
        result = Result(
            first.snippet,
            first.inputs if alone else "all",
            name,
            seconds,
            times.typical(k, 0.1) if times else None,
            times.first(k) if times else None,
            seconds / first.elements if seconds and first.elements else None,
            _comparison(pairs.compare(k, at_baseline), floor, BASELINE if k == at_baseline else ""),
            "",
            pairs.differences.placement_spread(k),
            first.usage.get(name),
        )
        results.append(result)
        to_best[name] = _comparison(pairs.compare(k, best), floor, BEST if k == best else "")
        for copy in (c for c, timed in first.same_as.items() if timed == name):
            own = result.comparison
            results.append(result._replace(candidate=copy, same_as=name, comparison=_tied(own)))
            to_best[copy] = _tied(to_best[name])
    generations = [g for measurements in all_measurements for g in measurements.generations]
    return Summary(
        tuple(results),
        to_best,
        names[best],
        floor,
        len(first.generations),
        sum(len(g.times) for g in generations),
        sum(g.disturbed for g in generations) / len(generations),
        pairs.differences.busy_share,
        tuple(all_measurements),
    )


def _tied(own: Comparison) -> Comparison:
    """Return what a copy of the very same code is: tied where the other is the measure."""
    word = TIED if own.verdict.word in (BASELINE, BEST) else own.verdict.word
    return own._replace(verdict=own.verdict._replace(word=word))


def _told(
    estimate: Estimate, floor: float, narrows: float, word: Word | Literal[""] = ""
) -> RatioVerdict:
    centre, half = estimate
    return RatioVerdict(
        math.exp(centre),
        math.exp(max(centre - half, -_MOST)),
        math.exp(centre + half) if centre + half < _MOST else math.inf,
        word or word_for(estimate, floor, narrows),
    )


def _comparison(between: Between, floor: float, word: Word | Literal[""] = "") -> Comparison:
    """Put a ratio into words, and say what turns it over."""
    over = between.over
    told = _told(over.estimate, floor, over.narrows, word)
    as_built, quiet, busy = (
        _told(e, floor, e.half_width) if e and not word else None
        for e in (between.as_built, between.quiet, between.busy)
    )
    depends = ""
    if not word and quiet and busy and {quiet.word, busy.word} == {FASTER, SLOWER}:
        depends, told = ON_LOAD, told._replace(word=TIED)
    elif not word and _turns_over(between, floor, told.word, as_built):
        depends = ON_PLACEMENT
    open_to = max(over.estimate.half_width, floor)
    visible = math.exp(open_to) - 1 if open_to < _MOST else math.inf
    ratios = tuple(math.exp(d) for d in over.means)
    return Comparison(told, visible, depends, as_built, quiet, busy, ratios)


def _turns_over(between: Between, floor: float, word: str, as_built: RatioVerdict | None) -> bool:
    """Tell whether where the code lies decides: a win that placement alone can take away."""
    if word == TIED and as_built and as_built.word in (FASTER, SLOWER):
        return True
    means = between.over.means
    if not means:
        return False
    # What noise leaves open at one placement is wider than over all of them.
    least = max(floor, between.over.noise * len(means) ** 0.5)
    low, high = min(means), max(means)
    return (word == TIED and high - low > 2 * least) or (
        (word == FASTER and high > least) or (word == SLOWER and low < -least)
    )


class _Times:
    """Times of one measurement's columns."""

    def __init__(self, measurements: Measurements) -> None:
        self._measurements = measurements

    def typical(self, k: int, quantile: float) -> float:
        """Return seconds per call: a quantile over rounds at each placement, then the
        geometric mean over placements, so that times and ratios tell the same.
        """
        import numpy as np

        by_place: dict[int, list[float]] = {}
        for generation in self._measurements.generations:
            own = [row[k] for row in generation.times if row[k] == row[k]]
            by_place.setdefault(generation.placement, []).extend(own)
        logs = [np.log(np.quantile(times, quantile)) for times in by_place.values() if times]
        return float(np.exp(np.mean(logs)))

    def first(self, k: int) -> float | None:
        """Return the median of the first calls."""
        import numpy as np

        own = [g.first[k] for g in self._measurements.generations if g.first[k] == g.first[k]]
        return float(np.median(own)) if own else None


class _Pairs:
    """Comparisons of any two candidates."""

    def __init__(self, all_measurements: Sequence[Measurements]) -> None:
        self.differences = Differences(all_measurements)

    @cached_property
    def best(self) -> int:
        """The candidate that no other is faster than, pair by pair."""
        columns = range(self.differences.count)
        best = 0
        for _ in columns:  # medians of differences need not agree with their difference
            ahead = min(columns, key=lambda k: self._behind(k, best))
            if self._behind(ahead, best) >= 0:
                break
            best = ahead
        return best

    def _behind(self, k: int, other: int) -> float:
        return 0.0 if k == other else self.differences.ratio(k, other)

    def compare(self, k: int, other: int) -> Between:
        """Return what is known of the ratio of two candidates."""
        return self.differences.between(k, other)

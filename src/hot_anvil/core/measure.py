"""From the times of many visits to ratios with intervals and words."""

import math
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.stats import (
    Estimate,
    centred_effects,
    known,
    noise_floor,
    pair_alpha,
    trimmed_interval,
    with_placement,
    word_for,
)

if TYPE_CHECKING:
    from numpy.typing import NDArray

SAMPLE_SECONDS = 0.0002
SIMILAR = 1.5
POLISH = 8


class Turn(NamedTuple):
    """A set of fresh processes, each candidate's program at one placement."""

    placements: tuple[int, ...]  # per column, bytes after a 64-byte boundary; -1 if it did not run
    rounds: tuple[tuple[float, ...], ...]  # (round, column): seconds per call, NaN if not run


class Generation(NamedTuple):
    """One generation at one sweep point; the last column is the twin.

    Its turns take every candidate through all placements, so that the mean
    over turns does not depend on how any of them happens to lie.
    """

    turns: tuple[Turn, ...]


class Contest(NamedTuple):
    """All that was measured at one sweep point, before any statistics."""

    snippet: str
    inputs: str  # label of the sweep point
    candidates: tuple[str, ...]  # one per column but the last
    twin_of: int  # column whose second copy is the last column
    generations: tuple[Generation, ...]
    disturbed: float  # share of visits during which the process was put off the CPU
    same_as: Mapping[str, str]  # candidate not timed -> timed one with the very same code


class Result(NamedTuple):
    """One candidate at one sweep point, or over all of them."""

    snippet: str
    inputs: str  # "" without a sweep, "all" over several points
    candidate: str
    seconds_per_call: float | None  # median, mean over placements; None over several points
    quiet_seconds: float | None  # the same of the 10th percentile: the machine at its quietest
    ratio: float  # time over the baseline's time
    low: float
    high: float
    word: str  # against the baseline
    same_as: str  # the candidate whose very same code was timed, "" for its own
    placement_spread: float  # time at its worst placement over time at its best


class Standing(NamedTuple):
    """Results of one contest, with the pairwise view that ranking needs."""

    results: tuple[Result, ...]
    to_best: Mapping[str, tuple[Estimate, str]]  # candidate -> (log ratio to the best, word)
    best: str
    floor: float  # log ratio
    generations: int
    rounds: int
    disturbed: float


def samples_for(seconds_per_call: float) -> tuple[int, int]:
    """Return (samples of a visit, how many of the first to drop) for a call this long."""
    if seconds_per_call > 0.002:
        return 1, 0
    return (2, 1) if seconds_per_call > SAMPLE_SECONDS else (6, 1)


def shared_calls(per_call: Sequence[float]) -> tuple[tuple[int, float], ...]:
    """Return (calls of a sample, seconds a call counts as) for each candidate.

    ``per_call`` holds the candidates' calibrated seconds per call. Candidates
    that may be equal must make the same number of calls: each visit warms
    caches and branch predictors anew, so a sample of more calls is faster per
    call, and calibrating each by itself made equal code differ by up to 3 %.
    Neighbours in speed within SIMILAR of each other therefore share the number
    that fits the fastest of them.
    """
    order = sorted(range(len(per_call)), key=per_call.__getitem__)
    out = [(1, 0.0)] * len(per_call)
    leader = previous = 0.0
    for k in order:
        seconds = max(per_call[k], 1e-12)
        if not previous or seconds > previous * SIMILAR:
            leader = seconds
        previous = seconds
        out[k] = (max(1, round(SAMPLE_SECONDS / leader)), leader)
    return tuple(out)


def effects_of(contest: Contest) -> "NDArray[Any]":
    """Return the effects of all columns, shape (generations, columns), in log seconds.

    NaN where a candidate was no longer measured.
    """
    import numpy as np

    columns = _lasting(contest)
    return np.array(
        [
            np.mean([_turn_effects(turn, columns) for turn in generation.turns], axis=0)
            for generation in contest.generations
        ]
    )


def _lasting(contest: Contest) -> "NDArray[Any]":
    """Return the columns that were measured to the end: the others are centred on these."""
    import numpy as np

    last = contest.generations[-1].turns[-1]
    return np.flatnonzero(~np.isnan(np.array(last.rounds[0])))


def _turn_effects(turn: Turn, columns: "NDArray[Any]") -> "NDArray[Any]":
    import numpy as np

    return centred_effects(np.log(np.array(turn.rounds)), columns)


def placement_effects(contest: Contest) -> "NDArray[Any]":
    """Return the effect of each placement on each candidate, shape (placements, candidates).

    A turn's effects are centred on its mean, which moves with the placements
    of its candidates; so both are found by going back and forth between them
    (median polish) a few times. In log seconds; noise makes the differences
    between placements too large rather than too small.
    """
    import numpy as np

    columns = _lasting(contest)
    turns = [turn for generation in contest.generations for turn in generation.turns]
    effects = np.array([_turn_effects(turn, columns) for turn in turns])
    placed = np.array([turn.placements for turn in turns])
    places = [place for place in np.unique(placed) if place >= 0]
    medians = np.zeros((len(places), effects.shape[1]))
    fitted = np.zeros_like(effects)
    for _ in range(POLISH):
        raw = effects + fitted[:, columns].mean(axis=1, keepdims=True)
        for row, place in enumerate(places):
            at = np.ma.masked_array(raw, placed != place)
            medians[row] = np.ma.median(at, axis=0).filled(np.nan)  # type: ignore[no-untyped-call]
            fitted = np.where(placed == place, medians[row], fitted)
    return np.asarray(medians[:, : len(contest.candidates)])


def settled(contests: Sequence[Contest]) -> frozenset[int]:
    """Return the candidates that need no more measuring to be placed behind the best.

    At every sweep point they are slower by more than their interval and by
    five times what noise leaves open, and no twin is made of them.
    """
    out = set(range(len(contests[0].candidates)))
    for contest in contests:
        pairs = _Pairs(effects_of(contest), placement_effects(contest), len(contest.candidates))
        for k in list(out):
            behind, noise = pairs.compare(k, pairs.best)
            if behind.centre <= max(behind.half_width, 5 * noise) or k == contest.twin_of:
                out.discard(k)
    return frozenset(out)


def undecided(contest: Contest, baseline: str | None, narrow: float) -> float:
    """Return how far the widest interval that matters is from narrow enough (<= 0: done).

    An interval is narrow enough below ``narrow`` (a log ratio), or when its
    half width is under a fifth of the difference, which no noise explains.
    Looks at all pairs with the best, and with ``baseline`` unless it is None.
    """
    import numpy as np

    effects = effects_of(contest)
    alpha = pair_alpha(len(contest.candidates))
    count = len(contest.candidates)
    best = int(np.nanmean(effects[:, :count], axis=0).argmin())
    anchors = {best} if baseline is None else {best, contest.candidates.index(baseline)}
    worst = -narrow
    for anchor in anchors:
        for k in range(count):
            pair = trimmed_interval(known(effects[:, k] - effects[:, anchor]), alpha)
            if k != anchor:
                worst = max(worst, pair.half_width - max(narrow, abs(pair.centre) / 5))
    return worst


def standing(contest: Contest, baseline: str) -> Standing:
    """Return the results of one contest against ``baseline`` (a timed candidate)."""
    seconds = _typical_seconds(contest, 0.5)
    quiet = _typical_seconds(contest, 0.1)
    effects = effects_of(contest)
    floor = noise_floor(effects, contest.twin_of, len(contest.candidates))
    return _standing([contest], effects, floor, baseline, contest.inputs, seconds, quiet)


def _typical_seconds(contest: Contest, quantile: float) -> list[float]:
    """Return each column's seconds per call: a quantile over rounds at each placement, then
    the geometric mean over placements, so that times and ratios tell the same.
    """
    import numpy as np

    by_place: list[dict[int, list[float]]] = [{} for _ in range(len(contest.candidates) + 1)]
    for generation in contest.generations:
        for turn in generation.turns:
            for k, times in enumerate(zip(*turn.rounds, strict=True)):
                if turn.placements[k] >= 0:
                    by_place[k].setdefault(turn.placements[k], []).extend(times)
    logs = [[np.log(np.quantile(t, quantile)) for t in places.values()] for places in by_place]
    return [float(np.exp(np.mean(values))) for values in logs]


def overall(contests: Sequence[Contest], baseline: str) -> Standing:
    """Return the standing over several sweep points: the mean of their log ratios."""
    import numpy as np

    count = len(contests[0].candidates)
    all_effects = [effects_of(contest) for contest in contests]
    together = np.mean([effects[:, :count] for effects in all_effects], axis=0)
    floors = [
        noise_floor(effects, contest.twin_of, count)
        for effects, contest in zip(all_effects, contests, strict=True)
    ]
    return _standing(contests, together, max(floors), baseline, "all", None, None)


def _standing(
    contests: Sequence[Contest],
    effects: "NDArray[Any]",
    floor: float,
    baseline: str,
    inputs: str,
    seconds: list[float] | None,
    quiet: list[float] | None,
) -> Standing:
    import numpy as np

    first = contests[0]
    names = first.candidates
    pairs = _Pairs(effects, np.mean([placement_effects(c) for c in contests], axis=0), len(names))
    at_baseline, best = names.index(baseline), pairs.best
    results, to_best = [], {}
    for k, name in enumerate(names):
        against, noise = pairs.compare(k, at_baseline)
        word = "baseline" if k == at_baseline else word_for(against, floor, noise)
        result = Result(
            first.snippet,
            inputs,
            name,
            seconds[k] if seconds else None,
            quiet[k] if quiet else None,
            math.exp(against.centre),
            math.exp(against.centre - against.half_width),
            math.exp(against.centre + against.half_width),
            word,
            "",
            pairs.spread(k),
        )
        behind, noise = pairs.compare(k, best)
        results.append(result)
        to_best[name] = (behind, "best" if k == best else word_for(behind, floor, noise))
        for copy in (c for c, timed in first.same_as.items() if timed == name):
            own_word = "tied" if word == "baseline" else word
            results.append(result._replace(candidate=copy, same_as=name, word=own_word))
            to_best[copy] = (behind, "tied" if k == best else to_best[name][1])
    turns = [turn for c in contests for generation in c.generations for turn in generation.turns]
    rounds = sum(len(turn.rounds) for turn in turns)
    disturbed = sum(contest.disturbed for contest in contests) / len(contests)
    return Standing(
        tuple(results), to_best, names[best], floor, len(first.generations), rounds, disturbed
    )


class _Pairs:
    """Comparisons of any two candidates of a contest."""

    def __init__(self, effects: "NDArray[Any]", placements: "NDArray[Any]", count: int) -> None:
        self.effects = effects[:, :count]
        self.placements = placements
        self.alpha = pair_alpha(count)

    @cached_property
    def best(self) -> int:
        """The candidate that no other is faster than, pair by pair."""
        columns = range(self.effects.shape[1])
        centres = [trimmed_interval(known(self.effects[:, k]), self.alpha).centre for k in columns]
        best = centres.index(min(centres))
        for _ in columns:  # trimmed means of differences need not agree with their difference
            ahead = min(columns, key=lambda k: self.compare(k, best)[0].centre)
            if self.compare(ahead, best)[0].centre >= 0:
                break
            best = ahead
        return best

    def compare(self, k: int, other: int) -> tuple[Estimate, float]:
        """Return the log ratio of two candidates, and the noise part of its half width."""
        if k == other:
            return Estimate(0.0, 0.0), 0.0
        both = known(self.effects[:, k] - self.effects[:, other])
        noise = trimmed_interval(both, self.alpha)
        seen, count = self.placements, len(self.placements)
        if count < 2:
            return noise, noise.half_width
        variances = (float(seen[:, k].var(ddof=1)), float(seen[:, other].var(ddof=1)))
        return with_placement(noise, variances, count), noise.half_width

    def spread(self, k: int) -> float:
        """Return the time at the worst placement over that at the best."""
        return math.exp(float(self.placements[:, k].max() - self.placements[:, k].min()))


def contest_document(contest: Contest) -> dict[str, Any]:
    """Return the contest as plain data; None stands for a candidate that did not run."""
    generations = [
        [
            {
                "placements": list(turn.placements),
                "rounds": [[None if t != t else t for t in times] for times in turn.rounds],
            }
            for turn in generation.turns
        ]
        for generation in contest.generations
    ]
    return {**contest._asdict(), "generations": generations}

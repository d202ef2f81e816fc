"""Choose the fastest correct candidate, and say why the others were not chosen."""

import math
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.measure import Standing
from hot_anvil.core.verdict import CORRECT, Verdict

NEAR = 1.05  # ratio to the fastest up to which a tied candidate may be chosen for other merits


class Cost(NamedTuple):
    """What a candidate costs besides time."""

    code_bytes: int | None  # of the entry, None where it has no symbol of its own
    compile_seconds: float
    command: str


class Ranked(NamedTuple):
    """One correct candidate in the ranking."""

    rank: int | None  # 1 for the best and all tied with it; None without enough data
    candidate: str
    ratio: float  # time over the fastest one's time
    low: float
    high: float
    word: str  # "best", "tied", "slower" or "not enough data"
    same_as: str
    placement_spread: float  # time at its worst placement over time at its best
    cost: Cost


class Pick(NamedTuple):
    """The choice for one snippet."""

    snippet: str
    choice: str | None  # None when no candidate is correct
    tied: tuple[str, ...]  # candidates that cannot be told from the fastest, it included
    ranking: tuple[Ranked, ...]
    excluded: tuple[Verdict, ...]
    command: str
    why: str
    caution: str  # what may turn the choice over, "" for nothing


def pick(
    snippet: str,
    standing: Standing | None,
    verdicts: Sequence[Verdict],
    costs: Mapping[str, Cost],
) -> Pick:
    """Rank the correct candidates of a snippet and choose one.

    Among those tied with the fastest and within NEAR of its time, the one with
    the least code is chosen, then one whose flags do not tie it to this CPU,
    then the one that compiles fastest. ``standing`` is None when nothing was
    correct, or a program was not timed.
    """
    excluded = tuple(v for v in verdicts if v.verdict != CORRECT)
    if standing is None:
        why = "no candidate is correct"
        if len(excluded) < len(verdicts):
            why = "a program is checked, not timed, by this version"
        return Pick(snippet, None, (), (), excluded, "", why, "")
    result_of = {result.candidate: result for result in standing.results}
    behind_best = standing.to_best
    order = sorted(behind_best, key=lambda n: (n != standing.best, behind_best[n][0].centre))
    ranking: list[Ranked] = []
    for place, name in enumerate(order, 1):
        behind, word = standing.to_best[name]
        rank = {"slower": place, "not enough data": None}.get(word, 1)
        ranking.append(
            Ranked(
                rank,
                name,
                math.exp(behind.centre),
                math.exp(behind.centre - behind.half_width),
                math.exp(behind.centre + behind.half_width),
                word if word != "faster" else "tied",
                result_of[name].same_as,
                result_of[name].placement_spread,
                costs[name],
            )
        )
    tied = tuple(row.candidate for row in ranking if row.word in ("best", "tied"))
    near = [row.candidate for row in ranking if row.candidate in tied and row.ratio <= NEAR]
    chosen = min(near, key=lambda name: _preference(costs[name]))
    why = "the fastest"
    if len(tied) > 1:
        why = (
            f"of {len(tied)} tied with the fastest, the one with the least code within "
            f"{(NEAR - 1) * 100:.0f} % of its time"
        )
    unplaced = sum(row.rank is None for row in ranking)
    if unplaced:
        why += (
            f", as far as can be told: {unplaced} more cannot be told from the fastest with this "
            "little data (give more --seconds)"
        )
    uncompared = next(v.why for v in verdicts if v.candidate == chosen)
    caution = "; ".join(filter(None, (uncompared, _caution(ranking, chosen))))
    return Pick(
        snippet, chosen, tied, tuple(ranking), excluded, costs[chosen].command, why, caution
    )


def _caution(ranking: Sequence[Ranked], chosen: str) -> str:
    """Say when placement alone changes a time by more than the choice leads by."""
    first = next(row for row in ranking if row.candidate == chosen)
    others = [row for row in ranking if row.word == "slower"]
    if not others:
        return ""
    second = others[0]
    moved = max((first, second), key=lambda row: row.placement_spread)
    if moved.placement_spread <= second.ratio / first.ratio:
        return ""
    return (
        f"{second.candidate} takes {second.ratio / first.ratio:.3g}x the time on average, but "
        f"where code lies in memory alone changes {moved.candidate} by "
        f"{moved.placement_spread:.3g}x: built into a program, the order may turn over"
    )


def _preference(cost: Cost) -> tuple[float, bool, float]:
    """Order by code bytes, then flags that do not tie to a CPU, then compile time."""
    size = float("inf") if cost.code_bytes is None else float(cost.code_bytes)
    return size, "native" in cost.command, cost.compile_seconds

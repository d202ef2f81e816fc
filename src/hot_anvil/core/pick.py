"""Choose the fastest correct candidate, and say why the others were not chosen."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.measure import (
    BEST,
    FASTER,
    NOT_ENOUGH,
    ON_LOAD,
    SLOWER,
    TIED,
    Against,
    Standing,
)
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
    against: Against  # the fastest one; its word is "best", "tied", "slower" or "not enough data"
    same_as: str
    placement_spread: float | None  # time at its worst placement over time at its best
    cost: Cost

    @property
    def word(self) -> str:
        """The word for it against the fastest."""
        return self.against.told.word

    @property
    def ratio(self) -> float:
        """Its time over the fastest one's time."""
        return self.against.told.ratio


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
    order = sorted(
        standing.to_best,
        key=lambda n: (n != standing.best, standing.to_best[n].told.ratio),
    )
    ranking: list[Ranked] = []
    for place, name in enumerate(order, 1):
        behind = _behind(standing.to_best[name])
        rank = {SLOWER: place, NOT_ENOUGH: None}.get(behind.told.word, 1)
        result = standing.result(name)
        ranking.append(
            Ranked(rank, name, behind, result.same_as, result.placement_spread, costs[name])
        )
    tied = tuple(row.candidate for row in ranking if row.word in (BEST, TIED))
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


def _behind(against: Against) -> Against:
    """Nothing is faster than the best: what seems so is tied with it."""
    told = against.told
    return against._replace(told=told._replace(word=TIED)) if told.word == FASTER else against


def _caution(ranking: Sequence[Ranked], chosen: str) -> str:
    """Say when placement or the machine's load alone may turn the order over."""
    first = next(row for row in ranking if row.candidate == chosen)
    turned = [row for row in ranking if row.against.depends == ON_LOAD and row is not first]
    if turned:
        quiet, busy = turned[0].against.quiet, turned[0].against.busy
        assert quiet and busy
        return (
            f"against the fastest, {turned[0].candidate} takes {quiet.ratio:.3g}x the time on a "
            f"quiet machine and {busy.ratio:.3g}x on a busy one: the order depends on the load"
        )
    others = [row for row in ranking if row.word == SLOWER]
    if not others:
        return ""
    second = others[0]
    lead = second.ratio / first.ratio
    moved = max((first, second), key=lambda row: row.placement_spread or 0.0)
    if (moved.placement_spread or 0.0) <= lead:
        return ""
    return (
        f"{second.candidate} takes {lead:.3g}x the time on average, but where code lies in memory "
        f"alone changes {moved.candidate} by {moved.placement_spread:.3g}x: built into a program, "
        "the order may turn over"
    )


def _preference(cost: Cost) -> tuple[float, bool, float]:
    """Order by code bytes, then flags that do not tie to a CPU, then compile time."""
    size = float("inf") if cost.code_bytes is None else float(cost.code_bytes)
    return size, "native" in cost.command, cost.compile_seconds

"""Choose the fastest correct candidate, and say why the others were not chosen."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.measure.compile_times import CompileTime
from hot_anvil.core.measure.scaling import gain_of
from hot_anvil.core.measure.summary import ON_LOAD, Comparison, Summary
from hot_anvil.core.measure.verdict_words import BEST, FASTER, NOT_ENOUGH, SLOWER, TIED
from hot_anvil.core.verify.verdicts import CORRECT, UNDEFINED, Verdict

PREFERENCES = ("code", "portable", "compile")  # in the order that nobody changed
NEAR = 1.05  # ratio to the fastest up to which a tied candidate may be chosen for other merits


class Cost(NamedTuple):
    """What a candidate costs besides time."""

    code_bytes: int | None  # of the entry and what it reaches, None where it has no symbol
    compiling: CompileTime
    command: str
    tied_to_cpu: tuple[str, ...] = ()  # flags that ask for what this machine's CPU has


class Ranked(NamedTuple):
    """One correct candidate in the ranking."""

    rank: int | None  # 1 for the best and all tied with it; None without enough data
    candidate: str
    comparison: (
        Comparison  # the fastest one; its word is "best", "tied", "slower" or "not enough data"
    )
    same_as: str
    placement_spread: float | None  # time at its worst placement over time at its best
    cost: Cost
    undominated: bool = False  # nothing beats it in time, code and compile time together

    @property
    def word(self) -> str:
        """The word for it against the fastest."""
        return self.comparison.verdict.word

    @property
    def ratio(self) -> float:
        """Its time over the fastest one's time."""
        return self.comparison.verdict.ratio


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
    gain: float | None = (
        None  # the whole program's time with the choice over that with the baseline
    )


def pick(
    snippet: str,
    summary: Summary | None,
    verdicts: Sequence[Verdict],
    costs: Mapping[str, Cost],
    prefer: Sequence[str] = PREFERENCES,
    share: float | None = None,
) -> Pick:
    """Rank the correct candidates of a snippet and choose one.

    Among those tied with the fastest and within NEAR of its time, the choice
    goes by ``prefer``: least code, flags that do not tie it to this CPU, least
    compile time, in the order given. ``share`` is what the entry takes of a
    whole program's time. ``summary`` is None when nothing was correct.
    """
    ranked = summary.to_best if summary else {}
    excluded = tuple(v for v in verdicts if not v.usable and v.candidate not in ranked)
    if summary is None:
        right = [v for v in verdicts if v.usable and v.emulator]
        why = f"what is correct has no times here ({right[0].emulator})" if right else ""
        return Pick(snippet, None, (), (), excluded, "", why or "no candidate is correct", "")
    order = sorted(
        summary.to_best,
        key=lambda n: (n != summary.best, summary.to_best[n].verdict.ratio),
    )
    ranking: list[Ranked] = []
    for place, name in enumerate(order, 1):
        behind = behind_best(summary, name)
        rank = {SLOWER: place, NOT_ENOUGH: None}.get(behind.verdict.word, 1)
        result = summary.result(name)
        ranking.append(
            Ranked(rank, name, behind, result.same_as, result.placement_spread, costs[name])
        )
    front = _front(ranking)
    ranking = [row._replace(undominated=row.candidate in front) for row in ranking]
    tied = tuple(row.candidate for row in ranking if row.word in (BEST, TIED))
    near = [row.candidate for row in ranking if row.candidate in tied and row.ratio <= NEAR]
    merits = (*prefer, *(p for p in PREFERENCES if p not in prefer))
    chosen = min(near, key=lambda name: _preference(costs[name], merits))
    why = _why(ranking, tied, merits)
    own = next(v for v in verdicts if v.candidate == chosen)
    caution = "; ".join(filter(None, (_not_proved(own), _caution(ranking, chosen))))
    against = summary.result(chosen).comparison.verdict
    gain = gain_of(against.ratio, share) if share else None
    return Pick(
        snippet, chosen, tied, tuple(ranking), excluded, costs[chosen].command, why, caution, gain
    )


def _not_proved(verdict: Verdict) -> str:
    """Return what the check leaves open of a candidate, "" for nothing."""
    if verdict.verdict == CORRECT:
        return verdict.why
    if verdict.verdict == UNDEFINED:
        return f"undefined behaviour: {verdict.why}: accepted, since {verdict.accepted}"
    return f"it was not checked here: {verdict.why}"


_SAID = {"code": "least code", "portable": "fewest ties to this CPU", "compile": "least compiling"}


def _why(ranking: Sequence[Ranked], tied: Sequence[str], order: Sequence[str]) -> str:
    why = "the fastest"
    if len(tied) > 1:
        why = (
            f"of {len(tied)} tied with the fastest, the one with the {_SAID[order[0]]} within "
            f"{(NEAR - 1) * 100:.0f} % of its time"
        )
    unplaced = sum(row.rank is None for row in ranking)
    if unplaced:
        why += (
            f", as far as can be told: {unplaced} more cannot be told from the fastest with this "
            "little data (more seconds would tell)"
        )
    return why


def _front(ranking: Sequence[Ranked]) -> set[str]:
    """Return the candidates that no other beats or equals in time, code and compile time.

    Times that are tied with the fastest count as equal to it.
    """

    def beats(other: Ranked, row: Ranked) -> bool:
        theirs, own = _time_and_code(other), _time_and_code(row)
        compiling, mine = other.cost.compiling, row.cost.compiling
        no_worse = theirs[0] <= own[0] and theirs[1] <= own[1] and not compiling.more_than(mine)
        return no_worse and (theirs != own or mine.more_than(compiling))

    return {
        row.candidate
        for row in ranking
        if not any(beats(other, row) for other in ranking if other is not row)
    }


def _time_and_code(row: Ranked) -> tuple[float, float]:
    time = 1.0 if row.word in (BEST, TIED) else row.ratio
    size = float("inf") if row.cost.code_bytes is None else float(row.cost.code_bytes)
    return time, size


def rests_on_compiling(ranking: Sequence[Ranked], prefer: Sequence[str]) -> set[str]:
    """Return the candidates whose place among the unbeaten, or choice, is one of compile time.

    They are those that others beat or equal in time and code, and these others.
    """
    out = set()
    for row in ranking:
        own = _time_and_code(row)
        ahead = [
            other.candidate
            for other in ranking
            if other is not row
            and all(a <= b for a, b in zip(_time_and_code(other), own, strict=True))
        ]
        out |= {row.candidate, *ahead} if ahead else set()
    if prefer[:1] == ("compile",):
        out |= {row.candidate for row in ranking if row.word in (BEST, TIED)}
    return out


def behind_best(summary: Summary, candidate: str) -> Comparison:
    """Return a candidate against the best, where nothing is faster: what seems so is tied."""
    against = summary.to_best[candidate]
    told = against.verdict
    return against._replace(verdict=told._replace(word=TIED)) if told.word == FASTER else against


def _caution(ranking: Sequence[Ranked], chosen: str) -> str:
    """Say when placement or the machine's load alone may turn the order over."""
    first = next(row for row in ranking if row.candidate == chosen)
    turned = [row for row in ranking if row.comparison.depends == ON_LOAD and row is not first]
    if turned:
        quiet, busy = turned[0].comparison.quiet, turned[0].comparison.busy
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


def _preference(cost: Cost, order: Sequence[str]) -> tuple[float, ...]:
    merits = {
        "code": float("inf") if cost.code_bytes is None else float(cost.code_bytes),
        "portable": float(len(cost.tied_to_cpu)),
        "compile": cost.compiling.seconds,
    }
    return tuple(merits[name] for name in order)


def flags_tied_to_cpu(flags: Sequence[str]) -> tuple[str, ...]:
    """Return the flags that ask for what this machine's own CPU has."""
    return tuple(flag for flag in flags if "=native" in flag)

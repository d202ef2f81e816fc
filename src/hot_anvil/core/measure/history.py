"""Measurements kept over time, and what changed between two of them.

Times of two moments are not paired: the machine may have been quicker in one
of them. Two states are therefore compared by what did not change between them,
the yardstick: candidates whose code is the same in both. The ratio of a
candidate to the yardstick is paired in each state, and these ratios compare.
"""

import math
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.measure.statistics import ENOUGH, LEAST_FLOOR
from hot_anvil.core.measure.summary import RatioVerdict, Summary
from hot_anvil.core.measure.verdict_words import BASELINE, FASTER, NOT_ENOUGH, SLOWER, TIED, Word


class Maker(NamedTuple):
    """What made a candidate's code, and which code it is."""

    toolchain: str  # with its full version
    command: str
    code: str  # equal for equal code
    build: str = ""
    units: tuple[str, ...] = ()  # artefacts in the store, () where their code cannot be taken again


_TELLING = ("toolchain", "command", "code")


class Entry(NamedTuple):
    """One candidate in one measurement."""

    candidate: str
    seconds: float | None
    quiet_seconds: float | None
    ratio: float  # over the baseline's time
    low: float
    high: float
    word: Word
    maker: Maker


class State(NamedTuple):
    """One measurement of a snippet at one size."""

    number: int  # in the store, growing with time
    at: float  # seconds since 1970
    machine: str  # short identity; states of two machines never compare
    machine_text: str
    snippet: str
    inputs: str
    baseline: str
    entries: tuple[Entry, ...]
    floor: float  # log ratio
    imported: str  # file of times that something else measured, "" for measured here

    def entry(self, candidate: str) -> Entry | None:
        """Return the entry of a candidate, None where it was not measured."""
        return next((e for e in self.entries if e.candidate == candidate), None)


class Change(NamedTuple):
    """One candidate before and after."""

    candidate: str
    before: Entry | None
    after: Entry | None
    verdict: (
        RatioVerdict | None
    )  # after over before, by the yardstick; None where it cannot be told
    what: str  # changed: "code", "toolchain", "nothing" ...


class Compared(NamedTuple):
    """Two states of a snippet at one size."""

    before: State
    after: State
    yardstick: str  # the candidate that both are measured by, "" for none
    changes: tuple[Change, ...]
    why_not: str  # why nothing is told, "" where it is


def state_document(
    summary: Summary,
    baseline: str,
    makers: Mapping[str, Maker],
    machine: tuple[str, str],
    imported: str,
) -> dict[str, Any]:
    """Return a measurement as plain data, to be kept."""
    first = summary.results[0]
    entries = []
    for result in (row for row in summary.results if row.candidate in makers):
        told = result.comparison.verdict
        row = Entry(
            result.candidate,
            result.seconds_per_call,
            result.quiet_seconds,
            told.ratio,
            told.low,
            told.high,
            told.word,
            makers[result.candidate],
        )
        entries.append({**row._asdict(), "maker": row.maker._asdict()})
    return {
        "machine": machine[0],
        "machine_text": machine[1],
        "inputs": first.inputs,
        "baseline": baseline,
        "floor": _plain(summary.floor),
        "imported": imported,
        "entries": [{k: _plain(v) for k, v in row.items()} for row in entries],
    }


def _plain(value: Any) -> Any:
    return None if isinstance(value, float) and not math.isfinite(value) else value


def read_state(number: int, at: float, snippet: str, document: Mapping[str, Any]) -> State:
    """Return the state that ``state_document`` made plain."""
    entries = tuple(
        Entry(**{**row, "maker": _maker(row["maker"]), "high": _known(row["high"])})
        for row in document["entries"]
    )
    named = {key: document[key] for key in ("machine", "machine_text", "inputs", "baseline")}
    return State(
        number=number, at=at, snippet=snippet, entries=entries,
        floor=_known(document["floor"]),
        imported=document.get("imported", document.get("outside", "")), **named,
    )  # fmt: skip


def _maker(kept: Any) -> Maker:
    if isinstance(kept, list):  # as it was kept once
        return Maker(*kept)
    return Maker(**{**kept, "units": tuple(kept["units"])})


def _known(value: float | None) -> float:
    return math.inf if value is None else value


def compare_states(before: State, after: State) -> Compared:
    """Compare two states of a snippet at one size."""
    names = list(dict.fromkeys(e.candidate for s in (before, after) for e in s.entries))
    why = ""
    if before.machine != after.machine or bool(before.imported) != bool(after.imported):
        why = "they were measured on different machines: their times are not compared"
    same = [name for name in names if _same_code(before.entry(name), after.entry(name))]
    yardstick = next((n for n in (before.baseline, after.baseline, *same) if n in same), "")
    if not why and not yardstick:
        why = (
            "no candidate has the same code in both, so nothing tells a slower machine from slower "
            "code: measure the earlier code beside the code now, in the same rounds"
        )
    changes = []
    for name in names:
        old, new = before.entry(name), after.entry(name)
        told = None if why or not (old and new) else _told(before, after, old, new, yardstick)
        changes.append(Change(name, old, new, told, _what(old, new)))
    return Compared(before, after, "" if why else yardstick, tuple(changes), why)


def _same_code(old: Entry | None, new: Entry | None) -> bool:
    return old is not None and new is not None and "" != old.maker.code == new.maker.code


def _what(old: Entry | None, new: Entry | None) -> str:
    if old is None or new is None:
        return "only after" if old is None else "only before"
    parts = [name for name in _TELLING if getattr(old.maker, name) != getattr(new.maker, name)]
    return ", ".join(parts) if parts else "nothing"


def _told(before: State, after: State, old: Entry, new: Entry, yardstick: str) -> RatioVerdict:
    """Return after over before: each over the yardstick of its own state."""
    centre, variance = 0.0, 0.0
    for sign, state, own in ((-1, before, old), (1, after, new)):
        stick = state.entry(yardstick)
        assert stick
        for part, entry in ((sign, own), (-sign, stick)):
            if entry.word == BASELINE or own.candidate == yardstick:
                continue
            log, half = _log(entry)
            centre += part * log
            variance += half**2
    half = variance**0.5
    floor = max(before.floor, after.floor, LEAST_FLOOR)
    word = TIED if max(half, floor) <= ENOUGH else NOT_ENOUGH
    if abs(centre) > max(half, floor):
        word = FASTER if centre < 0 else SLOWER
    low, high = math.exp(max(centre - half, -50)), math.exp(min(centre + half, 50))
    return RatioVerdict(math.exp(centre), low, high, word)


def _log(entry: Entry) -> tuple[float, float]:
    """Return (log ratio to the baseline, half width of its interval)."""
    centre = math.log(entry.ratio)
    return centre, (math.log(entry.high) - centre if math.isfinite(entry.high) else 50.0)


def series(states: Sequence[State]) -> dict[tuple[str, str, str], list[tuple[State, Entry]]]:
    """Return what was measured of each (snippet, inputs, candidate), the oldest first."""
    out: dict[tuple[str, str, str], list[tuple[State, Entry]]] = {}
    for state in sorted(states, key=lambda s: s.number):
        for entry in state.entries:
            key = state.snippet, state.inputs, entry.candidate
            out.setdefault(key, []).append((state, entry))
    return out

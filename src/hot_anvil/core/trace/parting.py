"""Where two candidates that are given the same values first go apart.

Both are walked through the same call. What each sets, by name, is put side by side: numbers of
buffers and of variables that last, variables of the source, what is returned. Where both set a
number equally often, each time is compared; an optimised build leaves values out, so what it sets
has to come, in its order, among what the other sets. The first disagreement, in the time of the
left side, is told.

A variable counts where no value of it can be missed on the left (it has one home in memory), or
where what it is set to last is what each side returns: debug info of optimised code alone proves
nothing.
"""

from collections.abc import Mapping, Sequence
from math import ulp
from typing import Literal, NamedTuple

from hot_anvil.core.config.records import Tolerance
from hot_anvil.core.trace.events import (
    Event,
    Events,
    Key,
    collect,
    plain_name,
    without_repeats,
)
from hot_anvil.core.trace.records import Stepped
from hot_anvil.core.trace.turning import (
    SideOf,
    event_side,
    missing_side,
    returning_side,
    same_line,
)
from hot_anvil.core.verify.agreement import first_difference

How = Literal["value", "left only", "right only", "returned", "ended"]
_FEW = 2  # times that a variable is set, from which on it shows something
_ENDS = ("}", "};")  # of a function, alone in a line
_SINGLE = 1 << 29  # last places of a double in one of a single float
Pair = tuple[int, int]  # steps of left and right that set the same


class Parting(NamedTuple):
    """Where two candidates first go apart."""

    how: How
    name: str  # of what they disagree on, "" for what is returned
    left: SideOf
    right: SideOf
    compared: int  # numbers that agree before it

    def place(self, same_source: bool) -> tuple[str, int]:
        """Return file and line to look at in the right side's source; ("", 0): not known."""
        side = self.right
        if not side.line and same_source:
            side = self.left
        return side.file, side.line


class Agreement(NamedTuple):
    """Two candidates that go the same way, as far as can be seen."""

    compared: int  # numbers that both set


class _Found(NamedTuple):
    """A disagreement on one key."""

    key: Key
    left: Event | None
    right: Event | None
    time: float = 0.0  # the left side's step, about


def part(
    left: Stepped, right: Stepped, sources: Mapping[str, Sequence[str]]
) -> Parting | Agreement:
    """Return where two recorded calls go apart; ``sources`` are their files' lines.

    Without a difference in what comes of them, variables that go other ways are nobody's business.
    """

    def closes(file: str, line: int) -> bool:
        lines = sources.get(file, ())
        return 0 < line <= len(lines) and lines[line - 1].strip() in _ENDS

    differ = _differ(left, right)
    a, c = collect(left), collect(right)
    same = left.entry == right.entry
    found, matched = _compare(a, c, left, right, same)
    ended = left.ending != right.ending or left.ending != "returned"
    if not differ and not ended:
        found = [one for one in found if not one.key[0]]
    if found:
        return _told(min(found, key=lambda one: one.time), left, right, matched, same)
    if not differ and not ended:
        return Agreement(len(matched))
    how: How = "ended" if ended else "returned"
    last = _last(matched)
    made = _made_of(a, left) if same and how == "returned" else None
    if made:
        name, event = made
        own = event_side(event, last[0])
        return Parting(how, name, own, same_line(right, own, last[1]), len(matched))
    sides = (returning_side(left, last[0], closes), returning_side(right, last[1], closes))
    return Parting(how, "", *sides, len(matched))


def _differ(left: Stepped, right: Stepped) -> bool:
    """Tell whether not the same came of two calls that returned."""
    if left.result is None or right.result is None:
        return False
    said, _ = first_difference(
        left.signature, left.result, right.signature, right.result, right.values, left.tolerance
    )
    return bool(said)


def _made_of(a: Events, left: Stepped) -> tuple[str, Event] | None:
    """Return the variable that the left side returns, and where it is set to that."""
    entry = left.map.title(left.known.entry)
    found = [
        (len(events), key[1], events[-1])
        for key, events in a.by_key.items()
        if key[0] == entry and plain_name(key) in a.homes and a.returns(key)
    ]
    return max(found)[1:] if found else None


def _compare(
    a: Events, c: Events, left: Stepped, right: Stepped, same: bool
) -> tuple[list[_Found], list[Pair]]:
    """Return the disagreements, and the steps that agree."""
    matched: list[Pair] = []
    apart: list[_Found] = []
    entry = left.map.title(left.known.entry), right.map.title(right.known.entry)
    in_step = False
    for key, mine in a.by_key.items():
        other_key = (entry[1], key[1]) if key[0] and key[0] == entry[0] else key
        others = c.by_key.get(other_key, [])
        found = None
        if key[0]:
            returned = bool(others) and a.returns(key) and c.returns(other_key)
            if not others or not (returned or (same and plain_name(key) in a.homes)):
                continue
            both = plain_name(key) in a.homes and plain_name(other_key) in c.homes
            if both and (in_step := in_step or _in_step(a, c, entry)):
                found = _by_pass(mine, others, left.tolerance, matched)
            else:
                complete = returned or plain_name(other_key) in c.homes
                found = _follow(mine, others, complete, left.tolerance, matched)
        elif plain_name(key)[1] in c.named:
            found = _lasting(mine, others, a.first.get(key, ""), left.tolerance, matched)
        if found:
            apart.append(_Found(key, *found))
    for key, others in c.by_key.items():
        unset = not key[0] and key not in a.by_key and plain_name(key)[1] in a.named
        if unset and c.first.get(key) != others[-1].value:
            apart.append(_Found(key, None, others[0]))
    matched.sort(key=lambda pair: pair[1])
    return [one._replace(time=_time(one, matched)) for one in apart], matched


def _in_step(a: Events, c: Events, entry: tuple[str, str]) -> bool:
    """Tell whether a variable shows that both sides go through the same passes."""
    for key, mine in a.by_key.items():
        others = c.by_key.get((entry[1], key[1]), []) if key[0] == entry[0] else []
        if min(len(mine), len(others)) < _FEW or not any(event.passes for event in mine):
            continue
        pairs = zip(mine, others, strict=False)
        if all(one.value == other.value and one.passes == other.passes for one, other in pairs):
            return True
    return False


def _by_pass(
    mine: list[Event], others: list[Event], tolerance: Tolerance, matched: list[Pair]
) -> tuple[Event | None, Event | None] | None:
    """Match what both set, pass by pass: what one sets in a pass, the other has to set in it."""
    i = j = 0
    while i < len(mine) or j < len(others):
        one = mine[i] if i < len(mine) else None
        other = others[j] if j < len(others) else None
        if one and other and (one.passes == other.passes or len(one.passes) != len(other.passes)):
            if not _alike(one, other, tolerance):
                return one, other
            matched.append((one.at, other.at))
            i, j = i + 1, j + 1
        elif one and (not other or one.passes < other.passes):
            if not _stays(mine, i):
                return one, None
            i += 1
        else:
            if not _stays(others, j):
                return None, other
            j += 1
    return None


def _stays(events: Sequence[Event], number: int) -> bool:
    return number > 0 and events[number].value == events[number - 1].value


def _lasting(
    mine: list[Event],
    others: list[Event],
    first: str,
    tolerance: Tolerance,
    matched: list[Pair],
) -> tuple[Event | None, Event | None] | None:
    """Compare what lasts: only what it is at the end can disagree."""
    if not others:
        return (mine[0], None) if mine[-1].value != first else None
    found = _follow(mine, others, True, tolerance, matched)
    return None if _alike(mine[-1], others[-1], tolerance) else found


def _follow(
    mine: list[Event],
    others: list[Event],
    complete: bool,
    tolerance: Tolerance,
    matched: list[Pair],
) -> tuple[Event | None, Event | None] | None:
    """Match what the right side sets among what the left sets; return where that fails.

    ``complete``: the right side shows all that it sets, each time, so that what is missing counts,
    and equally many can be told one by one.
    """
    if complete and len(mine) == len(others):
        for one, other in zip(mine, others, strict=True):
            if not _alike(one, other, tolerance):
                return one, other
            matched.append((one.at, other.at))
        return None
    mine, others = without_repeats(mine), without_repeats(others)
    at = 0
    for other in others:
        places = (n for n in range(at, len(mine)) if _alike(mine[n], other, tolerance))
        place = next(places, -1)
        if place < 0:
            return mine[at] if at < len(mine) else None, other
        matched.append((mine[place].at, other.at))
        at = place + 1
    if complete and at < len(mine) and not _alike(mine[-1], others[-1], tolerance):
        return mine[at], None
    return None


def _alike(one: Event, other: Event, tolerance: Tolerance) -> bool:
    if one.value == other.value:
        return True
    if one.number is None or other.number is None:
        return False
    larger = max(abs(one.number), abs(other.number))
    unit = ulp(larger) * (_SINGLE if one.single else 1)
    allowed = max(tolerance.absolute, tolerance.relative * larger, tolerance.ulp * unit)
    return abs(one.number - other.number) <= allowed


def _time(one: _Found, matched: Sequence[Pair]) -> float:
    """Return about when, in the left side's steps, two go apart."""
    times: list[float] = [one.left.at] if one.left else []
    if one.right:
        before = (mine for mine, other in matched if other <= one.right.at)
        times.append(max(before, default=0) + 0.5)
    return min(times)


def _last(matched: Sequence[Pair], before: float = float("inf")) -> Pair:
    """Return the last steps of both sides that agree, before a time."""
    agree = [pair for pair in matched if pair[0] < before]
    return max((p[0] for p in agree), default=0), max((p[1] for p in agree), default=0)


def _told(
    first: _Found, left: Stepped, right: Stepped, matched: Sequence[Pair], same: bool
) -> Parting:
    last = _last(matched, first.time)
    agree = sum(pair[0] < first.time for pair in matched)
    name = first.key[1]
    if first.left and first.right:
        sides = event_side(first.left, last[0]), event_side(first.right, last[1])
        return Parting("value", name, *sides, agree)
    event, other = (left, right) if first.left else (right, left)
    found = first.left or first.right
    assert found
    at, own_at = (1, 0) if first.left else (0, 1)
    passes = found.passes
    missing = missing_side(other, first.key, last[at], {pair[at] for pair in matched}, passes)
    # Where the other side sets something in its place, no branch is what they differ in.
    in_place = missing.at and not missing.decided
    own = event_side(found, last[own_at], None if in_place else event)
    if first.left:
        return Parting("left only", name, own, missing, agree)
    return Parting("right only", name, missing, own, agree)

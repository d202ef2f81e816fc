"""Run all rules over a comparison, and give each line its reasons."""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence

from hot_anvil.core.compared import CERTAIN, LIKELY, Diff, Explained, Place, Reason
from hot_anvil.core.diff import Compared, Twin
from hot_anvil.core.flow import Body
from hot_anvil.core.linemap import LineMap
from hot_anvil.core.reasons import (
    arithmetic,
    branches,
    calls,
    guards,
    loops,
    memory,
    plain,
    values,
    vectors,
)
from hot_anvil.core.reasons.base import Rule, View, World, plain_name
from hot_anvil.core.reasons.remarks import borne_out
from hot_anvil.core.reasons.side import Side
from hot_anvil.core.subject import Remark

RULES: tuple[Rule, ...] = tuple(
    rule
    for subject in (
        loops, vectors, calls, branches, arithmetic, memory, values, guards, plain,
    )
    for rule in subject.RULES
)  # fmt: skip


def explain(
    compared: Compared,
    left_flags: Sequence[str] = (),
    right_flags: Sequence[str] = (),
    titles: Mapping[str, str] | None = None,
    remarks: tuple[Sequence[Remark], Sequence[Remark]] = ((), ()),
) -> Explained:
    """Return the comparison with a reason for every line that a rule explains."""
    diff, twins, lines = compared
    others = any(t.left and t.right and t.left.owner != t.right.owner for t in twins)
    world = World(titles or {}, _homes(twins, lines), others, not lines.lines)
    sides: dict[str, tuple[Side, Side]] = {}
    reasons: list[Reason] = []
    states = {row.place: row.state for row in diff.rows}
    names = frozenset(twin.name for twin in twins)
    for twin in twins:
        if twin.left is None or twin.right is None:
            reasons += _alone(twin, compared, world)
            continue
        if twin.left.isa != twin.right.isa or twin.left.texts == twin.right.texts:
            reasons += _padding(twin)
            continue
        two = (
            Side(twin.left, lines, left_flags, names),
            Side(twin.right, None, right_flags, names),
        )
        sides[twin.name] = two
        reasons += _of_function(twin.name, two, world, states)
    merged = _merged(reasons)
    if any(remarks):
        changed = {r.place: r.parts[0].function for r in diff.rows if r.wants_reason and r.parts}
        merged = list(borne_out(merged, remarks, lines, changed))
    return _attach(diff, merged, sides, {twin.name: twin for twin in twins})


def _of_function(
    name: str, two: tuple[Side, Side], world: World, states: Mapping[Place, str]
) -> list[Reason]:
    left, right = two
    views = (
        View(name, left, right, True, world, states),
        View(name, right, left, False, world, states),
    )
    found = [reason for rule in RULES for view in views for reason in rule(view)]
    changed = {reason.kind for reason in found} & loops.KINDS
    last = [*plain.LAST, *(plain.BESIDE_LOOPS if changed else ())]
    if changed <= {loops.REMOVED}:  # code of a loop that changed may stand under any of its lines
        last = [*values.LAST, *last]
    for rule in last:
        common = (memory.KEPT, memory.FRAME) if rule in values.LAST else ()
        explained = {p for reason in found if reason.kind not in common for p in reason.places}
        for view in views:
            found += [r for r in rule(view) if not r.places <= explained]
    return found


def _homes(twins: Iterable[Twin], lines: LineMap) -> dict[str, frozenset[Place]]:
    """Return for each function its source lines: from where it begins to where the next does."""
    starts: dict[str, list[tuple[int, str]]] = {}  # file -> where functions begin
    seen: set[Place] = set()
    for twin in twins:
        for body, mapped in ((twin.right, LineMap()), (twin.left, lines)):
            if body is None:
                continue
            seen.update(mapped.place(*key) for key in {(i.file, i.line) for i in body.items})
            begins = mapped.place(*body.begins)
            if body.begins[1] > 0:
                starts.setdefault(begins.file, []).append((begins.line, twin.name))
    for known in starts.values():
        known.sort()
    out: dict[str, set[Place]] = {}
    for place in seen:
        known = starts.get(place.file, [])
        at = bisect_right(known, (place.line, "\uffff")) - 1
        if at >= 0 and place.line > 0:
            out.setdefault(known[at][1], set()).add(place)
    for name in list(out):  # calls name a specialised copy and the function alike
        out.setdefault(plain_name(name), set()).update(out[name])
    return {name: frozenset(found) for name, found in out.items()}


def _alone(twin: Twin, compared: Compared, world: World) -> Iterator[Reason]:
    """Explain a function that one side has not got."""
    body = twin.left or twin.right
    assert body is not None
    left = twin.left is not None
    home = world.homes.get(twin.name, frozenset())
    others = [other.right if left else other.left for other in compared.twins]
    inside = any(
        (compared.lines.place(i.file, i.line) if not left else Place(i.file, i.line)) in home
        for other in others if other is not None for i in other.items
    )  # fmt: skip
    calling = [other.left if left else other.right for other in compared.twins]
    if inside or any(twin.name == d.target for o in calling if o for d in o.deeds if d.target):
        text = "it has no code of its own any more: it is inlined where it was called"
        back = "it has code of its own: it was only inlined before"
        kind = calls.INLINED
    else:
        text = "the function has no code of its own any more: nothing calls it"
        back = "the function has code that there was none of before"
        kind = "function dropped"
    every = tuple(range(len(body.items)))
    sure = CERTAIN if inside else LIKELY
    evidence: tuple[tuple[int, ...], tuple[int, ...]] = (every, ()) if left else ((), every)
    yield Reason(kind, text if left else back, sure, twin.name, *evidence, home)


def _padding(twin: Twin) -> Iterator[Reason]:
    """Say when only the bytes between instructions differ."""
    assert twin.left and twin.right
    gaps = [_gaps(body) for body in (twin.left, twin.right)]
    if twin.left.isa == twin.right.isa and None not in gaps and gaps[0] != gaps[1]:
        text = f"only padding differs: {gaps[1]} bytes between instructions instead of {gaps[0]}"
        yield Reason(plain.PADDED, text, CERTAIN, twin.name, (), (), frozenset())


def _gaps(body: Body) -> int | None:
    """Return the bytes between a function's instructions, None when not known."""
    total = 0
    for one, other in zip(body.items, body.items[1:], strict=False):
        if min(one.address, one.size, other.address) < 0:
            return None
        total += max(other.address - one.address - one.size, 0)
    return total


def _attach(
    diff: Diff,
    reasons: Sequence[Reason],
    sides: Mapping[str, tuple[Side, Side]],
    bodies: Mapping[str, Twin],
) -> Explained:
    """Give each row the reasons that name its line; look closer where there are none."""
    counts = {row.place: abs(row.left_count - row.right_count) for row in diff.rows}
    found = [r._replace(weight=sum(counts.get(place, 0) for place in r.places)) for r in reasons]
    by_place: dict[Place, list[int]] = {}
    for k, reason in enumerate(found):
        for place in reason.places:
            by_place.setdefault(place, []).append(k)
    rows = []
    for row in diff.rows:
        own = by_place.get(row.place, [])
        if not row.wants_reason:
            own = [k for k in own if found[k].kind == plain.ARGUMENT]
        if row.wants_reason and not own:
            for function, kind, text, left, right in plain.row_reasons(row, dict(sides)):
                own = [*own, len(found)]
                at = frozenset((row.place,))
                found.append(Reason(kind, text, CERTAIN, function, tuple(left), tuple(right), at))
        rows.append(row._replace(reasons=tuple(own)))
    found = [_told(reason, bodies) for reason in found]
    wanting = [row for row in rows if row.wants_reason]
    unexplained = sum(not row.reasons for row in wanting)
    return Explained(diff._replace(rows=tuple(rows)), tuple(found), unexplained, len(wanting))


# Nearly every line of unoptimised code has these: they lead only where little else does.
_COMMON = frozenset((memory.KEPT, memory.FRAME))


def _told(reason: Reason, bodies: Mapping[str, Twin]) -> Reason:
    """Return a reason with the texts of its evidence, and how early to tell it."""
    twin = bodies[reason.function]
    texts = [
        tuple(body.items[k].text for k in found) if body else ()
        for body, found in ((twin.left, reason.left), (twin.right, reason.right))
    ]
    one_thing = (plain.CONDITION, plain.DATA, plain.ARGUMENT)  # small in code, not in what it does
    level = (
        2
        if reason.kind in plain.SMALL and reason.kind not in one_thing
        else 1
        if reason.kind in _COMMON
        else 0
    )
    return reason._replace(left_text=texts[0], right_text=texts[1], level=level)


def _merged(reasons: Iterable[Reason]) -> list[Reason]:
    """Join reasons of one kind, text and function."""
    out: dict[tuple[str, str, str], Reason] = {}
    for reason in reasons:
        key = reason.kind, reason.text, reason.function
        known = out.get(key)
        if known is None:
            out[key] = reason
        else:
            out[key] = known._replace(
                left=tuple(sorted({*known.left, *reason.left})),
                right=tuple(sorted({*known.right, *reason.right})),
                places=known.places | reason.places,
            )
    return list(out.values())

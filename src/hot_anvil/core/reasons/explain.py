"""Run all rules over a comparison, and give each line its reasons."""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.calls import callee, only_jump
from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.diff.function_pair import FunctionPair
from hot_anvil.core.diff.pairing import Paired
from hot_anvil.core.diff.records import CERTAIN, LIKELY, RENAMED, SAME, Diff, Explained, Reason
from hot_anvil.core.evaluate.function import Sameness
from hot_anvil.core.model.control_flow import Body
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import plain_name
from hot_anvil.core.reasons import (
    arithmetic,
    branches,
    calls,
    differences,
    guards,
    idioms,
    indirect,
    loops,
    memory,
    plain,
    values,
    vectors,
)
from hot_anvil.core.reasons.context import Rule, RuleContext, View
from hot_anvil.core.reasons.lines import line_reasons

RULES: tuple[Rule, ...] = tuple(
    rule
    for subject in (
        loops, vectors, calls, indirect, branches, arithmetic, memory, values, guards, idioms,
        plain,
    )
    for rule in subject.RULES
)  # fmt: skip


class Context(NamedTuple):
    """What explaining one function needs to know of the others."""

    rules: RuleContext
    lines: LineMap
    flags: tuple[Sequence[str], Sequence[str]]  # of both sides
    names: frozenset[str]  # all functions
    others: tuple[frozenset[str], frozenset[str]]  # functions called, on both sides


def make_context(
    function_pairs: Sequence[FunctionPair],
    lines: LineMap,
    flags: tuple[Sequence[str], Sequence[str]],
    titles: Mapping[str, str],
    edited: frozenset[Place] = frozenset(),
) -> Context:
    """Return the context of a comparison's functions."""
    others = any(
        t.left and t.right and plain_name(t.left.owner) != plain_name(t.right.owner)
        for t in function_pairs
    )
    bodies = (
        [t.left for t in function_pairs if t.left],
        [t.right for t in function_pairs if t.right],
    )
    alone = any(t.left is None or t.right is None for t in function_pairs)  # only then it matters
    called = [
        frozenset(n for b in own for n in _targets(b)) if alone else frozenset() for own in bodies
    ]
    inside = [
        frozenset(
            mapped.place(*key) for body in own for key in {(i.file, i.line) for i in body.items}
        )
        for own, mapped in zip(bodies, (lines, LineMap()), strict=True)
    ]
    names = frozenset(both.name for both in function_pairs)
    both = inside[0], inside[1]
    homes = _homes(function_pairs, lines)
    context = RuleContext(
        titles, homes, others, not lines.lines, both, edited, all(map(_optimises, flags))
    )
    return Context(context, lines, flags, names, (called[0], called[1]))


def _optimises(flags: Sequence[str]) -> bool:
    """Tell whether flags ask for code that does not keep all variables on the stack."""
    levels = [flag for flag in flags if flag.startswith(("-O", "-Copt-level", "opt-level"))]
    return bool(levels) and not levels[-1].endswith(("-O0", "=0"))


def _targets(body: Body) -> set[str]:
    isa = syntax_of(body.isa)
    return {callee(item, isa) for item in body.items}


def explain_function(
    both: FunctionPair, paired: Sequence[Paired], context: Context
) -> list[Reason]:
    """Return the reasons for all that differs in one function."""
    if both.left is None or both.right is None:
        found = list(_alone(both, context))
    elif both.left.isa != both.right.isa:
        text = "code for another instruction set: only lines and counts compare"
        at = frozenset(line.place for line in paired)
        found = [Reason(plain.APART, text, CERTAIN, both.name, (), (), at)]
    elif both.left.texts == both.right.texts:
        found = list(_padding(both))
    elif folded := _folded(both, paired, context):
        found = [folded]
    else:
        two = (
            FunctionModel(both.left, context.lines, context.flags[0], context.names),
            FunctionModel(both.right, None, context.flags[1], context.names),
        )
        states = {line.place: line.state for line in paired}
        pairs = [pair for line in paired for pair in line.pairs]
        alike = [pair.place for pair in pairs if pair.state in (SAME, RENAMED)]
        sameness = Sameness(both.left, both.right, [pair.place for pair in pairs], alike)
        view = View(both.name, *two, True, context.rules, states, sameness)
        found = _merged(_of_function(view))
        explained = {place for reason in found for place in reason.places}
        rest = [line for line in paired if line.place not in explained]
        small = (reason for line in rest for reason in line_reasons(view, line))
        found = _merged([*found, *small])
    return [_told(reason, both, context.rules.one_source) for reason in found]


def attach(diff: Diff, reasons: Sequence[Reason]) -> Explained:
    """Give each row the reasons that name its line."""
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
        rows.append(row._replace(reasons=tuple(own)))
    wanting = [row for row in rows if row.wants_reason]
    unexplained = sum(not row.reasons for row in wanting)
    return Explained(diff._replace(rows=tuple(rows)), tuple(found), unexplained, len(wanting))


def _of_function(forward: View) -> list[Reason]:
    views = forward, forward.turned()
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


def _homes(function_pairs: Iterable[FunctionPair], lines: LineMap) -> dict[str, frozenset[Place]]:
    """Return for each function its source lines: from where it begins to where the next does."""
    starts: dict[str, list[tuple[int, str]]] = {}  # file -> where functions begin
    seen: set[Place] = set()
    for both in function_pairs:
        for body, mapped in ((both.right, LineMap()), (both.left, lines)):
            if body is None:
                continue
            seen.update(mapped.place(*key) for key in {(i.file, i.line) for i in body.items})
            begins = mapped.place(*body.begins)
            if body.begins[1] > 0:
                starts.setdefault(begins.file, []).append((begins.line, both.name))
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


def _alone(both: FunctionPair, context: Context) -> Iterator[Reason]:
    """Explain a function that one side has not got."""
    body = both.left or both.right
    assert body is not None
    left = both.left is not None
    home = context.rules.homes.get(both.name, frozenset())
    other = 1 if left else 0
    inside = bool(context.rules.inside[other] & home)
    if ".part." in both.name or ".cold" in both.name:
        whole = context.rules.title(plain_name(both.name))
        text = f"a part of {whole} has no code of its own any more"
        back = f"a part of {whole} was split off, to be called where it is needed"
        kind = calls.SPLIT
        mapped = context.lines if left else LineMap()
        home = frozenset(mapped.place(i.file, i.line) for i in body.items)  # they moved there
    elif inside or both.name in context.others[1 - other]:
        text = "it has no code of its own any more: it is inlined where it was called"
        back = "it has code of its own: it was only inlined before"
        kind = calls.INLINED
    else:
        text = "the function has no code of its own any more: nothing calls it"
        back = "the function has code that there was none of before"
        kind = calls.UNUSED
    every = tuple(range(len(body.items)))
    sure = CERTAIN if inside else LIKELY
    evidence: tuple[tuple[int, ...], tuple[int, ...]] = (every, ()) if left else ((), every)
    yield Reason(kind, text if left else back, sure, both.name, *evidence, home)


def _folded(both: FunctionPair, paired: Sequence[Paired], context: Context) -> Reason | None:
    """Say when a function is nothing but a jump to an equal one, on one side only."""
    assert both.left and both.right
    every = tuple(range(len(both.left.items))), tuple(range(len(both.right.items)))
    for own, other, gained in (
        (both.right, both.left, True), (both.left, both.right, False)
    ):  # fmt: skip
        name = only_jump(own.items, syntax_of(own.isa))
        known = name in context.names or name == other.owner
        if not known or name == own.owner or name in _targets(other) or len(other.items) == 1:
            continue
        home = context.rules.homes.get(name, frozenset())
        mapped = context.lines if gained else LineMap()
        inside = {mapped.place(*key) for key in {(i.file, i.line) for i in other.items}}
        if name != other.owner and inside & home:
            continue  # it was inlined here and is called now
        title = context.rules.title(name)
        texts = (
            f"folded into {title}, found to be equal: what is left is a jump to it",
            f"code of its own again, no longer folded into {title}",
        )
        at = frozenset(line.place for line in paired)
        return Reason(calls.FOLDED, texts[0 if gained else 1], LIKELY, both.name, *every, at)
    return None


def _padding(both: FunctionPair) -> Iterator[Reason]:
    """Say when only the bytes between instructions differ."""
    assert both.left and both.right
    gaps = [_gaps(body) for body in (both.left, both.right)]
    if None not in gaps and gaps[0] != gaps[1]:
        text = f"only padding differs: {gaps[1]} bytes between instructions instead of {gaps[0]}"
        yield Reason(plain.PADDED, text, CERTAIN, both.name, (), (), frozenset())


def _gaps(body: Body) -> int | None:
    """Return the bytes between a function's instructions, None when not known."""
    total = 0
    for one, other in zip(body.items, body.items[1:], strict=False):
        if min(one.address, one.size, other.address) < 0:
            return None
        total += max(other.address - one.address - one.size, 0)
    return total


# Nearly every line of unoptimised code has these: they lead only where little else does.
_COMMON = frozenset((memory.KEPT, memory.FRAME, idioms.COLD, vectors.OVERLAP))


# Rounding may be another one.
_OTHER_RESULTS = frozenset((arithmetic.FUSED, arithmetic.REASSOCIATED, arithmetic.INVERSE))

# Small in code, but what an edit did.
_TELLING = frozenset(
    (differences.CONDITION, differences.DATA, differences.OPERATION, plain.ARGUMENT)
)


def _told(reason: Reason, both: FunctionPair, one_source: bool) -> Reason:
    """Return a reason with the texts of its evidence, and how early to tell it."""
    texts = [
        tuple(body.items[k].text for k in found) if body else ()
        for body, found in ((both.left, reason.left), (both.right, reason.right))
    ]
    level = 1 if reason.kind in _COMMON else 0
    if reason.kind in plain.SMALL and (one_source or reason.kind not in _TELLING):
        level = 2
    return reason._replace(
        left_text=texts[0], right_text=texts[1], level=level, depth=_depth(reason, both),
        results=reason.kind in _OTHER_RESULTS,
    )  # fmt: skip


def _depth(reason: Reason, both: FunctionPair) -> int:
    """Return how many loops stand around the innermost instruction that shows a reason."""
    return max(
        (
            body.loops[loop].depth
            for body, found in ((both.left, reason.left), (both.right, reason.right))
            if body
            for k in found
            if (loop := body.loop_of[k]) >= 0
        ),
        default=0,
    )


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

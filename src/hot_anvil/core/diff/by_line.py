"""Two codes by source line: what is the same, what differs, what came, went and moved."""

from collections import Counter
from collections.abc import Collection, Mapping, Sequence

from hot_anvil.core.asm.listing import Sources, source_text
from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.code.records import Code
from hot_anvil.core.diff.function_pair import FunctionPair, is_identical
from hot_anvil.core.diff.pairing import Paired, lines_by_votes, state_of
from hot_anvil.core.diff.records import STATES, Diff, FunctionTotal, Part, Row, Spot
from hot_anvil.core.model.control_flow import Body, bodies


def pair_functions(
    left: Code,
    right: Code,
    lines: LineMap,
    same_function: Mapping[str, str],
) -> tuple[tuple[FunctionPair, ...], LineMap]:
    """Return the functions of two codes in pairs, and which source lines correspond.

    ``same_function`` pairs functions of different names: left -> right.
    """
    function_pairs = _function_pairs(left, right, same_function)
    if same_function:
        lines = lines_by_votes(function_pairs, lines)
    return function_pairs, lines


def chosen(
    function_pairs: Sequence[FunctionPair], entries: Collection[str]
) -> tuple[FunctionPair, ...]:
    """Return those of some functions (symbols, of either side); all if none are named."""
    if not entries:
        return tuple(function_pairs)
    return tuple(
        both
        for both in function_pairs
        if both.name in entries or (both.left is not None and both.left.owner in entries)
    )


def by_source_line(
    function_pairs: Sequence[FunctionPair],
    paired: Sequence[Sequence[Paired]],
    lines: LineMap,
    sources: Sources,
    left_sources: Sources,
) -> Diff:
    """Return what was paired in each function by source line."""
    found: dict[Place, list[Part]] = {}
    for both, own in zip(function_pairs, paired, strict=True):
        for place, pairs, counts, state in own:
            part = Part(both.name, both.title, pairs, *counts, state)
            found.setdefault(place, []).append(part)
    known = _Spots(lines, sources, left_sources)
    files = {file: k for k, file in enumerate(dict.fromkeys(place.file for place in found))}
    order = sorted(found, key=lambda place: (files[place.file], place.line, place.old))
    rows = tuple(_row(place, found[place], known) for place in order)
    totals = tuple(
        FunctionTotal(
            both.name, both.title, _count(both.left), _count(both.right), is_identical(both)
        )
        for both in function_pairs
    )
    counted = Counter(row.state for row in rows)
    states = {state: counted.get(state, 0) for state in STATES}
    names = {
        t.name: t.left.owner
        for t in function_pairs
        if t.left is not None and t.left.owner != t.name
    }
    return Diff(rows, totals, states, names)


def _count(body: Body | None) -> int | None:
    return None if body is None else len(body.items)


def _function_pairs(left: Code, right: Code, same: Mapping[str, str]) -> tuple[FunctionPair, ...]:
    first, second = bodies(left.functions, left.isa), bodies(right.functions, right.isa)
    titles = {**left.titles, **right.titles}
    partner = {name: name for name in first if name in second} | dict(same)
    # A copy that the optimiser has specialised stands for the function, if that is gone.
    for mine, theirs, flip in ((first, second, False), (second, first, True)):
        taken = set(partner) if not flip else set(partner.values())
        for name in mine:
            plain = name.partition(".")[0]
            if name not in taken and plain != name and plain in theirs:
                two = (plain, name) if flip else (name, plain)
                if two[0] not in partner and two[1] not in partner.values():
                    partner[two[0]] = two[1]
    used = set(partner.values())
    pairs: list[tuple[str | None, str | None]] = [(n, partner.get(n)) for n in first]
    pairs += [(None, name) for name in second if name not in used]
    out = []
    for a, c in pairs:
        name = c or a or ""
        title = titles.get(name, name)
        if a and c and same.get(a) == c:
            title = f"{titles.get(a, a)} and {title}"
        out.append(FunctionPair(name, title, first.get(a or ""), second.get(c or "")))
    return tuple(out)


class _Spots:
    """The source lines of both sides."""

    def __init__(self, lines: LineMap, right: Sources, left: Sources) -> None:
        self.right = right
        self.left = left
        self.back = lines.back()
        self.mapped = set(lines.files.values()) | set(lines.lines)
        self.old_file = {new: old for old, new in lines.files.items()}

    def of(self, place: Place) -> tuple[Spot | None, Spot | None]:
        """Return the line on the left and on the right."""
        file = self.old_file.get(place.file, place.file)
        if place.old:
            return Spot(file, place.old, source_text(self.left, file, place.old)), None
        spot = Spot(place.file, place.line, source_text(self.right, place.file, place.line))
        if place.line <= 0 or place.file not in self.mapped:
            return spot, spot
        at = self.back.get((place.file, place.line))
        if at is None:
            return None, spot
        return Spot(*at, source_text(self.left, *at)), spot


def _row(place: Place, parts: Sequence[Part], known: _Spots) -> Row:
    return Row(*known.of(place), state_of(parts), tuple(parts), place)

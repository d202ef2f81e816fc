"""Pair the instructions of one function on both sides, line by line."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.spelling import split_names
from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.diff.alignment import align_texts, state_of_two
from hot_anvil.core.diff.function_pair import FunctionPair
from hot_anvil.core.diff.moved import moved_between
from hot_anvil.core.diff.records import (
    CHANGED,
    GONE,
    MOVED,
    NEW,
    RENAMED,
    REORDERED,
    SAME,
    Pair,
    Part,
    State,
)
from hot_anvil.core.diff.renaming import consistent
from hot_anvil.core.diff.reordering import blocks_of, only_reordered
from hot_anvil.core.model.control_flow import Body


class Paired(NamedTuple):
    """A source line's instructions inside one function, paired."""

    place: Place
    pairs: tuple[Pair, ...]
    counts: tuple[int, int]
    state: State


def pair_bodies(left: Body | None, right: Body | None, lines: LineMap) -> Iterator[Paired]:
    """Give each source line of a function with its pairs and its state."""
    left_at = _by_place(left, lines) if left else {}
    right_at = _by_place(right, None) if right else {}
    if left is None or right is None or left.isa != right.isa:
        yield from _apart(left, left_at, right, right_at)
        return
    if left_at == right_at and left.texts == right.texts:
        for place, at in left_at.items():
            items = ((left.items[i], right.items[i], i) for i in at)
            pairs = tuple(Pair(x, y, SAME, (i, i)) for x, y, i in items)
            yield Paired(place, pairs, (len(at), len(at)), SAME)
        return
    found: dict[Place, list[tuple[int, int]]] = {}
    for place in sorted({*left_at, *right_at}):  # one order, whichever side is which
        found[place] = _align(left, left_at.get(place, []), right, right_at.get(place, []))
    states = _states(left, right, found)
    other = moved_between(left, right, found)
    alike = (two for two, state in states.items() if state != CHANGED)
    blocks = blocks_of(left, right, alike)
    out = []
    for place, two in found.items():
        pairs = tuple(_pair(left, right, i, j, states, other) for i, j in two)
        counts = len(left_at.get(place, [])), len(right_at.get(place, []))
        out.append(Paired(place, pairs, counts, _state(left, right, pairs, blocks)))
    yield from _renamed_throughout(left, right, out)


def _renamed_throughout(left: Body, right: Body, lines: list[Paired]) -> list[Paired]:
    """Return the lines, none as reordered where one renaming explains the whole function."""
    states = {line.state for line in lines}
    if not (REORDERED in states and RENAMED in states and states <= {SAME, RENAMED, REORDERED}):
        return lines
    two = [pair.place for line in lines for pair in line.pairs]
    if any(i < 0 or j < 0 for i, j in two) or not all(consistent(left, right, two)):
        return lines
    renamed = [line._replace(state=RENAMED) for line in lines]
    return [new if old.state == REORDERED else old for old, new in zip(lines, renamed, strict=True)]


def _by_place(body: Body, lines: LineMap | None) -> dict[Place, list[int]]:
    out: dict[tuple[str, int], list[int]] = {}
    for at, item in enumerate(body.items):
        out.setdefault((item.file, item.line), []).append(at)
    if lines is None or not (lines.lines or lines.files):
        return {Place(*key): at for key, at in out.items()}
    placed: dict[Place, list[int]] = {}
    for key, found in out.items():
        placed.setdefault(lines.place(*key), []).extend(found)
    return {place: sorted(found) for place, found in placed.items()}


def _apart(
    left: Body | None,
    left_at: Mapping[Place, list[int]],
    right: Body | None,
    right_at: Mapping[Place, list[int]],
) -> Iterator[Paired]:
    """Give lines whose sides cannot be compared by instruction, or of which one is not there."""
    for place in dict.fromkeys((*left_at, *right_at)):
        a, c = left_at.get(place, []), right_at.get(place, [])
        pairs = tuple(Pair(left.items[i], None, GONE, (i, -1)) for i in a if left)
        pairs += tuple(Pair(None, right.items[j], NEW, (-1, j)) for j in c if right)
        state = CHANGED if a and c else GONE if a else NEW
        yield Paired(place, pairs, (len(a), len(c)), state)


def _align(left: Body, a: Sequence[int], right: Body, c: Sequence[int]) -> list[tuple[int, int]]:
    found = align_texts(
        [left.texts[i] for i in a],
        [right.texts[j] for j in c],
        [left.items[i] for i in a],
        [right.items[j] for j in c],
        left.isa,
    )
    return [(a[i] if i >= 0 else -1, c[j] if j >= 0 else -1) for i, j in found]


def _states(
    left: Body, right: Body, found: Mapping[Place, Sequence[tuple[int, int]]]
) -> dict[tuple[int, int], State]:
    """Return the state of each pair; RENAMED only where the whole function's renaming allows."""
    isa = left.isa
    states = {
        (i, j): state_of_two(left.texts[i], right.texts[j], isa)
        for two in found.values()
        for i, j in two
        if i >= 0 and j >= 0
    }
    if RENAMED in states.values():
        alike = [two for two, state in states.items() if state != CHANGED]
        for two, holds in zip(alike, consistent(left, right, alike), strict=True):
            if states[two] == RENAMED:
                state = SAME if _same_but_labels(left, right, *two) else RENAMED
                states[two] = state if holds else CHANGED
    return states


def _same_but_labels(left: Body, right: Body, i: int, j: int) -> bool:
    """Tell whether a branch goes by another label; whether that is the right one is known."""
    if left.goals[i] < 0 or right.goals[j] < 0:
        return False
    registers = [split_names(s.texts[k], s.isa)[2] for s, k in ((left, i), (right, j))]
    return registers[0] == registers[1]


def _pair(
    left: Body,
    right: Body,
    i: int,
    j: int,
    states: Mapping[tuple[int, int], State],
    other: Mapping[tuple[int, int], Place],
) -> Pair:
    a, c = left.items[i] if i >= 0 else None, right.items[j] if j >= 0 else None
    if a and c:
        return Pair(a, c, states[i, j], (i, j))
    goal = other.get((i, j))
    if goal is not None:
        return Pair(a, c, MOVED, (i, j), (goal.file, goal.old or goal.line))
    return Pair(a, c, NEW if a is None else GONE, (i, j))


def _state(left: Body, right: Body, pairs: Sequence[Pair], blocks: Mapping[int, int]) -> State:
    """Return the state of a line inside one function."""
    states = {pair.state for pair in pairs}
    if states == {SAME}:
        return SAME
    if states <= {SAME, RENAMED, CHANGED, GONE, NEW} and only_reordered(left, right, pairs, blocks):
        return REORDERED
    if states <= {SAME, RENAMED}:
        return RENAMED
    if states <= {SAME, RENAMED, MOVED}:
        return MOVED
    if states <= {GONE, MOVED}:
        return GONE
    return NEW if states <= {NEW, MOVED} else CHANGED


def state_of(parts: Sequence[Part]) -> State:
    """Return the state of a line over all functions that it has code in."""
    states = {part.state for part in parts}
    if len(states) == 1:
        return states.pop()
    if states <= {SAME, RENAMED}:
        return RENAMED
    if states <= {SAME, RENAMED, REORDERED}:
        return REORDERED
    return MOVED if states <= {SAME, RENAMED, REORDERED, MOVED} else CHANGED


def lines_by_votes(function_pairs: Sequence[FunctionPair], lines: LineMap) -> LineMap:
    """Match source lines of functions that do the same through their instructions.

    Each line goes with the line that most of its instructions correspond to,
    if that holds in both directions.
    """
    votes: Counter[tuple[tuple[str, int], tuple[str, int]]] = Counter()
    for both in function_pairs:
        left, right = both.left, both.right
        if left is None or right is None or left.isa != right.isa:
            continue
        for i, j in _align(left, range(len(left.items)), right, range(len(right.items))):
            if i >= 0 and j >= 0 and left.effects[i].kind not in (b.PUSH, b.POP):
                a, c = left.items[i], right.items[j]
                state = state_of_two(left.texts[i], right.texts[j], left.isa)
                weight = 3 if state in (SAME, RENAMED) else 1
                votes[(a.file, a.line), (c.file, c.line)] += weight
    made: dict[str, dict[int, Place]] = {file: dict(known) for file, known in lines.lines.items()}
    mine = {(i.file, i.line) for t in function_pairs if t.left for i in t.left.items if i.line > 0}
    taken: set[tuple[str, int]] = set()
    matched: dict[tuple[str, int], tuple[str, int]] = {}
    for (a_line, c_line), _ in sorted(votes.items(), key=lambda item: (-item[1], item[0])):
        if a_line[1] > 0 and c_line[1] > 0 and a_line not in matched and c_line not in taken:
            matched[a_line] = c_line
            taken.add(c_line)
    theirs = {
        (i.file, i.line) for t in function_pairs if t.right for i in t.right.items if i.line > 0
    }
    matched |= _between(sorted(mine), sorted(theirs), matched)
    for file, line in sorted(mine):
        places = made.setdefault(file, {})
        goal = matched.get((file, line))
        places[line] = Place(*goal) if goal else Place(lines.files.get(file, file), line, line)
    return LineMap(lines.files, made)


_Line = tuple[str, int]


def _between(
    mine: Sequence[_Line], theirs: Sequence[_Line], matched: Mapping[_Line, _Line]
) -> dict[_Line, _Line]:
    """Match lines that stand, as many on both sides, between two that are matched in order."""
    out: dict[_Line, _Line] = {}
    taken = set(matched.values())
    bounds = [(-1, -1)]
    for i, line in enumerate(mine):
        if line in matched and theirs.index(matched[line]) > bounds[-1][1]:
            bounds.append((i, theirs.index(matched[line])))
    bounds.append((len(mine), len(theirs)))
    for (i, j), (i_end, j_end) in pairwise(bounds):
        left = [line for line in mine[i + 1 : i_end] if line not in matched]
        right = [line for line in theirs[j + 1 : j_end] if line not in taken]
        if len(left) == len(right):
            out.update(zip(left, right, strict=True))
    return out

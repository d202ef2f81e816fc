"""Two forms of a function by source line: which statements stayed, changed, went and came."""

import re
from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher

from hot_anvil.core.asm.listing import source_text
from hot_anvil.core.code.places import Place
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.records import (
    CHANGED,
    GONE,
    NEW,
    RENAMED,
    SAME,
    Pair,
    Part,
    Row,
    Spot,
    State,
)
from hot_anvil.core.stages.records import Body, Statement

# Numbers that compilers give to values, registers and blocks: another one means nothing.
_NUMBERS = re.compile(r"(?<=_)\d+(?:\(D\))?|%[\w.]+|\bD\.\d+|(?<=bb )\d+|\breg[/\w]*:\w+ \d+( \w+)?"
                      r"|label_ref(?::\w+)? \d+|\b_\d+\b|\$\w+")  # fmt: skip


def compare_forms(
    left: Body, right: Body, title: str, sources: Mapping[str, Sequence[str]]
) -> tuple[Row, ...]:
    """Return the source lines of two forms with their statements side by side."""
    sides = _by_place(left), _by_place(right)
    places = sorted({*sides[0], *sides[1]}, key=lambda at: (not at[1], at))
    rows = []
    for file, line in places:
        own = [side.get((file, line), []) for side in sides]
        pairs = _pairs(left, own[0], right, own[1])
        state = _state(pairs, own)
        part = Part(title, title, tuple(pairs), len(own[0]), len(own[1]), state)
        spot = Spot(file, line, source_text(sources, file, line) if line else "")
        rows.append(Row(spot, spot, state, (part,), Place(file, line)))
    return tuple(rows)


def _by_place(body: Body) -> dict[tuple[str, int], list[int]]:
    out: dict[tuple[str, int], list[int]] = {}
    for k, statement in enumerate(body.statements):
        out.setdefault((statement.file, statement.line), []).append(k)
    return out


def _pairs(left: Body, a: Sequence[int], right: Body, c: Sequence[int]) -> list[Pair]:
    mine = [_plain(left.statements[k]) for k in a]
    theirs = [_plain(right.statements[k]) for k in c]
    out: list[Pair] = []
    for word, i, i_end, j, j_end in SequenceMatcher(None, mine, theirs, False).get_opcodes():
        if word == "equal":
            for x, y in zip(range(i, i_end), range(j, j_end), strict=True):
                same = left.statements[a[x]].text == right.statements[c[y]].text
                out.append(_pair(left, a[x], right, c[y], SAME if same else RENAMED))
        else:
            out += [_pair(left, a[x], right, -1, GONE) for x in range(i, i_end)]
            out += [_pair(left, -1, right, c[y], NEW) for y in range(j, j_end)]
    return out


def _pair(left: Body, x: int, right: Body, y: int, state: State) -> Pair:
    one = _shown(left.statements[x]) if x >= 0 else None
    other = _shown(right.statements[y]) if y >= 0 else None
    return Pair(one, other, state, (x, y), ("", 0))


def _shown(statement: Statement) -> Instruction:
    return Instruction(statement.text, (), statement.file, statement.line, 0, False)


def _plain(statement: Statement) -> str:
    return _NUMBERS.sub("#", statement.text)


def _state(pairs: Sequence[Pair], own: Sequence[Sequence[int]]) -> State:
    if not own[0] or not own[1]:
        return NEW if own[1] else GONE
    states = {pair.state for pair in pairs}
    if states <= {SAME}:
        return SAME
    return RENAMED if states <= {SAME, RENAMED} else CHANGED

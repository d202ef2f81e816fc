"""Branches: into selects and masks, their sign, tables, tests merged."""

import re
from collections.abc import Iterable, Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.context import View

SELECTED, SIGNED, TABLE = "branch into select", "signedness", "jump table"
VALUES, RANGE, BITS = "table of values", "tests merged", "tests as a bit mask"
_TABLES = re.compile(
    r"CSWTCH\.\d+|\.?Lswitch\.table[\w.]*|switch\.table[\w.]*|\.?L?reltable[\w.]*|\.LANCHOR\d+"
)
_SOON = 12  # instructions until an address is used
_NEAR = 3  # lines: what a branch chose between stands close to it


def choices(side: FunctionModel) -> list[int]:
    """Return conditional branches that do not decide whether a loop goes on."""
    return [k for k in side.of((b.BRANCH, b.SKIP)) if _decided_loop(side, k) < 0]


def _between_ways(side: FunctionModel) -> list[int]:
    """Return the choices that are no test for entering a loop, of one line with its own test."""
    decided = {k: _decided_loop(side, k) for k in side.of((b.BRANCH, b.SKIP))}
    tests = {(side.places[k], loop) for k, loop in decided.items() if loop >= 0}

    def enters(k: int) -> bool:
        block = side.body.block_of[k]
        return any(
            place == side.places[k] and block not in side.body.loops[loop].blocks
            for place, loop in tests
        )

    return [k for k, loop in decided.items() if loop < 0 and not enters(k)]


def _decided_loop(side: FunctionModel, k: int) -> int:
    """Return the number of the loop that a branch goes back to or out of, -1 for none."""
    body = side.body
    loop = body.loop_of[k]
    if loop < 0:
        return -1
    blocks = body.loops[loop].blocks
    back = 0 <= body.goals[k] <= k and body.block_of[body.goals[k]] in blocks
    leaves = any(after not in blocks for after in body.next_blocks[body.block_of[k]])
    return loop if back or leaves else -1


def selects(side: FunctionModel) -> list[int]:
    """Return what takes the place of a branch: selects, sets, masks, minimum and maximum."""
    out = side.of((b.SELECT, b.MINMAX))
    out += [k for k in side.of((b.SET,)) if not _branched_on(side, k)]
    flag_selects = side.body.arch.semantics.flag_selects
    for k, done in enumerate(side.effects):
        text = side.body.texts[k]
        if flag_selects.match(text):
            out.append(k)
        elif done.kind == b.SHIFT and done.signed == "signed" and done.immediate in (15, 31, 63):
            if _masks(side, k):
                out.append(k)  # all bits become the sign: a mask
        elif done.packed and done.kind == b.COMPARE:
            out.append(k)
    return out


def _masks(side: FunctionModel, k: int) -> bool:
    """Tell whether what an instruction makes is combined with a value bit by bit, soon after."""
    made = side.written(k)
    block = side.body.block_of
    for j in range(k + 1, min(k + 5, len(side))):
        if block[j] != block[k]:
            return False
        if made & side.read(j):
            done = side.effects[j]
            return done.kind in (b.LOGIC, b.SUB) and done.immediate is None
    return False


def _branched_on(side: FunctionModel, k: int) -> bool:
    """Tell whether a flag is made only to branch on, as unoptimised code does."""
    block = side.body.block_of
    near = range(k + 1, min(k + 4, len(side)))
    return any(side.kinds[j] == b.BRANCH and block[j] == block[k] for j in near)


def near(place: Place, other: Place) -> bool:
    """Tell whether two lines stand so close that one may hold what belongs to the other."""
    return place.file == other.file and abs(place.line - other.line) <= _NEAR


def selected(view: View) -> Iterator[Reason]:
    """A branch of ``left`` in whose place ``right`` computes both ways and selects."""
    left, right = view.left, view.right
    mine, theirs = selects(left), selects(right)
    if len(theirs) <= len(mine):
        return
    before, after = _between_ways(left), choices(right)
    for place in dict.fromkeys(left.places[k] for k in before):
        gone = [k for k in before if left.places[k] == place]
        if len([k for k in after if right.places[k] == place]) >= len(gone):
            continue
        known = {left.body.texts[k] for k in mine if left.places[k] == place}
        around = [k for k in theirs if near(place, right.places[k])]
        made = [k for k in around if right.body.texts[k] not in known]
        more = len(around) > sum(near(place, left.places[k]) for k in mine)
        if not made or not more or view.brought(place):
            continue
        masks = all(right.effects[k].kind in (b.SHIFT, b.SUB, b.ADD, b.COMPARE) for k in made)
        what = (
            "a mask"
            if masks
            else "a select"
            if right.of((b.SELECT,), made)
            else "a flag or minimum"
        )
        texts = (
            f"the branch became {what}: no jump, both ways are computed",
            "there is a branch where the value was selected without one",
        )
        places = {place, *(right.places[k] for k in made)}
        beside = {p for p in _cases(view, {place}) if near(place, p)}
        yield view.reason(SELECTED, texts, gone, made, places | beside)


def signedness(view: View) -> Iterator[Reason]:
    """A comparison that is signed on one side and unsigned on the other."""
    if not view.forward:
        return
    left, right = view.left, view.right
    kinds = (b.BRANCH, b.SELECT, b.SET)
    for place in view.lines:
        mine = [k for k in left.of(kinds, left.at.get(place, ())) if _ordered(left, k)]
        theirs = [k for k in right.of(kinds, right.at.get(place, ())) if _ordered(right, k)]
        mine, theirs = mine + _by_carry(left, place), theirs + _by_carry(right, place)
        tables = any(
            side.effects[k].indirect for side in (left, right) for k in side.at.get(place, ())
        )
        if not mine or not theirs or len(mine) != len(theirs) or tables:
            continue
        signs = [{_sign(side, k) for k in own} for side, own in ((left, mine), (right, theirs))]
        if (
            len(signs[0]) == len(signs[1]) == 1
            and signs[0] != signs[1]
            and not _shifted(view, place)
        ):
            one, other = signs[0].pop(), signs[1].pop()
            text = f"the comparison is {other} instead of {one}: "
            if view.context.one_source:
                text += "of one source, so it is known to give the same here"
            else:
                text += "values with the top bit set compare the other way"
            yield view.reason(SIGNED, (text, text), mine, theirs, {place})


def _by_carry(side: FunctionModel, place: Place) -> list[int]:
    """Return what adds or subtracts the outcome of an unsigned comparison just before it."""
    flag_selects = side.body.arch.semantics.flag_selects
    return [
        k
        for k in side.at.get(place, ())
        if k and flag_selects.match(side.body.texts[k]) and side.kinds[k - 1] == b.COMPARE
    ]


def _ordered(side: FunctionModel, k: int) -> bool:
    return side.effects[k].condition in b.SIGNED | b.UNSIGNED


def _sign(side: FunctionModel, k: int) -> str:
    return "signed" if side.effects[k].condition in b.SIGNED else "unsigned"


def _shifted(view: View, place: Place) -> bool:
    """Tell whether one side alone moves the range before it compares: that merges two tests."""
    counts = []
    for side in (view.left, view.right):
        sums = side.of((b.ADD, b.SUB, b.ADDRESS), side.at.get(place, ()))
        plain = [k for k in sums if side.effects[k].immediate not in (None, 0)]
        flag_selects = side.body.arch.semantics.flag_selects
        counts.append(sum(not flag_selects.match(side.body.texts[k]) for k in plain))
    return counts[0] != counts[1]


def merged(view: View) -> Iterator[Reason]:
    """Two tests of ``left`` against constants that are one unsigned test in ``right``."""
    left, right = view.left, view.right
    vectors = {right.body.loop_of[k] for k in range(len(right)) if right.effects[k].packed} - {-1}
    wide = {right.places[k] for k in range(len(right)) if right.body.loop_of[k] in vectors}
    for place in view.lines:
        mine = [k for k in left.of((b.BRANCH, b.SET), left.at.get(place, ())) if _ordered(left, k)]
        if len(mine) < 2 or place in wide:  # or tests of a vectorised loop's own
            continue
        bounds = {
            left.effects[k].immediate for k in left.of((b.COMPARE, b.SUB), left.at[place])
        } - {None}
        ordered = [k for k in right.of(_DECIDES, right.at.get(place, ())) if _ordered(right, k)]
        unsigned = [k for k in ordered if _sign(right, k) == "unsigned"]
        moved = [k for j in unsigned for k in _moved_range(right, j)]
        if len(bounds) > 1 and moved and not _shifts(left, place) and 2 * len(ordered) <= len(mine):
            texts = (
                "two tests of a range became one unsigned comparison",
                "the range is tested by two comparisons instead of one",
            )
            yield view.reason(RANGE, texts, mine, [*moved, *unsigned], {place})


_DECIDES = (b.BRANCH, b.SET, b.SELECT)


def _shifts(side: FunctionModel, place: Place) -> bool:
    """Tell whether a line's tests are made on a range moved to zero already."""
    branches = [k for k in side.of(_DECIDES, side.at.get(place, ())) if _ordered(side, k)]
    return any(_moved_range(side, k) for k in branches)


def _moved_range(side: FunctionModel, k: int) -> list[int]:
    """Return what adds a constant to the value that the test before ``k`` compares."""
    block = side.body.block_of
    near = [j for j in range(max(k - 5, 0), k) if block[j] == block[k]]
    out = []
    for j in side.of((b.ADD, b.SUB, b.ADDRESS), near):
        done = side.effects[j]
        by = done.memory.offset if done.kind == b.ADDRESS and done.memory else done.immediate
        if by and not (done.loads or done.stores) and not done.packed:
            out.append(j)
    return out


def tables(view: View) -> Iterator[Reason]:
    """A chain of comparisons in ``left`` that ``right`` decides by a table or a bit mask."""
    left, right = view.left, view.right
    mine, theirs = _table_jumps(left), _table_jumps(right)
    chain = _chain(left)
    if theirs and not mine and chain:
        places = {left.places[k] for k in chain} | {right.places[k] for k in theirs}
        texts = (
            "a jump table instead of a chain of comparisons",
            "a chain of comparisons instead of a jump table",
        )
        yield view.reason(TABLE, texts, chain, theirs, places)
    values = _value_tables(right, left)
    if values and (mine or chain) and not theirs and len(_chain(right)) < 3:
        places = {left.places[k] for k in mine or chain} | {right.places[k] for k in values}
        places |= _cases(view, places)
        texts = (
            "a table of the values instead of code for each case",
            "code for each case instead of a table of the values",
        )
        yield view.reason(VALUES, texts, mine or chain, values, places)
    bits, before = _bit_tests(right), _bit_tests(left)
    if bits and len(chain) > len(_chain(right)) and not before:
        texts = ("the cases are tested as bits of one mask", "the cases are tested one by one")
        yield view.reason(BITS, texts, chain, bits, None, LIKELY)


def _bit_tests(side: FunctionModel) -> list[int]:
    bit_tests = side.body.arch.semantics.bit_tests
    return [k for k, text in enumerate(side.body.texts) if bit_tests.match(text)]


def _cases(view: View, places: Iterable[Place]) -> set[Place]:
    """Return lines behind a switch that hold only a value and a jump, and nothing in ``right``."""
    first = min(places, key=lambda place: place.line)
    quiet = {b.CONSTANT, b.JUMP, b.MOVE, b.RETURN, b.ADDRESS, b.COMPARE, b.SELECT, b.BRANCH}
    return {
        place
        for place, here in view.left.at.items()
        if place.file == first.file and place.line > first.line and not view.right.at.get(place)
        and {view.left.kinds[k] for k in here} <= quiet
    }  # fmt: skip


def _table_jumps(side: FunctionModel) -> list[int]:
    jumps = [k for k in side.of((b.JUMP,)) if side.effects[k].indirect]
    return jumps if side.body.table_goals else []


def _chain(side: FunctionModel) -> list[int]:
    """Return the branches of the line that compares with the most constants, two or more."""
    best: Sequence[int] = ()
    most = 1
    for here in side.at.values():
        branches = side.of((b.BRANCH,), here)
        compared = side.of((b.COMPARE, b.CONSTANT, b.SUB), here)
        constants = {side.effects[k].immediate for k in compared} - {None}
        if len(branches) >= 3 and len(constants) > most:
            best, most = branches, len(constants)
    return list(best)


def _value_tables(side: FunctionModel, other: FunctionModel) -> list[int]:
    """Return loads from a constant table that the compiler made and the other side has not."""
    known = {name for item in other.body.items for name in _TABLES.findall(",".join(item.operands))}
    named = [
        k
        for k, item in enumerate(side.body.items)
        if set(_TABLES.findall(",".join(item.operands))) - known
        and side.effects[k].kind not in (b.JUMP, b.BRANCH, b.CALL)
    ]
    return [k for k in named if side.effects[k].loads or _indexed_by(side, k)]


def _indexed_by(side: FunctionModel, k: int) -> bool:
    """Tell whether an element is loaded from the address that an instruction makes, soon after."""
    made = side.written(k)
    for j in range(k + 1, min(k + _SOON, len(side))):
        done = side.effects[j]
        memory = done.memory
        if done.loads and memory and made & {memory.base, memory.indexed}:
            return bool(memory.indexed) or not memory.offset
        if done.kind == b.CALL:
            return False
        if made & side.read(j) and done.kind in (b.ADD, b.ADDRESS, b.MOVE):
            made |= side.written(j)
    return False


RULES = (selected, signedness, merged, tables)

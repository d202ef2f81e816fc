"""What one instruction, one access or one copy of a function does in the place of several."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.copies import grown_in
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import UNWINDING, plain_name
from hot_anvil.core.reasons.calls import SPLIT
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.differences import IDIOMS, verb
from hot_anvil.core.reasons.vectors import stored_bytes

IDIOM, MERGED, COLD = "one instruction for several", "accesses merged", "rarely used code apart"
CLONE, CLEAN_UP, REDUCED = "function specialised", "exception clean-up", "multiply into steps"
_PIECES = (b.SHIFT, b.LOGIC, b.ADD, b.EXTEND)


def idiom(view: View) -> Iterator[Reason]:
    """Shifts and logic of ``left`` that one instruction of ``right`` does."""
    left, right = view.left, view.right
    for place in view.lines:
        if not place.line:
            continue  # what has no line comes from anywhere in the function
        mine = left.of(_PIECES, left.at.get(place, ()))
        if len(mine) < 2:
            continue
        there = right.of((b.SHIFT, b.LOGIC, b.OTHER, b.MOVE), right.at.get(place, ()))
        made = [(k, verb(right.body, k)) for k in there]
        made = [(k, word) for k, word in made if word in IDIOMS]
        if not made or view.brought(place):
            continue
        known = {verb(left.body, k) for k in left.at.get(place, ())}
        fresh = [(k, word) for k, word in made if word not in known]
        if not fresh or any(left.effects[k].packed for k in mine):
            continue
        words = " and ".join(sorted({word for _, word in fresh}))
        others = (known & IDIOMS) - {word for _, word in made}
        if others:  # one for another
            if view.forward:
                text = (
                    f"one instruction {words}, instead of one that {' and '.join(sorted(others))}"
                )
                made_by = [k for k, _ in fresh]
                yield view.reason(IDIOM, (text, text), mine, made_by, {place}, LIKELY)
            continue
        texts = (
            f"one instruction {words}, instead of several shifts and the like",
            f"several shifts and the like, where one instruction {words}",
        )
        yield view.reason(IDIOM, texts, mine, [k for k, _ in fresh], {place}, LIKELY)


def merged(view: View) -> Iterator[Reason]:
    """Neighbouring accesses of ``left`` that are one, wider, in ``right``."""
    left, right = view.left, view.right
    if view.context.other_functions:
        return  # which of their lines correspond is only guessed
    for what, accesses in (("stores", FunctionModel.stores), ("loads", FunctionModel.loads)):
        runs = _runs(left, view.shared(left, accesses(left, range(len(left)))))
        narrow = {(a.start, a.size) for run in runs for a in run}
        for k in view.shared(right, accesses(right, range(len(right)))):
            wide = _access(right, k)
            if not wide or (wide.start, wide.size) in narrow:
                continue
            if right.effects[k].packed and view.loop_pairs and not _as_much(view, k):
                continue  # of a vector loop, or what is left over from one
            found = next((part for run in runs if (part := _covered(run, wide))), None)
            if not found or not _near(left, [a.place for a in found], right, k):
                continue
            if not _fewer(left, found, right):
                continue  # as many narrow ones as before
            texts = (
                f"{len(found)} {what} beside each other are one, of {wide.size} bytes",
                f"one of the {what}, of {wide.size} bytes, is {len(found)} narrower ones",
            )
            yield view.reason(MERGED, texts, [a.place for a in found], (k,), None, LIKELY)


def _as_much(view: View, k: int) -> bool:
    """Tell whether a loop stores as much in a pass as before: its accesses, not passes, joined."""
    left, right = view.left, view.right
    loop = right.body.loop_of[k]
    before = [i for i, found in view.loop_pairs.items() if loop in found]
    return len(before) == 1 and 0 < stored_bytes(left, left.own(before[0])) == stored_bytes(
        right, right.own(loop)
    )


class _Access(NamedTuple):
    """One load or store."""

    place: int  # instruction
    base: tuple[str, str, str]  # what its address is made of
    start: int  # offset from that, in bytes
    size: int
    scale: int = 0  # what its index is multiplied by, 0 without one


def _access(side: FunctionModel, k: int) -> _Access | None:
    memory = side.effects[k].memory
    name = side.body.items[k].mnemonic.rpartition(" ")[2]
    size = side.body.arch.semantics.access_bytes(name, side.effects[k])
    if memory is None or not size:
        return None
    operands = side.body.items[k].operands
    scale = side.body.arch.semantics.scale(operands) if memory.indexed else 0
    base = memory.base, memory.indexed, memory.symbol
    return _Access(k, base, memory.offset, size, scale)


def _runs(side: FunctionModel, among: Sequence[int]) -> list[list[_Access]]:
    """Return accesses by their bases, those of one base in order of their offsets."""
    groups: dict[tuple[str, str, str], dict[int, _Access]] = {}
    for k in among:
        one = _access(side, k)
        if one:
            groups.setdefault(one.base, {}).setdefault(one.start, one)
    return [[own[start] for start in sorted(own)] for own in groups.values() if len(own) > 1]


def _covered(run: Sequence[_Access], wide: _Access) -> list[_Access] | None:
    """Return the accesses of a run that are together as much as a wide one, if that is so."""
    inside = [
        a for a in run if wide.start <= a.start and a.start + a.size <= wide.start + wide.size
    ]
    if run[0].scale != wide.scale or run[0].base[2] != wide.base[2]:
        return None  # other addresses
    exact = sum(a.size for a in inside) == wide.size
    return inside if len(inside) > 1 and exact else None


def _near(left: FunctionModel, mine: Sequence[int], right: FunctionModel, k: int) -> bool:
    """Tell whether a wide access stands under one of the lines of the narrow ones."""
    loops = {left.body.loop_of[i] >= 0 for i in mine} | {right.body.loop_of[k] >= 0}
    together = len({left.body.block_of[i] for i in mine}) == 1  # or other values, for all is known
    return together and len(loops) == 1 and right.places[k] in {left.places[i] for i in mine}


def _fewer(left: FunctionModel, narrow: Sequence[_Access], right: FunctionModel) -> bool:
    """Tell whether the lines of narrow accesses have fewer of them on the other side."""
    stores, size = left.effects[narrow[0].place].stores, narrow[0].size
    counts = []
    for side in (left, right):
        on_lines = side.on({left.places[a.place] for a in narrow})
        among = side.stores(on_lines) if stores else side.loads(on_lines)
        counts.append(sum(one.size == size for k in among if (one := _access(side, k))))
    return counts[1] < counts[0]


def cold(view: View) -> Iterator[Reason]:
    """Code of ``right`` that stands apart from the rest of the function."""
    left, right = view.left, view.right
    if len(right.body.starts) > 1 and len(left.body.starts) == 1:
        apart = range(right.body.starts[1], len(right))
        called = {name for k, name in right.calls if k in apart}
        still = called <= {name for _, name in left.calls}
        many = len(apart) != 1
        texts = (
            f"{len(apart)} instruction{'s' * many} that {'are' if many else 'is'} rarely needed "
            f"stand{'' if many else 's'} apart from the function",
            "what is rarely needed stands in the function itself" if still
            else "no code stands apart from the function any more",
        )  # fmt: skip
        yield view.reason(COLD, texts, (), apart)


def clone(view: View) -> Iterator[Reason]:
    """A copy of the function that the compiler made for the way it is called."""
    names = view.left.body.owner, view.right.body.owner
    if names[1] != plain_name(names[1]) == names[0]:
        title = view.context.title(names[0])
        if ".part." in names[1]:
            texts = (
                f"this is what was split off from {title}: its first part is inlined",
                f"this is {title} as a whole, no longer split",
            )
            yield view.reason(SPLIT, texts, range(min(1, len(view.left))), (0,))
            return
        texts = (
            f"this is a copy of {title} made for the arguments it is called with ({names[1]})",
            f"this is {title} itself, no longer a copy made for its arguments ({names[1]})",
        )
        first = {view.right.places[0]} if len(view.right) else set()
        yield view.reason(CLONE, texts, range(min(1, len(view.left))), (0,), first)


def clean_up(view: View) -> Iterator[Reason]:
    """Code of ``right`` that only runs when an exception passes through."""
    mine, theirs = (
        [k for k, name in side.calls if UNWINDING.match(name)] for side in (view.left, view.right)
    )
    if theirs and not mine:
        texts = (
            "there is code that cleans up when an exception passes through",
            "nothing has to be cleaned up when an exception passes through",
        )
        yield view.reason(CLEAN_UP, texts, (), theirs)


def reduced(view: View) -> Iterator[Reason]:
    """A multiplication in each pass of ``left`` that is an addition in ``right``."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        if not found or right.of((b.MUL,), right.inside(found[0])):
            continue
        mine = [
            k for k in left.of((b.MUL,), left.each_pass(loop))
            if not left.effects[k].packed and _of_a_counter(left, loop, k)
        ]  # fmt: skip
        inside = set(right.own(found[0]))
        for place in dict.fromkeys(left.places[k] for k in mine):
            if right.of((b.MUL,), right.at.get(place, ())):
                continue  # it is done before the loop
            there = [k for k in right.at.get(place, ()) if k in inside]
            steps = [k for k in right.of((b.ADD,), right.own(found[0])) if _grows(right, k)]
            if right.of((b.SHIFT,), there) or not steps or _scaled(right, there):
                continue
            own = [k for k in mine if left.places[k] == place]
            texts = (
                "the multiplication in each pass became an addition to the value before",
                "it is multiplied in each pass, no longer added to the value before",
            )
            yield view.reason(REDUCED, texts, own, steps, {place}, LIKELY)


def _of_a_counter(side: FunctionModel, loop: int, k: int) -> bool:
    """Tell whether a multiplication is of what grows by the same in each pass, or of its copy."""
    inside = side.own(loop)
    grown = grown_in(side, inside)
    read = set(side.read(k))
    for family in side.read(k) - grown:
        made = [j for j in inside if j < k and family in side.written(j)][-1:]
        if made and side.kinds[made[0]] in (b.MOVE, b.EXTEND):
            read |= side.read(made[0])
    return bool(read & grown)


def _grows(side: FunctionModel, k: int) -> bool:
    """Tell whether an addition is to its own result, by more than one."""
    by = side.effects[k].immediate
    return bool(side.written(k) & side.read(k)) and (by is None or abs(by) > 1)


def _scaled(side: FunctionModel, among: Sequence[int]) -> bool:
    scaled = side.body.arch.semantics.scaled
    return any(scaled.search(side.body.texts[k]) for k in among)


RULES = (idiom, merged, cold, clone, clean_up, reduced)

"""Loops: removed, vectorised, unrolled, turned over, relieved of what does not change."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from hot_anvil.core.linemap import Place
from hot_anvil.core.meaning import base as b
from hot_anvil.core.reasons.base import LIKELY, Reason, Side, View

VECTORISED, WIDTH, UNROLLED = "loop vectorised", "vector width", "loop unrolled"
REMOVED, TURNED, HOISTED = "loop removed", "test at the loop's end", "computed before the loop"
COMBINED = "operations packed"
_COSTLY = (b.DIV, b.FDIV, b.FSQRT, b.MUL, b.FMUL, b.CALL)
BLOCK_CALLS = frozenset(
    "memset memcpy memmove bzero strlen wcslen memcmp bcmp memchr strchr strcpy stpcpy rawmemchr"
    " __memset_chk __memcpy_chk".split()
)


def removed(view: View) -> Iterator[Reason]:
    """A loop of ``a`` that ``b`` has none for: a closed form, no effect, or every pass written out."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if found or not len(c) or any(name == view.function for _, name in c.calls):
            continue  # recursion is told as such
        inside = a.inside(loop)
        if a.of((b.ATOMIC,), inside):
            continue  # it tries again until no other thread was between
        places = _lines(a, inside)
        if not places or _outer_also_gone(view, loop) or _one_of_several(view, loop):
            continue
        left = [k for place in places for k in c.at.get(place, ())]
        if became_call(view, places):
            continue
        copies = copies_of(a, a.own(loop), c, left)
        packed = c.packed(left)
        if copies >= 2 or (packed and not a.packed(inside)):
            said = f"all {copies} passes" if copies >= 2 else "all passes"
            text = f"the loop is written out: {said}, one after another, without a branch back"
            yield view.reason(
                UNROLLED, (text, "the passes are a loop again, no longer written out"),
                _backs(a, loop), left, places,
            )  # fmt: skip
            continue
        if any(c.kinds[k] in b.ARITHMETIC or c.kinds[k] == b.CALL for k in left):
            text = "the loop is gone: its result is computed without it"
            back = "computed by a loop, no longer without one"
        else:
            text = "the loop is gone: nothing of it is needed, or its result is known"
            back = "there is a loop that was not needed before"
        yield view.reason(REMOVED, (text, back), _backs(a, loop), left, places, LIKELY)


def _outer_also_gone(view: View, loop: int) -> bool:
    """Tell whether a loop stands inside another one that is gone as well: told once."""
    inner = view.a.loops[loop].blocks
    return any(
        not found and other != loop and inner < view.a.loops[other].blocks
        for other, found in view.loop_pairs.items()
    )


def _one_of_several(view: View, loop: int) -> bool:
    """Tell whether another loop for the same lines, such as a vector main loop, has a match."""
    a = view.a
    blocks, lines = a.loops[loop].blocks, _lines(a, a.own(loop))
    return any(
        found and not blocks & a.loops[other].blocks and lines & _lines(a, a.own(other))
        for other, found in view.loop_pairs.items()
    )


def became_call(view: View, places: Iterable[Place]) -> list[int]:
    """Return the block instructions or calls of ``b`` on these lines that ``a`` has not."""
    known = {name for _, name in view.a.calls}
    near = _near(view.b, places)
    called = dict(view.b.calls)
    return [
        k
        for k in near
        if (called.get(k, "") in BLOCK_CALLS and called[k] not in known)
        or (view.b.deeds[k].kind == b.BLOCK and not view.a.of((b.BLOCK,)))
    ]


def _near(side: Side, places: Iterable[Place]) -> list[int]:
    return [k for place in places for k in side.at.get(place, ())]


def _backs(side: Side, loop: int) -> list[int]:
    """Return the branches that go back to a loop's start."""
    blocks = side.loops[loop]
    latches = set(blocks.latches)
    return [
        k
        for k, block in enumerate(side.body.block_of)
        if block in latches and side.deeds[k].kind in (b.BRANCH, b.JUMP)
    ]


def _lines(side: Side, among: Iterable[int]) -> set[Place]:
    return {side.places[k] for k in among if side.places[k].line > 0}


class Shape(NamedTuple):
    """How many elements a loop handles at once."""

    lanes: int
    bits: int
    element: str
    width: int

    @property
    def words(self) -> str:
        """The shape as a reader says it."""
        if self.lanes == b.SCALABLE:
            return "as many elements at once as the machine's vectors hold"
        name = {"f": "float", "i": "integer", "u": "integer"}.get(self.element, "element")
        at = f"in {self.width}-bit registers"
        if not self.bits:
            return f"a whole register at once, {at}"
        return f"{self.lanes} x {self.bits}-bit {name}s at once, {at}"


def shape_of(side: Side, among: Sequence[int]) -> Shape:
    """Return the commonest shape of the packed calculations, else of packed loads and stores."""
    packed = side.packed(among)
    moved = [k for k in among if side.deeds[k].packed and side.deeds[k].memory]
    known = [k for k in packed if side.deeds[k].bits and side.kinds[k] not in (b.LOGIC, b.SHIFT)]
    known = known or [k for k in packed if side.deeds[k].bits]
    counted = Counter(
        Shape(d.lanes, d.bits, d.element, d.width) for d in (side.deeds[k] for k in known or moved)
    )
    if not counted:
        widths = [side.deeds[k].width for k in packed] or [0]
        return Shape(0, 0, "", max(widths))
    return max(counted, key=lambda s: (counted[s], s.width))


def _from_scalar(shape: Shape, side: Side, inside: Sequence[int]) -> Shape:
    """Return a whole register's shape with the elements that the scalar loop stores or loads."""
    sizes = [side.deeds[k].bits for k in side.stores(inside) or side.loads(inside)]
    bits = max(set(sizes), key=sizes.count) if sizes else 0
    if not bits or shape.width <= bits:
        return shape
    return shape._replace(bits=bits, lanes=shape.width // bits)


def vectorised(view: View) -> Iterator[Reason]:
    """A loop that handles several elements at once in ``b``, and its scalar remainder."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        inside = a.own(loop)
        vector = [j for j in found if _vector_loop(c, j)]
        if not vector:
            continue
        main = vector[0]
        own = c.own(main)
        shape = shape_of(c, own)
        if not shape.bits and shape.lanes != b.SCALABLE:
            shape = _from_scalar(shape, a, inside)
        places = _lines(a, inside) | {p for j in vector for p in _lines(c, c.own(j))}
        evidence = c.packed(own) or [k for k in own if c.deeds[k].packed]
        if _vector_loop(a, loop):
            other = shape_of(a, inside)
            if other.width != shape.width and min(other.width, shape.width) > 0:
                text = "works in {}-bit registers instead of {}-bit ones"
                if view.forward:  # seen from both sides: told once
                    said = text.format(shape.width, other.width)
                    yield view.reason(WIDTH, (said, ""), a.packed(inside), evidence, places)
            continue
        rest = [j for j in found if j not in vector]
        last = max(c.inside(main))
        near = [k for k in _near(c, places) if c.body.loop_of[k] < 0 and k > last]
        straight = [k for k in (*c.loads(near), *c.stores(near)) if not c.deeds[k].packed]
        tail = (
            "; what is left over runs in a scalar loop" if rest
            else "; what is left over runs in scalar code behind it" if straight else ""
        )  # fmt: skip
        places |= {p for j in rest for p in _lines(c, c.own(j))}
        yield view.reason(
            VECTORISED,
            (
                f"the loop is vectorised: {shape.words}{tail}",
                f"the loop is no longer vectorised (it was: {shape.words})",
            ),
            _backs(a, loop), evidence, places,
        )  # fmt: skip


def _vector_loop(side: Side, loop: int) -> bool:
    """Tell whether a loop itself is vectorised, and not just sums up what an inner one left."""
    own = side.own(loop)
    if not _is_vector(side, own):
        return False
    blocks = side.loops[loop].blocks
    inner = [k for k, other in enumerate(side.loops) if other.blocks < blocks]
    touches = any(side.deeds[k].packed and side.deeds[k].memory for k in own)
    return touches or not any(_is_vector(side, side.own(k)) for k in inner)


def _is_vector(side: Side, among: Sequence[int]) -> bool:
    """Tell whether a loop works on packed data: calculates with it, or copies all it moves so."""
    if side.packed(among):
        return True
    loads = [k for k in side.loads(among) if side.deeds[k].packed]
    stores = [k for k in side.stores(among) if side.deeds[k].packed]
    return bool(stores) and (bool(loads) or not side.loads(among))


def combined(view: View) -> Iterator[Reason]:
    """Straight code of ``a`` whose operations ``b`` does several at once."""
    a, c = view.a, view.b
    outside = [k for k in range(len(c)) if c.body.loop_of[k] < 0]
    vectors = {j for j in range(len(c.loops)) if _vector_loop(c, j)}
    looped = {p for j in vectors for p in _lines(c, c.own(j))}
    looped |= {p for k in range(len(a.loops)) for p in _lines(a, a.own(k))}
    wanted = [k for k in outside if c.places[k] not in looped and not c.deeds[k].across]
    packed = [k for k in c.packed(wanted) if c.kinds[k] not in (b.CONVERT, b.EXTEND)]
    arithmetic = [k for k in packed if c.kinds[k] != b.LOGIC]
    # One value may live in a vector register too: only what is loaded, stored or put
    # together as several counts.
    several = [
        k for k in wanted if c.deeds[k].packed and (c.deeds[k].memory or c.kinds[k] == b.SHUFFLE)
    ]
    if not arithmetic or not several or vectors:
        return
    places = _lines(c, arithmetic)
    scalar = [k for place in places for k in a.at.get(place, ())]
    if scalar and not a.packed(range(len(a))):
        shape = shape_of(c, arithmetic)
        yield view.reason(
            COMBINED,
            (f"neighbouring operations are done together: {shape.words}", "each operation is done alone again"),
            a.of(b.ARITHMETIC, scalar), arithmetic,
        )  # fmt: skip


def unrolled(view: View) -> Iterator[Reason]:
    """A loop of which ``b`` does several passes before it branches back."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if not found:
            continue
        main, inside = found[0], a.own(loop)
        own = c.own(main)
        if a.loops[loop].depth > c.loops[main].depth and len(a.inside(loop)) < len(inside):
            continue
        widened = _vector_loop(c, main) and not _vector_loop(a, loop)
        count = _vectors if widened else copies_of
        copies = count(a, inside, c, own)
        if copies < 2:
            continue
        places = _lines(a, inside) | _lines(c, own)
        text = (
            f"the loop handles {copies} vectors in a pass" if widened
            else f"the loop is unrolled {copies} times: {copies} passes before it branches back"
        )  # fmt: skip
        back = f"the loop is no longer unrolled (it was {copies} times)"
        yield view.reason(UNROLLED, (text, back), _backs(a, loop), _backs(c, main), places)


def copies_of(a: Side, inside: Sequence[int], c: Side, own: Sequence[int]) -> int:
    """Return how many passes of one loop another does in one, by what cannot be merged.

    Stores cannot. Without stores all that is counted must have grown alike, or
    the step from pass to pass as much as the loads.
    """
    first, second = _amounts(a, inside), _amounts(c, own)
    if any(y and not x for x, y in zip(first, second, strict=True)):
        return 1  # it does something else: no copies of the same
    ratios = [y / x for x, y in zip(first, second, strict=True) if x]
    whole = [round(r) for r in ratios if r >= 1.5 and abs(r - round(r)) < 0.26]
    if first[0]:
        copies = round(ratios[0])
        return copies if copies in whole[:1] and min(ratios) > 0.3 else 1
    if c.slots & set(own) and not a.slots & set(inside):
        return 1  # loads of values that only one side keeps in registers
    steps = _step(a, inside), _step(c, own)
    if steps[0] and steps[1] % steps[0] == 0 and ratios:
        copies = steps[1] // steps[0]
        if copies >= 2 and 0.75 * copies <= max(ratios) <= 1.5 * copies:
            return copies
    if not whole or min(ratios) < 1.2 or 2 * len(whole) < len(ratios):
        return 1
    return int(Counter(whole).most_common(1)[0][0])


def _amounts(side: Side, among: Sequence[int]) -> tuple[int, int, int, int]:
    """Return how many stores, loads, float operations and multiplications there are."""
    return (
        _accesses(side, side.stores(among)),
        _accesses(side, _distinct(side, among)),
        len(side.of(b.FLOAT, among)) + len(side.of((b.FMA,), among)),
        len(side.of((b.MUL, b.CALL), among)),
    )


def _accesses(side: Side, among: Iterable[int]) -> int:
    """Return how many values are loaded or stored; some instructions take two."""
    return sum(
        1 + side.body.items[k].mnemonic.startswith(("ldp", "stp", "ldnp", "stnp")) for k in among
    )


def _distinct(side: Side, among: Iterable[int]) -> list[int]:
    """Return loads, without those of an address that was loaded from just before."""
    out: list[int] = []
    known: set[b.Memory] = set()
    for k in sorted(among):
        memory = side.deeds[k].memory
        if memory and side.loads((k,)) and memory not in known:
            out.append(k)
            known.add(memory)
        written = side.written(k)
        known = {m for m in known if not {m.base, m.indexed} & written}
    return out


def _step(side: Side, among: Sequence[int]) -> int:
    """Return the largest constant that a register grows or shrinks by in a pass, 0 for none."""
    best = 0
    for k in side.of((b.ADD, b.SUB, b.ADDRESS), among):
        done = side.deeds[k]
        by = done.memory.offset if done.kind == b.ADDRESS and done.memory else done.immediate
        if (
            by
            and abs(by) <= 4096
            and not done.packed
            and side.written(k)
            and side.written(k) <= side.read(k)
        ):
            best = max(best, abs(by))
    return best


def _vectors(a: Side, inside: Sequence[int], c: Side, own: Sequence[int]) -> int:
    """Return how many vectors of each array a loop handles in a pass."""
    stores = [k for k in c.stores(own) if c.deeds[k].packed]
    if stores and a.stores(inside):
        return round(_accesses(c, stores) / len(a.stores(inside)))
    groups: Counter[tuple[str, str, str]] = Counter()
    wide = any(c.deeds[k].packed for k in c.loads(own))
    for k in _distinct(c, own):
        memory = c.deeds[k].memory
        if memory and (c.deeds[k].packed or not wide):
            groups[memory.base, memory.indexed, memory.symbol] += _accesses(c, [k])
    return max(groups.values(), default=1)


def turned(view: View) -> Iterator[Reason]:
    """A loop left at its start in ``a``, and only at its end in ``b``."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if not found or not _tested_first(a, loop) or not all(_tested_last(c, j) for j in found):
            continue
        places = {a.places[k] for k in _exits(a, loop)} | {
            c.places[k] for j in found for k in _backs(c, j)
        }
        yield view.reason(
            TURNED,
            (
                "the loop's test stands at its end: one branch in a pass instead of two",
                "the loop's test stands at its start: two branches in a pass instead of one",
            ),
            [*_exits(a, loop), *_backs(a, loop)], _backs(c, found[0]), places,
        )  # fmt: skip


def _exits(side: Side, loop: int) -> list[int]:
    """Return the conditional branches at the loop's start that leave it."""
    one = side.loops[loop]
    return [
        k
        for k, block in enumerate(side.body.block_of)
        if block == one.header
        and side.deeds[k].kind == b.BRANCH
        and any(after not in one.blocks for after in side.body.next_blocks[block])
    ]


def _tested_first(side: Side, loop: int) -> bool:
    """Tell whether each pass begins with a test and ends with a jump."""
    backs = _backs(side, loop)
    jumps = bool(backs) and all(side.deeds[k].kind == b.JUMP for k in backs)
    return jumps and bool(_exits(side, loop))


def _tested_last(side: Side, loop: int) -> bool:
    backs = _backs(side, loop)
    return bool(backs) and any(side.deeds[k].kind == b.BRANCH for k in backs)


def hoisted(view: View) -> Iterator[Reason]:
    """Costly work on a line that ``a`` does in every pass and ``b`` once, before the loop."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        if not found or _vector_loop(c, found[0]):
            continue
        for place in _lines(a, a.own(loop)):
            here, there = a.at.get(place, []), c.at.get(place, [])
            for kind in _COSTLY:
                mine = [k for k in a.of((kind,), here) if a.body.loop_of[k] == loop]
                theirs = c.of((kind,), there)
                if mine and theirs and all(c.body.loop_of[k] < 0 for k in theirs):
                    texts = (
                        f"the {kind} is done once, before the loop", f"the {kind} is done in every pass"
                    )  # fmt: skip
                    yield view.reason(HOISTED, texts, mine, theirs, {place})
                    break


KINDS = frozenset((VECTORISED, WIDTH, UNROLLED, REMOVED, TURNED, HOISTED))
RULES = (removed, vectorised, combined, unrolled, turned, hoisted)

"""Loops and straight code that handle several elements at once, and unrolled ones."""

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from hot_anvil.core.compared import Reason
from hot_anvil.core.meaning import base as b
from hot_anvil.core.reasons.base import View
from hot_anvil.core.reasons.copies import copies_of, step_of, vectors_of
from hot_anvil.core.reasons.side import Side

VECTORISED, WIDTH, UNROLLED = "loop vectorised", "vector width", "loop unrolled"
COMBINED = "operations packed"


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
        vector = [j for j in found if is_vector_loop(c, j) and _goes_further(a, loop, c, j)]
        if not vector:
            continue
        main = vector[0]
        own = c.own(main)
        shape = shape_of(c, own)
        if not shape.bits and shape.lanes != b.SCALABLE:
            shape = _from_scalar(shape, a, inside)
        places = a.lines(inside) | {p for j in vector for p in c.lines(c.own(j))}
        evidence = c.packed(own) or [k for k in own if c.deeds[k].packed]
        if is_vector_loop(a, loop):
            other = shape_of(a, inside)
            if other.width != shape.width and min(other.width, shape.width) > 0:
                text = "works in {}-bit registers instead of {}-bit ones"
                if view.forward:  # seen from both sides: told once
                    said = text.format(shape.width, other.width)
                    yield view.reason(WIDTH, (said, ""), a.packed(inside), evidence, places)
            continue
        rest = [j for j in found if j not in vector]
        last = max(c.inside(main))
        near = [k for k in c.on(places) if c.body.loop_of[k] < 0 and k > last]
        straight = [k for k in (*c.loads(near), *c.stores(near)) if not c.deeds[k].packed]
        tail = (
            "; what is left over runs in a scalar loop" if rest
            else "; what is left over runs in scalar code behind it" if straight else ""
        )  # fmt: skip
        places |= {p for j in rest for p in c.lines(c.own(j))}
        yield view.reason(
            VECTORISED,
            (
                f"the loop is vectorised: {shape.words}{tail}",
                f"the loop is no longer vectorised (it was: {shape.words})",
            ),
            a.backs(loop), evidence, places,
        )  # fmt: skip


def combined(view: View) -> Iterator[Reason]:
    """Straight code of ``a`` whose operations ``b`` does several at once."""
    a, c = view.a, view.b
    outside = [k for k in range(len(c)) if c.body.loop_of[k] < 0]
    vectors = {j for j in range(len(c.loops)) if is_vector_loop(c, j)}
    looped = {p for j in vectors for p in c.lines(c.own(j))}
    looped |= {p for k in range(len(a.loops)) for p in a.lines(a.own(k))}
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
    places = c.lines(arithmetic)
    scalar = a.on(places)
    if scalar and not a.packed(range(len(a))):
        shape = shape_of(c, arithmetic)
        yield view.reason(
            COMBINED,
            (
                f"neighbouring operations are done together: {shape.words}",
                "each operation is done alone again",
            ),
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
        widened = is_vector_loop(c, main) and not is_vector_loop(a, loop)
        if widened and not _goes_further(a, loop, c, main):
            continue
        count = vectors_of if widened else copies_of
        copies = count(a, a.each_pass(loop), c, c.each_pass(main))
        if copies < 2:
            continue
        places = a.lines(inside) | c.lines(own)
        text = (
            f"the loop handles {copies} vectors in a pass" if widened
            else f"the loop is unrolled {copies} times: {copies} passes before it branches back"
        )  # fmt: skip
        back = f"the loop is no longer unrolled (it was {copies} times)"
        yield view.reason(UNROLLED, (text, back), a.backs(loop), c.backs(main), places)


def _goes_further(a: Side, loop: int, c: Side, other: int) -> bool:
    """Tell whether a loop goes further in a pass than another, as far as its steps tell."""
    before, after = step_of(a, a.each_pass(loop)), step_of(c, c.each_pass(other))
    return not before or not after or after > before


def is_vector_loop(side: Side, loop: int) -> bool:
    """Tell whether a loop itself is vectorised, and not just sums up what an inner one left."""
    own = side.each_pass(loop)
    if not is_vector(side, own):
        return False
    blocks = side.loops[loop].blocks
    inner = [k for k, other in enumerate(side.loops) if other.blocks < blocks]
    touches = any(side.deeds[k].packed and side.deeds[k].memory for k in own)
    return touches or not any(is_vector(side, side.own(k)) for k in inner)


def is_vector(side: Side, among: Sequence[int]) -> bool:
    """Tell whether a loop works on packed data: calculates with it, or copies all it moves so."""
    if side.packed(among):
        return True
    loads = [k for k in side.loads(among) if side.deeds[k].packed]
    stores = [k for k in side.stores(among) if side.deeds[k].packed]
    return bool(stores) and (bool(loads) or not side.loads(among))


RULES = (vectorised, combined, unrolled)

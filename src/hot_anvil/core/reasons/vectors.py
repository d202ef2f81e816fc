"""Loops and straight code that handle several elements at once, and unrolled ones."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.records import Reason
from hot_anvil.core.model.copies import copies_of, step_of, vectors_of
from hot_anvil.core.model.function import Side
from hot_anvil.core.model.vectors import Shape, is_vector_loop, shape_of
from hot_anvil.core.reasons.context import View

VECTORISED, WIDTH, UNROLLED = "loop vectorised", "vector width", "loop unrolled"
COMBINED = "operations packed"


def _from_scalar(shape: Shape, side: Side, inside: Sequence[int]) -> Shape:
    """Return a whole register's shape with the elements that the scalar loop stores or loads."""
    sizes = [side.effects[k].bits for k in side.stores(inside) or side.loads(inside)]
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
        evidence = c.packed(own) or [k for k in own if c.effects[k].packed]
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
        straight = [k for k in (*c.loads(near), *c.stores(near)) if not c.effects[k].packed]
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
    wanted = [k for k in outside if c.places[k] not in looped and not c.effects[k].across]
    packed = [k for k in c.packed(wanted) if c.kinds[k] not in (b.CONVERT, b.EXTEND)]
    arithmetic = [k for k in packed if c.kinds[k] != b.LOGIC]
    # One value may live in a vector register too: only what is loaded, stored or put
    # together as several counts.
    several = [
        k
        for k in wanted
        if c.effects[k].packed and (c.effects[k].memory or c.kinds[k] == b.SHUFFLE)
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


RULES = (vectorised, combined, unrolled)

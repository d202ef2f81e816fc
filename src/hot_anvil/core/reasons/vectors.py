"""Loops and straight code that handle several elements at once, and unrolled ones."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.records import CERTAIN, LIKELY, Confidence, Reason
from hot_anvil.core.model.copies import copies_of, step_of, vectors_of
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.streams import access_bytes
from hot_anvil.core.model.vectors import Shape, is_vector_loop, shape_of
from hot_anvil.core.reasons.context import View

VECTORISED, WIDTH, UNROLLED = "loop vectorised", "vector width", "loop unrolled"
COMBINED, OVERLAP = "operations packed", "overlap tested"


def _from_scalar(shape: Shape, side: FunctionModel, inside: Sequence[int]) -> Shape:
    """Return a whole register's shape with the elements that the scalar loop stores or loads."""
    sizes = [8 * access_bytes(side, k) for k in side.stores(inside) or side.loads(inside)]
    bits = max(set(sizes), key=sizes.count) if sizes else 0
    if not bits or shape.width <= bits:
        return shape
    return shape._replace(bits=bits, lanes=shape.width // bits)


def vectorised(view: View) -> Iterator[Reason]:
    """A loop that handles several elements at once in ``right``, and its scalar remainder."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        inside = left.own(loop)
        before, after = view.shapes
        vector = [j for j in found if after.is_vector(j) and _goes_further(view, loop, j)]
        if not vector:
            continue
        main = vector[0]
        if not right.packed(right.own(main)) and left.of((b.CALL,), inside):
            continue  # what was called copies as well
        own = right.own(main)
        shape = shape_of(right, own)
        if not shape.bits and shape.lanes != b.SCALABLE:
            shape = _from_scalar(shape, left, inside)
        places = left.lines(inside) | {p for j in vector for p in right.lines(right.own(j))}
        evidence = right.packed(own) or [k for k in own if right.effects[k].packed]
        if before.is_vector(loop):
            other = shape_of(left, inside)
            if other.width != shape.width and min(other.width, shape.width) > 0:
                text = "works in {}-bit registers instead of {}-bit ones"
                if view.forward:  # seen from both sides: told once
                    said = text.format(shape.width, other.width)
                    yield view.reason(WIDTH, (said, ""), left.packed(inside), evidence, places)
            continue
        rest = [j for j in found if j not in vector]
        last = max(right.inside(main))
        near = [k for k in right.on(places) if right.body.loop_of[k] < 0 and k > last]
        straight = [
            k for k in (*right.loads(near), *right.stores(near)) if not right.effects[k].packed
        ]
        tail = (
            "; what is left over runs in a scalar loop" if rest
            else "; what is left over runs in scalar code behind it" if straight else ""
        )  # fmt: skip
        places |= {p for j in rest for p in right.lines(right.own(j))}
        apart = _apart_first(right, main)
        if apart and not _apart_first(left, loop):
            texts = (
                "it is tested first whether the arrays overlap: if so, a scalar loop runs",
                "it is not tested any more whether the arrays overlap",
            )
            yield view.reason(OVERLAP, texts, (), apart, places, LIKELY)
        yield view.reason(
            VECTORISED,
            (
                f"the loop is vectorised: {shape.words}{tail}",
                f"the loop is no longer vectorised (it was: {shape.words})",
            ),
            left.backs(loop), evidence, places,
        )  # fmt: skip


def _apart_first(side: FunctionModel, main: int) -> list[int]:
    """Return what compares ends of two arrays before a loop that stores to one of them.

    An address is made from the base of the loop's stores or loads, and compared, unsigned, with
    another register.
    """
    own = side.own(main)
    bases = {m.base for k in side.stores(own) if (m := side.effects[k].memory)}
    if not bases or not side.loads(own):
        return []
    before = [k for k in range(min(own)) if side.body.loop_of[k] < 0]
    ends = [k for k in side.of((b.ADDRESS, b.ADD, b.SUB), before) if not side.effects[k].packed]
    made = {family for k in ends for family in side.written(k)}
    out = []
    for k in side.of((b.COMPARE, b.SUB), before):
        done = side.effects[k]
        if done.immediate is not None or done.packed or not side.read(k) & made:
            continue
        deciders = side.of((b.BRANCH, b.SET), range(k + 1, min(k + 3, len(side))))
        if any(side.effects[j].condition in b.UNSIGNED for j in deciders):
            out.append(k)
    return out if len(out) >= 1 and len(side.loops) > 1 else []


def combined(view: View) -> Iterator[Reason]:
    """Straight code of ``left`` whose operations ``right`` does several at once."""
    left, right = view.left, view.right
    outside = [k for k in range(len(right)) if right.body.loop_of[k] < 0]
    vectors = {j for j in range(len(right.loops)) if is_vector_loop(right, j)}
    looped = {p for j in vectors for p in right.lines(right.own(j))}
    looped |= {p for k in range(len(left.loops)) for p in left.lines(left.own(k))}
    wanted = [k for k in outside if right.places[k] not in looped and not right.effects[k].across]
    packed = [k for k in right.packed(wanted) if right.kinds[k] not in (b.CONVERT, b.EXTEND)]
    arithmetic = [k for k in packed if right.kinds[k] != b.LOGIC]
    # One value may live in a vector register too: only what is loaded, stored or put
    # together as several counts.
    several = [
        k
        for k in wanted
        if right.effects[k].packed and (right.effects[k].memory or right.kinds[k] == b.SHUFFLE)
    ]
    if not arithmetic or not several or vectors:
        return
    places = right.lines(arithmetic)
    scalar = left.on(places)
    if scalar and not left.packed(range(len(left))):
        shape = shape_of(right, arithmetic)
        yield view.reason(
            COMBINED,
            (
                f"neighbouring operations are done together: {shape.words}",
                "each operation is done alone again",
            ),
            left.of(b.ARITHMETIC, scalar), arithmetic,
        )  # fmt: skip


def unrolled(view: View) -> Iterator[Reason]:
    """A loop of which ``right`` does several passes before it branches back."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        if not found:
            continue
        main, inside = found[0], left.own(loop)
        own = right.own(main)
        if left.loops[loop].depth > right.loops[main].depth and len(left.inside(loop)) < len(
            inside
        ):
            continue
        before, after = view.shapes
        widened = after.is_vector(main) and not before.is_vector(loop)
        if before.is_vector(loop) and not after.is_vector(main):
            continue  # told as no longer vectorised
        if widened and not _goes_further(view, loop, main):
            continue
        if widened and not right.packed(own) and left.of((b.CALL,), inside):
            continue  # what was called copies as well
        copies, sure = _passes_at_once(view, loop, main, widened)
        if copies < 2:
            continue
        places = left.lines(inside) | right.lines(own)
        text = (
            f"the loop handles {copies} vectors in a pass" if widened
            else f"the loop is unrolled {copies} times: {copies} passes before it branches back"
        )  # fmt: skip
        back = f"the loop is no longer unrolled (it was {copies} times)"
        yield view.reason(UNROLLED, (text, back), left.backs(loop), right.backs(main), places, sure)


def _passes_at_once(view: View, loop: int, main: int, widened: bool) -> tuple[int, Confidence]:
    """Return how many passes of a loop the other side's does at once, by the facts of both.

    Where these do not know it for one side, what is stored, loaded and calculated is counted.
    """
    before, after = view.shapes
    now, was = after.copies(main), 1 if widened else before.copies(loop)
    if now is not None and was is not None:
        ratio = now // was if was and now % was == 0 else 1
        advance = before.advance(loop), after.advance(main)
        if not widened and None not in advance and advance[0] == advance[1]:
            return 1, CERTAIN  # as far in a pass: the accesses became wider, or narrower
        return ratio, CERTAIN
    left, right = view.left, view.right
    count = vectors_of if widened else copies_of
    found = count(left, left.each_pass(loop), right, right.each_pass(main))
    steps = step_of(left, left.each_pass(loop)), step_of(right, right.each_pass(main))
    lanes = max(shape_of(right, right.own(main)).lanes, 1) if widened else 1
    borne_out = steps[0] and steps[1] == found * lanes * steps[0]
    if now == found or borne_out or (widened and left.stores(left.each_pass(loop))):
        return found if now in (None, found) else 1, LIKELY
    return 1, LIKELY


def _goes_further(view: View, loop: int, other: int) -> bool:
    """Tell whether a loop goes further in a pass than another, as far as that is known."""
    was, now = view.shapes[0].advance(loop), view.shapes[1].advance(other)
    if was and now:
        return now > was
    left, right = view.left, view.right
    before, after = step_of(left, left.each_pass(loop)), step_of(right, right.each_pass(other))
    if before and after:
        return after > before
    stored = stored_bytes(left, left.own(loop)), stored_bytes(right, right.own(other))
    return not all(stored) or stored[1] > stored[0]


def stored_bytes(side: FunctionModel, among: Sequence[int]) -> int:
    """Return how many bytes are stored, 0 where that is not known."""
    sizes = [access_bytes(side, k) for k in side.stores(among)]
    return sum(sizes) if all(sizes) else 0


RULES = (vectorised, combined, unrolled)

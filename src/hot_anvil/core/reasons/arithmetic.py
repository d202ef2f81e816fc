"""Arithmetic: multiplications and divisions replaced, float operations fused and reordered."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.function import Side
from hot_anvil.core.reasons.context import View

SHIFTS, RECIPROCAL, POWER = "multiply into shifts", "division into multiply", "division into shift"
FUSED, REASSOCIATED, INVERSE = (
    "multiply-add fused",
    "float operations reassociated",
    "float division into multiply",
)


def _work(side: Side, place: Place, kinds: Sequence[str]) -> list[int]:
    return side.of(kinds, side.at.get(place, ()))


def multiplied(view: View) -> Iterator[Reason]:
    """A multiplication of ``a`` that ``b`` does by shifts and additions."""
    a, c = view.a, view.b
    if len(c.of((b.MUL,))) >= len(a.of((b.MUL,))):
        return
    scaled = c.body.arch.semantics.scaled
    for place in view.lines:
        mine = [k for k in _work(a, place, (b.MUL,)) if not a.effects[k].packed]
        if not mine or _work(c, place, (b.MUL, b.MULHIGH, b.FMUL)) or _work(a, place, (b.DIV,)):
            continue
        made = [
            k for k in c.at.get(place, ())
            if c.kinds[k] == b.SHIFT
            or (c.kinds[k] in (b.ADDRESS, b.ADD, b.SUB, b.MOVE) and scaled.search(c.body.texts[k]))
        ]  # fmt: skip
        before = _work(a, place, (b.SHIFT,))
        if not made or len(_work(c, place, (b.SHIFT,))) + len(made) <= len(before):
            continue
        if len(_work(a, place, (b.CALL,))) != len(_work(c, place, (b.CALL,))):
            continue  # code that is called on one side only
        if any(c.effects[k].packed for k in made) or _work(c, place, (b.DIV,)):
            continue
        if len(_scaled(c, place)) <= len(_scaled(a, place)) and len(
            _work(c, place, (b.SHIFT,))
        ) <= len(before):
            continue
        texts = (
            "the multiplication by a constant is done by shifts and additions",
            "the multiplication is one instruction instead of shifts and additions",
        )
        yield view.reason(SHIFTS, texts, mine, made, {place})


def _scaled(side: Side, place: Place) -> list[int]:
    scaled = side.body.arch.semantics.scaled
    return [k for k in side.at.get(place, ()) if scaled.search(side.body.texts[k])]


def divided(view: View) -> Iterator[Reason]:
    """A division of ``a`` that ``b`` does by a multiplication or a shift."""
    a, c = view.a, view.b
    if len(c.of((b.DIV,))) >= len(a.of((b.DIV,))):
        return
    for place in view.lines:
        mine = _work(a, place, (b.DIV,))
        if not mine or _work(c, place, (b.DIV,)):
            continue
        product = _work(c, place, (b.MULHIGH, b.MUL))
        shift = _work(c, place, (b.SHIFT, b.LOGIC))
        before = _work(a, place, (b.MULHIGH, b.MUL))
        if product and len(product) > len(before) and (shift or c.of((b.MULHIGH,), product)):
            texts = (
                "the division by a constant is a multiplication by its reciprocal and a shift",
                "the division is a divide instruction or call, no longer a multiplication",
            )
            yield view.reason(RECIPROCAL, texts, mine, [*product, *shift], {place})
        elif shift and len(product) <= len(before):
            texts = (
                "the division by a power of two is done by shifts or a mask",
                "the division is a divide instruction or call, no longer a shift or mask",
            )
            yield view.reason(POWER, texts, mine, shift, {place})


def inverse(view: View) -> Iterator[Reason]:
    """A float division of ``a`` that is a multiplication in ``b``."""
    a, c = view.a, view.b
    if not a.of((b.FDIV,)):
        return
    for place in view.lines:
        mine, left = _work(a, place, (b.FDIV,)), _work(c, place, (b.FDIV,))
        before, made = _work(a, place, (b.FMUL,)), _work(c, place, (b.FMUL, b.FMA))
        if mine and len(left) < len(mine) and len(made) > len(before):
            exact = "" if _fast(view.b) else " (exact for powers of two)"
            texts = (
                f"the float division is a multiplication by the reciprocal{exact}",
                "the float division is done as one, not by the reciprocal",
            )
            yield view.reason(INVERSE, texts, mine, made, {place})


def fused(view: View) -> Iterator[Reason]:
    """Multiplications and additions of ``a`` that are one instruction each in ``b``."""
    a, c = view.a, view.b
    made, products = c.of((b.FMA,)), a.of((b.FMUL,))
    if not made or a.of((b.FMA,)) or not products or len(c.of((b.FMUL,))) > len(products):
        return
    lines = {c.places[k] for k in made}
    mine = [
        k for k in a.of((b.FMUL, b.FADD))
        if a.places[k] in lines or not c.of((b.FMUL, b.FADD), c.at.get(a.places[k], ()))
    ]  # fmt: skip
    texts = (
        "multiplication and addition are fused: rounded once, so results can change",
        "multiplication and addition are rounded each, no longer fused: results can change",
    )
    yield view.reason(FUSED, texts, mine, made)


def reassociated(view: View) -> Iterator[Reason]:
    """Float operations that ``b`` does in another order than ``a``, which changes rounding."""
    a, c = view.a, view.b
    told: set[Place] = set()
    for loop, found in view.loop_pairs.items():
        if not found:
            continue
        mine, theirs = _chains(a, a.own(loop)), _chains(c, c.own(found[0]))
        wide = [k for k in theirs if c.effects[k].packed]
        packed_before = any(a.effects[k].packed for k in mine)
        places = {c.places[k] for k in theirs} | {a.places[k] for k in mine}
        if mine and ((wide and not packed_before) or _separate(c, theirs) > _separate(a, mine)):
            told |= places
            yield view.reason(REASSOCIATED, _TEXTS, mine, theirs, places)
    if view.forward and _fast(a) != _fast(c):
        yield from _straight(view, told)


_TEXTS = (
    "float operations are done in another order, several sums at a time: results can change",
    "float operations are done in the order of the source again: results can change",
)


def _chains(side: Side, among: Sequence[int]) -> list[int]:
    """Return float additions and the like whose result goes into the next pass."""
    out = []
    for k in side.of((b.FADD, b.FMA, b.FMUL), among):
        goals = side.written(k)
        if goals and goals <= side.read(k) | _accumulated(side, k):
            others = [
                j
                for j in among
                if j != k and goals & side.written(j) and side.kinds[j] not in b.FLOAT
            ]
            if not others:
                out.append(k)
    return out


def _accumulated(side: Side, k: int) -> frozenset[str]:
    """Return the destination of an instruction of three operands that adds to itself."""
    return side.written(k) & side.read(k)


def _separate(side: Side, chain: Sequence[int]) -> int:
    """Return how many sums run side by side."""
    return len({frozenset(side.written(k)) for k in chain})


def _straight(view: View, told: set[Place]) -> Iterator[Reason]:
    """Compare the longest chains of float operations where one side's flags allow any order."""
    for place in view.lines:
        if place in told:
            continue
        mine, theirs = (_work(s, place, (b.FADD, b.FMUL)) for s in (view.a, view.b))
        others = any(_work(s, place, (b.FMA,)) for s in (view.a, view.b))
        if others or min(len(mine), len(theirs)) < 1 or max(len(mine), len(theirs)) < 2:
            continue
        if any(s.effects[k].packed for s, own in ((view.a, mine), (view.b, theirs)) for k in own):
            continue
        divisions = [len(_work(s, place, (b.FDIV,))) for s in (view.a, view.b)]
        if divisions[0] == divisions[1] and (
            len(mine) != len(theirs) or _depth(view.a, mine) != _depth(view.b, theirs)
        ):
            yield view.reason(REASSOCIATED, (_ORDER, _ORDER), mine, theirs, {place}, LIKELY)


_ORDER = "float operations are grouped in another way, as the flags allow: results can change"


def _depth(side: Side, chain: Sequence[int]) -> int:
    """Return how many of these operations wait for one another, at most."""
    level: dict[str, int] = {}
    best = 0
    wanted = set(chain)
    first, last = (min(chain), max(chain)) if chain else (0, -1)
    for k in range(first, last + 1):
        depth = max((level.get(r, 0) for r in side.read(k)), default=0) + (k in wanted)
        for register in side.written(k):
            level[register] = depth
        best = max(best, depth)
    return best


def _fast(side: Side) -> bool:
    """Tell whether a side's flags allow float operations in any order."""
    wanted = ("-ffast-math", "-Ofast", "-fassociative-math", "-funsafe-math-optimizations")
    return any(flag in wanted for flag in side.flags)


RULES = (multiplied, divided, inverse, fused, reassociated)

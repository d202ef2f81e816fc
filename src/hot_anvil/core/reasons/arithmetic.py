"""Arithmetic: multiplications and divisions replaced, float operations fused and reordered."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.context import View

SHIFTS, RECIPROCAL, POWER = "multiply into shifts", "division into multiply", "division into shift"
FUSED, REASSOCIATED, INVERSE = (
    "multiply-add fused",
    "float operations reassociated",
    "float division into multiply",
)
_SCALING = (b.ADDRESS, b.ADD, b.SUB, b.MOVE)  # kinds that may multiply on the way


def _work(side: FunctionModel, place: Place, kinds: Sequence[str]) -> list[int]:
    return side.of(kinds, side.at.get(place, ()))


def multiplied(view: View) -> Iterator[Reason]:
    """A multiplication of ``left`` that ``right`` does by shifts and additions."""
    left, right = view.left, view.right
    if len(right.of((b.MUL,))) >= len(left.of((b.MUL,))):
        return
    scaled = right.body.arch.semantics.scaled
    for place in view.lines:
        mine = [
            k for k in _work(left, place, (b.MUL,))
            if not left.effects[k].packed and _by_constant(left, k)
        ]  # fmt: skip
        if (
            not mine
            or _work(right, place, (b.MUL, b.MULHIGH, b.FMUL))
            or _work(left, place, (b.DIV,))
            or not view.same_line(place)
        ):
            continue
        made = [
            k for k in right.at.get(place, ())
            if right.kinds[k] == b.SHIFT
            or (right.kinds[k] in _SCALING and scaled.search(right.body.texts[k]))
        ]  # fmt: skip
        before = _work(left, place, (b.SHIFT,))
        if not made or len(_work(right, place, (b.SHIFT,))) + len(made) <= len(before):
            continue
        if len(_work(left, place, (b.CALL,))) != len(_work(right, place, (b.CALL,))):
            continue  # code that is called on one side only
        if any(right.effects[k].packed for k in made) or _work(right, place, (b.DIV,)):
            continue
        if len(_scaled(right, place)) <= len(_scaled(left, place)) and len(
            _work(right, place, (b.SHIFT,))
        ) <= len(before):
            continue
        texts = (
            "the multiplication by a constant is done by shifts and additions",
            "the multiplication is one instruction instead of shifts and additions",
        )
        yield view.reason(SHIFTS, texts, mine, made, {place})


def _by_constant(side: FunctionModel, k: int) -> bool:
    """Tell whether a multiplication has a constant factor, as far as the text before it shows."""
    if side.effects[k].immediate is not None:
        return True
    wanted = set(side.read(k))
    for j in range(k - 1, -1, -1):
        made = wanted & side.written(j)
        if made and (side.kinds[j] == b.CONSTANT or side.loads_constant(j)):
            return True
        wanted -= made
        if not wanted:
            break
    return False


def _scaled(side: FunctionModel, place: Place) -> list[int]:
    scaled = side.body.arch.semantics.scaled
    return [k for k in side.at.get(place, ()) if scaled.search(side.body.texts[k])]


def divided(view: View) -> Iterator[Reason]:
    """A division of ``left`` that ``right`` does by a multiplication or a shift."""
    left, right = view.left, view.right
    fewer = len(left.of((b.DIV,))) - len(right.of((b.DIV,)))
    if fewer <= 0:
        return
    for place in view.lines:
        mine = _work(left, place, (b.DIV,))
        if not mine or _work(right, place, (b.DIV,)) or not view.same_line(place):
            continue
        if fewer < len(mine):
            return  # others divide more: which stands for which is not known
        product = _work(right, place, (b.MULHIGH, b.MUL))
        shift = _work(right, place, (b.SHIFT, b.LOGIC))
        before = _work(left, place, (b.MULHIGH, b.MUL))
        if product and len(product) > len(before) and (shift or right.of((b.MULHIGH,), product)):
            texts = (
                "the division by a constant is a multiplication by its reciprocal and a shift",
                "the division is a divide instruction or call, no longer a multiplication",
            )
            yield view.reason(RECIPROCAL, texts, mine, [*product, *shift], {place})
        elif _more_shifts(left, right, place) and len(product) <= len(before):
            texts = (
                "the division by a power of two is done by shifts or a mask",
                "the division is a divide instruction or call, no longer a shift or mask",
            )
            yield view.reason(POWER, texts, mine, shift, {place})


def _more_shifts(left: FunctionModel, right: FunctionModel, place: Place) -> bool:
    kinds = (b.SHIFT, b.LOGIC)
    return len(_work(right, place, kinds)) > len(_work(left, place, kinds))


def inverse(view: View) -> Iterator[Reason]:
    """A float division of ``left`` that is a multiplication in ``right``."""
    left, right = view.left, view.right
    if not left.of((b.FDIV,)):
        return
    for place in view.lines:
        mine, remaining = _work(left, place, (b.FDIV,)), _work(right, place, (b.FDIV,))
        before, made = _work(left, place, (b.FMUL,)), _work(right, place, (b.FMUL, b.FMA))
        if mine and len(remaining) < len(mine) and len(made) > len(before):
            exact = "" if _fast(view.right) else " (exact for powers of two)"
            texts = (
                f"the float division is a multiplication by the reciprocal{exact}",
                "the float division is done as one, not by the reciprocal",
            )
            yield view.reason(INVERSE, texts, mine, made, {place})


def fused(view: View) -> Iterator[Reason]:
    """Multiplications and additions of ``left`` that are one instruction each in ``right``."""
    left, right = view.left, view.right
    made, products = right.of((b.FMA,)), left.of((b.FMUL,))
    if not made or left.of((b.FMA,)) or not products or len(right.of((b.FMUL,))) > len(products):
        return
    lines = {right.places[k] for k in made}
    mine = [
        k for k in left.of((b.FMUL, b.FADD))
        if left.places[k] in lines
        or not right.of((b.FMUL, b.FADD), right.at.get(left.places[k], ()))
    ]  # fmt: skip
    texts = (
        "multiplication and addition are fused: rounded once, so results can change",
        "multiplication and addition are rounded each, no longer fused: results can change",
    )
    yield view.reason(FUSED, texts, mine, made)


def reassociated(view: View) -> Iterator[Reason]:
    """Float operations in another order than ``left``'s, which changes rounding."""
    left, right = view.left, view.right
    told: set[Place] = set()
    for loop, found in view.loop_pairs.items():
        if not found:
            continue
        mine, theirs = _chains(left, left.own(loop)), _chains(right, right.own(found[0]))
        lines = {left.places[k] for k in mine}
        theirs = [k for k in theirs if right.places[k] in lines] or theirs
        wide = [k for k in theirs if right.effects[k].packed]
        packed_before = any(left.effects[k].packed for k in mine)
        places = {right.places[k] for k in theirs} | {left.places[k] for k in mine}
        if mine and (
            (wide and not packed_before) or _separate(right, theirs) > _separate(left, mine)
        ):
            told |= places
            yield view.reason(REASSOCIATED, _TEXTS, mine, theirs, places)
    if view.forward and _fast(left) != _fast(right):
        yield from _straight(view, told)


_TEXTS = (
    "float operations are done in another order, several sums at a time: results can change",
    "float operations are done in the order of the source again: results can change",
)


def _chains(side: FunctionModel, among: Sequence[int]) -> list[int]:
    """Return float additions and the like whose result goes into the next pass."""
    out = []
    for k in side.of((b.FADD, b.FMA, b.FMUL), among):
        goals = side.written(k)
        if goals and goals <= side.read(k) | _accumulated(side, k):
            others = [
                j
                for j in among
                if j != k
                and goals & side.written(j)
                and (side.kinds[j] not in b.FLOAT or not goals <= side.read(j))
            ]
            if not others:
                out.append(k)
    return out


def _accumulated(side: FunctionModel, k: int) -> frozenset[str]:
    """Return the destination of an instruction of three operands that adds to itself."""
    return side.written(k) & side.read(k)


def _separate(side: FunctionModel, chain: Sequence[int]) -> int:
    """Return how many sums run side by side."""
    return len({frozenset(side.written(k)) for k in chain})


def _straight(view: View, told: set[Place]) -> Iterator[Reason]:
    """Compare the longest chains of float operations where one side's flags allow any order."""
    for place in view.lines:
        if place in told:
            continue
        mine, theirs = (_work(s, place, (b.FADD, b.FMUL)) for s in (view.left, view.right))
        others = any(_work(s, place, (b.FMA,)) for s in (view.left, view.right))
        if others or min(len(mine), len(theirs)) < 1 or max(len(mine), len(theirs)) < 2:
            continue
        if any(
            s.effects[k].packed for s, own in ((view.left, mine), (view.right, theirs)) for k in own
        ):
            continue
        divisions = [len(_work(s, place, (b.FDIV,))) for s in (view.left, view.right)]
        if divisions[0] == divisions[1] and (
            len(mine) != len(theirs) or _depth(view.left, mine) != _depth(view.right, theirs)
        ):
            yield view.reason(REASSOCIATED, (_ORDER, _ORDER), mine, theirs, {place}, LIKELY)


_ORDER = "float operations are grouped in another way, as the flags allow: results can change"


def _depth(side: FunctionModel, chain: Sequence[int]) -> int:
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


def _fast(side: FunctionModel) -> bool:
    """Tell whether a side's flags allow float operations in any order."""
    wanted = ("-ffast-math", "-Ofast", "-fassociative-math", "-funsafe-math-optimizations")
    return any(flag in wanted for flag in side.flags)


RULES = (multiplied, divided, inverse, fused, reassociated)

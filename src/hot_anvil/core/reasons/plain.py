"""Small change: the same work written otherwise, registers saved, widths, alignment."""

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.semantics import Effect
from hot_anvil.core.diff.pairing import Paired
from hot_anvil.core.diff.records import CERTAIN, CHANGED, GONE, LIKELY, NEW, RENAMED, Pair, Reason
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.reasons.context import View

SAVED, EXTENDED, WIDER, WRITTEN = (
    "registers saved", "extension dropped", "operation width", "written otherwise",
)  # fmt: skip
PADDED, ARGUMENT, DATA = "padding only", "other argument", "other constant"
SETUP, STEPPED, CONDITION = "loop setup", "loop step", "other condition"
APART = "other instruction set"
# Kinds that say how a line differs where no larger reason does.
SMALL = frozenset(
    (SAVED, EXTENDED, WIDER, WRITTEN, DATA, SETUP, STEPPED, ARGUMENT, CONDITION, APART)
)


def saved(view: View) -> Iterator[Reason]:
    """Callee-saved registers that ``right`` need not save, where both set up a frame."""
    left, right = view.left, view.right
    mine, theirs = _pushes(left), _pushes(right)
    if theirs and len(mine) > len(theirs):
        texts = (_saves(len(theirs), len(mine)), _saves(len(mine), len(theirs)))
        yield view.reason("registers saved", texts, left.saves, right.saves)


def _saves(now: int, before: int) -> str:
    these = "1 register is" if now == 1 else f"{now} registers are"
    return f"{these} saved and restored instead of {before}"


def arguments(view: View) -> Iterator[Reason]:
    """A line that is the same but for the parameter that it reads."""
    if not view.forward:
        return
    left, right = view.left, view.right
    parameters = left.body.arch.abi.parameters
    fresh = _untouched(left, parameters), _untouched(right, parameters)
    for place in view.lines:
        here, there = left.at.get(place, []), right.at.get(place, [])
        if view.states.get(place) != RENAMED or len(here) != len(there):
            continue
        for i, j in zip(here, there, strict=True):
            mine, theirs = fresh[0].get(i, set()), fresh[1].get(j, set())
            if mine and theirs and mine != theirs and left.kinds[i] == right.kinds[j]:
                text = (
                    f"another parameter is read: what arrives in {_all(theirs)}, not {_all(mine)}"
                )
                yield view.reason(ARGUMENT, (text, text), [i], [j], {place}, LIKELY)


def _untouched(side: FunctionModel, parameters: Collection[str]) -> dict[int, set[str]]:
    """Return for each instruction the parameters it reads in registers not written before."""
    waiting = set(parameters)
    out = {}
    for k in range(len(side)):
        read = side.read(k) & waiting
        if read:
            out[k] = set(read)
        waiting -= side.written(k)
        if side.kinds[k] == b.CALL:
            waiting -= side.body.arch.abi.clobbered
    return out


def _all(families: Collection[str]) -> str:
    return " and ".join(sorted(families))


def _pushes(side: FunctionModel) -> list[int]:
    return [k for k in side.saves if side.effects[k].kind == b.PUSH or side.effects[k].stores]


def extended(view: View) -> Iterator[Reason]:
    """A sign or zero extension of ``left`` that ``right`` does without."""
    left, right = view.left, view.right
    if len(_extensions(left, range(len(left)))) <= len(_extensions(right, range(len(right)))):
        return
    for place in view.lines:
        mine, theirs = (_extensions(s, s.at.get(place, ())) for s in (left, right))
        if mine and not theirs and right.at.get(place):
            texts = (
                "the value need not be extended to a wider one",
                "the value is extended to a wider one",
            )
            yield view.reason(EXTENDED, texts, mine, (), {place})


def _extensions(side: FunctionModel, among: Iterable[int]) -> list[int]:
    found = side.of((b.EXTEND,), among)
    return [k for k in found if not (side.effects[k].loads or side.effects[k].packed)]


def stepped(view: View) -> Iterator[Reason]:
    """A loop that goes by another step: by a pointer instead of an index, up instead of down."""
    if not view.forward:
        return
    left, right = view.left, view.right
    moved = (b.ADD, b.SUB, b.ADDRESS, b.COMPARE, b.BRANCH, b.JUMP, b.NOTHING, b.CONSTANT)
    for loop, found in view.loop_pairs.items():
        steps = [_steps(left, loop), *(_steps(right, j) for j in found[:1])]
        if len(steps) < 2 or steps[0] == steps[1] or not (steps[0] or steps[1]):
            continue
        inside = {
            side.places[k] for side, j in ((left, loop), (right, found[0])) for k in side.own(j)
        }
        rest = [
            Counter(side.kinds[k] for k in side.own(j) if not _steps_or_copies(side, k, moved))
            for side, j in ((left, loop), (right, found[0]))
        ]
        if rest[0] != rest[1]:
            continue
        one, other = Counter(steps[0]), Counter(steps[1])
        text = f"the loop goes by steps of {_listed(other - one)} instead of {_listed(one - other)}"
        yield view.reason(
            STEPPED, (text, text), left.own(loop), right.own(found[0]), inside, LIKELY
        )


def _steps(side: FunctionModel, loop: int) -> tuple[int, ...]:
    """Return the constants that registers of a loop grow by in a pass."""
    own = side.of((b.ADD, b.SUB, b.ADDRESS), side.own(loop))
    carried = [k for k in own if side.written(k) and side.written(k) <= side.read(k)]
    found = []
    for k in carried:
        done = side.effects[k]
        by = done.memory.offset if done.kind == b.ADDRESS and done.memory else done.immediate
        found.append(-by if by and done.kind == b.SUB else by)
    return tuple(sorted(by for by in found if by))


def _steps_or_copies(side: FunctionModel, k: int, moved: Sequence[str]) -> bool:
    done = side.effects[k]
    return side.kinds[k] in moved or (done.kind == b.MOVE and not (done.loads or done.stores))


def _listed(steps: Counter[int]) -> str:
    return " and ".join(map(str, sorted(steps.elements()))) or "none"


def setup(view: View) -> Iterator[Reason]:
    """Lines around a loop that changed, with nothing but what it needs before and after."""
    if not view.forward:
        return
    quiet = {
        b.CONSTANT, b.MOVE, b.ADDRESS, b.JUMP, b.RETURN, b.POP, b.PUSH, b.NOTHING, b.EXTEND,
        b.SHIFT, b.SHUFFLE, b.COMPARE, b.BRANCH, b.ADD, b.SUB, b.LOGIC, b.CONVERT,
    }  # fmt: skip
    for place in view.lines:
        here, there = view.left.at.get(place, []), view.right.at.get(place, [])
        sides = ((view.left, here), (view.right, there))
        if not view.differs(place) or not {s.kinds[k] for s, own in sides for k in own} <= quiet:
            continue
        if any(s.body.loop_of[k] >= 0 for s, own in sides for k in own):
            continue
        text = "what the changed loop needs before or after it"
        yield view.reason(SETUP, (text, text), here, there, {place}, LIKELY)


RULES = (saved, arguments)
LAST = (extended, stepped)  # only where nothing else explains the line
BESIDE_LOOPS = (setup,)  # and only in functions whose loops changed


_KINDS = (("another ", DATA), (" wide ", WIDER), ("the condition is", CONDITION))
_ORDER = "the same in another order"


def line_reasons(
    function: str, line: Paired, left: FunctionModel, right: FunctionModel
) -> Iterator[Reason]:
    """Say what differs on a line that nothing else explains, if every difference is a small one."""
    if line.state in (CHANGED, GONE, NEW):
        at = frozenset((line.place,))
        for text, (mine, theirs) in _differences(left, right, line.pairs).items():
            kind = next((k for start, k in _KINDS if start in text), WRITTEN)
            evidence = tuple(mine), tuple(theirs)
            yield Reason(kind, text, CERTAIN, function, *evidence, at)


def _differences(
    left: FunctionModel, right: FunctionModel, pairs: Sequence[Pair]
) -> dict[str, tuple[list[int], list[int]]]:
    """Return text -> evidence for all differences of a line, nothing if one is not a small one."""
    out: dict[str, tuple[list[int], list[int]]] = {}

    def say(text: str, i: int, j: int) -> None:
        first, second = out.setdefault(text, ([], []))
        first += [i] if i >= 0 else []
        second += [j] if j >= 0 else []

    mine, theirs = [], []
    for pair in pairs:
        i, j = pair.place
        text = _pair_says(left, right, i, j) if pair.state == CHANGED else None
        if text:
            say(text, i, j)
        elif pair.state in (CHANGED, GONE, NEW):
            mine += [i] if i >= 0 else []
            theirs += [j] if j >= 0 else []
    for wanted in (lambda text: text == _ORDER, lambda text: not text.startswith("another ")):
        for i in list(mine):
            for j in theirs:
                equal = left.body.texts[i] == right.body.texts[j]
                text = _ORDER if equal else _pair_says(left, right, i, j)
                if text and wanted(text):
                    say(text, i, j)
                    mine.remove(i)
                    theirs.remove(j)
                    break
    for side, rest, forward in ((left, mine, True), (right, theirs, False)):
        for k in rest:
            text = _alone_says(side, k)
            if text is None:
                return {}
            say(text, k if forward else -1, -1 if forward else k)
    return out


def _alone_says(side: FunctionModel, k: int) -> str | None:
    done = side.effects[k]
    if done.kind == b.MOVE and not (done.loads or done.stores):
        return "copies between registers differ"
    if (done.kind in (b.JUMP, b.RETURN) and not done.indirect) or k in side.saves:
        return "code is laid out in another order: jumps or ways out differ"
    return None


def _pair_says(left: FunctionModel, right: FunctionModel, i: int, j: int) -> str | None:
    """Say how two instructions differ, None where they are not the same work."""
    one, other = left.effects[i], right.effects[j]
    if one.kind != other.kind or one.packed or other.packed:
        return None
    if i in left.saves and j in right.saves:
        return "the stack frame is laid out otherwise"
    if one.kind == b.CONSTANT and one.immediate == other.immediate:
        return "the same constant, written another way"
    if one.condition != other.condition:
        return _condition_says(one, other)
    if left.body.texts[i].split()[0] == right.body.texts[j].split()[0]:
        return _operand_says(one, other)
    if one.kind == b.BRANCH:
        return _condition_says(one, other)
    if one.bits != other.bits:
        alike = one._replace(bits=0, memory=None) == other._replace(bits=0, memory=None)
        return (
            f"{other.bits} bits wide instead of {one.bits}"
            if alike and one.bits and other.bits
            else None
        )
    if (one.loads, one.stores, one.immediate, one.condition) == (
        other.loads, other.stores, other.immediate, other.condition,
    ):  # fmt: skip
        return "the same operation, written another way"
    return None


_WORDS = {
    "eq": "equal", "ne": "not equal", "lt": "less", "le": "less or equal", "gt": "greater",
    "ge": "greater or equal", "ult": "below, unsigned", "ule": "below or equal, unsigned",
    "ugt": "above, unsigned", "uge": "above or equal, unsigned", "s": "negative",
    "ns": "not negative", "mi": "negative", "pl": "not negative",
}  # fmt: skip


def _condition_says(left: Effect, right: Effect) -> str:
    if _OPPOSITE.get(left.condition) == right.condition:
        return "the branch goes the other way round: another layout, or the opposite test"
    one, other = (_WORDS.get(done.condition, done.condition) for done in (left, right))
    return f"the condition is '{other}' instead of '{one}'"


def _operand_says(left: Effect, right: Effect) -> str | None:
    if left._replace(immediate=None) == right._replace(immediate=None):
        if left.immediate == right.immediate:
            return "other registers" if left.kind != b.CALL or left.target == right.target else None
        return f"another constant: {right.immediate} instead of {left.immediate}"
    if left.memory and right.memory and left._replace(memory=None) == right._replace(memory=None):
        one, other = left.memory.symbol, right.memory.symbol
        if one.startswith((".L", "$L")) and other.startswith((".L", "$L")):
            return "another constant in memory"
        if one != other and one and other:
            return f"another variable: {other} instead of {one}"
        return "the same access by another address"
    return None


_OPPOSITE = {
    "eq": "ne", "ne": "eq", "lt": "ge", "ge": "lt", "gt": "le", "le": "gt",
    "ult": "uge", "uge": "ult", "ugt": "ule", "ule": "ugt", "s": "ns", "ns": "s",
}  # fmt: skip

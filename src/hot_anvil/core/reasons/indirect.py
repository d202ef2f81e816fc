"""Calls through pointers: made direct, or guessed and compared first."""

import re
from collections.abc import Iterator

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.records import Reason
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import plain_name
from hot_anvil.core.reasons.calls import calls_by_name
from hot_anvil.core.reasons.context import View

DIRECT = "call made direct"
_NAME = re.compile(r"[A-Za-z_][\w.$]*")


def direct(view: View) -> Iterator[Reason]:
    """An indirect call of ``left`` whose goal ``right`` knows, or guesses and compares first."""
    left, right = view.left, view.right
    calls = view.shared(left, [k for k in left.of((b.CALL,)) if left.effects[k].indirect])
    calls = [k for k in calls if not _may_be_known(left, k)]
    through = [k for k in range(len(right)) if right.effects[k].indirect]
    if any(_may_be_known(right, k) for k in through if right.kinds[k] == b.CALL):
        return  # a known function, by a register
    still = {right.places[k] for k in through if right.kinds[k] in (b.CALL, b.JUMP)}
    guessed = _guessed(right) if calls and not _guessed(left) else []
    calls = calls if guessed else [k for k in calls if left.places[k] not in still]
    fewer = len(through) < sum(done.indirect for done in left.effects)
    lines = {left.places[k] for k in calls}
    if (
        not calls
        or not (fewer or guessed)
        or (not guessed and not all(place in right.at for place in lines))
    ):
        return
    known, now = calls_by_name(left), calls_by_name(right)
    made = [
        k
        for k, name in right.calls
        if now[plain_name(name)] > known[plain_name(name)] and right.places[k] in lines
    ]
    inside = [
        k
        for place in right.at
        if view.home and place.line > 0 and place not in view.home and place not in left.at
        for k in right.at[place]
    ]
    if not through:
        inside = inside or [
            k
            for k in right.of(b.ARITHMETIC, right.on(lines))
            if right.body.texts[k] not in left.body.texts
        ]
    if not (made or inside or guessed) or (through and not made and not guessed):
        return  # where it is not named, it may be any of the others
    if guessed:
        how = "the indirect call's likely goal is compared first, and reached directly"
    elif made:
        how = (
            f"the indirect call is made direct: {view.context.title(right.effects[made[0]].target)}"
        )
    else:
        how = "the indirect call's goal is known, and it is inlined"
    texts = (how, "the call goes through a pointer, no longer to a known function")
    evidence = [*guessed, *(made or inside)]
    places = {left.places[k] for k in calls} | {right.places[k] for k in evidence}
    yield view.reason(DIRECT, texts, calls, evidence, places)


def _may_be_known(side: FunctionModel, call: int) -> bool:
    """Tell whether the register of a call holds a function's address that stands in the code."""
    goal = side.read(call) - side.body.arch.abi.parameters - side.body.arch.abi.stack
    begin = side.body.bounds[side.body.block_of[call]]
    makers = [k for k in range(begin, call) if side.written(k) & goal][-1:]
    for k in makers or [k for k in side.of((b.MOVE, b.ADDRESS)) if side.written(k) & goal]:
        memory = side.effects[k].memory
        names = [memory.symbol] if memory else _NAME.findall(" ".join(side.body.items[k].operands))
        if any("@GOT" in name or name in side.names for name in names):
            return True
    return False


def _guessed(side: FunctionModel) -> list[int]:
    """Return where a function's address is loaded, to be compared with a pointer."""
    return [
        k
        for k in side.of((b.ADDRESS,))
        if any(n in side.names for t in side.body.items[k].operands for n in _NAME.findall(t))
        and any(
            side.written(k) & side.read(j) and side.effects[j].immediate is None
            for j in side.of((b.COMPARE, b.BRANCH), range(k + 1, min(k + 6, len(side))))
            if side.body.block_of[j] == side.body.block_of[k]
        )
    ]


RULES = (direct,)

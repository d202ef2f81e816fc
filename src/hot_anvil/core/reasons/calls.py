"""Calls: inlined, tail calls, turned into others, copies of objects left out."""

import re
from collections import Counter
from collections.abc import Iterator, Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.code.places import Place
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.function import FunctionModel
from hot_anvil.core.model.symbols import BLOCK_CALLS, UNWINDING, is_guard, plain_name
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.loops import became_call

INLINED, TAIL, OTHER = "call inlined", "tail call", "call turned into another"
ELIDED, LOOP = "copy left out", "recursion became a loop"
DROPPED, UNUSED, FOLDED = "call dropped", "function dropped", "function folded"
SPLIT = "function split"


def calls_by_name(side: FunctionModel) -> Counter[str]:
    """Return how often each function is called, guards' own calls aside."""
    return Counter(
        plain_name(n)
        for _, n in side.calls
        if not is_guard(n) and not UNWINDING.match(n) and ".part." not in n  # told as split
    )


def _of(side: FunctionModel, name: str) -> list[int]:
    return [k for k, called in side.calls if plain_name(called) == name]


def inlined(view: View) -> Iterator[Reason]:
    """A call of ``left`` that ``right`` has the function's own lines for, or nothing at all."""
    left, right = view.left, view.right
    before, after = calls_by_name(left), calls_by_name(right)
    elided = False
    for name, count in before.items():
        if name in BLOCK_CALLS or after[name] >= count or name == plain_name(view.function):
            continue
        own = view.context.homes.get(view.function, frozenset())
        home = frozenset[Place]().union(*_homes(view, name)) - own
        calls = _of(left, name)
        places = {left.places[k] for k in calls}
        inside = right.on(home)
        already = len(left.on(home))
        title = view.context.title(name)
        parts = [k for k, called in right.calls if called.startswith(f"{name}.part.")]
        if parts:
            texts = (
                f"the first part of {title} is inlined, and the rest is called where it is needed",
                f"{title} is called as a whole, no longer inlined in part",
            )
            places |= {right.places[k] for k in inside}
            yield view.reason(SPLIT, texts, calls, [*inside, *parts], places)
            continue
        if _copies(view, name) and any(view.brought(p) or _foreign(view, p) for p in places):
            continue  # it came, or went, with code that is inlined
        if not home and _copies(view, name) and not inside:
            elided = True
            texts = (
                f"no call of {title}: the copy is left out",
                f"{title} is called: the copy is made",
            )
            yield view.reason(ELIDED, texts, calls, (), places)
        elif len(inside) > already or (
            home and not after[name] and not inside and not any(map(view.brought, places))
        ):
            nothing = "" if inside else ", and merged with the code around it"
            texts = (f"{title} is inlined{nothing}", f"{title} is called, no longer inlined")
            yield view.reason(
                INLINED, texts, calls, inside, places | {right.places[k] for k in inside}
            )
        elif (
            not _defined(view, name)
            and not view.divided_otherwise
            and not after[name]
            and not any(count > before[other] for other, count in after.items())
            and not (elided and _is_destructor(view, name))
            and not any(view.brought(place) or _foreign(view, place) for place in places)
        ):
            yield from _gone(view, name, title, calls, places)


def _foreign(view: View, place: Place) -> bool:
    """Tell whether a line of another function, inlined further in ``left``, is not in ``right``."""
    return bool(view.home) and place not in view.home and place not in view.right.at


def _defined(view: View, name: str) -> bool:
    """Tell whether a side has the function's code, which may then stand where it was called."""
    return bool(_names(name) & {*view.left.names, *view.right.names} or _homes(view, name))


def _names(name: str) -> set[str]:
    # A constructor for whole objects is often only another name of the one for parts of them.
    return {name, re.sub(r"([CD])[01](E|I)", r"\g<1>2\2", name)}


def _homes(view: View, name: str) -> list[frozenset[Place]]:
    return [lines for one in _names(name) if (lines := view.context.homes.get(one))]


def split(view: View) -> Iterator[Reason]:
    """A part of ``right`` that it calls as a function of its own."""
    starts = f"{view.right.body.owner}.part."
    parts = [k for k, name in view.right.calls if name.startswith(starts)]
    if parts and not any(name.startswith(starts) for _, name in view.left.calls):
        texts = (
            "a part of it stands in a function of its own, called where it is needed",
            "no part of it stands in a function of its own any more",
        )
        yield view.reason(SPLIT, texts, (), parts)


def _gone(
    view: View, name: str, title: str, calls: Sequence[int], places: set[Place]
) -> Iterator[Reason]:
    """Say what became of a call that ``right`` has not: done in place, or dropped."""
    left, right = view.left, view.right
    there = right.on(places)
    already = Counter(left.kinds[k] for k in left.on(places))
    more = [k for k in there if right.kinds[k] in _WORK and not already[right.kinds[k]]]
    if left.of((b.FSQRT,), left.on(places)) and right.of((b.FSQRT,), there):
        text = f"an instruction does {title} alone: the call for what is no number is gone"
        texts = (text, f"{title} is called too, for what is no number")
        yield view.reason(OTHER, texts, calls, there, places)
    elif more:
        texts = (
            f"{title} is done in place, without a call",
            f"{title} is called, not done in place",
        )
        yield view.reason(OTHER, texts, calls, more, places, LIKELY)
    elif not any(k for k in there if right.kinds[k] in (b.CALL, b.BLOCK)):
        texts = (f"no call of {title}: its result is known or not needed", f"{title} is called")
        yield view.reason(DROPPED, texts, calls, (), places, LIKELY)


_WORK = b.ARITHMETIC | {b.BLOCK, b.ATOMIC, b.CONVERT, b.COMPARE, b.SELECT}


def _copies(view: View, name: str) -> bool:
    """Tell whether a function copies or moves an object of a C++ class."""
    owner, last = _owner(view, name)
    arguments = view.context.titles.get(name, "").partition("(")[2]
    one = re.fullmatch(rf"(?:.*\b)?{re.escape(owner)}\b(?:<.*>)?(?: const)?&&?\)", arguments)
    return bool(owner) and (last == "operator=" or (last == owner and bool(one)))


def _is_destructor(view: View, name: str) -> bool:
    owner, last = _owner(view, name)
    return bool(owner) and last == f"~{owner}"


def _owner(view: View, name: str) -> tuple[str, str]:
    """Return the class and the last part of a C++ function's name."""
    title = view.context.titles.get(name, "").partition("(")[0]
    parts = title.rpartition("::")
    return re.sub(r"<.*", "", parts[0].rpartition("::")[2]), parts[2]


def tail_called(view: View) -> Iterator[Reason]:
    """A call before a return in ``left`` that is a jump in ``right``."""
    left, right = view.left, view.right
    before = Counter(plain_name(n) for k, n in left.calls if left.effects[k].kind == b.CALL)
    jumps: dict[str, list[int]] = {}
    for k, name in right.calls:
        if right.effects[k].kind == b.JUMP:
            jumps.setdefault(plain_name(name), []).append(k)
    already = Counter(plain_name(n) for k, n in left.calls if left.effects[k].kind == b.JUMP)
    for name, found in jumps.items():
        if before[name] and len(found) > already[name]:
            calls = [k for k in _of(left, name) if left.effects[k].kind == b.CALL]
            title = view.context.title(name)
            texts = (
                f"the call of {title} is a jump: the function does not come back here",
                f"{title} is called and comes back here, no longer a jump",
            )
            places = {left.places[k] for k in calls} | {right.places[k] for k in found}
            yield view.reason(TAIL, texts, calls, found, places)
    yield from _indirect_tail(view)


def _indirect_tail(view: View) -> Iterator[Reason]:
    left, right = view.left, view.right
    calls = [k for k in left.of((b.CALL,)) if left.effects[k].indirect]
    jumps = [
        k for k in right.of((b.JUMP,)) if right.effects[k].indirect and not right.body.table_goals
    ]
    fewer = len([k for k in right.of((b.CALL,)) if right.effects[k].indirect]) < len(calls)
    calls, jumps = view.shared(left, calls), view.shared(right, jumps)
    if (
        calls
        and jumps
        and fewer
        and not [k for k in left.of((b.JUMP,)) if left.effects[k].indirect]
    ):
        text = "the indirect call is a jump: the function does not come back here"
        yield view.reason(TAIL, (text, "the indirect jump is a call again"), calls, jumps)


def recursion(view: View) -> Iterator[Reason]:
    """A function that calls itself in ``left`` and loops in ``right``."""
    left, right = view.left, view.right
    calls, remaining = (
        [k for k, name in side.calls if name == side.body.owner and side.kinds[k] == b.CALL]
        for side in (left, right)
    )
    if calls and len(remaining) < len(calls) and len(right.loops) > len(left.loops):
        texts = ("the call of itself became a loop", "it calls itself, no longer a loop")
        backs = [k for k in range(len(right)) if 0 <= right.body.goals[k] <= k]
        yield view.reason(LOOP, texts, calls, backs, {left.places[k] for k in calls})


def other_call(view: View) -> Iterator[Reason]:
    """A loop of ``left`` that is a library call in ``right``, or a call of another function."""
    left, right = view.left, view.right
    for loop, found in view.loop_pairs.items():
        places = left.lines(left.own(loop))
        calls = [] if found else became_call(view, places)
        if calls:
            done = right.effects[calls[0]]
            what = f"a call of {done.target}" if done.target else "one block instruction"
            texts = (f"the loop became {what}", f"a loop instead of {what}")
            yield view.reason(
                OTHER, texts, left.own(loop), calls, places | {right.places[k] for k in calls}
            )
    yield from _swapped(view)
    before, after = calls_by_name(left), calls_by_name(right)
    for name in before:
        if name not in BLOCK_CALLS or after[name] >= before[name]:
            continue
        remaining = right.lines(_of(right, name))
        calls = [k for k in _of(left, name) if left.places[k] not in remaining]
        places = {left.places[k] for k in calls}
        there = right.on(places)
        if any(right.body.loop_of[k] >= 0 for k in there) and not any(
            left.body.loop_of[k] >= 0 for k in calls
        ):
            continue
        others = [k for k in right.of((b.CALL,), there) if right.effects[k].target not in before]
        if others:
            continue  # one of these may do it
        if right.stores(there) or right.of((b.BLOCK,), there) or right.loads(there):
            texts = (
                f"{name} is done in place, without a call",
                f"{name} is called, no longer done in place",
            )
            yield view.reason(OTHER, texts, calls, there, places)


def _swapped(view: View) -> Iterator[Reason]:
    """A library call of ``left`` in whose place ``right`` calls another."""
    if not view.forward:
        return
    left, right = view.left, view.right
    before, after = calls_by_name(left), calls_by_name(right)
    for place in view.lines:
        gone = {
            plain_name(n): k
            for k, n in left.calls
            if left.places[k] == place and after[plain_name(n)] < before[plain_name(n)]
        }
        new = {
            plain_name(n): k
            for k, n in right.calls
            if right.places[k] == place and before[plain_name(n)] < after[plain_name(n)]
        }
        own = view.context.homes
        gone = {n: k for n, k in gone.items() if n not in own and not is_guard(n)}
        new = {n: k for n, k in new.items() if n not in own and not is_guard(n)}
        if gone and new and not set(gone) & set(new):
            old, made = sorted(gone), sorted(new)
            text = f"a call of {', '.join(made)} instead of {', '.join(old)}"
            yield view.reason(OTHER, (text, text), gone.values(), new.values(), {place})


RULES = (inlined, split, tail_called, recursion, other_call)

"""Calls: inlined, tail calls, turned into others, made direct, copies of objects left out."""

import re
from collections import Counter
from collections.abc import Iterator

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.diff.records import LIKELY, Reason
from hot_anvil.core.model.function import Side
from hot_anvil.core.model.symbols import BLOCK_CALLS, is_guard, plain_name
from hot_anvil.core.reasons.context import View
from hot_anvil.core.reasons.loops import became_call

INLINED, TAIL, OTHER = "call inlined", "tail call", "call turned into another"
DIRECT, ELIDED, LOOP = "call made direct", "copy left out", "recursion became a loop"
DROPPED, UNUSED, FOLDED = "call dropped", "function dropped", "function folded"


_UNWINDING = re.compile(
    r"_Unwind_\w+|__cxa_(?:begin|end)_\w+|__clang_call_terminate|_ZSt9terminatev"
)


def _named(side: Side) -> Counter[str]:
    """Return how often each function is called, guards' own calls aside."""
    return Counter(
        plain_name(n) for _, n in side.calls if not is_guard(n) and not _UNWINDING.match(n)
    )


def _of(side: Side, name: str) -> list[int]:
    return [k for k, called in side.calls if plain_name(called) == name]


def inlined(view: View) -> Iterator[Reason]:
    """A call of ``a`` that ``b`` has the function's own lines for, or nothing at all."""
    a, c = view.a, view.b
    before, after = _named(a), _named(c)
    elided = False
    for name, count in before.items():
        if name in BLOCK_CALLS or after[name] >= count or name == plain_name(view.function):
            continue
        home = view.world.homes.get(name, frozenset()) - view.world.homes.get(
            view.function, frozenset()
        )
        calls = _of(a, name)
        places = {a.places[k] for k in calls}
        inside = c.on(home)
        already = len(a.on(home))
        title = view.world.title(name)
        if not home and _is_constructor(view, name) and not inside:
            elided = True
            texts = (
                f"no call of {title}: the copy is left out",
                f"{title} is called: the copy is made",
            )
            yield view.reason(ELIDED, texts, calls, (), places)
        elif len(inside) > already or (home and not after[name] and not inside):
            nothing = "" if inside else ", and merged with the code around it"
            texts = (f"{title} is inlined{nothing}", f"{title} is called, no longer inlined")
            yield view.reason(INLINED, texts, calls, inside, places | {c.places[k] for k in inside})
        elif (
            not home
            and not after[name]
            and not any(count > before[other] for other, count in after.items())
            and not (elided and _is_destructor(view, name))
        ):
            texts = (f"no call of {title}: its result is known or not needed", f"{title} is called")
            yield view.reason(DROPPED, texts, calls, (), places, LIKELY)


def _is_constructor(view: View, name: str) -> bool:
    """Tell whether a function is a C++ class's constructor or assignment."""
    owner, last = _owner(view, name)
    return bool(owner) and last in (owner, "operator=")


def _is_destructor(view: View, name: str) -> bool:
    owner, last = _owner(view, name)
    return bool(owner) and last == f"~{owner}"


def _owner(view: View, name: str) -> tuple[str, str]:
    """Return the class and the last part of a C++ function's name."""
    title = view.world.titles.get(name, "").partition("(")[0]
    parts = title.rpartition("::")
    return re.sub(r"<.*", "", parts[0].rpartition("::")[2]), parts[2]


def tail_called(view: View) -> Iterator[Reason]:
    """A call before a return in ``a`` that is a jump in ``b``."""
    a, c = view.a, view.b
    before = Counter(plain_name(n) for k, n in a.calls if a.effects[k].kind == b.CALL)
    jumps: dict[str, list[int]] = {}
    for k, name in c.calls:
        if c.effects[k].kind == b.JUMP:
            jumps.setdefault(plain_name(name), []).append(k)
    already = Counter(plain_name(n) for k, n in a.calls if a.effects[k].kind == b.JUMP)
    for name, found in jumps.items():
        if before[name] and len(found) > already[name]:
            calls = [k for k in _of(a, name) if a.effects[k].kind == b.CALL]
            title = view.world.title(name)
            texts = (
                f"the call of {title} is a jump: the function does not come back here",
                f"{title} is called and comes back here, no longer a jump",
            )
            places = {a.places[k] for k in calls} | {c.places[k] for k in found}
            yield view.reason(TAIL, texts, calls, found, places)
    yield from _indirect_tail(view)


def _indirect_tail(view: View) -> Iterator[Reason]:
    a, c = view.a, view.b
    calls = [k for k in a.of((b.CALL,)) if a.effects[k].indirect]
    jumps = [k for k in c.of((b.JUMP,)) if c.effects[k].indirect and not c.body.table_goals]
    if calls and jumps and not [k for k in a.of((b.JUMP,)) if a.effects[k].indirect]:
        text = "the indirect call is a jump: the function does not come back here"
        yield view.reason(TAIL, (text, "the indirect jump is a call again"), calls, jumps)


def recursion(view: View) -> Iterator[Reason]:
    """A function that calls itself in ``a`` and loops in ``b``."""
    a, c = view.a, view.b
    own = plain_name(view.function)
    calls = [k for k in _of(a, own) if a.effects[k].kind == b.CALL]
    left = [k for k in _of(c, own) if c.effects[k].kind == b.CALL]
    if calls and len(left) < len(calls) and len(c.loops) > len(a.loops):
        texts = ("the call of itself became a loop", "it calls itself, no longer a loop")
        backs = [k for k in range(len(c)) if 0 <= c.body.goals[k] <= k]
        yield view.reason(LOOP, texts, calls, backs, {a.places[k] for k in calls})


def other_call(view: View) -> Iterator[Reason]:
    """A loop of ``a`` that is a library call in ``b``, or a call that is another function's."""
    a, c = view.a, view.b
    for loop, found in view.loop_pairs.items():
        places = a.lines(a.own(loop))
        calls = [] if found else became_call(view, places)
        if calls:
            done = c.effects[calls[0]]
            what = f"a call of {done.target}" if done.target else "one block instruction"
            texts = (f"the loop became {what}", f"a loop instead of {what}")
            yield view.reason(
                OTHER, texts, a.own(loop), calls, places | {c.places[k] for k in calls}
            )
    yield from _swapped(view)
    before, after = _named(a), _named(c)
    for name in before:
        if name not in BLOCK_CALLS or after[name] >= before[name]:
            continue
        calls = _of(a, name)
        places = {a.places[k] for k in calls}
        there = c.on(places)
        if any(c.body.loop_of[k] >= 0 for k in there) and not any(
            a.body.loop_of[k] >= 0 for k in calls
        ):
            continue
        if c.stores(there) or c.of((b.BLOCK,), there) or c.loads(there):
            texts = (
                f"{name} is done in place, without a call",
                f"{name} is called, no longer done in place",
            )
            yield view.reason(OTHER, texts, calls, there, places)


def _swapped(view: View) -> Iterator[Reason]:
    """A library call of ``a`` in whose place ``b`` calls another."""
    if not view.forward:
        return
    a, c = view.a, view.b
    before, after = _named(a), _named(c)
    for place in view.lines:
        gone = {
            plain_name(n): k
            for k, n in a.calls
            if a.places[k] == place and after[plain_name(n)] < before[plain_name(n)]
        }
        new = {
            plain_name(n): k
            for k, n in c.calls
            if c.places[k] == place and before[plain_name(n)] < after[plain_name(n)]
        }
        own = view.world.homes
        gone = {n: k for n, k in gone.items() if n not in own and not is_guard(n)}
        new = {n: k for n, k in new.items() if n not in own and not is_guard(n)}
        if gone and new and not set(gone) & set(new):
            old, made = sorted(gone), sorted(new)
            text = f"a call of {', '.join(made)} instead of {', '.join(old)}"
            yield view.reason(OTHER, (text, text), gone.values(), new.values(), {place})


def direct(view: View) -> Iterator[Reason]:
    """An indirect call of ``a`` whose goal ``b`` knows, or guesses and compares first."""
    a, c = view.a, view.b
    calls = [k for k in a.of((b.CALL,)) if a.effects[k].indirect]
    left = [k for k in range(len(c)) if c.effects[k].indirect and c.kinds[k] in (b.CALL, b.JUMP)]
    guessed = _guessed(c) if calls and not _guessed(a) else []
    if not calls or (len(calls) <= len(left) and not guessed):
        return
    known, now = _named(a), _named(c)
    made = [k for k, name in c.calls if now[plain_name(name)] > known[plain_name(name)]]
    own = view.world.homes.get(view.function, frozenset())
    foreign = [place for place in c.at if place not in own and place in view.world.known]
    inside = [k for place in foreign for k in c.at[place] if place not in a.at]
    if not (made or inside or guessed or len(c.calls) <= len(a.calls)):
        return
    if guessed:
        how = "the indirect call's likely goal is compared first, and reached directly"
    elif made:
        how = f"the indirect call is made direct: {view.world.title(c.effects[made[0]].target)}"
    else:
        how = "the indirect call's goal is known, and it is inlined"
    texts = (how, "the call goes through a pointer, no longer to a known function")
    evidence = [*guessed, *(made or inside)]
    places = {a.places[k] for k in calls} | {c.places[k] for k in evidence}
    yield view.reason(DIRECT, texts, calls, evidence, places)


def _guessed(side: Side) -> list[int]:
    """Return where a function's address is loaded, to be compared with a pointer."""
    return [
        k
        for k in side.of((b.ADDRESS,))
        if any(n in side.names for t in side.body.items[k].operands for n in _NAME.findall(t))
        and side.of((b.COMPARE, b.BRANCH), range(k, min(k + 6, len(side))))
    ]


_NAME = re.compile(r"[A-Za-z_][\w.$]*")
RULES = (inlined, tail_called, recursion, other_call, direct)

"""What optimisation left of the calls that a source line makes, build by build."""

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.arch import syntax_of
from hot_anvil.core.asm.calls import callee
from hot_anvil.core.code.records import Code, Instruction, join_parts
from hot_anvil.core.model.call_graph import folded_into
from hot_anvil.core.stages.called import Call, Caller

Fate = Literal[
    "called", "inlined", "merged", "nothing left", "some inlined", "not known", "no code"
]
CALLED: Fate = "called"
INLINED: Fate = "inlined"
MERGED: Fate = "merged"  # the code of an equal function is called in its place
NOTHING: Fate = "nothing left"  # no instruction of the line calls it or came from it
SOME: Fate = "some inlined"  # of several that go by one name, and are not told apart
UNKNOWN: Fate = "not known"  # the line calls something that could not be matched
NO_CODE: Fate = "no code"  # the caller has no code of its own in this build


class Left(NamedTuple):
    """What is left of one call under one build."""

    fate: Fate
    instructions: int  # that came from what is called, where it is inlined


def left_of(caller: Caller, code: Code) -> tuple[Left, ...]:
    """Return what a build's code left of each call of a function, in their order.

    An elided call is none: its ``Left`` says NOTHING, with no instruction.
    """
    # A compiler may have put a part of it into a function of its own.
    parts = [f for f in code.functions if _whole(f.owner) == caller.symbol]
    if not parts:
        return tuple(Left(NO_CODE, 0) for _ in caller.calls)
    items = join_parts(parts)
    direct = _direct(items, code)
    inlined = Counter((line, name) for i in items for line, name in _frames(i))
    wanted = Counter((c.line, plain_name(c.title)) for c in caller.calls if not c.elided)
    titles = {(c.line, plain_name(c.title)): set[str]() for c in caller.calls}
    for call in caller.calls:
        titles[call.line, plain_name(call.title)].add(call.title)
    out = []
    # Code of other files that nothing says how it got here: what was inlined is not known then.
    own = {call.file for call in caller.calls}
    untold = any(i.file and i.file not in own and not i.function for i in items)
    left = Counter(direct)
    for call in caller.calls:
        key = call.line, plain_name(call.title)
        if call.elided:
            out.append(Left(NOTHING, 0))
        elif left[call.line, call.title] > 0:
            left[call.line, call.title] -= 1
            out.append(Left(CALLED, 0))
        elif _merged(call, left, code):
            out.append(Left(MERGED, 0))
        elif inlined[key]:
            several = wanted[key] > 1 and len(titles[key]) > 1
            out.append(Left(SOME if several else INLINED, inlined[key]))
        elif untold or _unmatched(call, left, caller.calls):
            out.append(Left(UNKNOWN, 0))
        else:
            out.append(Left(NOTHING, 0))
    return tuple(out)


def _direct(items: Iterable[Instruction], code: Code) -> Counter[tuple[int, str]]:
    """Return how often each line of the function's own calls each function."""
    syntax = syntax_of(code.isa)
    found: Counter[tuple[int, str]] = Counter()
    for item in items:
        name = callee(item, syntax)
        if name and not item.function and not item.chain:
            found[item.line, _whole(code.title(name))] += 1
    return found


def _whole(title: str) -> str:
    """Return the function that a part or a copy for known arguments was made of."""
    return re.sub(r" \[clone [^\]]*\]|\.(?:part|isra|constprop)\.\d+", "", title)


def _frames(item: Instruction) -> Iterable[tuple[int, str]]:
    """Give the line of the function's own that an instruction was inlined at, and what was."""
    if item.chain:
        name = item.function if len(item.chain) == 1 else item.chain[-2].function
        yield item.chain[-1].line, plain_name(name)


def _merged(call: Call, left: Counter[tuple[int, str]], code: Code) -> bool:
    other = folded_into(code, call.symbol)
    key = call.line, code.title(other)
    if other == call.symbol or left[key] <= 0:
        return False
    left[key] -= 1
    return True


def _unmatched(call: Call, left: Counter[tuple[int, str]], calls: Sequence[Call]) -> bool:
    """Tell whether the line calls something in the code that none of its calls accounts for."""
    known = {c.title for c in calls if c.line == call.line}
    return any(
        count > 0 and title not in known and line == call.line
        for (line, title), count in left.items()
    )


def plain_name(title: str) -> str:
    """Return a function's name without scope, template arguments and parameters."""
    text = re.sub(r"\[abi:\w+\]", "", title)
    before = None
    while before != text:
        before, text = text, re.sub(r"(?<!operator)<[^<>]*>", "", text)
    text = re.sub(r"\(.*$", "", text.replace("operator()", "operator@"))
    if "operator" in text:
        return text[text.index("operator") :].replace("operator@", "operator()").strip()
    return text.rpartition("::")[2].rpartition(" ")[2]

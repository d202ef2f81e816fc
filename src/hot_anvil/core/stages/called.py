"""What a C++ line really calls: from the form that a compiler has before it optimises."""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.stages.records import CALL, Body

Kind = Literal[
    "constructor", "copy constructor", "move constructor", "destructor", "conversion", "operator",
    "function", "bytes copied", "through a pointer",
]  # fmt: skip
Elision = Literal["", "allowed", "guaranteed"]


class Call(NamedTuple):
    """One call that a source line makes when it runs to its end without an exception."""

    file: str
    line: int
    symbol: str  # "" through a pointer
    title: str  # as the source writes it
    kind: Kind
    repeated: bool = False  # inside a loop of its function
    elided: Elision = ""  # the language lets it go: allowed to, or has to


class Caller(NamedTuple):
    """A function with the calls that it makes, in the order in which they are made."""

    symbol: str
    title: str
    calls: tuple[Call, ...]


_JUMPS = re.compile(r'to label %("(?:[^"]+)"|[\w.$-]+)')
_NOT_OWN = ("__cxa_", "_Unwind_", "__gxx_personality", "__clang_call_terminate", "llvm.")


def callers(bodies: Iterable[Body], titles: Mapping[str, str]) -> tuple[Caller, ...]:
    """Return the functions with their calls; ``titles`` gives names as the source writes them."""
    return tuple(
        Caller(body.function, titles.get(body.function, body.function),
               tuple(_calls(body, titles)))
        for body in bodies
    )  # fmt: skip


def _calls(body: Body, titles: Mapping[str, str]) -> Iterator[Call]:
    reached = _normal_blocks(body)
    for block, statements in body.parts():
        if block.label not in reached:
            continue
        looped = _in_loop(body, block.label)
        for statement in statements:
            if CALL not in statement.traits:
                continue
            symbol = next(iter(statement.callees), "")
            if symbol.startswith(_NOT_OWN):
                continue
            title = titles.get(symbol, symbol) or "through a pointer"
            kind = _kind(statement.text, symbol, title)
            yield Call(statement.file, statement.line, symbol, title, kind, looped)


def _kind(text: str, symbol: str, title: str) -> Kind:
    if not symbol:
        return "through a pointer"
    # What the source calls, or an object that is handed on: at this stage both look alike.
    return "bytes copied" if "@llvm.mem" in text else kind_of(title)


def _normal_blocks(body: Body) -> set[str]:
    """Return the blocks that are reached without an exception.

    A destructor in a block "nrvo.unused" is that of a named result which is not returned: it runs
    where the function is left by an exception only.
    """
    after: dict[str, tuple[str, ...]] = {}
    for block, statements in body.parts():
        last = statements[-1].text if statements else ""
        normal = [name.strip('"') for name in _JUMPS.findall(last)] if " unwind " in last else None
        goes = tuple(normal) if normal is not None else block.goes_to
        after[block.label] = tuple(n for n in goes if not n.startswith("nrvo.unused"))
    todo = [body.blocks[0].label] if body.blocks else []
    seen = set(todo)
    for label in todo:  # grows while it is gone through
        more = [name for name in after.get(label, ()) if name not in seen]
        seen.update(more)
        todo += more
    return seen


def _in_loop(body: Body, label: str) -> bool:
    after = {block.label: block.goes_to for block in body.blocks}
    todo, seen = list(after.get(label, ())), set[str]()
    for name in todo:  # grows while it is gone through
        if name not in seen:
            seen.add(name)
            todo += after.get(name, ())
    return label in seen


def kind_of(title: str) -> Kind:
    """Return what a function is by its name as the source writes it."""
    head, given = _split(title)
    whole = re.sub(r"<[^<>]*>", "", re.sub(r"<[^<>]*>", "", head))
    scope, _, own = whole.rpartition("::")
    owner = scope.rpartition("::")[2]
    if own.startswith("~"):
        return "destructor"
    if owner and own == owner:
        plain = re.sub(r"\s|const|std::|<.*>", "", given)
        last = re.sub(r"<.*>", "", plain.rstrip("&").rpartition("::")[2])
        if last == owner and plain.endswith("&&"):
            return "move constructor"
        return "copy constructor" if last == owner and plain.endswith("&") else "constructor"
    found = re.search(r"(?:^|::)operator\b\s*(.*)$", head)
    if not found:
        return "function"
    return "conversion" if re.match(r"[A-Za-z_]", found[1]) and not re.match(
        r"(?:new|delete|co_await)\b", found[1]
    ) else "operator"  # fmt: skip


def _split(title: str) -> tuple[str, str]:
    """Split a name from its parameters: the last pair of brackets that closes the name."""
    text = re.sub(r"\) const.*$|\) volatile.*$|\) &+$", ")", title)
    if not text.endswith(")"):
        return text, ""
    depth = 0
    for k in range(len(text) - 1, -1, -1):
        depth += (text[k] == ")") - (text[k] == "(")
        if not depth:
            return text[:k], text[k + 1 : -1]
    return text, ""


def with_elided(
    made: Sequence[Caller], kept: Sequence[Caller] | None, older: Sequence[Caller] | None
) -> tuple[Caller, ...]:
    """Return the callers with the copies that the language lets go.

    ``kept`` are those of a compile that leaves out no copy it may leave out, ``older`` those of
    one under a standard that guarantees none; None where it did not compile.
    """
    out = []
    allowed = {one.symbol: one for one in kept or ()}
    guaranteed = {one.symbol: one for one in older or ()}
    for one in made:
        calls = list(one.calls)
        may = _more(allowed.get(one.symbol), one.calls)
        calls += [call._replace(elided="allowed") for call in may]
        must = _more(guaranteed.get(one.symbol), calls)
        calls += [call._replace(elided="guaranteed") for call in must]
        out.append(one._replace(calls=tuple(_in_place(one.calls, calls))))
    return tuple(out)


def _more(full: Caller | None, known: Iterable[Call]) -> list[Call]:
    """Return the constructions that ``full`` has beyond those known, line by line."""
    left = [(call.line, call.title) for call in known]
    out = []
    for call in full.calls if full else ():
        key = call.line, call.title
        if key in left:
            left.remove(key)
        elif call.kind in ("copy constructor", "move constructor"):
            out.append(call)
    return out


def _in_place(own: Sequence[Call], calls: Sequence[Call]) -> list[Call]:
    """Return calls with those that are elided behind the others of their line."""
    elided = [call for call in calls if call.elided]
    out: list[Call] = []
    for k, call in enumerate(own):
        out.append(call)
        if not any(later.line == call.line for later in own[k + 1 :]):
            out += [one for one in elided if one.line == call.line]
    return out + [one for one in elided if all(one.line != call.line for call in own)]

"""What to look at on one side of a disagreement: the line that sets, or the one that decides."""

from collections.abc import Callable, Mapping
from typing import NamedTuple

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.trace.code_map import CodePlace
from hot_anvil.core.trace.events import Event, Key, plain_name
from hot_anvil.core.trace.moments import BUFFER, VARIABLE, Moment, Setting
from hot_anvil.core.trace.records import Stepped


class SideOf(NamedTuple):
    """One side of a disagreement."""

    event: Event | None  # what it sets, None where it does not
    file: str  # of the line to look at, "" where none is known
    line: int
    passes: tuple[int, ...]
    decided: bool  # the line decides which way it goes, and does not set anything itself
    at: int  # the step there, 0 where none is known
    last: int  # the last step before that agrees with the other side, 0 for none


def event_side(event: Event, last: int, stepped: Stepped | None = None) -> SideOf:
    """Return the side of a number that is set; ``stepped`` where the other side does not set it.

    Then the branch that led there is what the two sides differ in.
    """
    moment = _led_to(stepped, event) if stepped else None
    if moment:
        return _side(event, moment.place, moment.passes, True, moment.step.number, last)
    return _side(event, event.place, event.passes, False, event.at, last)


def missing_side(
    stepped: Stepped, key: Key, last: int, agreed: "set[int]", passes: tuple[int, ...]
) -> SideOf:
    """Return the side that does not set a number, which the other sets in ``passes``.

    What it sets in its place: a part of the same variable that the other side does not set then.
    Else the branch that kept it from that.
    """
    setters: list[CodePlace] = []
    for moment in stepped.moments():
        own = [s for s in moment.settings if _is_part(s, key)]
        if not own:
            continue
        if moment.place not in setters:
            setters.append(moment.place)
        number = moment.step.number
        if number > last and number not in agreed and own[0].name != key[1]:
            return _side(None, moment.place, moment.passes, False, number, last)
    kept = _kept_from(stepped, setters, last, passes)
    if kept:
        return _side(None, kept.place, kept.passes, True, kept.step.number, last)
    return SideOf(None, "", 0, (), False, 0, last)


def _is_part(setting: Setting, key: Key) -> bool:
    whose = VARIABLE if key[0] else BUFFER
    name = setting.variable.rpartition(": ")[2]
    return setting.whose == whose and name == plain_name(key)[1]


def returning_side(stepped: Stepped, last: int, closes: Callable[[str, int], bool]) -> SideOf:
    """Return the side whose returned number is another: the line that made it, or the last.

    In code as it stands in the source that is the line before the function's end.
    """
    lines: list[Moment] = []
    for moment in stepped.walk(named=False).moments():
        if moment.depth or not moment.place.line:
            continue
        if lines and lines[-1].place.line == moment.place.line:
            lines[-1] = moment
        else:
            lines = [*lines[-1:], moment]
    if not lines:
        return SideOf(None, "", 0, (), False, 0, last)
    own = lines[-1]
    end = own.place.kind == b.RETURN and closes(own.place.file, own.place.line)
    if len(lines) > 1 and end and _as_written(stepped):
        own = lines[-2]
    return _side(None, own.place, own.passes, False, own.step.number, last)


def same_line(stepped: Stepped, other: SideOf, last: int) -> SideOf:
    """Return the side whose settings cannot be seen: where it last was at the other's line."""
    found = None
    for moment in stepped.walk(named=False).moments():
        if (moment.place.file, moment.place.line) == (other.file, other.line):
            found = moment
    if not found:
        return SideOf(None, "", 0, (), False, 0, last)
    return _side(None, found.place, found.passes, False, found.step.number, last)


def _as_written(stepped: Stepped) -> bool:
    """Tell whether every variable of the entry lies in memory all the time: it is unoptimised."""
    found = stepped.known.locals.get(stepped.known.entry)
    variables = found.variables if found else ()
    homes = [{span.ops for span in local.spans} for local in variables]
    return bool(homes) and all(
        len(one) == 1 and all(op.name not in ("reg", "stack_value") for ops in one for op in ops)
        for one in homes
    )


def _side(
    event: Event | None,
    place: CodePlace,
    passes: tuple[int, ...],
    decided: bool,
    at: int,
    last: int,
) -> SideOf:
    return SideOf(event, place.file, place.line, passes, decided, at, last)


def _led_to(stepped: Stepped, event: Event) -> Moment | None:
    """Return the last branch before something was set that decides whether it is."""
    deciding = stepped.map.deciders[event.place.function].get(event.place.block, frozenset())
    chosen = None
    for moment in stepped.walk(named=False).moments():
        if moment.step.number >= event.at:
            break
        place = moment.place
        if moment.taken is not None and place.function == event.place.function:
            chosen = moment if place.block in deciding else chosen
    return chosen


def _kept_from(
    stepped: Stepped, setters: "list[CodePlace]", last: int, passes: tuple[int, ...]
) -> Moment | None:
    """Return the branch that kept a side from coming to any of some places, after a step.

    That is the last in the same pass that decides over them; without one, the first that does.
    """
    if not setters:
        return None
    function = setters[0].function
    blocks = {place.block for place in setters if place.function == function}
    deciding = _all_deciders(stepped.map.deciders[function], blocks)
    first: Moment | None = None
    in_pass: Moment | None = None
    for moment in stepped.walk(named=False).moments():
        place = moment.place
        if moment.step.number <= last or moment.taken is None or place.function != function:
            continue
        if place.block in deciding:
            first = first or moment
            if moment.passes == passes:
                in_pass = moment
            elif in_pass:
                break
    return in_pass or first


def _all_deciders(found: Mapping[int, frozenset[int]], blocks: "set[int]") -> "set[int]":
    """Return the blocks that decide over some, and those that decide over them."""
    out: set[int] = set()
    todo = list(blocks)
    while todo:
        fresh = found.get(todo.pop(), frozenset()) - out
        out |= fresh
        todo += fresh
    return out

"""Which steps of a recorded call are shown."""

from collections import deque
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from hot_anvil.core.trace.moments import VARIABLE, Moment

FIRST, LAST = "first", "last"
DEFAULT_LIMIT = 200  # steps


class Choice(NamedTuple):
    """What to show."""

    passes: tuple[str, ...] = ()  # of each loop: FIRST, LAST or numbers; () for all
    at: tuple[str, int] = ("", 0)  # file and line, "" for any file; 0 for all lines
    watch: str = ""  # a variable: only steps that set it
    only_changes: bool = False  # only steps that set a variable or memory
    limit: int = DEFAULT_LIMIT
    end: bool = False  # of more than the limit the last are shown, not the first


class Shown(NamedTuple):
    """The steps that are shown."""

    moments: tuple[Moment, ...]
    chosen: int  # how many were chosen, before the limit


Entered = tuple[int, str, int, int]  # call, function, loop, how often it has been entered


def last_passes(moments: Iterable[Moment]) -> dict[Entered, int]:
    """Return for each time that a loop was entered how many passes it made."""
    out: dict[Entered, int] = {}
    for moment in moments:
        out.update(zip(_loops(moment), moment.passes, strict=True))
    return out


def choose(moments: Iterable[Moment], choice: Choice, last: "dict[Entered, int]") -> Shown:
    """Return what is shown of a call; ``last`` is from ``last_passes`` where LAST is asked for."""
    kept: deque[Moment] = deque(maxlen=choice.limit if choice.end else None)
    count = 0
    for moment in _chosen(moments, choice, last):
        count += 1
        if choice.end or count <= choice.limit:
            kept.append(moment)
    return Shown(tuple(kept), count)


def _chosen(
    moments: Iterable[Moment], choice: Choice, last: "dict[Entered, int]"
) -> Iterator[Moment]:
    file, line = choice.at
    for moment in moments:
        place = moment.place
        if line and (place.line != line or (file and not place.file.endswith(file))):
            continue
        if choice.only_changes and not moment.settings:
            continue
        if choice.watch and not any(sets(choice.watch, moment)):
            continue
        if choice.passes and not _in_passes(moment, choice.passes, last):
            continue
        yield moment


def sets(name: str, moment: Moment) -> Iterator[bool]:
    """Give for each number that a step sets whether it is of a variable of this name."""
    for setting in moment.settings:
        yield name in (setting.name, setting.variable) or (
            setting.whose == VARIABLE and setting.variable.rpartition(": ")[2] == name
        )


def _in_passes(moment: Moment, passes: tuple[str, ...], last: "dict[Entered, int]") -> bool:
    for entered, number in zip(_loops(moment), moment.passes, strict=True):
        is_first = FIRST in passes and number == 1
        is_last = LAST in passes and number == last.get(entered)
        if not (is_first or is_last or str(number) in passes):
            return False
    return True


def _loops(moment: Moment) -> Iterator[Entered]:
    place = moment.place
    for loop, entered in zip(place.loops, moment.entered, strict=True):
        yield moment.frame, place.function, loop, entered

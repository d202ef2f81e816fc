"""What a recorded call sets, by name, in its order: what two calls are put side by side by."""

import struct
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from hot_anvil.core.trace.code_map import CodePlace
from hot_anvil.core.trace.moments import BUFFER, VARIABLE, Moment, Setting
from hot_anvil.core.trace.records import Stepped

Key = tuple[str, str]  # (function, variable), or ("", name) of what lasts
_FLOATS = {4: "<f", 8: "<d"}


class Event(NamedTuple):
    """A number is set."""

    at: int  # number of the step
    value: str
    number: float | None  # of a float, to compare within a tolerance
    single: bool  # it is one of four bytes
    place: CodePlace
    passes: tuple[int, ...]
    address: int  # of a variable in memory, 0 of one that is not


class Events(NamedTuple):
    """All that a call sets."""

    by_key: Mapping[Key, list[Event]]
    first: Mapping[Key, str]  # what it held before, where that is known
    homes: frozenset[Key]  # variables with one home in memory all the time: no value is missed
    returned: str  # the number that it returned, "" for none
    loaded: frozenset[int]  # addresses that its last two lines read
    named: frozenset[str]  # buffers and variables that last, whose place is known

    def returns(self, key: Key) -> bool:
        """Tell whether the last that a variable was set to is what the call returned.

        One in memory is also read where the call returns.
        """
        last = self.by_key[key][-1]
        read = not last.address or last.address in self.loaded
        return bool(self.returned) and last.value == self.returned and read


def collect(stepped: Stepped) -> Events:
    """Return all that a recorded call sets; functions go by their names in the source."""
    by_key: dict[Key, list[Event]] = {}
    first: dict[Key, str] = {}
    loads = _LastLoads()
    for moment in stepped.moments():
        loads.add(moment)
        for setting in moment.settings:
            key = _key(setting, moment, stepped)
            if key is None:
                continue
            if key not in by_key and setting.before:
                first[key] = setting.before
            event = Event(
                moment.step.number, setting.after, _number(setting), len(setting.data) == 4,
                moment.place, moment.passes, setting.address,
            )  # fmt: skip
            by_key.setdefault(key, []).append(event)
    homes = frozenset(_homes(stepped))
    known = stepped.known
    named = {placed.variable.name for placed, _ in known.lasting} | {g.name for g in known.given}
    loaded = loads.addresses()
    return Events(by_key, first, homes, stepped.returned, loaded, frozenset(named))


class _LastLoads:
    """What the last two source lines of the entry read."""

    def __init__(self) -> None:
        self._line = ("", 0)
        self._now: set[int] = set()
        self._before: set[int] = set()

    def add(self, moment: Moment) -> None:
        if moment.depth:
            return
        line = moment.place.file, moment.place.line
        if line != self._line:
            self._line, self._before, self._now = line, self._now, set()
        self._now.update(a.address for a in moment.step.accesses if not a.stored)

    def addresses(self) -> frozenset[int]:
        return frozenset(self._now | self._before)


def _key(setting: Setting, moment: Moment, stepped: Stepped) -> Key | None:
    if setting.whose == BUFFER:
        return "", setting.name
    if setting.whose != VARIABLE or setting.after.startswith(("0x", "&")):
        return None  # of addresses only what lies there counts
    inlined, _, name = setting.name.rpartition(": ")
    return inlined or stepped.map.title(moment.place.function), name


def _number(setting: Setting) -> float | None:
    kind = setting.kind
    if kind is None or kind.kind != "float" or kind.size not in _FLOATS:
        return None
    return float(struct.unpack(_FLOATS[kind.size], setting.data)[0])


def _homes(stepped: Stepped) -> Iterator[Key]:
    for symbol, found in stepped.known.locals.items():
        for local in found.variables:
            homes = {span.ops for span in local.spans}
            memory = all(op.name not in ("reg", "stack_value") for ops in homes for op in ops)
            if len(homes) == 1 and memory and not local.inlined:
                yield stepped.map.title(symbol), local.name


def plain_name(key: Key) -> Key:
    """Return the variable that a number is part of."""
    return key[0], key[1].partition("[")[0].partition(".")[0]


def without_repeats(events: list[Event]) -> list[Event]:
    """Return the events that change something."""
    out: list[Event] = []
    for event in events:
        if not out or out[-1].value != event.value:
            out.append(event)
    return out

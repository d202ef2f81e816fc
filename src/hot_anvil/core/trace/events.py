"""What a recorded call sets, by name, in its order: what two calls are put side by side by."""

import struct
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from hot_anvil.core.trace.code_map import CodePlace
from hot_anvil.core.trace.records import Stepped
from hot_anvil.core.trace.walk import BUFFER, VARIABLE, Moment, Setting

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


class Events(NamedTuple):
    """All that a call sets."""

    by_key: Mapping[Key, list[Event]]
    first: Mapping[Key, str]  # what it held before, where that is known
    homes: frozenset[Key]  # variables with one home in memory all the time: no value is missed
    returned: str  # the number that it returned, "" for none

    def returns(self, key: Key) -> bool:
        """Tell whether the last that a variable was set to is what the call returned."""
        return bool(self.returned) and self.by_key[key][-1].value == self.returned


def collect(stepped: Stepped) -> Events:
    """Return all that a recorded call sets; functions go by their names in the source."""
    by_key: dict[Key, list[Event]] = {}
    first: dict[Key, str] = {}
    for moment in stepped.moments():
        for setting in moment.settings:
            key = _key(setting, moment, stepped)
            if key is None:
                continue
            if key not in by_key and setting.before:
                first[key] = setting.before
            event = Event(
                moment.step.number, setting.after, _number(setting), len(setting.data) == 4,
                moment.place, moment.passes,
            )  # fmt: skip
            by_key.setdefault(key, []).append(event)
    return Events(by_key, first, frozenset(_homes(stepped)), stepped.returned)


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

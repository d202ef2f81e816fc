"""Memory of a recorded call by name: buffers that it was given, variables that last, the stack."""

from collections.abc import Sequence
from typing import NamedTuple

from hot_anvil.core.binary.types import Type
from hot_anvil.core.trace.memory import Memory
from hot_anvil.core.trace.moments import BUFFER, MEMORY, Known, Setting
from hot_anvil.core.trace.tape import Access
from hot_anvil.core.trace.values import Part, number_text, part_over

_LOWEST_ADDRESS = 0x10000  # below it a number is rather a number
_DEEP, _ABOVE = 1 << 16, 64  # bytes around the stack at the start that count as the stack


class Region(NamedTuple):
    """A stretch of memory that has a name."""

    name: str
    low: int
    high: int
    type: Type  # of the whole for a variable, of an element for a buffer
    buffer: bool


class Regions:
    """Memory, as far as the record tells of it, and its names."""

    def __init__(self, known: Known, base: int, stack: int) -> None:
        """Place what lasts; ``base`` is what its addresses count from, ``stack`` the stack's."""
        self.bits, self.stack = known.bits, stack
        self.memory = Memory()
        self.named: list[Region] = []
        self._given = list(known.given)
        for placed, data in known.lasting:
            low = (placed.offset & known.data_mask) + base
            kind = placed.variable.type
            self.named.append(Region(placed.variable.name, low, low + kind.size, kind, False))
            if data:
                self.memory.write(low, data)

    def place_given(self, name: str, address: int) -> None:
        """Learn where a buffer lies, once the parameter that points to it is known."""
        for given in self._given:
            if given.name == name:
                high = address + len(given.data)
                self.named.append(Region(name, address, high, given.element, True))
                self.memory.write(address, given.data)
                self._given.remove(given)
                return

    def take(self, accesses: Sequence[Access], beyond: bool) -> tuple[list[Setting], list[Access]]:
        """Take over accesses; return what was set by name, and stores that have no name here.

        Of code ``beyond`` what is under study only what differs in the end is told.
        """
        out: list[Setting] = []
        others: list[Access] = []
        for access in accesses:
            region = self._region(access.address) if access.stored else None
            parts = self._parts(region, access) if region else []
            before = [self.memory.read(at, part.type.size) for at, part in parts]
            self.memory.write(access.address, access.data)
            if access.stored and not region and not beyond:
                others.append(access)
            for (at, part), was in zip(parts, before, strict=True):
                assert region
                data = self.memory.read(at, part.type.size)
                if data is not None:
                    out.append(self._setting(region, part, was, data))
        return (_net(out) if beyond else out), others

    def _setting(self, region: Region, part: Part, was: bytes | None, data: bytes) -> Setting:
        return Setting(
            BUFFER, f"{region.name}{part.path}", part.type.name,
            self.text(part.type, was) if was else "", self.text(part.type, data), data, 0,
            region.name, part.type,
        )  # fmt: skip

    def _region(self, address: int) -> Region | None:
        for region in self.named:
            if region.low <= address < region.high:
                return region
        return None

    @staticmethod
    def _parts(region: Region, access: Access) -> list[tuple[int, Part]]:
        """Return the numbers of a region that a store touches, with their addresses."""
        out = []
        at, end = access.address, min(access.address + len(access.data), region.high)
        size = max(region.type.size, 1)
        while at < end:
            index, inner = divmod(at - region.low, size) if region.buffer else (-1, at - region.low)
            found = part_over(region.type, inner)
            if found is None:
                at += 1
                continue
            first = at - inner + found.offset
            path = f"[{index}]{found.path}" if region.buffer else found.path
            out.append((first, found._replace(path=path)))
            at = first + found.type.size
        return out

    def unnamed(self, access: Access) -> Setting:
        """Return a store to memory without a name."""
        return Setting(
            MEMORY, self._address(access.address), f"{len(access.data)} bytes",
            _hex(access.before) if access.before else "", _hex(access.data), access.data, 0, "",
        )  # fmt: skip

    def _address(self, address: int) -> str:
        """Return an address in words: on the stack by how far it is from where that began."""
        away = address - self.stack
        return f"stack{away:+d}" if -_DEEP < away <= _ABOVE else f"{address:#x}"

    def text(self, kind: Type, data: bytes) -> str:
        """Return a number in words, a pointer by what it points to."""
        return number_text(kind, data, self.pointed)

    def pointed(self, address: int) -> str:
        """Return what an address points to, "" where it has no name."""
        for region in self.named:
            if not region.low <= address <= region.high:
                continue
            away = address - region.low
            if not region.buffer:
                return f"&{region.name}" + (f" + {away} bytes" if away else "")
            index, inner = divmod(away, max(region.type.size, 1))
            return f"&{region.name}[{index}]" + (f" + {inner} bytes" if inner else "")
        return ""

    def in_register(self, value: int, bits: int) -> str:
        """Return what a register holds in words: what an address points to, else its bits."""
        if bits >= self.bits and value >= _LOWEST_ADDRESS:
            return self.pointed(value) or self._address(value)
        return f"{value:#x}"


def _net(settings: Sequence[Setting]) -> list[Setting]:
    """Return what differs in the end."""
    first: dict[str, Setting] = {}
    last: dict[str, Setting] = {}
    for setting in settings:
        first.setdefault(setting.name, setting)
        last[setting.name] = setting
    made = (last[name]._replace(before=first[name].before) for name in first)
    return [setting for setting in made if setting.before != setting.after]


def _hex(data: bytes) -> str:
    if len(data) <= 8:
        return f"{int.from_bytes(data, 'little'):#x}"
    return data.hex(" ", 8)

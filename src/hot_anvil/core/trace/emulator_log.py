"""The log of QEMU, stepping one instruction at a time, as records of a tape.

Before each instruction it says all registers; ``native/accesses.c`` adds a line for each access
to memory. A line of registers that is as it was before is not looked at again.
"""

import re
from collections.abc import Callable, Iterable, Sequence

from hot_anvil.core.arch.state import Register
from hot_anvil.core.trace.tape import BEYOND, FULL, Access, pack

_PLACE = re.compile(rb"Trace (\d+): 0x[0-9a-f]+ \[[0-9a-f]+/([0-9a-f]+)/")
_START = b"\nTrace "


class LogReader:
    """Turns the log of one call into records, piece by piece."""

    def __init__(
        self,
        registers: Sequence[Register],
        logged: Callable[[str], Iterable[tuple[str, int]]],
        inside: Callable[[int], bool],
        entry: int,
        most: int,
    ) -> None:
        """Read from the first instruction of ``entry`` on, at most ``most`` steps.

        ``logged`` reads a line of registers; ``inside`` tells the code under study from other.
        """
        self._numbers = {register.name: number for number, register in enumerate(registers)}
        self._sizes = [-(-register.bits // 8) for register in registers]
        self._logged, self._inside = logged, inside
        self._entry, self._most = entry, most
        self._lines: list[bytes] = []  # of registers, as they were last
        self._values: list[bytes] = [b""] * len(registers)
        self._rest = b"\n"
        self._pending: tuple[int, list[Access], int] | None = None  # a step whose end is not known
        self.steps = 0
        self.over = False  # the call has returned, or there are enough steps

    def feed(self, data: bytes) -> bytes:
        """Take the next piece of the log, and return the records that are complete with it."""
        pieces = (self._rest + data).split(_START)
        self._rest = _START + pieces.pop() if len(pieces) else self._rest
        return b"".join(map(self._record, pieces)) if not self.over else b""

    def finish(self) -> bytes:
        """Return what the end of the log completes."""
        last = self._rest.removeprefix(_START)
        out = self._record(last) if not self.over else b""
        if self._pending and not self.over:  # it never came to the next instruction
            address, accesses, flags = self._pending
            out += pack(address, (), accesses, flags)
            self.over = True
        return out

    def _record(self, text: bytes) -> bytes:
        found = _PLACE.match(b"Trace " + text)
        if not found or found[1] != b"0" or self.over:
            return b""
        address = int(found[2], 16)
        if not self._lines and address != self._entry:
            return b""  # what runs before the call
        lines = text.split(b"\n")
        accesses, beyond, plain = _parted(lines)
        changes = self._changes(plain)
        out = self._complete(address, changes)
        if not self.over:
            self._pending = address, accesses, BEYOND if beyond else 0
        return out

    def _complete(self, address: int, changes: Sequence[tuple[int, bytes]]) -> bytes:
        """Return the record of the step before, now that its outcome is known."""
        if self._pending is None:
            return pack(0, changes, ())
        at, accesses, flags = self._pending
        self._pending = None
        self.steps += 1
        out = pack(at, changes, accesses, flags)
        if not self._inside(address):
            self.over = True
        elif self.steps == self._most:
            self.over = True
            out += pack(address, (), (), FULL)
        return out

    def _changes(self, lines: list[bytes]) -> list[tuple[int, bytes]]:
        known = self._lines
        same_shape = len(known) == len(lines)
        out = []
        for number, line in enumerate(lines):
            if same_shape and known[number] == line:
                continue
            for name, value in self._logged(line.decode("ascii", "replace")):
                which = self._numbers.get(name, -1)
                if which < 0:
                    continue
                data = value.to_bytes(self._sizes[which], "little")
                if data != self._values[which]:
                    self._values[which] = data
                    out.append((which, data))
        self._lines = lines
        return out


def _parted(lines: list[bytes]) -> tuple[list[Access], bool, list[bytes]]:
    """Return the accesses among lines of a log, whether other code wrote, and the other lines."""
    accesses, beyond, end = [], False, len(lines)
    for number in range(len(lines) - 1, 0, -1):
        line = lines[number]
        if line[1:2] == b" " and line[:1] in b"RWO":
            word, address, data = line.split()
            beyond |= word == b"O"
            accesses.append(Access(word != b"R", int(address, 16), bytes.fromhex(data.decode())))
            end = number
        elif line:
            break
    return accesses[::-1], beyond, lines[1:end]

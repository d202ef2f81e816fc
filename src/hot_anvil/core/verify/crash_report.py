"""Where and why a process ended, from the report it left behind (head of native/crash.c)."""

import struct
from collections.abc import Callable, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.calling.protocol import Damage
from hot_anvil.core.inputs.input_sets import InputSet

_HEAD = struct.Struct("<IiiiQQQQiIq")
FRAMES = 48
REPORT_BYTES = _HEAD.size + 8 * FRAMES
_NEAR_STACK = 64 << 10  # bytes from the stack pointer
_LARGEST_PROGRAM = 64 << 20  # bytes, from where it is loaded
_NULL = 4096  # addresses below are a null pointer's
# Linux's numbers, on every machine that it runs on but MIPS, Alpha and PA-RISC.
_SIGNALS = {4: "SIGILL", 5: "SIGTRAP", 6: "SIGABRT", 7: "SIGBUS", 8: "SIGFPE", 11: "SIGSEGV",
            31: "SIGSYS"}  # fmt: skip
_OF_AN_EMULATOR = "qemu: uncaught target signal"  # says again how the process ended
_FROM_KERNEL = 128  # SI_KERNEL: the processor names no address
_ON_CHIP, _STACK_MET = 0x100, 0x101  # native/chip.c
_MISALIGNED = 1  # a code of SIGBUS
_NO_HANDLER = 0x200  # native/board/ports.c: and the number of the exception
_EXCEPTIONS = {11: "a supervisor call", 12: "a debug event", 14: "a pended service request"}
_INTERRUPTS = 16  # the number of the first
_NULL_ON_CHIP = 32  # AVR's registers have these addresses


class Place(NamedTuple):
    """A line of a source."""

    file: str
    line: int

    @property
    def text(self) -> str:
        """As compilers write it."""
        return f"{self.file}:{self.line}" if self.file else ""


NOWHERE = Place("", 0)


class Report(NamedTuple):
    """What a process said when a signal ended it, or when it was asked."""

    signal: int  # 0 when it was asked, -1 when it called exit()
    code: int
    access: int  # 1 read, 2 write, 0 not known
    address: int
    instruction: int
    stack: int
    base: int  # where the program is loaded
    argument: int  # whose surroundings were touched, or -1
    offset: int  # bytes from that buffer's start
    frames: tuple[int, ...]  # return addresses, innermost first, those of the reporter too

    @property
    def places(self) -> list[int]:
        """Offsets in the program of the instruction and of the calls that led to it."""
        after = self.frames
        if self.instruction in after:
            after = after[after.index(self.instruction) + 1 :]
        # A return address is behind its call.
        return [self.instruction - self.base, *(address - 1 - self.base for address in after)]


def read_report(data: bytes) -> Report | None:
    """Return the report in a process's memory, None when it left none."""
    state, number, code, access, address, pc, stack, base, argument, calls, offset = (
        _HEAD.unpack_from(data)
    )
    if not state:
        return None
    frames = struct.unpack_from(f"<{min(calls, FRAMES)}Q", data, _HEAD.size) if state > 1 else ()
    return Report(number, code, access, address, pc, stack, base, argument, offset, frames)


def locate(report: Report, line_at: Callable[[int], tuple[str, int]]) -> tuple[Place, bool]:
    """Return (the innermost source line known, is it of a call into a library?)."""
    for depth, offset in enumerate(report.places):
        file, line = line_at(offset) if offset >= 0 else ("", 0)
        if line:
            return Place(file, line), depth > 0
    return NOWHERE, False


def in_words(report: Report, inputs: InputSet | None, signature: Signature | None) -> str:
    """Return what happened, without the place."""
    if report.signal < 0:
        return "ends the process"
    name = _SIGNALS.get(report.signal, f"signal {report.signal}")
    if report.argument >= 0 and inputs and signature:
        hurt = inputs.arguments[report.argument]
        damage = Damage(hurt.name, report.offset, len(hurt.data))
        return f"{_verb(report)} {outside(damage, signature)} ({name})"
    if name == "SIGSEGV" and report.code == _FROM_KERNEL:
        return f"{name} without an address: a misaligned vector access, or a wild pointer"
    if name == "SIGBUS" and report.code == _MISALIGNED:
        return f"touches a misaligned address ({name})"
    if name == "SIGSYS" and report.code >= _NO_HANDLER:
        return _no_handler(report.code - _NO_HANDLER)
    if name in ("SIGSEGV", "SIGBUS"):
        if report.code >= _ON_CHIP:
            return f"{_on_chip(report)} ({name})"
        if abs(report.address - report.stack) < _NEAR_STACK:
            return f"the stack overflowed ({name})"
        if report.address < _NULL:
            return f"{_verb(report)} through a null pointer, at address {report.address} ({name})"
        if 0 <= report.address - report.base < _LARGEST_PROGRAM:
            return f"{_verb(report)} a constant, or code, of its own program ({name})"
        return f"{_verb(report)} memory that is not there ({name})"
    return {
        "SIGFPE": f"divides by zero, or the quotient does not fit ({name})",
        "SIGILL": f"runs into a trap of the compiler's, or an unknown instruction ({name})",
        "SIGTRAP": f"runs into a trap of the compiler's ({name})",
        "SIGABRT": f"aborts ({name})",
    }.get(name, f"killed by {name}")


def _on_chip(report: Report) -> str:
    if report.code == _STACK_MET:
        return "the stack overflowed"
    if report.address < _NULL_ON_CHIP:
        return f"{_verb(report)} through a null pointer, at address {report.address}"
    return f"{_verb(report)} address 0x{report.address:04x}, which is nobody's"


def _no_handler(number: int) -> str:
    interrupt = f"interrupt {number - _INTERRUPTS}" if number >= _INTERRUPTS else ""
    what = interrupt or _EXCEPTIONS.get(number, f"exception {number}")
    return f"raises {what}, for which it has no handler"


def outside(damage: Damage, signature: Signature) -> str:
    """Return which element beside, or inside, a buffer was touched."""
    kind = next((p.type.to for p in signature.parameters if p.name == damage.parameter), None)
    size = max(kind.size if kind else 1, 1)
    element = f"{damage.parameter}[{damage.offset // size}]"
    if damage.offset < 0:
        return f"{element}, before its start (byte {damage.offset})"
    if damage.offset < damage.size:
        return f"{element}, which is const"
    count = damage.size // size
    many = "its only element" if count == 1 else f"its {count} elements"
    return f"{element}, beyond {many} (byte {damage.offset} of {damage.size})"


def _verb(report: Report) -> str:
    return {1: "reads", 2: "writes"}.get(report.access, "touches")


def first_words(complaints: str, most: int = 160) -> str:
    """Return the first line of what a process wrote on its standard error."""
    lines: Sequence[str] = [
        line.strip()
        for line in complaints.split("\n")
        if line.strip() and not line.startswith(_OF_AN_EMULATOR)
    ]
    return lines[0][:most] if lines else ""

"""What sanitizers and warnings say of a source: undefined behaviour, with its line."""

import re
from collections.abc import Callable, Iterable, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.verify.crash_report import NOWHERE, Place

_AT_LINE = re.compile(r"^(.+?):(\d+)(?::\d+)?: runtime error: (.+)$", re.MULTILINE)
_FAULT = re.compile(
    r"ERROR: AddressSanitizer:? (.+)|WARNING: ThreadSanitizer: (.+)|WARNING: MemorySanitizer: (.+)"
)
_UNSET = "use-of-uninitialized-value"
_MADE = re.compile(r"value was created by (?:an allocation of ('[^']+')|a heap allocation)")
# What a sanitizer lacks for itself: nothing that the code did.
_OF_ITS_OWN = re.compile(r"failed to|out of memory|hard rss limit|unable to|Shadow memory", re.I)
_ADDRESS = re.compile(r"(?: and)? ?\[?\b0x[0-9a-f]+(?:, ?0x[0-9a-f]+\))?")
_FRAME = re.compile(r"^\s+#\d+ .*\(([^()]+)\+0x([0-9a-f]+)\)", re.MULTILINE)
_UNDEFINED_BY_TEXT = re.compile(r"will \w+ strict-aliasing|unsequenced|Wsequence-point")
# A pointer to an object as another type, and a variable that one expression changes and uses.
_UNSEEN = re.compile(
    r"\*\s*\)\s*&\s*\w|\b(\w+)(?:\+\+|--)[^;{}]*\b\1\b|"
    r"=[^;=]*(?:\+\+|--)(\w+)[^;{}]*\b\2\b"
)
_DETAIL = re.compile(r"^(READ|WRITE) of size (\d+)", re.MULTILINE)
# Warnings about form, not about what the code computes.
_HARMLESS = re.compile(
    r"unused|set but not used|missing-field|declared 'static' but|no previous|"
    r"does not match|old-style|fallthrough|unknown pragma"
)


class Undefined(NamedTuple):
    """Undefined behaviour that a sanitized build ran into."""

    entry: str
    inputs: str  # label of the first input set that shows it
    edge: str  # its kind when it is an edge
    message: str
    place: Place
    build: str  # the sanitized one

    @property
    def is_race(self) -> bool:
        """Whether threads reach the same memory without an order."""
        return self.message.startswith("data race")


def read_fault(
    text: str,
    program: str,
    line_at: Callable[[int], tuple[str, int]],
    relative: Callable[[str], str],
) -> tuple[str, Place] | None:
    """Return (message, place) of the first fault that a sanitizer reports; None for none.

    ``line_at`` gives the source line of an offset in ``program``; ``relative``
    writes a path as the bench does.
    """
    found = _AT_LINE.search(text)
    if found:
        place = Place(relative(found[1]), int(found[2]))
        if place.file.startswith("/"):  # in a header of the system: who called it?
            place = _first_frame(text, found.end(), program, line_at)
        return _ADDRESS.sub("", found[3]).strip(), place
    fault = _FAULT.search(text)
    if not fault:
        return None
    said = fault[1] or fault[2] or fault[3]
    if _OF_ITS_OWN.match(said):
        return None
    message = re.split(r" on (?:unknown )?address|:? \(pid| on 0x", said)[0]
    if message == _UNSET:
        return _unset(text, program, line_at), _first_frame(text, fault.end(), program, line_at)
    message = _ADDRESS.sub("", message)
    detail = _DETAIL.search(text)
    if detail:
        message += f" ({detail[1].lower()} of {detail[2]} bytes)"
    return message, _first_frame(text, fault.end(), program, line_at)


def _unset(text: str, program: str, line_at: Callable[[int], tuple[str, int]]) -> str:
    """Return that a value was never set, and which one it is."""
    made = _MADE.search(text)
    if not made:
        return "a value is used that was never set"
    place = _first_frame(text, made.end(), program, line_at).text
    return f"{made[1] or 'memory'}{f' of {place}' if place else ''} is used and was never set"


def _first_frame(
    text: str, start: int, program: str, line_at: Callable[[int], tuple[str, int]]
) -> Place:
    """Return the innermost source line of the calls listed from ``start`` on."""
    for frame in _FRAME.finditer(text, start):
        ours = frame[1] in (program, program.rpartition("/")[2])  # some leave out the folder
        file, line = line_at(int(frame[2], 16)) if ours else ("", 0)
        if line:
            return Place(file, line)
    return NOWHERE


def looks_undefined(text: str) -> bool:
    """Tell whether a source may hold what no sanitizer sees, so that compilers should be asked."""
    return bool(_UNSEEN.search(text))


def unseen(warnings: Iterable[Diagnostic], compiler: str) -> list[str]:
    """Return the warnings about behaviour that is not defined and that no sanitizer sees."""
    return [
        f"{compiler} warns at {w.file}:{w.line}: {w.message}"
        for w in warnings
        if w.severity == "warning" and _UNDEFINED_BY_TEXT.search(w.message)
    ]


def suspects(
    warnings: Iterable[Diagnostic],
    entry: Signature,
    others: Sequence[Signature],
    compiler: str,
    most: int = 3,
) -> tuple[str, ...]:
    """Return what a compiler warns of in an entry, where it may bear on what is computed.

    An entry's lines end where the next function begins that others can call.
    """
    later = [s.line for s in others if s.file == entry.file and s.line > entry.line]
    last = min(later, default=1 << 30)
    told: dict[str, None] = {}
    for warning in warnings:
        inside = warning.file.endswith(entry.file) and entry.line <= warning.line < last
        if inside and warning.severity == "warning" and not _HARMLESS.search(warning.message):
            told[f"{compiler} warns at {warning.file}:{warning.line}: {warning.message}"] = None
    return tuple(told)[:most]

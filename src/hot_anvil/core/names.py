"""Names people type: suggestions for misspelt ones, and globs."""

import re
from collections.abc import Iterable

_LONGEST = 300  # letters of a name that somebody can mean


def nearest(name: str, known: Iterable[str]) -> str | None:
    """Return the known name most like ``name``, or None when none is close."""
    from difflib import get_close_matches

    found = get_close_matches(name, list(known), n=1, cutoff=0.5)
    return found[0] if found else None


def did_you_mean(name: str, known: Iterable[str]) -> str:
    """Return " Did you mean 'x'?" for the nearest known name, or ""."""
    close = nearest(name, known)
    return f" Did you mean '{close}'?" if close else ""


def matches(name: str, pattern: str) -> bool:
    """Tell whether ``name`` fits the shell-style ``pattern``."""
    if not any(sign in pattern for sign in "*?["):
        return name == pattern
    from fnmatch import fnmatchcase

    return fnmatchcase(name, pattern)


def visible(text: str) -> str:
    """Return a text in which whatever a terminal may act upon is written as an escape.

    Control characters, overrides of the writing direction, bytes that are no UTF-8.
    """
    if text.isprintable():
        return text
    return "".join(c if c.isprintable() or c == "\t" else _escaped(c) for c in text)


def _escaped(character: str) -> str:
    number = ord(character)
    if 0xDC80 <= number <= 0xDCFF:  # a byte that was no UTF-8
        return f"\\x{number & 0xFF:02x}"
    return character.encode("unicode_escape", "backslashreplace").decode()


def listed(names: Iterable[str], most: int = 12) -> str:
    """Return names joined by commas, whole to be copied; after ``most`` the rest is counted."""
    items = [name if len(name) <= _LONGEST else f"{name[:_LONGEST]}.." for name in names]
    shown = ", ".join(items[:most])
    return f"{shown} and {len(items) - most} more" if len(items) > most else shown


def fortran_title(symbol: str) -> str:
    """Return the name that a Fortran symbol of gcc's stands for in the source."""
    found = re.fullmatch(r"__(\w+)_MOD_(\w+)", symbol)
    if found:
        return f"{found[1]}::{found[2]}"
    return symbol[:-1] if re.fullmatch(r"[a-z]\w*_", symbol) else symbol

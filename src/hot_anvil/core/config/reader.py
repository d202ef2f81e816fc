"""Checks tables of a bench file and gathers every mistake with its place."""

import math
import shlex
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from hot_anvil.core.config.keys import KEYS, Form
from hot_anvil.core.config.positions import Path, dotted, line_of
from hot_anvil.core.config.records import Values
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

Made = TypeVar("Made")
_TYPES: Mapping[Form, type] = {
    "text": str, "texts": list, "table": dict, "tables": list, "yes or no": bool,
}  # fmt: skip
_CALLED = {str: "a text", dict: "a table", list: "a list", bool: "true or false"}
_ITEMS = {str: "texts", dict: "tables ([[...]])", int: "whole numbers"}


class MistakeError(Exception):
    """A mistake that was noted: what it stands in cannot be read any further."""


class Reader:
    """Notes the mistakes of one file; ``finish`` tells all of them."""

    def __init__(self, file: str, text: str) -> None:
        self.file = file
        self.text = text
        self._noted: list[tuple[Path, str]] = []

    def note(self, path: Path, message: str) -> None:
        """Note a mistake at ``path`` and go on."""
        if (path, message) not in self._noted:
            self._noted.append((path, message))

    def fault(self, path: Path, message: str) -> MistakeError:
        """Note a mistake at ``path``; return what to raise where nothing can be made of it."""
        self.note(path, message)
        return MistakeError()

    def attempt(self, default: Made, read: Callable[..., Made], *arguments: Any) -> Made:
        """Return what ``read`` makes of its arguments, ``default`` after a mistake."""
        try:
            return read(*arguments)
        except MistakeError:
            return default

    def finish(self) -> None:
        """Raise RequestError when there were mistakes: all of them, in the order of the file."""
        told = sorted((line_of(self.text, path) or 0, path, text) for path, text in self._noted)
        lines = [self._told(*row) for row in told]
        if len(lines) == 1:
            raise RequestError(lines[0])
        if lines:
            raise RequestError("\n  ".join([f"{self.file}: {len(lines)} mistakes:", *lines]))

    def _told(self, line: int, path: Path, message: str) -> str:
        place = f"{self.file}:{line}" if line else self.file
        key = f" {dotted(path)}:" if path else ""
        message = message if len(message) <= _SHOWN else f"{message[:_SHOWN]} .."
        return f"{place}:{key} {message}{'' if message.endswith('?') else '.'}"

    def checked(self, table: Values, path: Path, kind: str) -> Values:
        """Return what a table says under known keys in their form; the rest is noted."""
        forms = {key.name: key.form for key in KEYS[kind]}
        good = {}
        for key, value in table.items():
            if key not in forms:
                hint = did_you_mean(key, forms) or f" Known: {listed(forms)}."
                self.note((*path, key), f"unknown key '{key}'.{hint.rstrip('.')}")
            elif self._fits(value, (*path, key), forms[key]):
                good[key] = value
        return good

    def _fits(self, value: object, path: Path, form: Form) -> bool:
        kind = _TYPES.get(form)
        if kind is not None and not isinstance(value, kind):
            self.note(path, f"must be {_CALLED[kind]}, not {value!r}")
            return False
        if form in ("texts", "tables"):
            return self.are(value, path, str if form == "texts" else dict)
        return True

    def are(self, values: Any, path: Path, kind: type) -> bool:
        """Tell whether all values of a list are of a type; the first that is not is noted."""
        for value in values:
            if not isinstance(value, kind) or isinstance(value, bool):
                self.note(path, f"must be a list of {_ITEMS[kind]}; {value!r} is not")
                return False
        return True

    def words(self, table: Values, path: Path, key: str) -> tuple[str, ...]:
        """Return the flags that a text holds, split as a shell does."""
        text = table.get(key, "")
        if not isinstance(text, str):
            self.note((*path, key), f"must be a text, not {text!r}")
            return ()
        try:
            return tuple(shlex.split(text))
        except ValueError as error:
            self.note((*path, key), f"cannot be split into words ({error})")
            return ()


_SHOWN = 400  # characters of a message
_NUMBERS = ("inputs", "expected")  # tables in which a float may be NaN or infinite
_DEEPEST = 12  # tables and lists within each other
_LARGEST = 1 << 127


def check_values(reader: Reader, value: object, path: Path = ()) -> None:
    """Note what no key of a bench may hold, whatever it is for."""
    if len(path) > _DEEPEST:
        reader.note(path[:_DEEPEST], "tables and lists lie too deep within each other")
    elif isinstance(value, Mapping):
        for key, inner in value.items():
            if "\0" in key:
                reader.note(path, "a key has a NUL character in it")
            check_values(reader, inner, (*path, key))
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            check_values(reader, inner, (*path, number) if isinstance(inner, Mapping) else path)
    elif isinstance(value, str) and "\0" in value:
        reader.note(path, "has a NUL character in it")
    elif isinstance(value, float) and not math.isfinite(value) and not {*path} & {*_NUMBERS}:
        reader.note(path, f"must be a finite number, not {value!r}")
    elif isinstance(value, int) and abs(value) >= _LARGEST:
        reader.note(path, "is a number of more than 127 bits")


def whole(value: object, least: int, most: int | None = None) -> bool:
    """Tell whether a value is a whole number of at least ``least`` and at most ``most``."""
    number = isinstance(value, int) and not isinstance(value, bool)
    return number and value >= least and (most is None or value <= most)  # type: ignore[operator]

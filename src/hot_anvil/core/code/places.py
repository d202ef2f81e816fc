"""Source lines as keys, and which lines of one source stand for which of another."""

from collections.abc import Iterable, Mapping
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.code.records import Function


class Place(NamedTuple):
    """A source line as rows are keyed by it: the right side's, or one only the left has."""

    file: str
    line: int  # the right side's line; for a line only on the left, the one it would follow
    old: int = 0  # the left side's line, for a line that the right side has not


class LineMap(NamedTuple):
    """Left source lines on the right side. Without an entry a file is the same on both."""

    files: Mapping[str, str] = MappingProxyType({})  # left file -> right file
    lines: Mapping[str, Mapping[int, Place]] = MappingProxyType({})  # left file -> line -> place

    def place(self, file: str, line: int) -> Place:
        """Return the place of a left line."""
        known = self.lines.get(file)
        if known is None or line <= 0:
            return Place(self.files.get(file, file), line)
        return known.get(line) or Place(self.files.get(file, file), line)

    def back(self) -> Mapping[tuple[str, int], tuple[str, int]]:
        """Return right file and line -> left file and line, where they are not the same."""
        return {
            (place.file, place.line): (file, line)
            for file, places in self.lines.items()
            for line, place in places.items()
            if not place.old
        }


def spanned_lines(functions: Iterable[Function]) -> set[tuple[str, int]]:
    """Return (file, line) of all lines from the first to the last of each function's code.

    Of functions inlined into these too: what was inlined goes by its own name.
    """
    ends: dict[tuple[str, str], tuple[int, int]] = {}
    for function in functions:
        for i in function.instructions:
            if i.line:
                key = i.file, i.function or function.owner
                first, last = ends.get(key, (i.line, i.line))
                ends[key] = min(first, i.line), max(last, i.line)
    return {
        (file, line) for (file, _), (first, last) in ends.items() for line in range(first, last + 1)
    }

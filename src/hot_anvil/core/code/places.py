"""Source lines as keys, and which lines of one source stand for which of another."""

from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple


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

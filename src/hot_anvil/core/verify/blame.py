"""Where a wrong result comes from, as far as experiments narrow it."""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from hot_anvil.core.code.records import Function
from hot_anvil.core.verify.crash_report import NOWHERE, Place

_FEW_LINES = 3  # more that only failing calls reach say little


class Extent(NamedTuple):
    """Lines of a source, both ends among them."""

    file: str
    first: int
    last: int

    @property
    def text(self) -> str:
        """In words."""
        if self.first == self.last:
            return f"{self.file}:{self.first}"
        return f"lines {self.first} to {self.last} of {self.file}"


class Blame(NamedTuple):
    """What is known of where a result goes wrong."""

    told: tuple[str, ...] = ()
    place: Place = NOWHERE  # the one line that is suspect
    between: Extent | None = None  # where no line is


def extent(function: Function) -> Extent | None:
    """Return the lines of a function's code in the file that it begins in; None if not known."""
    own = [i for i in function.instructions if i.line and not i.function]
    if not own:
        return None
    file = function.begins[0] or own[0].file
    lines = [i.line for i in own if i.file == file]
    lines += [function.begins[1]] if function.begins[1] else []
    return Extent(file, min(lines), max(lines)) if lines else None


def only_failing(
    failing: Iterable[tuple[str, int]], agreeing: Iterable[tuple[str, int]]
) -> list[Place]:
    """Return the lines that calls which fail reach and no others, where they are few."""
    lines = sorted(set(failing) - set(agreeing))
    return [Place(*line) for line in lines] if len(lines) <= _FEW_LINES else []


def without_optimising(lines: Sequence[str], where: Extent, family: str) -> str:
    """Return a source in which one function is not optimised; its lines keep their numbers.

    Raises ValueError for a family that has no way to say so.
    """
    pragmas = {
        "gcc": ('#pragma GCC push_options\n#pragma GCC optimize("O0")', "#pragma GCC pop_options"),
        "clang": ("#pragma clang optimize off", "#pragma clang optimize on"),
    }
    if family not in pragmas:
        raise ValueError(family)
    before, after = pragmas[family]
    start = where.first - 1
    while start and _goes_on(lines[start - 1]):  # the result's type may stand on a line above
        start -= 1
    head, own, tail = lines[:start], lines[start : where.last], lines[where.last :]
    name = where.file.rpartition("/")[2]
    return "\n".join(
        [*head, before, f'#line {start + 1} "{name}"', *own, after,
         f'#line {where.last + 1} "{name}"', *tail]
    )  # fmt: skip


def _goes_on(line: str) -> bool:
    """Tell whether a line may belong to the declaration on the next."""
    text = line.strip()
    return bool(text) and not text.startswith("#") and not text.endswith((";", "}", "*/", "\\"))

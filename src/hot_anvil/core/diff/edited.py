"""Which lines of one source stand for which lines of another: before and after an edit."""

from collections.abc import Mapping, Sequence
from difflib import SequenceMatcher
from types import MappingProxyType

from hot_anvil.core.code.places import LineMap, Place

_ALIKE = 0.6  # share of characters two lines must have in common to be one line, edited


def map_lines(
    left: Mapping[str, Sequence[str]],
    right: Mapping[str, Sequence[str]],
    files: Mapping[str, str] = MappingProxyType({}),
) -> LineMap:
    """Match the lines of sources that were edited; ``files`` says which go by another name."""
    lines = {}
    for file, old in left.items():
        new = right.get(files.get(file, file))
        if new is not None and (list(old) != list(new) or file in files):
            lines[file] = _places(match_lines(old, new), len(old), files.get(file, file))
    return LineMap(files, lines)


def edited_places(
    lines: LineMap, right: Mapping[str, Sequence[str]], left: Mapping[str, Sequence[str]]
) -> frozenset[Place]:
    """Return the lines that do not stand on both sides with the same text."""
    out = set()
    for file, places in lines.lines.items():
        old, new = left.get(file, ()), right.get(lines.files.get(file, file), ())
        seen = set()
        for line, place in places.items():
            seen.add(place.line)
            if place.old or _text(old, line) != _text(new, place.line):
                out.add(place)
        name = lines.files.get(file, file)
        out |= {Place(name, n) for n in range(1, len(new) + 1) if n not in seen}
    return frozenset(out)


def _text(source: Sequence[str], line: int) -> str:
    return source[line - 1].strip() if 0 < line <= len(source) else ""


def _places(matched: Mapping[int, int], count: int, file: str) -> dict[int, Place]:
    out = {}
    last = 0
    for line in range(1, count + 1):
        if line in matched:
            last = matched[line]
            out[line] = Place(file, last)
        else:
            out[line] = Place(file, last, line)
    return out


def match_lines(old: Sequence[str], new: Sequence[str]) -> dict[int, int]:
    """Return old line -> new line, from 1: equal ones first, then edited, then moved ones.

    White space at both ends of a line does not count.
    """
    a, b = [line.strip() for line in old], [line.strip() for line in new]
    matched: dict[int, int] = {}
    for kind, i, i_end, j, j_end in SequenceMatcher(None, a, b, False).get_opcodes():
        if kind == "equal":
            matched.update((i + k, j + k) for k in range(i_end - i))
        elif kind == "replace":
            matched.update(_edited(a, b, range(i, i_end), range(j, j_end)))
    taken = set(matched.values())
    where: dict[str, list[int]] = {}
    for j, text in enumerate(b):
        if j not in taken and len(text) > 3:
            where.setdefault(text, []).append(j)
    for i, text in enumerate(a):
        if i not in matched and len(where.get(text, ())) == 1:
            matched[i] = where.pop(text)[0]
    return {i + 1: j + 1 for i, j in matched.items()}


def _edited(a: Sequence[str], b: Sequence[str], old: range, new: range) -> list[tuple[int, int]]:
    """Pair edited lines in order, each with the one that it shares most with."""
    out = []
    start = new.start
    if len(old) == len(new) and all(_alike(a[i], b[j]) for i, j in zip(old, new, strict=True)):
        return list(zip(old, new, strict=True))  # each was edited where it stands
    for i in old:
        best, score = -1, _ALIKE
        for j in range(start, new.stop):
            if not a[i] or not b[j]:
                continue
            alike = SequenceMatcher(None, a[i], b[j], False).ratio()
            if alike > score:
                best, score = j, alike
        if best >= 0:
            out.append((i, best))
            start = best + 1
    if not out and len(old) == len(new) == 1 and a[old.start] and b[new.start]:
        out = [(old.start, new.start)]
    return out


def _alike(old: str, new: str) -> bool:
    return SequenceMatcher(None, old, new, False).ratio() > _ALIKE

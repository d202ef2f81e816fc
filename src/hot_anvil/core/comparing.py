"""Compare two pieces of code whatever they come from: builds, entries, edits, two files."""

from collections.abc import Collection, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.built import Built
from hot_anvil.core.code import Code, only_functions
from hot_anvil.core.diff import diff_codes
from hot_anvil.core.linemap import LineMap, map_lines
from hot_anvil.core.listing import Sources
from hot_anvil.core.reasons.explain import explain
from hot_anvil.core.reasons.remarks import Remark
from hot_anvil.core.shown import SnippetDiff


class Subject(NamedTuple):
    """One side of a comparison."""

    name: str  # as the person calls it: "gcc:fast", "clamp_branch@gcc:fast", "before the edit"
    built: Built
    code: Code
    sources: Sources
    remarks: tuple[Remark, ...] = ()


def compare(
    left: Subject,
    right: Subject,
    entries: Collection[str] = (),
    same_function: Mapping[str, str] | None = None,
    edited: bool = False,
    files: Mapping[str, str] | None = None,
) -> SnippetDiff:
    """Return the comparison with its reasons.

    ``entries`` (symbols) limits it to these functions. ``same_function`` pairs
    functions of different names, whose lines are matched through their
    instructions. ``edited`` says that the sources are not the same; ``files``
    which of the left side's go by another name on the right.
    """
    lines = LineMap()
    if edited:
        lines = map_lines(left.sources, right.sources, files or {})
    codes = left.code, right.code
    if same_function:
        codes = (
            only_functions(codes[0], set(same_function)),
            only_functions(codes[1], set(same_function.values())),
        )
        entries = ()
    diff = diff_codes(*codes, right.sources, entries, lines, left.sources, same_function or {})
    explained = explain(
        diff,
        left.built.build.flags,
        right.built.build.flags,
        {**left.code.titles, **right.code.titles},
        (left.remarks, right.remarks),
    )
    names = left.name, right.name
    return SnippetDiff(left.built, right.built, explained, codes[0].isa, codes[1].isa, names)


def lone_functions(left: Code, right: Code) -> dict[str, str]:
    """Return the one function of each side, if each has one and no name is on both."""
    names = [list(dict.fromkeys(f.owner for f in code.functions)) for code in (left, right)]
    if len(names[0]) == len(names[1]) == 1 and names[0] != names[1]:
        return {names[0][0]: names[1][0]}
    return {}


def only_file(sources: Sequence[str]) -> str:
    """Return the one source of a snippet, "" where it has several."""
    return sources[0] if len(sources) == 1 else ""

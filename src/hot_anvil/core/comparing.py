"""Compare two pieces of code whatever they come from: builds, entries, edits, two files."""

from collections.abc import Collection, Mapping

from hot_anvil.core.code import only_functions
from hot_anvil.core.compared import Explained
from hot_anvil.core.diff import compare_codes
from hot_anvil.core.linemap import LineMap, map_lines
from hot_anvil.core.reasons.explain import explain
from hot_anvil.core.subject import Subject


def explain_difference(
    left: Subject,
    right: Subject,
    entries: Collection[str],
    same_function: Mapping[str, str],
    edited: bool,
    files: Mapping[str, str],
) -> Explained:
    """Return the comparison with its reasons.

    ``entries`` (symbols) limits it to these functions. ``same_function`` pairs
    functions of different names, whose lines are matched through their
    instructions. ``edited`` says that the sources are not the same; ``files``
    which of the left side's go by another name on the right.
    """
    lines = map_lines(left.sources, right.sources, files) if edited else LineMap()
    codes = left.code, right.code
    if same_function:
        codes = (
            only_functions(codes[0], set(same_function)),
            only_functions(codes[1], set(same_function.values())),
        )
        entries = ()
    compared = compare_codes(*codes, right.sources, entries, lines, left.sources, same_function)
    return explain(
        compared,
        left.built.build.flags,
        right.built.build.flags,
        {**left.code.titles, **right.code.titles},
        (left.remarks, right.remarks),
    )

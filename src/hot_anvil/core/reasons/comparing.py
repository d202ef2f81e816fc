"""Compare two pieces of code whatever they come from: builds, entries, edits, two files."""

from collections.abc import Collection, Mapping, Sequence
from typing import Any

from hot_anvil.core.asm.listing import Sources
from hot_anvil.core.code.places import LineMap, Place
from hot_anvil.core.code.records import Code, only_functions
from hot_anvil.core.diff.by_line import by_source_line, chosen, pair_functions
from hot_anvil.core.diff.edited import edited_places, map_lines
from hot_anvil.core.diff.function_pair import FunctionPair
from hot_anvil.core.diff.pairing import Paired, pair_bodies
from hot_anvil.core.diff.records import STATES, Explained, Pair, Reason
from hot_anvil.core.diff.side import Side
from hot_anvil.core.parallel import Spread, in_order
from hot_anvil.core.reasons.explain import attach, explain_function, make_context
from hot_anvil.core.reasons.remarks import borne_out
from hot_anvil.core.toolchain.remarks import DoneRemark


def explain_difference(
    left: Side,
    right: Side,
    entries: Collection[str],
    same_function: Mapping[str, str],
    edited: bool,
    files: Mapping[str, str],
    spread: Spread = in_order,
) -> Explained:
    """Return the comparison with its reasons.

    ``entries`` (symbols) limits it to these functions. ``same_function`` pairs
    functions of different names, whose lines are matched through their
    instructions. ``edited`` says that the sources are not the same; ``files``
    which of the left side's go by another name on the right. ``spread`` does
    the work of the functions, on several cores if it likes.
    """
    lines = map_lines(left.sources, right.sources, files) if edited else LineMap()
    codes = left.code, right.code
    if same_function:
        codes = (
            only_functions(codes[0], set(same_function)),
            only_functions(codes[1], set(same_function.values())),
        )
        entries = ()
    return compare_codes(
        *codes,
        right.sources,
        entries,
        lines,
        left.sources,
        same_function,
        (left.built.build.flags, right.built.build.flags),
        (left.remarks, right.remarks),
        spread,
    )


def compare_codes(
    left: Code,
    right: Code,
    sources: Sources,
    entries: Collection[str] = (),
    lines: LineMap | None = None,
    left_sources: Sources | None = None,
    same_function: Mapping[str, str] | None = None,
    flags: tuple[Sequence[str], Sequence[str]] = ((), ()),
    remarks: tuple[Sequence[DoneRemark], Sequence[DoneRemark]] = ((), ()),
    spread: Spread = in_order,
) -> Explained:
    """Compare two codes line by line, with reasons.

    ``sources`` are the right side's, ``left_sources`` the left side's if they
    are others; ``lines`` then says which lines correspond.
    """
    every, lines = pair_functions(left, right, lines or LineMap(), same_function or {})
    # What is said of a function does not depend on which of them are shown.
    texts = sources, sources if left_sources is None else left_sources
    titles = {**left.titles, **right.titles}
    context = make_context(every, lines, flags, titles, edited_places(lines, *texts))
    function_pairs = chosen(every, entries)

    def work(k: int) -> tuple[list[Any], list[Reason]]:
        paired = list(pair_bodies(function_pairs[k].left, function_pairs[k].right, lines))
        return list(map(_to_plain, paired)), explain_function(function_pairs[k], paired, context)

    sides = [(both.left, both.right) for both in function_pairs]
    done = spread(work, [sum(len(s.items) for s in two if s) for two in sides])
    paired = [
        [_paired(row, both) for row in rows]
        for both, (rows, _) in zip(function_pairs, done, strict=True)
    ]
    diff = by_source_line(function_pairs, paired, lines, *texts)
    reasons = [reason for _, found in done for reason in found]
    if any(remarks):
        changed = {r.place: r.parts[0].function for r in diff.rows if r.wants_reason and r.parts}
        reasons = list(borne_out(reasons, remarks, lines, changed))
    return attach(diff, reasons)


def _to_plain(line: Paired) -> Any:
    """Return a paired line without its instructions, cheap to hand to another process."""
    pairs = [(*pair.place, STATES.index(pair.state), *pair.other) for pair in line.pairs]
    return tuple(line.place), pairs, line.counts, line.state


def _paired(row: Any, both: FunctionPair) -> Paired:
    place, pairs, counts, state = row
    left = both.left.items if both.left else ()
    right = both.right.items if both.right else ()
    made = tuple(
        Pair(
            left[i] if i >= 0 else None,
            right[j] if j >= 0 else None,
            STATES[n],
            (i, j),
            (file, line),
        )
        for i, j, n, file, line in pairs
    )
    return Paired(Place(*place), made, counts, state)

"""Pragmas on innermost loops: no dependence between passes, unrolling, width."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import innermost

LANGUAGES = ("c", "c++")
_APART = "no pass of the loop depends on another through memory"
# Family -> (name, pragma, promise)
_PRAGMAS = {
    "gcc": (
        ("independent passes", "GCC ivdep", _APART),
        ("unroll by 4", "GCC unroll 4", ""),
        ("unroll by 8", "GCC unroll 8", ""),
    ),
    "clang": (
        ("independent passes", "clang loop vectorize(assume_safety)", _APART),
        ("unroll by 4", "clang loop unroll_count(4)", ""),
        ("unroll by 8", "clang loop unroll_count(8)", ""),
        ("two vectors at once", "clang loop interleave_count(2)", ""),
        ("four vectors at once", "clang loop interleave_count(4)", ""),
    ),
}  # fmt: skip


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give each pragma for all innermost loops together, where they count."""
    loops = [loop for loop in innermost(subject.loops) if loop.type == "for_statement"]
    if not loops:
        return
    apart = tuple(pointer.name for pointer in subject.pointers)
    for name, pragma, promise in _PRAGMAS.get(subject.family, ()):
        yield Experiment(
            name,
            "whether passes of a loop are independent is not known" if promise else
            "the loop handles few elements in a pass",
            promise,
            edits=tuple(subject.source.before(loop, f'_Pragma("{pragma}") ') for loop in loops),
            apart=apart if promise else (),
        )  # fmt: skip

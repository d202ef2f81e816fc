"""The flag sets that a whole bench is explored with: wide first."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.flags.words import is_level, parted
from hot_anvil.core.toolchain.records import Family

LEVELS = {
    "cc": ("-O1", "-O2", "-O3", "-Os"),
    "rustc": ("-Copt-level=1", "-Copt-level=2", "-Copt-level=3", "-Copt-level=s"),
}


def flag_sets(
    family: Family, isa: str, own: Sequence[tuple[str, ...]], processors: Sequence[str]
) -> Iterator[tuple[str, ...]]:
    """Give sets of flags: a level, a flag for processors or none, and one flag more or none.

    Only flags that ask their author for no promise. ``own`` are the bench's flag sets: what stands
    in all of them (macros, folders) goes with every set. ``processors`` are flags for standard
    levels that this machine is of.
    """
    kept = _in_all(own, family.style)
    more = [
        one.flags
        for one in family.experiments
        if not one.promise and not one.several and (not one.isas or isa in one.isas)
    ]
    for level in LEVELS.get(family.style, ()):
        for processor in ("", *processors):
            for extra in ((), *more):
                yield (level, *((processor,) if processor else ()), *extra, *kept)


def _in_all(own: Sequence[tuple[str, ...]], style: str) -> tuple[str, ...]:
    """Return the flags that stand in every one of the bench's flag sets, levels left out."""
    sets = [parted(flags, style) for flags in own]
    return tuple(
        word
        for flag in (sets[0] if sets else ())
        if not is_level(flag) and all(flag in other for other in sets)
        for word in flag
    )

"""Flags that are tried: those of the family's data file, levels, standard levels of processors."""

from collections.abc import Iterator, Sequence

from hot_anvil.core.experiments.exploring import LEVELS
from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.flags.case import levels_of
from hot_anvil.core.flags.words import level_of, parted
from hot_anvil.core.toolchain.records import Family


def flags_to_try(subject: Subject, family: Family, flags: Sequence[str]) -> Iterator[Experiment]:
    """Give what the family's data file lists and the entry has a use for."""
    for one in family.experiments:
        if one.isas and subject.isa not in one.isas:
            continue
        if one.several and len(subject.sources) < 2:
            continue
        if one.when and not subject.traits & set(one.when):
            continue
        if all(flag in flags for flag in one.flags):
            continue
        yield Experiment(
            " ".join(one.flags), one.why, one.promise, one.flags,
            breaks=one.breaks, loosens=one.loosens,
        )  # fmt: skip


def levels_to_try(family: Family, flags: Sequence[str]) -> Iterator[Experiment]:
    """Give every other level of optimising, in place of the build's."""
    here = level_of(parted(flags, family.style))
    for level in LEVELS.get(family.style, ()):
        if (level,) != here:
            yield Experiment(level, "how much is optimised", flags=(level,))


def profile_to_try(family: Family, has_branches: bool) -> Iterator[Experiment]:
    """Give compiling with what a run of the bench's inputs showed."""
    if family.profiling and has_branches:
        yield Experiment(
            "profile",
            "how often each path is taken is not known when it is compiled",
            "what it meets is like the bench's inputs: it is trained, and here also measured, on "
            "those",
            profile=True,
        )


def processors_to_try(
    subject: Subject, family: Family, flags: Sequence[str]
) -> Iterator[Experiment]:
    """Give every standard level of processors, where the build names no processor."""
    if any(f.startswith(("-march=", "-mcpu=")) or "target-cpu=" in f for f in flags):
        return
    for level in levels_of(family, subject.isa)[1:]:
        yield Experiment(
            level.flag,
            "instructions of newer processors are not used",
            f"every processor that it runs on is of {level.name} or newer",
            (level.flag,),
        )


def compilers_to_try(names: Sequence[str]) -> Iterator[Experiment]:
    """Give other compilers under the same flags, where they take them."""
    for name in names:
        yield Experiment(name, "another compiler does it otherwise", toolchain=name)

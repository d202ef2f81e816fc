"""Inlining forced or forbidden for what the entry calls in its own file."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject

LANGUAGES = ("c", "c++")


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give both for each helper of the same file; what the build did of itself drops out."""
    for name, (source, node) in subject.helpers.items():
        if source is not subject.source:
            continue
        yield Experiment(
            f"inline {name}",
            f"{name} is called",
            edits=(source.before(node, "__attribute__((always_inline)) "),),
        )
        yield Experiment(
            f"no inline {name}",
            f"the code of {name} takes room and registers here",
            edits=(source.before(node, "__attribute__((noinline)) "),),
        )

"""Branches of which one side is rare."""

from collections.abc import Iterator

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import descend

LANGUAGES = ("c", "c++")
_MOST = 4  # branches that are tried


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give both hints for each branch of a loop."""
    source = subject.source
    tests = [
        node
        for loop in subject.loops
        for node in descend(loop)
        if node.type == "if_statement" and node.child_by_field_name("condition") is not None
    ]
    for node in list(dict.fromkeys(tests))[:_MOST]:
        condition = node.child_by_field_name("condition")
        assert condition is not None
        if not condition.named_children or "constexpr" in source.words(node)[:14]:
            continue
        line = node.start_point.row + 1
        inner = condition.named_children[-1]
        for word, value in (("unlikely", 0), ("likely", 1)):
            yield Experiment(
                f"{word} branch of line {line}",
                "which way a branch goes most often is not known",
                edits=(
                    source.before(inner, "__builtin_expect(!!("),
                    source.after(inner, f"), {value})"),
                ),
            )

"""What is said of helpers: that they change nothing, that no other file calls them."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hot_anvil.core.experiments.records import Edit, Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import Source, descend

if TYPE_CHECKING:
    from tree_sitter import Node

LANGUAGES = ("c", "c++")


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give ``static`` for helpers of the same file, ``pure`` and ``const`` for those of others."""
    for name, (source, node) in subject.helpers.items():
        static = source.words(node).startswith("static") or "inline" in source.words(node)[:40]
        if source is subject.source and not static and len(subject.sources) >= 1:
            prototypes = _prototypes(subject.source, name)
            yield Experiment(
                f"static {name}",
                f"{name} can be called from elsewhere, so it is kept as it is",
                f"no other file calls {name}",
                edits=tuple(source.before(one, "static ") for one in (node, *prototypes)),
            )
    for name in subject.called:
        own = subject.helpers.get(name)
        if own is not None and own[0] is subject.source:
            continue
        edits = _said(subject, name, "__attribute__((pure)) ")
        if edits:
            yield Experiment(
                f"pure {name}",
                f"what {name} changes is not known here",
                f"{name} changes nothing, and returns the same for equal arguments and memory",
                edits=edits,
            )
            yield Experiment(
                f"const {name}",
                f"what {name} reads and changes is not known here",
                f"{name} changes nothing and reads no memory: it returns the same for equal "
                "arguments",
                edits=_said(subject, name, "__attribute__((const)) "),
            )


def _said(subject: Subject, name: str, words: str) -> tuple[Edit, ...]:
    found = _prototypes(subject.source, name)
    return tuple(subject.source.before(node, words) for node in found)


def _prototypes(source: Source, name: str) -> "list[Node]":
    """Return the declarations of a function in a file."""
    out = []
    for node in descend(source.root):
        if node.type != "declaration":
            continue
        for inner in descend(node):
            if inner.type == "function_declarator":
                own = inner.child_by_field_name("declarator")
                if own is not None and source.words(own) == name:
                    out.append(node)
                break
    return out

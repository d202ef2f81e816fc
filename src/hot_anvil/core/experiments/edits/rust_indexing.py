"""Rust: indexing without checks, and slices cut to one length first."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hot_anvil.core.experiments.records import Edit, Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import descend, identifier_in, parameters_of

if TYPE_CHECKING:
    from tree_sitter import Node

LANGUAGES = ("rust",)


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give both, where slices are indexed."""
    source = subject.source
    slices = _slices(subject)
    indexed = [
        node
        for node in descend(subject.body)
        if node.type == "index_expression"
        and len(node.named_children) == 2
        and source.words(node.named_children[0]) in slices
        and "range" not in node.named_children[1].type
    ]
    if not indexed:
        return
    edits: list[Edit] = []
    for node in indexed:
        name, index = node.named_children
        call = "get_unchecked_mut" if _is_written(node) else "get_unchecked"
        if any(inner in indexed for inner in descend(index)):
            continue  # an index inside an index: one at a time would nest
        edits += [
            source.before(node, "(*unsafe { "),
            Edit(source.file, name.end_byte, index.start_byte, f".{call}("),
            Edit(source.file, index.end_byte, node.end_byte, ") })"),
        ]
    if edits:
        yield Experiment(
            "unchecked indexes",
            "every index is checked against the length",
            "no index reaches beyond the end of its slice",
            edits=tuple(edits),
        )
    used = [name for name in slices if any(
        source.words(node.named_children[0]) == name for node in indexed)]  # fmt: skip
    brace = subject.body.children[0]
    first, *others = sorted(used, key=list(slices).index)
    if others:
        cuts = "".join(
            f" let {name} = &{'mut ' if slices[name] else ''}{name}[..{first}.len()];"
            for name in others
        )
        yield Experiment(
            "slices of one length",
            "the lengths of several slices are checked apart",
            f"{' and '.join(others)} {'is' if len(others) == 1 else 'are'} as long as {first}",
            edits=(Edit(source.file, brace.end_byte, brace.end_byte, cuts),),
        )


def _slices(subject: Subject) -> dict[str, bool]:
    """Return the parameters that are slices: name -> whether they may be written to."""
    out = {}
    for parameter in parameters_of(subject.function):
        kind, pattern = (parameter.child_by_field_name(n) for n in ("type", "pattern"))
        words = subject.source.words(kind) if kind is not None else ""
        name = identifier_in(pattern) if pattern is not None else None
        if name is not None and words.startswith("&") and "[" in words:
            out[subject.source.words(name)] = "mut" in words.split("[")[0]
    return out


def _is_written(node: "Node") -> bool:
    parent = node.parent
    if parent is None or parent.type not in ("assignment_expression", "compound_assignment_expr"):
        return False
    return parent.child_by_field_name("left") == node

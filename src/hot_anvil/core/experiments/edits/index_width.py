"""Loop counters of another width or sign."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hot_anvil.core.experiments.records import Edit, Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import descend

if TYPE_CHECKING:
    from tree_sitter import Node

LANGUAGES = ("c", "c++")
_SIGNED = ("int", "short", "int8_t", "int16_t", "int32_t", "signed", "signed int")
_UNSIGNED = ("unsigned", "unsigned int", "unsigned short", "unsigned char", "uint8_t", "uint16_t",
             "uint32_t")  # fmt: skip


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give one that makes every counter as wide as an address, and one that makes it signed."""
    wide: list[Edit] = []
    signed: list[Edit] = []
    for declaration in _counters(subject):
        kind = declaration.child_by_field_name("type")
        if kind is None:
            continue
        words = " ".join(subject.source.words(kind).split())
        if words in _SIGNED:
            wide.append(subject.source.instead(kind, "__PTRDIFF_TYPE__"))
        elif words in _UNSIGNED:
            wide.append(subject.source.instead(kind, "__SIZE_TYPE__"))
            signed.append(subject.source.instead(kind, "__PTRDIFF_TYPE__"))
    if wide:
        yield Experiment(
            "wide counters",
            "a counter narrower than an address is widened, or has to wrap around, in every pass",
            "no counter wraps around at the width that it has now",
            edits=tuple(wide),
        )
    if signed:
        yield Experiment(
            "signed counters",
            "an unsigned counter may wrap around, a signed one may not",
            "no counter goes beyond what a signed one of an address's width holds",
            edits=tuple(signed),
        )


def _counters(subject: Subject) -> "Iterator[Node]":
    """Give the declarations of what the loops count with."""
    source = subject.source
    counted = set()
    for loop in subject.loops:
        for name in ("update", "condition"):
            part = loop.child_by_field_name(name)
            steps = [n for n in descend(part) if n.type == "update_expression"] if part else []
            counted |= {
                source.words(i) for s in steps for i in descend(s) if i.type == "identifier"
            }
        update = loop.child_by_field_name("update")
        if update is not None and update.type == "assignment_expression":
            left = update.child_by_field_name("left")
            counted |= {source.words(left)} if left is not None else set()
    for node in descend(subject.body):
        if node.type != "declaration":
            continue
        declared = [d for d in node.named_children if d.type in ("init_declarator", "identifier")]
        names = [source.words(d.child_by_field_name("declarator") or d) for d in declared]
        if names and all(name in counted for name in names):
            yield node

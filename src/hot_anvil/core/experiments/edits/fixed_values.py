"""A copy of the entry for the value that a parameter most often has, behind a test."""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.experiments.subject import Subject
from hot_anvil.core.experiments.syntax import (
    declarator_of,
    field,
    identifier_in,
    name_of,
    parameters_of,
)

if TYPE_CHECKING:
    from tree_sitter import Node

LANGUAGES = ("c", "c++")


def experiments(subject: Subject) -> Iterator[Experiment]:
    """Give one for each value that the bench's inputs have, the least and the greatest of many."""
    function, source = subject.function, subject.source
    declarator = declarator_of(function)
    name = name_of(function)
    if name.type != "identifier" or field(function, "declarator") != declarator:
        return  # a member, or one that returns a pointer: its declaration is not put together here
    names = [_name(subject, parameter) for parameter in parameters_of(function)]
    if not all(names):
        return
    head = source.data[function.start_byte : name.start_byte].decode(errors="replace").strip()
    head = " ".join(head.split())
    parameters = " ".join(source.words(field(declarator, "parameters")).split())
    any_value = f"{subject.entry}_for_any"
    returns = "" if head.split()[-1:] == ["void"] else "return "
    for parameter in subject.numbers:
        values = sorted(set(subject.values.get(parameter, ())))
        for value in dict.fromkeys((values[0], values[-1])) if values else ():
            fixed = ", ".join(str(value) if n == parameter else n for n in names)
            call = f"{any_value}({', '.join(names)})"
            wrapper = (
                f"{head} {subject.entry}{parameters} {{ if ({parameter} == {value}) "
                f"{{ {returns}{any_value}({fixed}); {'' if returns else 'return; '}}} "
                f"{returns}{call}; }}"
            )
            inline = "" if "static" in head.split() else "static "
            yield Experiment(
                f"{parameter} = {value} apart",
                f"{parameter} is {value} in the bench's inputs, and not known when it is compiled",
                edits=(
                    source.before(function, f"{inline}__attribute__((always_inline)) inline "),
                    source.instead(name, any_value),
                    source.at_end(wrapper),
                ),
            )


def _name(subject: Subject, parameter: "Node") -> str:
    declarator = parameter.child_by_field_name("declarator")
    found = identifier_in(declarator) if declarator is not None else None
    return subject.source.words(found) if found is not None else ""

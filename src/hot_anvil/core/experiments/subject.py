"""What is known of an entry that experiments are made on."""

from collections.abc import Mapping
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

from hot_anvil.core.config.records import Snippet
from hot_anvil.core.experiments.syntax import (
    Source,
    descend,
    identifier_in,
    loops_in,
    parameters_of,
)

if TYPE_CHECKING:
    from tree_sitter import Node


def values_of(snippet: Snippet) -> dict[str, tuple[int, ...]]:
    """Return the whole numbers that parameters have in a bench's inputs."""
    out: dict[str, tuple[int, ...]] = {}
    for name, value in snippet.inputs.items():
        if isinstance(value, int) and not isinstance(value, bool):
            out[name] = (value,)
        elif isinstance(value, str) and value in snippet.sweep:
            out[name] = tuple(snippet.sweep[value])
    return out


class Pointer(NamedTuple):
    """A parameter that is a pointer, or an array that is passed as one."""

    name: str
    declarator: "Node"  # of the parameter: what stands from the first * on
    is_array: bool
    is_const: bool  # what it points to may not be written through it


class Subject:
    """An entry, its sources, and what the bench calls it with."""

    def __init__(
        self,
        entry: str,
        sources: Mapping[str, Source],
        family: str,
        isa: str,
        values: Mapping[str, tuple[int, ...]],
        line: int = 0,
    ) -> None:
        """``values``: whole numbers that parameters have in the bench's inputs.

        ``line``: one of the definition's, 0 where that is not known.
        """
        self.entry, self.sources, self.family, self.isa = entry, sources, family, isa
        self.values, self._line = values, line

    @cached_property
    def place(self) -> "tuple[Source, Node] | None":
        """The file and definition of the entry, None where no source holds it as written."""
        for source in self.sources.values():
            node = source.functions(self._line).get(self.entry)
            if node is not None:
                return source, node
        return None

    def of_helper(self, name: str) -> "Subject":
        """Return what is known of a function that the entry calls; of its values nothing is."""
        return Subject(name, self.sources, self.family, self.isa, {})

    @property
    def source(self) -> Source:
        """The file of the entry."""
        assert self.place
        return self.place[0]

    @property
    def function(self) -> "Node":
        """The definition of the entry."""
        assert self.place
        return self.place[1]

    @property
    def body(self) -> "Node":
        """What stands between its braces, with them."""
        found = self.function.child_by_field_name("body")
        assert found is not None
        return found

    @property
    def lines(self) -> tuple[int, int]:
        """The first and last line of its definition."""
        return self.function.start_point.row + 1, self.function.end_point.row + 1

    @cached_property
    def loops(self) -> "list[Node]":
        """Its loops, outer ones first."""
        return loops_in(self.body)

    @cached_property
    def pointers(self) -> tuple[Pointer, ...]:
        """Its parameters that are pointers."""
        out = []
        for parameter in parameters_of(self.function):
            declarator = parameter.child_by_field_name("declarator")
            if declarator is None or declarator.type not in (
                "pointer_declarator", "array_declarator",
            ):  # fmt: skip
                continue
            name = identifier_in(declarator)
            if name is not None:
                words = self.source.words(parameter).partition("*")[0]
                is_array = declarator.type == "array_declarator"
                out.append(
                    Pointer(self.source.words(name), declarator, is_array, "const" in words.split())
                )
        return tuple(out)

    @cached_property
    def numbers(self) -> "dict[str, Node]":
        """Its parameters that are plain values: name -> declaration."""
        out = {}
        for parameter in parameters_of(self.function):
            declarator = parameter.child_by_field_name("declarator")
            if declarator is not None and declarator.type == "identifier":
                out[self.source.words(declarator)] = parameter
        return out

    @cached_property
    def called(self) -> "dict[str, list[Node]]":
        """What it calls by name -> those calls."""
        out: dict[str, list[Node]] = {}
        for node in descend(self.body):
            function = node.child_by_field_name("function")
            if node.type == "call_expression" and function is not None:
                name = self.source.words(function).rpartition("::")[2]
                out.setdefault(name, []).append(node)
        return out

    @cached_property
    def helpers(self) -> "dict[str, tuple[Source, Node]]":
        """Functions of the sources that it calls: name -> where each is defined."""
        out: dict[str, tuple[Source, Node]] = {}
        for source in self.sources.values():
            for name, node in source.functions().items():
                if name in self.called and name != self.entry:
                    out.setdefault(name, (source, node))
        return out

    @cached_property
    def traits(self) -> frozenset[str]:
        """What of it decides which flags may help: "loop", "float", "call", "branch"."""
        if not self.place:
            return frozenset({"loop", "float", "call", "branch", "unread"})
        parts = [self.source.words(self.function)]
        parts += [source.words(node) for source, node in self.helpers.values()]
        text = " ".join(parts)
        kinds = {node.type for node in descend(self.body)}
        found = set()
        if self.loops:
            found.add("loop")
        if any(word in text for word in ("float", "double", "f32", "f64")):
            found.add("float")
        if "call_expression" in kinds:
            found.add("call")
        if kinds & {"if_statement", "conditional_expression", "if_expression", "switch_statement"}:
            found.add("branch")
        return frozenset(found)

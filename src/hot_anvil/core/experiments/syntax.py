"""Syntax trees of sources, as far as edits need them; parsed by tree-sitter."""

from collections.abc import Iterator
from functools import cache
from importlib import import_module
from typing import TYPE_CHECKING, Any

from hot_anvil.core.experiments.records import Edit

if TYPE_CHECKING:
    from tree_sitter import Node

_GRAMMARS = {"c": "tree_sitter_c", "c++": "tree_sitter_cpp", "rust": "tree_sitter_rust"}
_FUNCTIONS = ("function_definition", "function_item")
LOOPS = ("for_statement", "while_statement", "do_statement", "for_range_loop",
         "for_expression", "while_expression", "loop_expression")  # fmt: skip


class Source:
    """One file of a source language that is known."""

    def __init__(self, file: str, text: str, language: str) -> None:
        self.file, self.language, self.text = file, language, text
        self.data = text.encode(errors="surrogateescape")
        self.root = _parser(language).parse(self.data).root_node

    def words(self, node: "Node") -> str:
        """Return the text of a node."""
        return self.data[node.start_byte : node.end_byte].decode(errors="replace")

    def before(self, node: "Node", text: str) -> Edit:
        """Return the edit that puts text before a node."""
        return Edit(self.file, node.start_byte, node.start_byte, text)

    def after(self, node: "Node", text: str) -> Edit:
        """Return the edit that puts text behind a node."""
        return Edit(self.file, node.end_byte, node.end_byte, text)

    def instead(self, node: "Node", text: str) -> Edit:
        """Return the edit that puts text in the place of a node, on as many lines."""
        lines = self.words(node).count("\n") - text.count("\n")
        return Edit(self.file, node.start_byte, node.end_byte, text + "\n" * max(lines, 0))

    def at_end(self, text: str) -> Edit:
        """Return the edit that puts text behind the last line, where it moves none."""
        end = len(self.data.rstrip())
        return Edit(self.file, end, end, f"\n{text}")

    def functions(self, at: int = 0) -> dict[str, "Node"]:
        """Return the definitions of functions by their plain names.

        Of several with one name, as conditional compiling has them, that which holds line ``at``,
        else the first.
        """
        found: dict[str, Node] = {}
        for node in descend(self.root):
            if node.type in _FUNCTIONS:
                name = self.words(name_of(node)).rpartition("::")[2]
                holds = node.start_point.row < at <= node.end_point.row + 1
                if holds or name not in found:
                    found[name] = node
        return found


def able(language: str) -> bool:
    """Tell whether sources of a language can be parsed."""
    return language in _GRAMMARS


@cache
def _parser(language: str) -> Any:
    from tree_sitter import Language, Parser

    return Parser(Language(import_module(_GRAMMARS[language]).language()))


def descend(node: "Node") -> Iterator["Node"]:
    """Give a node and all below it, in the order of the source."""
    waiting = [node]
    while waiting:
        one = waiting.pop()
        yield one
        waiting += reversed(one.children)


def field(node: "Node", name: str) -> "Node":
    """Return a child that is always there."""
    found = node.child_by_field_name(name)
    assert found is not None
    return found


def declarator_of(function: "Node") -> "Node":
    """Return the part of a definition in C or C++ that holds name and parameters."""
    node = field(function, "declarator")
    while node.type != "function_declarator":
        inner = node.child_by_field_name("declarator") or next(
            (c for c in node.named_children if "declarator" in c.type), None
        )
        if inner is None:
            break
        node = inner
    return node


def name_of(function: "Node") -> "Node":
    """Return the name of a definition."""
    if function.type == "function_item":
        return field(function, "name")
    node = declarator_of(function)
    return node.child_by_field_name("declarator") or node


def parameters_of(function: "Node") -> list["Node"]:
    """Return the declarations of a function's parameters."""
    where = function if function.type == "function_item" else declarator_of(function)
    found = where.child_by_field_name("parameters")
    wanted = ("parameter_declaration", "parameter", "optional_parameter_declaration")
    return [node for node in (found.named_children if found else []) if node.type in wanted]


def identifier_in(node: "Node") -> "Node | None":
    """Return the name that a declarator or pattern declares."""
    wanted = ("identifier", "field_identifier")
    return next((one for one in descend(node) if one.type in wanted), None)


def loops_in(node: "Node") -> list["Node"]:
    """Return the loops below a node, outer ones first."""
    return [one for one in descend(node) if one.type in LOOPS]


def innermost(loops: list["Node"]) -> list["Node"]:
    """Return the loops that hold no other."""
    return [loop for loop in loops if not any(c.type in LOOPS for c in list(descend(loop))[1:])]

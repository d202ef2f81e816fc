"""Small sums over names, as a bench writes them: ``n + 16``."""

import operator
from collections.abc import Iterator, Mapping
from keyword import iskeyword
from typing import TYPE_CHECKING

from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    import ast

_OPERATORS = {
    "Add": operator.add,
    "Sub": operator.sub,
    "Mult": operator.mul,
    "FloorDiv": operator.floordiv,
}

_LONGEST = 200  # characters

Names = Mapping[str, int | float]


def evaluate(text: str, known: Names, where: str) -> int | float:
    """Return the value of an expression over known names, such as ``n + 16``."""
    import ast

    if len(text) > _LONGEST:
        raise RequestError(f"{where}: a sum of {len(text)} characters; {_LONGEST} may be used.")
    try:
        return _value(ast.parse(text, mode="eval").body, known)
    except KeyError as error:
        name = str(error.args[0])
        hint = did_you_mean(name, known) or f" Known: {listed(known) or 'no names'}."
        raise RequestError(
            f"{where}: '{name}' is neither in the sweep nor a number of the inputs.{hint}"
        ) from None
    except (SyntaxError, ValueError, ArithmeticError, RecursionError, MemoryError):
        raise RequestError(
            f"{where}: '{text}' is no value: give a number, a name from the sweep or the "
            "inputs, or an expression of them with + - * //."
        ) from None


def names_in(text: str) -> Iterator[str]:
    """Give the names that an expression uses; none for what is no expression."""
    if text.isidentifier() and not iskeyword(text):  # nearly all of them: no parser to load
        yield text
        return
    import ast

    if len(text) > _LONGEST:
        return
    try:
        tree = ast.parse(text, mode="eval")
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        return
    yield from (node.id for node in ast.walk(tree) if isinstance(node, ast.Name))


def _value(node: "ast.expr", known: Names) -> int | float:
    import ast

    if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        return node.value
    if isinstance(node, ast.Name):
        return known[node.id]
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        return -_value(node.operand, known)
    if isinstance(node, ast.BinOp) and type(node.op).__name__ in _OPERATORS:
        combine = _OPERATORS[type(node.op).__name__]
        result: int | float = combine(_value(node.left, known), _value(node.right, known))
        return result
    raise ValueError("not an expression of numbers and names")

"""Small sums over names, as a bench writes them: ``n + 16``."""

import ast
import operator
from collections.abc import Iterator, Mapping

from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

_OPERATORS = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.FloorDiv: operator.floordiv,
}

Names = Mapping[str, int | float]


def evaluate(text: str, known: Names, where: str) -> int | float:
    """Return the value of an expression over known names, such as ``n + 16``."""
    try:
        return _value(ast.parse(text, mode="eval").body, known)
    except KeyError as error:
        name = str(error.args[0])
        hint = did_you_mean(name, known) or f" Known: {listed(known) or 'no names'}."
        raise RequestError(
            f"{where}: '{name}' is neither in the sweep nor a number of the inputs.{hint}"
        ) from None
    except (SyntaxError, ValueError, ZeroDivisionError):
        raise RequestError(
            f"{where}: '{text}' is no value: give a number, a name from the sweep or the "
            "inputs, or an expression of them with + - * //."
        ) from None


def names_in(text: str) -> Iterator[str]:
    """Give the names that an expression uses; none for what is no expression."""
    try:
        tree = ast.parse(text, mode="eval")
    except SyntaxError:
        return
    yield from (node.id for node in ast.walk(tree) if isinstance(node, ast.Name))


def _value(node: ast.expr, known: Names) -> int | float:
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float):
        return node.value
    if isinstance(node, ast.Name):
        return known[node.id]
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub):
        return -_value(node.operand, known)
    if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
        combine = _OPERATORS[type(node.op)]
        result: int | float = combine(_value(node.left, known), _value(node.right, known))
        return result
    raise ValueError("not an expression of numbers and names")

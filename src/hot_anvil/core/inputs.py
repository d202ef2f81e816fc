"""Input sets: concrete values for an entry's parameters."""

import ast
import itertools
import operator
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.bench import Bench, Input, Snippet
from hot_anvil.core.benchfile import read_input
from hot_anvil.core.errors import RequestError
from hot_anvil.core.fills import fill_array, numpy_type, parse_fill
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.signature import Parameter, Signature

MOST_BYTES = 1 << 30  # of one buffer
_OPERATORS = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.FloorDiv: operator.floordiv,
}

Point = Mapping[str, int]
Names = Mapping[str, int | float]


class Argument(NamedTuple):
    """One concrete argument: a scalar's bytes, a buffer's, or another's buffer."""

    name: str  # of the parameter
    kind: str  # "scalar", "buffer" or "alias"
    data: bytes
    align: int  # bytes; natural alignment of the elements
    writable: bool
    target: int  # for an alias: index of the buffer's parameter


class InputSet(NamedTuple):
    """One assignment of values to the parameters of an entry."""

    point: Point
    seed: int
    arguments: tuple[Argument, ...]

    @property
    def label(self) -> str:
        """Where in the sweep it stands: ``n=64``, "" without a sweep."""
        return point_label(self.point)


def point_label(point: Point) -> str:
    """Return a sweep point in one word: ``n=64``; "" for no sweep."""
    return " ".join(f"{name}={value}" for name, value in point.items())


def sweep_points(snippet: Snippet) -> tuple[Point, ...]:
    """Return every combination of the sweep's values; one empty point without a sweep."""
    names = list(snippet.sweep)
    product = itertools.product(*(snippet.sweep[name] for name in names))
    return tuple(dict(zip(names, values, strict=True)) for values in product)


def make_input_set(
    bench: Bench, snippet: Snippet, signature: Signature, point: Point, seed: int
) -> InputSet:
    """Return the values for one call of an entry at one point of the sweep.

    Raises RequestError for a parameter without a value (with the parameters
    found and a stanza to paste), for a name that is no parameter, and for a
    value that does not fit its type.
    """
    check_inputs(bench, snippet, signature)
    where = f"{bench.file}: snippet {snippet.name}: inputs"
    arguments = []
    names = [parameter.name for parameter in signature.parameters]
    plain = {k: v for k, v in snippet.inputs.items() if isinstance(v, int | float)}
    known = {**plain, **point}
    for parameter in signature.parameters:
        given = read_input(snippet.inputs[parameter.name], parameter.name, bench.file)
        place = f"{where}.{parameter.name}"
        if parameter.type.kind == "pointer":
            arguments.append(_buffer(parameter, given, names, known, seed, place))
        else:
            arguments.append(_scalar(parameter, given, known, place))
    for argument in arguments:
        if argument.kind == "alias" and argument.writable:
            shared = arguments[argument.target]
            arguments[argument.target] = shared._replace(writable=True)
    return InputSet(point, seed, tuple(arguments))


def check_inputs(bench: Bench, snippet: Snippet, signature: Signature) -> None:
    """Raise RequestError unless every parameter has a value and can be passed."""
    where = f"{bench.file}: snippet {snippet.name}"
    for parameter in signature.parameters:
        if not parameter.type.callable_with:
            raise RequestError(
                f"{where}: the parameter '{parameter.name}' of {signature.name} is of type "
                f"{_type_text(parameter)}, which this version cannot make values for "
                "(it can: whole numbers, floats, and pointers to them)."
            )
    if signature.returns.kind != "void" and not signature.returns.callable_with:
        raise RequestError(
            f"{where}: {signature.name} returns {signature.returns.name}, which this version "
            "cannot compare (it can: whole numbers, floats, pointers and nothing)."
        )
    missing = [p.name for p in signature.parameters if p.name not in snippet.inputs]
    if missing:
        raise RequestError(
            f"{where}: no values for {listed(missing)} of\n    {signature.text}\n"
            f"{_how_to_give(bench, snippet, signature)}"
        )


def check_unused(bench: Bench, snippet: Snippet, signatures: Sequence[Signature]) -> None:
    """Raise RequestError for an input that is no entry's parameter."""
    known = {p.name for signature in signatures for p in signature.parameters}
    for name in snippet.inputs:
        if name not in known:
            raise RequestError(
                f"{bench.file}: snippet {snippet.name}: inputs.{name} is no parameter of "
                f"{listed(s.name for s in signatures)}.{did_you_mean(name, known)} "
                f"Their parameters: {listed(sorted(known)) or 'none'}."
            )


def _how_to_give(bench: Bench, snippet: Snippet, signature: Signature) -> str:
    """Return what to paste for missing values: a stanza, or options for a bare source."""
    text = stanza(snippet, [signature])
    if bench.file.endswith(".toml"):
        return f"Put this into the bench and mend the values:\n\n{text}"
    options = []
    option = "--inputs"
    for line in text.split("\n"):
        if line.startswith("["):
            option = "--sweep" if "sweep" in line else "--inputs"
        elif line:
            options.append(f"    {option} '{line}'")
    return "Give them as options and mend the values:\n\n" + " \\\n".join(options)


def stanza(snippet: Snippet, signatures: Sequence[Signature]) -> str:
    """Return TOML to paste: a first guess of values for every parameter without one."""
    parameters = {p.name: p for s in signatures for p in s.parameters}
    counts = [p.name for p in parameters.values() if _looks_like_count(p)]
    count = counts[0] if counts else ""
    lines = []
    if count and not snippet.sweep and count not in snippet.inputs:
        lines += ["[snippet.sweep]", f"{count} = [64, 4096]", ""]
    lines.append("[snippet.inputs]")
    for name, parameter in parameters.items():
        if name in snippet.inputs:
            continue
        if parameter.type.kind == "pointer":
            size = f'"{count}"' if count else "64"
            fill = "zeros" if parameter.writable else _first_fill(parameter)
            value = f'{{ fill = "{fill}", count = {size} }}'
        elif name in counts:
            value = f'"{count}"'
        else:
            value = "1.0" if parameter.type.kind == "float" else "1"
        lines.append(f"{name} = {value}")
    return "\n".join(lines)


def _first_fill(parameter: Parameter) -> str:
    inner = parameter.type.to
    if inner and inner.kind == "float":
        return "uniform(-1, 1)"
    return "uniform(0, 100)"


def _looks_like_count(parameter: Parameter) -> bool:
    names = ("n", "len", "length", "count", "size", "num")
    return parameter.type.kind in ("int", "uint") and parameter.name in names


def _type_text(parameter: Parameter) -> str:
    to = parameter.type.to
    return f"{to.name} *" if to else parameter.type.name


def _scalar(parameter: Parameter, given: Input, known: Names, where: str) -> Argument:
    import numpy as np

    if given.value is None:
        raise RequestError(f"{where}: {parameter.type.name} takes one number, not a fill.")
    value = given.value if not isinstance(given.value, str) else evaluate(given.value, known, where)
    dtype = numpy_type(parameter.type)
    if dtype.kind in "iu":
        limits = np.iinfo(dtype)
        if value != int(value) or not limits.min <= value <= limits.max:
            raise RequestError(f"{where}: {value} does not fit {parameter.type.name}.")
        value = int(value)
    data = np.array([value], dtype=dtype).tobytes()
    return Argument(parameter.name, "scalar", data, dtype.itemsize, False, 0)


def _buffer(
    parameter: Parameter, given: Input, names: list[str], known: Names, seed: int, where: str
) -> Argument:
    if given.alias is not None:
        if given.alias not in names or given.alias == parameter.name:
            raise RequestError(f"{where}: alias = '{given.alias}' names no other parameter.")
        target = names.index(given.alias)
        return Argument(parameter.name, "alias", b"", 1, parameter.writable, target)
    if given.fill is None or given.elements is None:
        raise RequestError(
            f"{where}: a pointer needs a buffer, such as "
            '{ fill = "uniform(0, 100)", count = 64 }.'
        )
    count = (
        given.elements
        if isinstance(given.elements, int)
        else evaluate(given.elements, known, where)
    )
    element = parameter.type.to
    if element is None or count != int(count) or count < 0:
        raise RequestError(f"{where}: count = {count} is no number of elements.")
    dtype = numpy_type(element)
    if count * dtype.itemsize > MOST_BYTES:
        raise RequestError(f"{where}: count = {count} is more than {MOST_BYTES >> 20} MiB.")
    fill = parse_fill(given.fill, where)
    data = fill_array(fill, element, int(count), seed, parameter.name).tobytes()
    return Argument(parameter.name, "buffer", data, dtype.itemsize, parameter.writable, 0)


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

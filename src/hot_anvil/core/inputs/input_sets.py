"""Input sets: concrete values for an entry's parameters."""

import math
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import (
    Leaf,
    Type,
    both_whole,
    element_size,
    holds_value,
    leaf_values,
    leaves,
)
from hot_anvil.core.config.expressions import Names, evaluate
from hot_anvil.core.config.fill_names import is_fill
from hot_anvil.core.config.reading_checks import read_input
from hot_anvil.core.config.records import Bench, Input, Snippet
from hot_anvil.core.inputs.edges import shape
from hot_anvil.core.inputs.fills import Files, elements_in, fill_array, parse_fill
from hot_anvil.core.inputs.spec import InputSpec
from hot_anvil.core.inputs.template import how_to_give
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

MOST_BYTES = 1 << 30  # of one buffer


class Argument(NamedTuple):
    """One concrete argument: a value's bytes, a buffer's, or another's buffer."""

    name: str  # of the parameter
    kind: str  # "scalar" (a struct too), "buffer" or "alias"
    data: bytes
    align: int  # bytes; natural alignment of the elements, or what the bench asks for
    writable: bool
    target: int = 0  # for an alias: index of the buffer's parameter
    offset: int = 0  # for an alias: bytes into that buffer
    exact: bool = False  # aligned to ``align`` and to no more


def fitting(given: Signature, there: Signature, sets: "Sequence[InputSet]") -> list[int]:
    """Return which input sets have whole numbers only that another machine's types hold."""
    pairs = [
        (number, given.parameters[number].type, own.type)
        for number, own in enumerate(there.parameters)
        if both_whole(given.parameters[number].type, own.type)
    ]
    return [
        at
        for at, inputs in enumerate(sets)
        if all(holds_value(own, inputs.arguments[n].data, kind) for n, kind, own in pairs)
    ]


class InputSet(NamedTuple):
    """One assignment of values to the parameters of an entry."""

    spec: InputSpec
    arguments: tuple[Argument, ...]

    @property
    def label(self) -> str:
        """What tells it from the other sets of a snippet."""
        return self.spec.label


class _Making(NamedTuple):
    """What the values of one input set are made from."""

    spec: InputSpec
    inputs: Mapping[str, object]
    known: Names
    names: Sequence[str]
    files: Files
    where: str


def make_input_set(
    bench: Bench,
    snippet: Snippet,
    signature: Signature,
    spec: InputSpec,
    files: Files,
    made: dict[Parameter, Argument] | None = None,
) -> InputSet:
    """Return the values for one call of an entry.

    ``made`` holds what the same wish gave for rivals' parameters, to share it.
    ``files`` holds the contents of the files that fills name. Raises
    RequestError for a parameter without a value (with the parameters found and
    a stanza to paste), and for a value that does not fit its type.
    """
    inputs = snippet.inputs
    where = f"{bench.file}: snippet {snippet.name}: inputs"
    if spec.case >= 0:
        inputs = {**inputs, **snippet.cases[spec.case].inputs}
        where = f"{bench.file}: snippet {snippet.name}: case {spec.case + 1}: inputs"
    check_inputs(bench, snippet._replace(inputs=inputs), signature)
    plain = {k: v for k, v in inputs.items() if isinstance(v, int | float)}
    numbers = {**plain, **spec.point, **spec.numbers}
    if spec.case >= 0:  # a case's own numbers go before the sweep's
        own = snippet.cases[spec.case].inputs
        numbers |= {k: v for k, v in own.items() if isinstance(v, int | float)}
    names = [parameter.name for parameter in signature.parameters]
    making = _Making(spec, inputs, numbers, names, files, where)
    made = {} if made is None else made
    arguments = []
    for parameter in signature.parameters:
        known = made.get(parameter)
        if known is None or known.kind == "alias":  # which names a place among the parameters
            known = made[parameter] = _argument(parameter, making, bench.file)
        arguments.append(known)
    for argument in arguments:
        if argument.kind == "alias":
            shared = arguments[argument.target]
            if shared.kind != "buffer":
                raise RequestError(f"{where}.{argument.name}: alias must name a buffer.")
            if not 0 <= argument.offset <= len(shared.data):
                raise RequestError(f"{where}.{argument.name}: offset lies outside {shared.name}.")
            writable = shared.writable or argument.writable
            arguments[argument.target] = shared._replace(writable=writable)
    return InputSet(spec, tuple(arguments))


def whole_numbers(inputs: InputSet, signature: Signature) -> dict[str, int]:
    """Return the values of the parameters that are one whole number."""
    return {
        a.name: int.from_bytes(a.data, "little", signed=p.type.kind == "int")
        for a, p in zip(inputs.arguments, signature.parameters, strict=True)
        if p.type.kind in ("int", "uint")
    }


def make_rivals(
    bench: Bench,
    snippet: Snippet,
    signatures: Sequence[Signature],
    spec: InputSpec,
    files: Files,
) -> list[InputSet]:
    """Return the values for one call of each of several entries, the same where they agree."""
    shared: dict[Parameter, Argument] = {}
    return [make_input_set(bench, snippet, s, spec, files, shared) for s in signatures]


def check_inputs(bench: Bench, snippet: Snippet, signature: Signature) -> None:
    """Raise RequestError unless every parameter has a value and can be passed."""
    where = f"{bench.file}: snippet {snippet.name}"
    able = "(it can: numbers, structs of them, and pointers to either; a driver does the rest)"
    for parameter in signature.parameters:
        if not parameter.type.callable_with:
            to = parameter.type.to
            raise RequestError(
                f"{where}: the parameter '{parameter.name}' of {signature.name} is of type "
                f"{f'{to.name} *' if to else parameter.type.name}, which this version cannot make "
                f"values for {able}.{_around(parameter, signature)}"
            )
    if signature.returns.kind != "void" and not signature.returns.callable_with:
        raise RequestError(
            f"{where}: {signature.name} returns {signature.returns.name}, which this version "
            f"cannot compare {able}."
        )
    missing = [p.name for p in signature.parameters if p.name not in snippet.inputs]
    if missing:
        raise RequestError(
            f"{where}: no values for {listed(missing)} of\n    {signature.text}\n"
            f"{how_to_give(bench, snippet, signature)}"
        )


def _around(parameter: Parameter, signature: Signature) -> str:
    """Say what to write around a Rust function that takes slices: they have no fixed form."""
    name = parameter.type.name
    inside = re.fullmatch(r"(?:struct )?&(mut )?\[(.+)\]", name)
    if not inside:
        return ""
    mutable, kind = inside.groups()
    form = ("mut", "from_raw_parts_mut") if mutable else ("const", "from_raw_parts")
    return (
        " Rust passes a slice as it likes, so it has to be given as a pointer and a length. Write "
        f'beside it: #[no_mangle] pub extern "C" fn {signature.name}_of({parameter.name}: '
        f"*{form[0]} {kind}, n: usize) {{ {signature.name}(unsafe {{ core::slice::{form[1]}("
        f"{parameter.name}, n) }}) }}, with its result, and make {signature.name}_of the entry."
    )


def check_unused(bench: Bench, snippet: Snippet, signatures: Sequence[Signature]) -> None:
    """Raise RequestError for an input that is no entry's parameter."""
    known = {p.name for signature in signatures for p in signature.parameters}
    for name in [*snippet.inputs, *(name for case in snippet.cases for name in case.inputs)]:
        if name not in known:
            raise RequestError(
                f"{bench.file}: snippet {snippet.name}: inputs.{name} is no parameter of "
                f"{listed(s.name for s in signatures)}.{did_you_mean(name, known)} "
                f"Their parameters: {listed(sorted(known)) or 'none'}."
            )


def _argument(parameter: Parameter, making: _Making, file: str) -> Argument:
    given = read_input(making.inputs[parameter.name], parameter.name, file)
    where = f"{making.where}.{parameter.name}"
    if parameter.type.kind == "pointer":
        return _buffer(parameter, given, making, where)
    kind = parameter.type
    if given.alias is not None or given.elements is not None:
        raise RequestError(f"{where}: {kind.name} is one value: it takes no count and no alias.")
    if kind.kind == "struct" and given.value is not None:
        raise RequestError(f"{where}: a {kind.name} needs members = {{ name = value, ... }}.")
    fixed = making.spec.numbers.get(parameter.name)
    if fixed is not None and not given.members:
        given = given._replace(value=fixed, fill=None)
    data = _contents(kind, given, 1, parameter.name, making, where)
    return Argument(parameter.name, "scalar", data, max(kind.align, 1), False)


def _buffer(parameter: Parameter, given: Input, making: _Making, where: str) -> Argument:
    element = parameter.type.to
    assert element
    if given.alias is not None:
        if given.alias not in making.names or given.alias == parameter.name:
            raise RequestError(f"{where}: alias = '{given.alias}' names no other parameter.")
        target = making.names.index(given.alias)
        offset = int(_count(given.offset, making.known, where)) * element_size(element)
        return Argument(parameter.name, "alias", b"", 1, parameter.writable, target, offset)
    if given.value is not None:
        raise RequestError(
            f"{where}: a pointer needs a buffer, such as "
            '{ fill = "uniform(0, 100)", count = 64 }.'
        )
    count = given.elements
    if count is None and given.fill and given.fill.lstrip().startswith("file"):
        leaf = next(leaves(element))
        number: float = elements_in(parse_fill(given.fill, where), leaf, making.files, where)
    else:
        number = _count(1 if count is None else count, making.known, where)
    if number < 0:
        raise RequestError(f"{where}: count = {count} is {number}: no number of elements.")
    if number * element_size(element) > MOST_BYTES:
        raise RequestError(f"{where}: count = {count} is more than {MOST_BYTES >> 20} MiB.")
    data = _contents(element, given, int(number), parameter.name, making, where)
    align = given.align or max(element.align, 1)
    exact = given.align is not None
    return Argument(parameter.name, "buffer", data, align, parameter.writable, exact=exact)


def _count(given: int | str, known: Names, where: str) -> int | float:
    value = given if isinstance(given, int) else evaluate(given, known, where)
    if not math.isfinite(value) or value != int(value):
        raise RequestError(f"{where}: {given} is {value}: not a whole number.")
    return int(value)


def _contents(
    kind: Type, given: Input, count: int, name: str, making: _Making, where: str
) -> bytes:
    """Return the bytes of ``count`` values of a type."""
    own = list(leaves(kind))
    _check_members(given, own, where)
    data = bytearray(count * element_size(kind))
    for leaf in own:
        spec = _spec(leaf, given)
        if spec is None:
            raise RequestError(f"{where}: no value for the member {leaf.path}.")
        place = f"{where}.{leaf.path}" if leaf.path else where
        label = f"{name}.{leaf.path}" if leaf.path else name
        view = leaf_values(data, kind, leaf)
        view[:] = _numbers(leaf, spec, view.size, label, name, making, place).reshape(view.shape)
    return bytes(data)


def _numbers(  # type: ignore[no-untyped-def]
    leaf: Leaf, spec: int | float | str, count: int, label: str, name: str, making: _Making,
    where: str,
):  # fmt: skip
    """Return the numbers of one leaf, shaped as an edge wants them (an array)."""
    import numpy as np

    if isinstance(spec, str) and is_fill(spec):
        fill = parse_fill(spec, where)
        asked = making.spec
        values = fill_array(fill, leaf, count, asked.seed, label, making.files, where)
        return shape(values, fill, leaf, asked, label) if name in asked.shaped else values
    value = evaluate(spec, making.known, where) if isinstance(spec, str) else spec
    if leaf.kind in ("int", "uint"):
        limits = np.iinfo(leaf.dtype)
        if not math.isfinite(value) or value != int(value) or not limits.min <= value <= limits.max:
            raise RequestError(f"{where}: {value} does not fit {leaf.type.name}.")
        value = int(value)
    return np.full(count, value, dtype=leaf.dtype)


def _spec(leaf: Leaf, given: Input) -> int | float | str | None:
    """Return what a bench says of a leaf: of it, of what it is a part of, or of all."""
    path = leaf.path
    while path:
        if path in given.members:
            said: int | float | str = given.members[path]
            return said
        cut = max(path.rfind("."), path.rfind("["))
        path = path[:cut] if cut > 0 else ""
    if given.fill is not None:
        return given.fill
    if isinstance(given.value, str) or given.value is None:
        return given.value
    if leaf.path not in ("low half", "high half", "imag"):
        return given.value
    halves = {"low half": int(given.value) & (1 << 64) - 1, "imag": 0,
              "high half": int(given.value) >> 64 & (1 << 64) - 1}  # fmt: skip
    if leaf.path == "high half" and leaf.kind == "int":
        return int(given.value) >> 64
    return halves.get(leaf.path, given.value)


def _check_members(given: Input, own: Sequence[Leaf], where: str) -> None:
    known = {leaf.path for leaf in own}
    for name in given.members:
        if not any(path == name or path.startswith((f"{name}.", f"{name}[")) for path in known):
            hint = did_you_mean(name, known) or f" It has: {listed(sorted(known))}."
            raise RequestError(f"{where}: there is no member '{name}'.{hint}")

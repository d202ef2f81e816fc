"""Do two outputs agree? Return values and buffers, number by number."""

from collections.abc import Iterator, Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.types import Type, leaf_values, leaves
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.records import Tolerance, Values
from hot_anvil.core.inputs.fills import Files, fill_array, parse_fill
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    from numpy.typing import NDArray

RETURNS = "returns"
EXACT = Tolerance()


class Error(NamedTuple):
    """How far off floats were at most: each the largest seen, not of one value."""

    ulp: float  # in units of the spacing of floats at the larger of the two values
    relative: float  # of the larger of the two
    absolute: float
    where: str  # of the largest in ulp


def first_difference(
    reference: Signature,
    expected: Output,
    signature: Signature,
    got: Output,
    inputs: InputSet,
    tolerance: Tolerance = EXACT,
) -> tuple[str, Error | None]:
    """Return (the first difference in words, "" when they agree; the largest error of floats).

    Numbers compare by value, element by element: a NaN equals a NaN, -0
    equals 0, and padding is not looked at. Floats within the tolerance agree,
    and their error is reported all the same; None when there is none. Buffers
    of rivals correspond by parameter name where the names agree, else by
    position.
    """
    same_types = [p.type for p in reference.parameters] == [p.type for p in signature.parameters]
    own = reference.symbol == signature.symbol  # a rival may keep its state elsewhere
    if (
        same_types
        and reference.returns == signature.returns
        and _same_bytes(expected, got)
        and not (own and _variables_differ(expected, got))
    ):
        return "", None  # NumPy is not even loaded
    difference, error = "", None
    for name, a, b in _pairs(reference, expected, signature, got, inputs):
        if isinstance(a, str):
            return a, error
        said, off = _compare(name, a, b, tolerance)
        error = larger(error, off)
        if said and not difference:
            difference = said
    known = dict(expected.variables) if own else {}
    for variable, data in got.variables:
        if variable in known:
            kind = variable.type
            row = kind.to if kind.kind == "array" and kind.to else kind
            a, b = (_Value(one, row, row is kind) for one in (known[variable], data))
            said, off = _compare(variable.name, a, b, tolerance)
            error = larger(error, off)
            difference = difference or (f"the variable {said}, after the call" if said else "")
    return difference, error


def _variables_differ(a: Output, b: Output) -> bool:
    known = dict(a.variables)
    return any(known.get(variable, data) != data for variable, data in b.variables)


def _same_bytes(a: Output, b: Output) -> bool:
    return a.result == b.result and a.buffers == b.buffers


class _Value(NamedTuple):
    """Numbers of one type: of a buffer, or a result."""

    data: bytes
    type: Type
    whole: bool  # one value, not a buffer


def _pairs(
    reference: Signature, expected: Output, signature: Signature, got: Output, inputs: InputSet
) -> Iterator[tuple[str, Any, Any]]:
    """Give (name, expected, got) of what corresponds; a text in place of expected is a fault."""
    if reference.returns.kind != "void" and signature.returns.kind != "void":
        wanted = _Value(expected.result, _result_type(reference), True)
        yield RETURNS, wanted, _Value(got.result, _result_type(signature), True)
    left, right = _buffers(reference, expected), _buffers(signature, got)
    # What one side may write and the other not must be as it was before the call; some
    # languages cannot say that they only read.
    mine = {p.name for p in signature.parameters} & {p.name for p in reference.parameters}
    untouched = _initial(signature, inputs)
    left |= {n: untouched[n] for n in right if n not in left and n in mine & set(untouched)}
    right |= {n: untouched[n] for n in left if n not in right and n in mine & set(untouched)}
    if len(left) != len(right):
        yield "", f"writes {len(right)} buffers, the reference {len(left)}", None
        return
    by_name = set(left) == set(right)
    for position, (name, b) in enumerate(right.items()):
        yield name, left[name] if by_name else list(left.values())[position], b


def _result_type(signature: Signature) -> Type:
    if signature.returns.kind != "pointer":
        return signature.returns
    return Type("array", 16, "place", to=Type("int", 8, "place"))


def _buffers(signature: Signature, output: Output) -> dict[str, _Value]:
    types = {p.name: p.type.to for p in signature.parameters}
    return {
        name: _Value(data, kind, False) for name, data in output.buffers if (kind := types[name])
    }


def _initial(signature: Signature, inputs: InputSet) -> dict[str, _Value]:
    """Return what the buffers hold before the call."""
    types = {p.name: p.type.to for p in signature.parameters}
    return {
        a.name: _Value(a.data, kind, False)
        for a in inputs.arguments
        if a.kind == "buffer" and (kind := types.get(a.name))
    }


def _compare(
    name: str, expected: _Value, got: _Value, tolerance: Tolerance
) -> tuple[str, Error | None]:
    """Compare the numbers of two values."""
    import numpy as np

    own, other = list(leaves(got.type)), list(leaves(expected.type))
    if [leaf.path for leaf in own] != [leaf.path for leaf in other]:
        return f"{name} holds other members than the reference's", None
    worst: Error | None = None
    first: tuple[int, str] | None = None
    count = 0
    for leaf, twin in zip(own, other, strict=True):
        a = leaf_values(expected.data, expected.type, twin)
        b = leaf_values(got.data, got.type, leaf)
        if a.shape != b.shape:
            return f"{name} has {len(b)} elements, the reference's {len(a)}", None
        bad, error = _off(a, b, tolerance, lambda at, path=leaf.path: _place(name, path, at, got))
        worst = larger(worst, error)
        where = np.argwhere(bad)
        count += len(where)
        if len(where) and (first is None or where[0][0] < first[0]):
            at = tuple(int(index) for index in where[0])
            verb = "returned" if name == RETURNS else f"{_place(name, leaf.path, at, got)} is"
            if name == RETURNS and leaf.path:
                verb = f"returned {leaf.path} ="
            first = at[0], f"{verb} {_apart(b[at], a[at])}"
    if first is None:
        return "", worst
    of = len(got.data) // max(got.type.size, 1)
    return first[1] + (f" ({count} of {of} elements differ)" if count > 1 and of > 1 else ""), worst


def _off(
    a: "NDArray[Any]", b: "NDArray[Any]", tolerance: Tolerance, place: Any
) -> tuple["NDArray[Any]", Error | None]:
    """Return (which numbers disagree, the largest error of floats)."""
    import numpy as np

    same = a == b
    if a.dtype.kind != "f" or b.dtype.kind != "f":
        return ~np.asarray(same), None
    with np.errstate(all="ignore"):
        same = same | (np.isnan(a) & np.isnan(b))
        if same.all():
            return ~same, None
        kind = min(a.dtype, b.dtype, key=lambda d: d.itemsize)  # the coarser one's spacing counts
        off = np.abs(a - b)
        off = np.where(same, 0, np.where(np.isnan(off), np.inf, off))
        size = np.fmax(np.abs(a), np.abs(b))
        finite = np.where(np.isfinite(size), size, 0).astype(kind)
        # Of the largest number NumPy 2.4 calls the spacing infinite: any error would be none of it.
        finite = np.minimum(finite, np.nextafter(np.finfo(kind).max, kind.type(0)))
        ulp = np.where(same, 0, off / np.spacing(finite))
        relative = np.where(same, 0, off / size)
        relative = np.where(np.isnan(relative), np.inf, relative)
        fine = (ulp <= tolerance.ulp) | (relative <= tolerance.relative)
        bad = ~(same | fine | (off <= tolerance.absolute))
    at = np.unravel_index(int(np.argmax(ulp)), ulp.shape)
    index = tuple(int(k) for k in at)
    return bad, Error(float(ulp.max()), float(relative.max()), float(off.max()), place(index))


def larger(a: Error | None, b: Error | None) -> Error | None:
    """Return the largest of two errors in each respect; None stands for none."""
    if a is None or b is None:
        return a or b
    return Error(
        max(a.ulp, b.ulp), max(a.relative, b.relative), max(a.absolute, b.absolute),
        max(a, b, key=lambda e: e.ulp).where,
    )  # fmt: skip


def _place(name: str, path: str, at: tuple[int, ...], value: _Value) -> str:
    """Return where a number stands, as C writes it."""
    text = name if value.whole else f"{name}[{at[0]}]"
    if path:
        text += f".{path}"
    rows = next(leaf.row for leaf in leaves(value.type) if leaf.path == path)
    return f"{text}[{at[1]}]" if rows > 1 else text


def _apart(got: Any, expected: Any) -> str:
    """Return two numbers that differ, with as many digits as that takes."""
    left, right = shown(got), shown(expected)
    if left == right:
        left, right = repr(got.tolist()), repr(expected.tolist())
    return f"{left}, expected {right}"


def shown(value: Any) -> str:
    """Return a number as it is told: nine digits of a float."""
    item = value.tolist()
    return f"{item:.9g}" if isinstance(item, float) else str(item)


def told_output(output: Output, signature: Signature, inputs: InputSet) -> str:
    """Return an output in a few words: its result, or the start of what it wrote."""
    parts = []
    if signature.returns.kind not in ("void", "pointer"):
        own = _Value(output.result, _result_type(signature), True)
        parts.append(f"returned {_told(own)}")
    elif signature.returns.kind == "pointer":
        index, offset = (int.from_bytes(output.result[k : k + 8], "little", signed=True)
                         for k in (0, 8))  # fmt: skip
        known = {-1: "NULL", -2: "a pointer into no buffer"}
        inside = inputs.arguments[index].name if index >= 0 else ""
        parts.append(f"returned {known.get(index, f'{inside} + {offset} bytes')}")
    parts += [f"{name} = {_told(value)}" for name, value in _buffers(signature, output).items()]
    return "; ".join(parts) or "nothing to see"


def _told(value: _Value, most: int = 8) -> str:
    numbers = []
    own = list(leaves(value.type))
    for index in range(min(len(value.data) // max(value.type.size, 1), most)):
        row = [leaf_values(value.data, value.type, leaf)[index] for leaf in own]
        texts = [shown(number) for part in row for number in part]
        numbers.append(texts[0] if len(texts) == 1 else f"{{{', '.join(texts[:most])}}}")
    rest = len(value.data) // max(value.type.size, 1) - len(numbers)
    return ", ".join(numbers) + (f", .. ({rest} more)" if rest > 0 else "")


def told_inputs(inputs: InputSet, signature: Signature) -> list[tuple[str, str]]:
    """Return (parameter, value in a few words) of an input set."""
    types = {p.name: p.type for p in signature.parameters}
    out = []
    for a in inputs.arguments:
        kind = types[a.name]
        if a.kind == "alias":
            place = inputs.arguments[a.target].name
            out.append((a.name, f"{place} + {a.offset} bytes" if a.offset else place))
        elif a.kind == "buffer" and kind.to:
            size = len(a.data) // max(kind.to.size, 1)
            told = _told(_Value(a.data, kind.to, False), 12)
            out.append((a.name, f"[{told}]" if size else "[] (empty)"))
        else:
            out.append((a.name, _told(_Value(a.data, kind, True))))
    return out


def with_expected(
    output: Output, expected: Values, signature: Signature, inputs: InputSet, files: Files,
    where: str,
) -> Output:  # fmt: skip
    """Return the reference's output with what the bench expects in place of it."""
    result = output.result
    buffers = dict(output.buffers)
    types: Mapping[str, Type | None] = {p.name: p.type.to for p in signature.parameters}
    for name, value in expected.items():
        place = f"{where}.expected.{name}"
        kind = signature.returns if name == RETURNS else types.get(name)
        if kind is None or (name != RETURNS and name not in buffers):
            known = [RETURNS, *buffers]
            raise RequestError(
                f"{place}: {signature.name} writes no such buffer.{did_you_mean(name, known)} "
                f"What can be expected: {listed(known)}."
            )
        if not kind.scalar or kind.size > 8 or kind.kind == "complex":
            raise RequestError(f"{place}: {kind.name} cannot be compared with a number given.")
        size = len(result) if name == RETURNS else len(buffers[name])
        data = _numbers_given(value, kind, size, name, files, place)
        if name == RETURNS:
            result = data
        else:
            buffers[name] = data
    return output._replace(result=result, buffers=tuple(buffers.items()))


def _numbers_given(value: Any, kind: Type, size: int, name: str, files: Files, where: str) -> bytes:
    import numpy as np

    leaf = next(leaves(kind))
    count = size // kind.size
    if isinstance(value, str):
        fill = parse_fill(value, where)
        return fill_array(fill, leaf, count, 1, name, files, where).tobytes()
    given = value if isinstance(value, list) else [value]
    if len(given) != count:
        raise RequestError(f"{where}: {len(given)} numbers are given, there are {count}.")
    try:
        made = np.array(given, dtype=leaf.dtype)
    except (OverflowError, ValueError):
        raise RequestError(f"{where}: {kind.name} cannot hold what is given.") from None
    if leaf.kind in ("int", "uint") and any(int(m) != g for m, g in zip(made, given, strict=True)):
        raise RequestError(f"{where}: {kind.name} cannot hold what is given.")
    return made.tobytes()

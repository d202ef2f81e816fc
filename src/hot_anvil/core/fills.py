"""Fills: how a bench says what a buffer holds, as made, repeatable data."""

import re
import zlib
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.errors import RequestError
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.core.signature import Type

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_ARGUMENTS = {
    "zeros": (0, 0),
    "ramp": (0, 2),
    "uniform": (2, 2),
    "normal": (2, 2),
    "choice": (1, 1000),
    "text": (1, 1),
}


class Fill(NamedTuple):
    """A fill as written, taken apart."""

    name: str
    arguments: tuple[Any, ...]
    text: str


def parse_fill(text: str, where: str) -> Fill:
    """Take a fill such as ``uniform(-500, 500)`` apart; raises RequestError."""
    found = re.fullmatch(r"\s*(\w+)\s*(?:\((.*)\))?\s*", text, re.DOTALL)
    name = found[1] if found else text
    if not found or name not in _ARGUMENTS:
        hint = did_you_mean(name, _ARGUMENTS) or f" Known fills: {listed(_ARGUMENTS)}."
        raise RequestError(f"{where}: '{text}' is no fill.{hint}")
    inside = (found[2] or "").strip()
    arguments: tuple[Any, ...]
    if name == "text":
        arguments = (inside[1:-1],) if re.fullmatch(r"""(["']).*\1""", inside, re.DOTALL) else ()
    else:
        arguments = tuple(_number(part, text, where) for part in inside.split(",") if part.strip())
    least, most = _ARGUMENTS[name]
    if not least <= len(arguments) <= most:
        raise RequestError(
            f"{where}: '{text}' has {len(arguments)} values, {name} takes "
            f"{least if least == most else f'{least} to {most}'}."
        )
    return Fill(name, arguments, text)


def _number(part: str, text: str, where: str) -> int | float:
    part = part.strip()
    try:
        return int(part, 0)
    except ValueError:
        pass
    try:
        return float(part)
    except ValueError:
        raise RequestError(f"{where}: '{part}' in '{text}' is not a number.") from None


def numpy_type(kind: Type) -> "np.dtype[Any]":
    """Return NumPy's type for elements of ``kind``; bytes for ``void``."""
    import numpy as np

    letter = {"int": "i", "uint": "u", "float": "f", "bool": "?", "void": "u"}[kind.kind]
    return np.dtype("?" if letter == "?" else f"{letter}{max(kind.size, 1)}")


def fill_array(fill: Fill, kind: Type, count: int, seed: int, name: str) -> "NDArray[Any]":
    """Return ``count`` elements of ``kind`` for the parameter ``name``.

    The same fill, seed and name always give the same data. ``uniform`` on
    integers includes both ends. Raises RequestError for values that the type
    cannot hold.
    """
    import numpy as np

    dtype = numpy_type(kind)
    # NumPy promises the stream of a bit generator, and of its raw integers, for ever.
    random = np.random.Generator(np.random.PCG64([seed, zlib.crc32(name.encode())]))
    a = fill.arguments
    values: NDArray[Any]
    if fill.name == "zeros":
        values = np.zeros(count)
    elif fill.name == "ramp":
        start, step = a[0] if a else 0, a[1] if len(a) > 1 else 1
        values = start + step * np.arange(count)
    elif fill.name == "uniform" and dtype.kind == "f":
        values = random.uniform(a[0], a[1], count)
    elif fill.name == "uniform":
        if a[0] > a[1]:
            raise RequestError(f"'{fill.text}' for {name}: the first value is above the second.")
        values = random.integers(int(a[0]), int(a[1]), count, endpoint=True)
    elif fill.name == "normal":
        values = random.normal(a[0], a[1], count)
    elif fill.name == "choice":
        values = np.asarray(a)[random.integers(0, len(a), count)]
    else:
        raw = str(a[0]).encode()
        values = np.resize(np.frombuffer(raw or b"\0", dtype="u1"), count)
    return _as_type(values, dtype, fill, kind, name)


def _as_type(
    values: "NDArray[Any]", dtype: "np.dtype[Any]", fill: Fill, kind: Type, name: str
) -> "NDArray[Any]":
    import numpy as np

    if dtype.kind in "iu":
        limits = np.iinfo(dtype)
        if len(values) and (values.min() < limits.min or values.max() > limits.max):
            if fill.name == "normal":
                values = np.clip(values, limits.min, limits.max)
            elif fill.name != "text":
                raise RequestError(
                    f"'{fill.text}' for {name}: {kind.name} holds only {limits.min} to "
                    f"{limits.max}."
                )
        if values.dtype.kind == "f":
            values = np.rint(values)
    return values.astype(dtype)

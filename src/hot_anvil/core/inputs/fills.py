"""Fills: how a bench says what a buffer holds, as made, repeatable data."""

import io
import math
import re
import zlib
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.binary.types import Leaf
from hot_anvil.core.config.fill_names import FILLS
from hot_anvil.core.names import did_you_mean, listed
from hot_anvil.errors import RequestError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_TEXTUAL = ("text", "file")
Files = Mapping[str, bytes]  # contents of the files that fills name


_SHOWN = 60  # characters of a fill in a message


class Fill(NamedTuple):
    """A fill as written, taken apart."""

    name: str
    arguments: tuple[Any, ...]
    text: str


def parse_fill(text: str, where: str) -> Fill:
    """Take a fill such as ``uniform(-500, 500)`` apart; raises RequestError."""
    found = re.fullmatch(r"\s*(\w+)\s*(?:\((.*)\))?\s*", text, re.DOTALL)
    name = found[1] if found else text
    if not found or name not in FILLS:
        hint = did_you_mean(name, FILLS) or f" Known fills: {listed(FILLS)}."
        raise RequestError(f"{where}: '{text[:_SHOWN]}' is no fill.{hint}")
    inside = (found[2] or "").strip()
    arguments: tuple[Any, ...]
    if name in _TEXTUAL:
        arguments = (inside[1:-1],) if re.fullmatch(r"""(["']).*\1""", inside, re.DOTALL) else ()
    else:
        arguments = tuple(_number(part, text, where) for part in inside.split(",") if part.strip())
    text = text if len(text) <= _SHOWN else f"{text[:_SHOWN]}.."
    if name != "choice" and not all(map(_finite, arguments)):
        raise RequestError(f"{where}: '{text}': {name} takes finite numbers.")
    if name == "normal" and len(arguments) == 2 and arguments[1] < 0:
        raise RequestError(f"{where}: '{text}': a standard deviation is not negative.")
    least, most = FILLS[name]
    if not least <= len(arguments) <= most:
        raise RequestError(
            f"{where}: '{text}' has {len(arguments)} values, {name} takes "
            f"{least if least == most else f'{least} to {most}'}."
        )
    if name == "uniform" and arguments[0] > arguments[1]:
        raise RequestError(f"{where}: '{text}': the first value is above the second.")
    return Fill(name, arguments, text)


def _finite(value: object) -> bool:
    return not isinstance(value, float) or math.isfinite(value)


def file_named(text: str) -> str:
    """Return the file that a fill reads, "" for one that reads none."""
    found = re.fullmatch(r"""\s*file\s*\(\s*(["'])(.*)\1\s*\)\s*""", text, re.DOTALL)
    return found[2] if found else ""


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


def random_for(seed: int, name: str) -> "np.random.Generator":
    """Return the source of chance of a parameter: the same for a seed and a name, for ever.

    NumPy promises the stream of a bit generator.
    """
    import numpy as np

    return np.random.Generator(np.random.PCG64([seed, zlib.crc32(name.encode())]))


def elements_in(fill: Fill, leaf: Leaf, files: Files, where: str) -> int:
    """Return how many elements a ``file`` holds."""
    return len(_from_file(fill, leaf, files, where))


def fill_array(
    fill: Fill, leaf: Leaf, count: int, seed: int, name: str, files: Files, where: str
) -> "NDArray[Any]":
    """Return ``count`` numbers of a leaf's type for the parameter or member ``name``.

    The same fill, seed and name always give the same data. ``uniform`` on
    integers includes both ends. ``where`` is for messages; raises RequestError
    for values that the type cannot hold.
    """
    import numpy as np

    random = random_for(seed, name)
    a = fill.arguments
    values: NDArray[Any]
    if fill.name == "zeros":
        values = np.zeros(count)
    elif fill.name == "ramp":
        start, step = a[0] if a else 0, a[1] if len(a) > 1 else 1
        values = start + step * np.arange(count)
    elif fill.name == "uniform" and leaf.kind == "float":
        values = random.uniform(a[0], a[1], count)
    elif fill.name == "uniform":
        ends = int(a[0]), int(a[1])
        _must_hold(fill, leaf, *ends, where)
        wide = np.uint64 if ends[1] >= 1 << 63 else np.int64
        values = random.integers(*ends, count, dtype=wide, endpoint=True)
    elif fill.name == "normal":
        values = random.normal(a[0], a[1], count)
        if leaf.kind in ("int", "uint"):
            limits = np.iinfo(leaf.dtype)
            values = np.clip(values, float(limits.min), float(limits.max))
    elif fill.name == "choice":
        values = np.asarray(a)[random.integers(0, len(a), count)]
    elif fill.name == "text":
        raw = str(a[0]).encode()
        return np.resize(np.frombuffer(raw or b"\0", dtype="u1"), count).astype(leaf.dtype)
    else:
        values = _from_file(fill, leaf, files, where)
        if len(values) < count:
            raise RequestError(f"{where}: {a[0]} holds {len(values)} elements, not {count}.")
        return values[:count]
    return _as_type(values, leaf, fill, where)


def _from_file(fill: Fill, leaf: Leaf, files: Files, where: str) -> "NDArray[Any]":
    """Return the numbers that a file holds: raw, in this machine's order, or NumPy's .npy."""
    import numpy as np

    name = str(fill.arguments[0])
    data = files.get(name)
    if data is None:
        raise RequestError(f"{where}: {name}: cannot be read; it is looked for in the bench.")
    if not name.endswith(".npy"):
        return np.frombuffer(data[: len(data) // leaf.size * leaf.size], dtype=leaf.dtype)
    try:
        values = np.load(io.BytesIO(data), allow_pickle=False)
    except (ValueError, EOFError, OSError) as error:
        raise RequestError(f"{where}: {name}: is no .npy file ({error}).") from None
    if values.dtype != leaf.dtype:
        raise RequestError(
            f"{where}: {name} holds {values.dtype}, and {leaf.type.name} is {leaf.dtype}: "
            "convert it."
        )
    return np.ascontiguousarray(values).reshape(-1)


def _must_hold(fill: Fill, leaf: Leaf, low: float, high: float, where: str) -> None:
    import numpy as np

    limits = np.iinfo(leaf.dtype) if leaf.kind in ("int", "uint") else None
    if limits and (low < limits.min or high > limits.max):
        raise RequestError(
            f"{where}: '{fill.text}': {leaf.type.name} holds only {limits.min} to {limits.max}."
        )


def _as_type(values: "NDArray[Any]", leaf: Leaf, fill: Fill, where: str) -> "NDArray[Any]":
    import numpy as np

    if leaf.kind in ("int", "uint"):
        if len(values):
            _must_hold(fill, leaf, values.min(), values.max(), where)
        if values.dtype.kind == "f":
            values = np.rint(values)
    return values.astype(leaf.dtype)

"""Edge input sets: the sizes and values at which code breaks, made without being asked for.

Every kind can be turned off in the bench, with the reason: a function need not
promise to take an empty buffer. What the bench calls zeros, text and files is
left as it is: an output buffer, or data with a form of its own.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from hot_anvil.core.binary.signatures import Parameter, Signature
from hot_anvil.core.binary.types import Leaf, leaves
from hot_anvil.core.config.expressions import names_in
from hot_anvil.core.config.fill_names import is_fill
from hot_anvil.core.config.reading_checks import read_input
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.inputs.fills import Fill, parse_fill, random_for
from hot_anvil.core.inputs.spec import (
    ANY_VARIANT,
    SEEDS_OF_NUMBERS,
    InputSpec,
    Point,
    sweep_points,
)

if TYPE_CHECKING:
    from numpy.typing import NDArray

_VECTORS = (16, 32, 64)  # bytes
_VARIANTS = {"equal": 1, "range_ends": 2, "type_ends": 5, "special": 5}
_OF_BUFFERS = {"constants": 2}  # sets of an edge where only buffers change
_SMALL = (1, 2, 3, 5, 8)  # distances at which passes that a vector holds at once meet
_RANDOM = ("uniform", "normal", "ramp")


def edge_sets(
    snippet: Snippet,
    signatures: Sequence[Signature],
    constants: tuple[int | float, ...] = (),
    promised: bool = False,
) -> list[InputSpec]:
    """Return the edge input sets of a snippet, the same for all its entries.

    ``constants`` are numbers that its code compares with; ``promised`` tells that the source
    promises how far apart the passes of a loop reach.
    """
    smallest = {name: min(values) for name, values in snippet.sweep.items()}
    parameters = _by_name(signatures)
    tied = size_names(snippet, signatures)
    made = []
    for name, bytes_each in tied.items():
        for kind, sizes in (("empty", [0]), ("one", [1]), ("sizes", odd_sizes(bytes_each))):
            made += [InputSpec(smallest, 1, kind, {name: size}) for size in sizes]
    for kind, variants in {**_VARIANTS, "constants": len(constants)}.items():
        shaped = _shaped_names(kind, snippet, parameters) if variants else ()
        if shaped:
            single = any(p.type.kind != "pointer" for n in shaped for p in parameters[n])
            count = variants if single else min(_OF_BUFFERS.get(kind, 1), variants)
            values = constants if kind == "constants" else ()
            made += [
                InputSpec(smallest, v + 1, kind, {}, shaped, v, constants=values)
                for v in range(count)
            ]
    if promised:
        made += _small_numbers(snippet, parameters, set(tied), smallest)
    off = snippet.not_promised
    return [spec for spec in made if spec.edge not in off and "all" not in off]


def _small_numbers(
    snippet: Snippet, parameters: Mapping[str, list[Parameter]], sizes: set[str], point: Point
) -> list[InputSpec]:
    """Return sets in which one whole number is small; sizes are made so elsewhere."""
    made: list[InputSpec] = []
    for name, own in parameters.items():
        given = snippet.inputs.get(name)
        if name in sizes or own[0].type.kind not in ("int", "uint"):
            continue
        if isinstance(given, int):
            small = [{name: number} for number in _SMALL if number < given]
            made += [InputSpec(point, 1, "promises", numbers) for numbers in small]
        elif isinstance(given, str) and is_fill(given):
            made += [
                InputSpec(point, 1, "promises", {}, (name,), v, constants=_SMALL)
                for v in range(len(_SMALL))
            ]
    return made


def drawn_set(
    snippet: Snippet,
    signatures: Sequence[Signature],
    kind: str,
    number: int,
    constants: tuple[int | float, ...],
) -> InputSpec | None:
    """Return one more input set, another for each ``number``; None where there is none of a kind.

    ``kind`` is "" for another seed, "constants" for numbers that the code compares with, each
    parameter's drawn by itself, and "sizes".
    """
    points = sweep_points(snippet)
    point, seed = points[number % len(points)], SEEDS_OF_NUMBERS + 1 + number
    if kind == "sizes":
        tied = size_names(snippet, signatures)
        random = random_for(seed, "sizes")
        most = {**snippet.inputs, **point}
        numbers = {name: int(random.integers(0, int(most[name]) + 2)) for name in tied}
        return InputSpec(point, seed, kind, numbers) if tied else None
    if kind == "constants":
        shaped = _shaped_names(kind, snippet, _by_name(signatures)) if constants else ()
        if not shaped:
            return None
        return InputSpec(point, seed, kind, {}, shaped, ANY_VARIANT - number, constants=constants)
    return InputSpec(point, seed)


def near_set(
    snippet: Snippet,
    signatures: Sequence[Signature],
    base: InputSpec,
    values: Mapping[str, int],
    number: int,
    constants: tuple[int | float, ...],
) -> InputSpec | None:
    """Return an input set like ``base`` but for one whole number, which the code compares with.

    ``values`` are the numbers that ``base`` came to, ``number`` goes through all such sets; None
    where there is none.
    """
    able: dict[str, NDArray[Any]] = {}
    for name, own in _by_name(signatures).items():
        given = snippet.inputs.get(name)
        if name in values and isinstance(given, str) and is_fill(given):
            ends = _usable(constants, parse_fill(given, name), next(leaves(own[0].type)))
            able |= {name: ends} if len(ends) else {}
    if not able:
        return None
    changes = [(name, int(end)) for name in sorted(able) for end in able[name]]
    changed, end = changes[number % len(changes)]
    numbers = {**{name: values[name] for name in able}, changed: end}
    return base._replace(edge="constants", numbers={**base.numbers, **numbers})


def odd_sizes(bytes_each: int) -> list[int]:
    """Return sizes above 1 around what vectors of elements of this many bytes hold."""
    around = {lanes // bytes_each + step for lanes in _VECTORS for step in (-1, 1)}
    unrolled = 4 * _VECTORS[-1] // bytes_each + 3
    return sorted(size for size in {3, *around, unrolled} if size > 1)


def shape(
    values: "NDArray[Any]", fill: Fill, leaf: Leaf, spec: InputSpec, name: str
) -> "NDArray[Any]":
    """Return the values of a fill as an edge wants them; as they are where it has no say."""
    import numpy as np

    if not len(values) or not applies(spec.edge, fill, leaf):
        return values
    if spec.edge == "equal":
        return np.full_like(values, values[0])
    random = random_for(spec.seed, name)
    ends = (
        _usable(spec.constants, fill, leaf)
        if spec.edge in ("constants", "promises")
        else _ENDS[spec.edge](values, fill, leaf)
    )
    if not len(ends):
        return values
    beyond = random.integers(0, len(ends), len(values))
    if spec.variant <= ANY_VARIANT:
        return np.where(random.integers(0, 2, len(values)), ends[beyond], values)
    picked = ends[(np.arange(len(values)) + spec.variant) % len(ends)]
    mixed = np.where(np.arange(len(values)) < 2 * len(ends), picked, ends[beyond])
    if spec.edge in ("special", "constants") and len(values) > 1:
        mixed = np.where(random.integers(0, 2, len(values)) == 0, mixed, values)
    return mixed.astype(values.dtype)


def applies(edge: str, fill: Fill, leaf: Leaf) -> bool:
    """Tell whether an edge changes what a fill makes for a leaf."""
    if edge in ("equal", "range_ends"):
        return fill.name in (*_RANDOM, "choice")
    if edge == "type_ends":
        return fill.name in _RANDOM and leaf.kind != "bool"
    if edge in ("constants", "promises"):
        return fill.name in ("uniform", "normal") and leaf.kind != "bool"
    return edge == "special" and fill.name in _RANDOM and leaf.kind == "float"


def _usable(constants: Sequence[int | float], fill: Fill, leaf: Leaf) -> "NDArray[Any]":
    """Return the numbers that a leaf can hold and that are in the range which the bench gives."""
    import numpy as np

    if leaf.kind == "float":
        least, most = float(-(1 << 24)), float(1 << 24)
    else:
        limits = np.iinfo(leaf.dtype)
        least, most = int(limits.min), int(limits.max)
    if fill.name == "uniform":
        least, most = max(least, fill.arguments[0]), min(most, fill.arguments[1])
    whole = leaf.kind != "float"
    usable = [n for n in constants if least <= n <= most and not (whole and n != int(n))]
    return np.asarray(usable).astype(leaf.dtype)


def _range_ends(values: "NDArray[Any]", fill: Fill, leaf: Leaf) -> "NDArray[Any]":
    import numpy as np

    if fill.name in ("uniform", "choice"):
        return np.asarray(sorted(set(fill.arguments))).astype(leaf.dtype)
    return np.asarray([values.min(), values.max()])


def _type_ends(_values: "NDArray[Any]", _fill: Fill, leaf: Leaf) -> "NDArray[Any]":
    import numpy as np

    if leaf.kind == "float":
        limits = np.finfo(leaf.dtype)
        return np.asarray([limits.max, limits.min, limits.tiny, -limits.tiny, 0])
    whole = np.iinfo(leaf.dtype)
    minus = [-1] if leaf.kind == "int" else [whole.max - 1]
    return np.asarray([whole.min, whole.max, 0, 1, *minus], dtype=leaf.dtype)


def _special(_values: "NDArray[Any]", _fill: Fill, leaf: Leaf) -> "NDArray[Any]":
    import numpy as np

    return np.asarray(
        [np.nan, np.inf, -np.inf, -0.0, np.finfo(leaf.dtype).smallest_subnormal], dtype=leaf.dtype
    )


_ENDS: Mapping[str, Callable[["NDArray[Any]", Fill, Leaf], "NDArray[Any]"]] = {
    "range_ends": _range_ends,
    "type_ends": _type_ends,
    "special": _special,
}


def _by_name(signatures: Iterable[Signature]) -> dict[str, list[Parameter]]:
    out: dict[str, list[Parameter]] = {}
    for signature in signatures:
        for parameter in signature.parameters:
            out.setdefault(parameter.name, []).append(parameter)
    return out


def size_names(snippet: Snippet, signatures: Sequence[Signature]) -> dict[str, int]:
    """Return the names that counts of buffers depend on, with the bytes of their elements."""
    parameters = _by_name(signatures)
    tied: dict[str, int] = {}
    for name, given in snippet.inputs.items():
        own = read_input(given, name, "")
        if not isinstance(own.elements, str) or name not in parameters:
            continue
        sizes = [p.type.to.size for p in parameters[name] if p.type.to]
        for used in names_in(own.elements):
            numeric = isinstance(snippet.inputs.get(used), int)
            if used in snippet.sweep or numeric:
                tied[used] = min(*(max(s, 1) for s in sizes), tied.get(used, 64), 64)
    return tied


def _shaped_names(
    edge: str, snippet: Snippet, parameters: Mapping[str, list[Parameter]]
) -> tuple[str, ...]:
    """Return the parameters whose values an edge changes.

    Where rivals take a parameter as different types, its ends are no fair values.
    """
    out = []
    for name, own in parameters.items():
        kinds = [p.type.to if p.type.kind == "pointer" else p.type for p in own]
        first = kinds[0]
        same = all(k and first and (k.kind, k.size) == (first.kind, first.size) for k in kinds)
        single = own[0].type.kind != "pointer"
        if name not in snippet.inputs or not first or not (same or edge == "equal"):
            continue
        if single and edge == "equal":
            continue
        given = read_input(snippet.inputs[name], name, "")
        texts = [given.fill, *given.members.values()]
        fills = [parse_fill(t, name) for t in texts if isinstance(t, str) and is_fill(t)]
        if any(applies(edge, fill, leaf) for fill in fills for leaf in leaves(first)):
            out.append(name)
    return tuple(out)

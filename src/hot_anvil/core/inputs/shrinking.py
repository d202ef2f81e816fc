"""Find a small input set that still shows a fault.

First smaller sizes, then plainer values: each part of a buffer becomes its own
element nearest to 0, as long as the fault stays. So all values remain ones
that the bench's own fills make.
"""

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.types import Type, leaf_values, leaves
from hot_anvil.core.inputs.input_sets import Argument, InputSet

Fails = Callable[[InputSet], bool]
MOST_TRIES = 80
_SMALL = (0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 12, 16, 17, 24, 32, 33, 48, 64, 65, 96, 128, 256, 512, 1024)


class Tries:
    """Counts tries, and says no to all once there were enough."""

    def __init__(self, fails: Fails, most: int) -> None:
        self._fails = fails
        self._left = most

    def __call__(self, inputs: InputSet) -> bool:
        """Tell whether the input set shows the fault, as far as tries are left."""
        if self._left <= 0:
            return False
        self._left -= 1
        return self._fails(inputs)


def shrink(
    inputs: InputSet,
    signature: Signature,
    fails: Fails,
    resize: Callable[[str, int], InputSet | None],
    sizes: Sequence[tuple[str, int]],
    most: int = MOST_TRIES,
) -> InputSet:
    """Return the smallest input set found that fails; the one given, if none is smaller.

    ``resize`` makes the set with one size (name, value) changed; ``sizes``
    are those that may be, with their values now.
    """
    tries = Tries(fails, most)
    for name, now in sizes:
        for size in (s for s in _SMALL if s < now):
            made = resize(name, size)
            if made is not None and tries(made):
                inputs = made
                break
    return _plainer(inputs, signature, tries)


def _plainer(inputs: InputSet, signature: Signature, tries: Tries) -> InputSet:
    types = {p.name: p.type for p in signature.parameters}
    for index, argument in enumerate(inputs.arguments):
        kind = types[argument.name].to
        if argument.kind != "buffer" or kind is None:
            continue
        for first, last in _parts(len(argument.data) // max(kind.size, 1)):
            argument = inputs.arguments[index]
            simpler = _with_plain(argument, kind, first, last)
            if simpler is None:
                continue
            made = (*inputs.arguments[:index], simpler, *inputs.arguments[index + 1 :])
            candidate = inputs._replace(arguments=made)
            if tries(candidate):
                inputs = candidate
    return inputs


def _parts(count: int) -> Iterator[tuple[int, int]]:
    """Give stretches of elements: all, halves, quarters, down to single ones."""
    length = count
    while length:
        for first in range(0, count, length):
            yield first, min(first + length, count)
        length = length // 2


def _with_plain(argument: Argument, kind: Type, first: int, last: int) -> Argument | None:
    """Return the buffer with a stretch of elements made plain, None when it is already."""
    import numpy as np

    data = bytearray(argument.data)
    for leaf in leaves(kind):
        values: Any = leaf_values(data, kind, leaf)
        if leaf.kind == "bool" or not values.size:
            continue
        sizes = np.abs(np.where(np.isfinite(values), values, np.inf).astype(float))
        values[first:last] = values.reshape(-1)[int(np.argmin(sizes))]
    return None if data == argument.data else argument._replace(data=bytes(data))

"""Which input sets there are to be, before their values are made."""

import itertools
from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.config.edge_kinds import SIZES
from hot_anvil.core.config.fill_names import is_fill
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.names import listed
from hot_anvil.errors import RequestError

SEEDS = 3
ANY_VARIANT = -1  # and below: an edge's values are drawn, not taken in turn
SEEDS_OF_NUMBERS = 16  # where a call takes no buffer, and costs next to nothing
Point = Mapping[str, int]
NO_NUMBERS: Point = MappingProxyType({})


class InputSpec(NamedTuple):
    """One input set to make."""

    point: Point
    seed: int = 1
    edge: str = ""  # kind of edge, see core/edges.py; "" for what the bench asks for
    numbers: Point = NO_NUMBERS  # sizes in place of the point's and the inputs'
    shaped: tuple[str, ...] = ()  # parameters whose values the edge changes
    variant: int = 0
    case: int = -1  # number of the bench's case, -1 for none
    constants: tuple[int | float, ...] = ()  # of the edge of that name: numbers to try

    @property
    def label(self) -> str:
        """What tells it from the other sets of a snippet, in words."""
        words = [point_label({**self.point, **self.numbers})]
        if self.case >= 0:
            words.append(f"case {self.case + 1}")
        elif self.edge and self.edge not in SIZES:
            number = f" {self.variant + 1}" if self.variant > 0 else ""
            number = f" drawn {-self.variant}" if self.variant <= ANY_VARIANT else number
            words.append(self.edge.replace("_", " ") + number)
        elif not self.edge:
            words.append(f"seed {self.seed}")
        return ", ".join(filter(None, words))


def spec_of_size(snippet: Snippet, size: str) -> InputSpec:
    """Return the first input set of one of the sweep's sizes, by its label; "": of the first size.

    Raises RequestError for a size that the snippet has not.
    """
    points = {point_label(point): point for point in sweep_points(snippet)}
    if size and size not in points:
        have = f"has these sizes: {listed(points)}" if snippet.sweep else "has no sweep of sizes"
        raise RequestError(f"{size}: snippet {snippet.name} {have}.", about="size")
    return InputSpec(points[size or next(iter(points))])


def point_label(point: Point) -> str:
    """Return a sweep point in one word: ``n=64``; "" for no sweep."""
    return " ".join(f"{name}={value}" for name, value in point.items())


def sweep_points(snippet: Snippet) -> tuple[Point, ...]:
    """Return every combination of the sweep's values; one empty point without a sweep."""
    names = list(snippet.sweep)
    product = itertools.product(*(snippet.sweep[name] for name in names))
    return tuple(dict(zip(names, values, strict=True)) for values in product)


def own_sets(snippet: Snippet) -> list[InputSpec]:
    """Return the input sets that the bench asks for: sweep points with every seed, and cases."""
    points = sweep_points(snippet)
    values = snippet.inputs.values()
    tables = [value for value in values if isinstance(value, Mapping)]
    drawn = tables or any(isinstance(value, str) and is_fill(value) for value in values)
    only_numbers = drawn and not any("count" in table or "alias" in table for table in tables)
    seeds = SEEDS_OF_NUMBERS if only_numbers else SEEDS
    spec = [InputSpec(point, seed + 1) for point in points for seed in range(seeds)]
    return [*spec, *(InputSpec(points[0], 1, case=number) for number in range(len(snippet.cases)))]

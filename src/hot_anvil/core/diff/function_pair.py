"""A function on both sides of a comparison."""

from typing import NamedTuple

from hot_anvil.core.model.control_flow import Body


class FunctionPair(NamedTuple):
    """One function on both sides, None where a side has not got it."""

    name: str
    title: str
    left: Body | None
    right: Body | None

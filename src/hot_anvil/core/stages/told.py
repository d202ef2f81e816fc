"""Calls of a snippet with what is left of each, as answers hold them."""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.stages.called import Caller
from hot_anvil.core.stages.remaining import Left


class CallerLeft(NamedTuple):
    """A function's calls, and by build what is left of each."""

    caller: Caller
    left: Mapping[str, tuple[Left, ...]]


class SnippetCalls(NamedTuple):
    """What a C++ snippet calls."""

    snippet: str
    callers: tuple[CallerLeft, ...]
    reader: str  # the toolchain whose unoptimised form it is read from
    form: str
    unknown: tuple[str, ...]  # elided copies that could not be found out
    sources: Mapping[str, Sequence[str]]

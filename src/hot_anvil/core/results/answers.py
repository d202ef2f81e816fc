"""What a command answered, whole: kept, shown again, sent to others."""

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Any, Literal, NamedTuple

from hot_anvil.core.measure.results import Measured, Picked
from hot_anvil.core.measure.summary import Result
from hot_anvil.core.verify.results import Checked

Command = Literal["check", "measure", "pick", "hotspots", "whatif"]
KEPT: tuple[Command, ...] = ("check", "measure", "pick", "hotspots", "whatif")

NO_SOURCES: Mapping[str, Sequence[str]] = MappingProxyType({})
NO_ARTEFACTS: Mapping[tuple[str, str], str] = MappingProxyType({})


class Answer(NamedTuple):
    """A command's answer: its results with all that its views show beside them."""

    command: Command
    # One for each snippet: Checked, Measured, Picked, Hot or WhatIf, by the command.
    results: tuple[Any, ...]
    notes: tuple[str, ...] = ()  # on the machine, as it was then
    said: tuple[str, ...] = ()  # of these, what was said before and is only named
    slower: tuple[Result, ...] = ()  # what is slower than it may be
    limit: str | None = None  # than what
    accept: tuple[str, ...] = ()  # failing verdicts that the request took for none
    asked: str = ""  # the words of a command line that asks about the same code and values again
    sources: Mapping[str, Sequence[str]] = NO_SOURCES  # lines of what the results point into
    # (snippet, build) -> names of its artefacts then; the same names are the same code.
    artefacts: Mapping[tuple[str, str], str] = NO_ARTEFACTS
    # (snippet, candidate) -> a text that is equal for equal code, of what was measured.
    codes: Mapping[tuple[str, str], str] = NO_ARTEFACTS

    @property
    def snippets(self) -> tuple[str, ...]:
        """The names of the snippets that it is about, in their order."""
        return tuple(snippet_of(result) for result in self.results)


class KeptAnswer(NamedTuple):
    """An answer as it was kept."""

    number: int
    at: float  # seconds since 1970
    machine: str  # its short identity
    machine_text: str  # what it is, in words
    version: str  # of Hot Anvil
    origin: str  # the file it was imported from, "" for here
    answer: Answer
    comparable: str = ""  # equal for machines whose times may be compared, "" where not known


class KeptHead(NamedTuple):
    """What a list of kept answers tells of one, without reading all of it."""

    number: int
    at: float
    command: str
    snippets: tuple[str, ...]
    machine: str
    origin: str


def to_keep(answer: Answer) -> Answer:
    """Return an answer without the input sets: no view shows them, and they are most of it."""

    def slim(result: Any) -> Any:
        if isinstance(result, Checked):
            return result._replace(sets=())
        if isinstance(result, Measured):
            return result._replace(checked=slim(result.checked))
        if isinstance(result, Picked):
            return result._replace(measured=slim(result.measured))
        return result

    return answer._replace(results=tuple(map(slim, answer.results)))


def snippet_of(result: Any) -> str:
    """Return the name of the snippet that one result is about."""
    if isinstance(result, Picked):
        result = result.measured
    if isinstance(result, Measured):
        result = result.checked
    snippet = result.snippet
    return snippet if isinstance(snippet, str) else str(snippet.name)

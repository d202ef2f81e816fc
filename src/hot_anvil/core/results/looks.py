"""What one save did to the code of the builds that are watched."""

from typing import NamedTuple

from hot_anvil.core.build.records import Built
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.core.toolchain.diagnostics import Diagnostic


class BuildLook(NamedTuple):
    """A snippet under one build, against its last good state."""

    built: Built  # as it is now
    diff: SnippetDiff | None  # None: the same code, refused, or nothing to compare with
    good: bool  # whether there is a state that compiled: this one, or one before
    instructions: int | None  # instructions of the last good state, None where there is none

    @property
    def state(self) -> str:
        """What the save did: "refused", "changed" or "same code"."""
        if self.built.status == "refused":
            return "refused"
        if self.diff is not None:
            return "changed"
        return "same code"

    @property
    def errors(self) -> tuple[Diagnostic, ...]:
        """What the compiler says is wrong."""
        return tuple(d for d in self.built.diagnostics if d.severity == "error")


class FactChange(NamedTuple):
    """A fact that a save changed."""

    build: str
    function: str  # title
    loop: str  # its source lines now, "" for a fact of the function
    fact: str
    before: str
    after: str


class ExpectationChange(NamedTuple):
    """An expectation whose state a save changed."""

    build: str
    entry: str
    fact: str
    before: str
    after: str
    found: str


class Look(NamedTuple):
    """What one save did."""

    number: int  # 0: how things stand at the start
    files: tuple[str, ...]  # that changed, as the bench names them
    seconds: float  # from the save being noticed to this answer
    compiling: float  # of those, until all builds were compiled
    builds: tuple[BuildLook, ...]
    facts: tuple[FactChange, ...]
    expectations: tuple[ExpectationChange, ...]
    sources: dict[str, list[str]]  # lines of files that errors are about

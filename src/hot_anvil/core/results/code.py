"""A snippet's code as it is shown: one build's, or two sides compared."""

from typing import TYPE_CHECKING, NamedTuple

from hot_anvil.core.asm.listing import ListedFunction
from hot_anvil.core.build.records import Built
from hot_anvil.core.code.records import EMITTED, View

if TYPE_CHECKING:  # comparing takes much that other commands do without
    from hot_anvil.core.diff.records import Diff, Explained


class Listing(NamedTuple):
    """One snippet's code under one build, by source line."""

    built: Built
    functions: tuple[ListedFunction, ...]
    isa: str = ""
    view: View = EMITTED
    library: str = ""  # the library that the code comes from, "" for the snippet's own
    note: str = ""


class CompilerText(NamedTuple):
    """The assembly of one source, as the compiler wrote it."""

    snippet: str
    build: str
    source: str
    text: str


class SnippetDiff(NamedTuple):
    """One snippet compared: two builds, two entries, before and after an edit, or two files."""

    left: Built
    right: Built
    explained: "Explained"
    isa: str = ""
    right_isa: str = ""
    names: tuple[str, str] = ("", "")  # of the two sides, as a person calls them

    @property
    def diff(self) -> "Diff":
        """The comparison without its reasons."""
        return self.explained.diff

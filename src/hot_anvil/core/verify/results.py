"""A snippet's candidates as they were checked."""

from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.verify.crash_report import Place
from hot_anvil.core.verify.options import Value
from hot_anvil.core.verify.promises import Promise
from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.verdicts import Verdict, Word
from hot_anvil.errors import AnvilError


class Disagreement(NamedTuple):
    """What two files of a snippet say differently of one name."""

    message: str
    place: Place
    other: Place  # what the other file says, NOWHERE where that is not known
    name: str = ""  # symbol of the function or variable, "" for a type


class Checked(NamedTuple):
    """The verdicts on a snippet's candidates."""

    snippet: Snippet
    signatures: tuple[Signature, ...]
    reference: str  # the candidate whose results count as right
    verdicts: tuple[Verdict, ...]
    notes: tuple[str, ...] = ()  # entries that could not be judged here, and why
    undefined: tuple[Undefined, ...] = ()  # behaviour of the source, once for each line
    excused: tuple[tuple[str, str], ...] = ()  # edge on which candidates may differ, and why
    edges: tuple[str, ...] = ()  # the kinds of edge sets it was checked with
    sanitized: str = ""  # the build that looked for undefined behaviour
    not_sanitized: str = ""  # why none did, "" when one did
    unset_watched: str = ""  # the build that looked for values never set, "" where none did
    starts_threads: bool = False  # the code itself does
    unreached: tuple[tuple[str, str, tuple[int, ...]], ...] = ()  # entry, file, lines never run
    promises: tuple[Promise, ...] = ()  # of the sources, that no compiler proves
    disagreements: tuple[Disagreement, ...] = ()  # of its files with each other
    values: tuple[Value, ...] = ()  # what candidates put out, where that was asked for
    sets: tuple[tuple[InputSet, ...], ...] = ()  # per entry, those that it was checked with
    fault: AnvilError | None = None  # why the snippet could not be checked

    @property
    def correct(self) -> tuple[Verdict, ...]:
        """The candidates that may be chosen."""
        return tuple(v for v in self.verdicts if v.usable)

    @property
    def timed(self) -> tuple[Verdict, ...]:
        """The candidates that may be measured: an emulator's clock is nobody's time."""
        return tuple(v for v in self.correct if not v.emulator)

    @property
    def many_threads(self) -> bool:
        """True where more than one thread runs while the code is timed."""
        return self.starts_threads or self.snippet.threads > 1

    def without(self, candidate: str, verdict: Word, why: str) -> "Checked":
        """Return the same with another verdict on one candidate."""
        changed = tuple(
            v._replace(verdict=verdict, why=why) if v.candidate == candidate else v
            for v in self.verdicts
        )
        return self._replace(verdicts=changed)


class Replay(NamedTuple):
    """One candidate called once more on an input set that was found to fail."""

    snippet: Snippet
    candidate: str
    reference: str
    label: str  # of the input set it came from
    inputs: tuple[tuple[str, str], ...]  # parameter and value in words
    expected: str  # what the reference makes of it
    got: str  # what the candidate makes of it, "" when it ends
    verdict: Word
    why: str
    place: Place

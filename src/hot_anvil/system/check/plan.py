"""What a check works with: the plan of a snippet, what candidates are compared with."""

from collections.abc import Callable, Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.variables import Variable
from hot_anvil.core.build.records import Built
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.records import Bench, Snippet
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.toolchain.records import Cure
from hot_anvil.core.verify.options import CheckOptions
from hot_anvil.core.verify.promises import Promise
from hot_anvil.core.verify.sanitizer_reports import Undefined
from hot_anvil.core.verify.verdicts import Finding, Trial, Verdict
from hot_anvil.errors import RequestError
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.reaching import Instrumented
from hot_anvil.system.execute.calls import PreparedInputs
from hot_anvil.system.process.progress import Progress
from hot_anvil.system.store.store import Store

RACE_CALLS = 60  # on each input set, of a candidate whose source has a race


class Sanitized(NamedTuple):
    """The extra build that finds undefined behaviour, or why there is none."""

    build: str
    program: Program
    traps: bool = False  # it stops without a word where behaviour is undefined


class Known(NamedTuple):
    """What a check on another machine showed of the source; here nothing looks for it again."""

    undefined: tuple[Undefined, ...]
    excused: tuple[tuple[str, str], ...]  # edge on which candidates may differ, and why


class Variant(NamedTuple):
    """What differs in a build that is made to narrow down a fault."""

    flags: tuple[str, ...] = ()  # more of them
    edited: Mapping[str, str] = MappingProxyType({})  # source -> its text


class Experiments(NamedTuple):
    """Builds that are made to narrow down a fault."""

    vary: Callable[[Built, Variant], Program]
    cures: Callable[[Built], Sequence[Cure]]
    family: Callable[[Built], str]


class CheckPlan(NamedTuple):
    """A snippet to check, with all that the checking needs."""

    bench: Bench
    snippet: Snippet
    reference_build: str
    signatures: tuple[Signature, ...]
    builds: Sequence[Built]
    programs: Mapping[str, Program]
    sanitized: Sanitized
    warnings: Callable[[], Sequence[tuple[str, Sequence[Diagnostic]]]]  # of each compiler
    races: Callable[[], Sanitized]
    second: Callable[[], Sanitized]  # of another compiler: each sees what the other folds away
    unset: Callable[[], Sanitized]  # for values that are used and were never set
    reach: Callable[[], Instrumented]
    experiments: Experiments
    tools: str  # changes with the compilers that are asked about the source
    threaded: bool  # the code starts threads
    blind: str  # why races cannot be looked for, "" where they can
    store: Store
    options: CheckOptions
    progress: Progress
    variables: tuple[Variable, ...] = ()  # of the sources, that calls may leave results in
    constants: tuple[int | float, ...] = ()  # that the code compares with, and their neighbours
    promises: tuple[Promise, ...] = ()  # of the sources
    known: Known | None = None  # None: all is looked for

    @property
    def call_seconds(self) -> float:
        """A longer call is a hang."""
        return self.options.call_seconds

    @property
    def repeat(self) -> int:
        """Calls on each input set of the bench, in all."""
        return self.options.repeat

    def calling(self, repeat: int) -> "CheckPlan":
        """Return the same with another number of calls on each input set."""
        return self._replace(options=self.options._replace(repeat=repeat))

    @property
    def reference(self) -> int:
        """The number of the entry whose results count as right."""
        names = [signature.name for signature in self.signatures]
        wanted = self.snippet.reference or names[0]
        if wanted not in names:
            raise RequestError(
                f"{self.bench.file}: snippet {self.snippet.name}: the reference '{wanted}' is no "
                "entry."
            )
        return names.index(wanted)

    @property
    def reference_built(self) -> Built:
        """The build whose results count as right."""
        return next(b for b in self.builds if b.build.name == self.reference_build)

    @property
    def alone(self) -> bool:
        """True when a candidate goes by its build's name."""
        return len(self.signatures) == 1 and len(self.snippet.entries) < 2


class Oracle(NamedTuple):
    """What candidates are compared with."""

    signature: Signature
    path: str  # of the reference's program
    entry: int
    expected: Sequence[Output | None]  # None: nothing to compare with on that set
    trials: tuple[Trial, ...]  # of the reference's own, one for each layout where none ended
    excused: frozenset[int] = frozenset()  # sets on which candidates may differ from it


class Evaluated(NamedTuple):
    """A candidate, and what its trials show."""

    built: Built
    finding: Finding


FollowUp = Callable[[CheckPlan, PreparedInputs, Oracle, Evaluated], Verdict]

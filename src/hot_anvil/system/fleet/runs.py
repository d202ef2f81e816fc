"""Requests that run code: what is checked and what is measured on another machine.

Apart from ``requests``, since whoever only compiles need not load all that checks and measures.
"""

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.binary.variables import Variable
from hot_anvil.core.build.records import Built
from hot_anvil.core.config.records import Bench, ProgramRun, Snippet
from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.measure.options import Options
from hot_anvil.core.verify.options import CheckOptions
from hot_anvil.core.verify.promises import Promise
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict, Word
from hot_anvil.system.build.linking import Program
from hot_anvil.system.check.plan import Known
from hot_anvil.system.fleet.requests import Given, moved
from hot_anvil.system.measure.measuring import Linked
from hot_anvil.system.measure.program_times import Field
from hot_anvil.system.store.store import Store


class Check(NamedTuple):
    """Run candidates on the input sets, and compare them with the reference."""

    given: Given
    bench: Bench
    snippet: Snippet
    reference_build: str
    signatures: tuple[Signature, ...]
    builds: tuple[Built, ...]
    programs: Mapping[str, Program]
    threaded: bool
    variables: tuple[Variable, ...]
    constants: tuple[int | float, ...]
    promises: tuple[Promise, ...]
    known: Known
    options: CheckOptions


class RunGiven(NamedTuple):
    """One run of a whole program, with its files by content."""

    run: ProgramRun
    label: str
    stdin: bytes
    needs: Mapping[str, bytes]
    expected: Mapping[str, bytes]


class CheckPrograms(NamedTuple):
    """Run whole programs, and compare what they put out."""

    given: Given
    snippet: Snippet
    reference_build: str
    builds: tuple[Built, ...]
    programs: Mapping[str, Program]
    runs: tuple[RunGiven, ...]
    options: CheckOptions


class Measure(NamedTuple):
    """Time candidates: one block of a measurement."""

    given: Given
    bench: Bench
    checked: Checked
    linked: Linked
    baseline: str
    options: Options
    only_best: bool
    watched: tuple[tuple[str, str], ...]

    @property
    def alone(self) -> bool:
        """Nothing else of ours may run beside it."""
        return True


class MeasurePrograms(NamedTuple):
    """Time whole programs."""

    given: Given
    field: Field
    needs: tuple[Mapping[str, bytes], ...]  # of each run
    wanted: str | None
    seconds: float
    seed: int | None
    threaded: bool

    @property
    def alone(self) -> bool:
        """Nothing else of ours may run beside it."""
        return True


class Verdicts(NamedTuple):
    """What a check there came to."""

    verdicts: tuple[Verdict, ...]


class Block(NamedTuple):
    """What was measured there, and what disturbs measurements there."""

    measurements: tuple[Measurements, ...]
    anchor: str
    notes: tuple[str, ...]


class EndedThere(NamedTuple):
    """A candidate that ended while it was timed there."""

    candidate: str
    kind: Word
    why: str


def moved_programs(
    programs: Mapping[str, Program], names: Sequence[str], store: Store
) -> dict[str, Program]:
    """Return programs as they lie in another store."""
    return {
        build: program._replace(path=moved(program.path, names, store))
        for build, program in programs.items()
    }

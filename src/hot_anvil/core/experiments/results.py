"""What became of experiments, as values."""

from typing import Literal, NamedTuple

from hot_anvil.core.experiments.records import Experiment
from hot_anvil.core.measure.summary import Result
from hot_anvil.core.measure.verdict_words import FASTER

WORTH_IT = 0.985  # the most that a gain's interval may reach: less is next to nothing
State = Literal["refused", "no change", "same", "wrong", "not timed", "measured"]
REFUSED: State = "refused"  # it does not compile
NO_CHANGE: State = "no change"  # the code is what it was
SAME: State = "same"  # the code is another experiment's
WRONG: State = "wrong"  # it computes something else, whatever is promised
NOT_TIMED: State = "not timed"  # no time was left, or the search was interrupted
MEASURED: State = "measured"


class Broken(NamedTuple):
    """An input under which a promise does not hold, and what came of it."""

    inputs: str  # the input set in words
    what: str  # what the candidate did


class Tried(NamedTuple):
    """One experiment and what became of it."""

    experiment: Experiment
    build: str
    state: State
    why: str = ""  # of one that is refused or wrong
    same_as: str = ""  # the experiment whose code it is
    broken: Broken | None = None  # where its promise is shown to matter
    tested: str = ""  # how the checks tried to break its promise, "" where they could not
    ulp: float = 0.0  # how far floats are off, in units of the last place
    result: Result | None = None  # against the build it started from
    code_bytes: int | None = None
    instructions: int | None = None
    compile_seconds: float = 0.0
    reasons: tuple[str, ...] = ()  # of the difference in the code
    patch: str = ""  # of the sources, "" for one of flags
    command: str = ""

    @property
    def gain(self) -> bool:
        """Whether it is told faster, and by enough to be worth an edit or a promise."""
        told = self.result.comparison.verdict if self.result else None
        return told is not None and told.word == FASTER and told.high <= WORTH_IT

    @property
    def ratio(self) -> float:
        """Its time over the build's that it started from, infinite where it was not timed."""
        return self.result.comparison.verdict.ratio if self.result else float("inf")


class WhatIf(NamedTuple):
    """The experiments on one entry."""

    snippet: str
    entry: str
    build: str
    tried: tuple[Tried, ...]  # ranked: told faster first, then by ratio, then what was not timed
    base: Result | None  # the build that they started from
    base_bytes: int | None
    base_seconds: float  # of compiling
    said: tuple[str, ...] = ()  # what the build's compiler says that it could not do there
    notes: tuple[str, ...] = ()
    interrupted: bool = False

    @property
    def best(self) -> Tried | None:
        """What is told faster than the build, the fastest; None for nothing."""
        return next((one for one in self.tried if one.gain), None)

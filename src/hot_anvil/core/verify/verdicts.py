"""Judge a candidate's outputs against the reference's."""

from collections.abc import Collection, Sequence
from typing import Literal, NamedTuple

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.config.failing import FAILING
from hot_anvil.core.config.records import Tolerance
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.names import listed
from hot_anvil.core.verify.agreement import Error, first_difference, larger, told_output
from hot_anvil.core.verify.blame import Extent
from hot_anvil.core.verify.crash_report import NOWHERE, Place, outside

Word = Literal["correct", "wrong", "unstable", "crashed", "hung", "undefined", "refused", "not run"]
CORRECT: Word = "correct"
WRONG: Word = "wrong"
UNSTABLE: Word = "unstable"
CRASHED: Word = "crashed"
HUNG: Word = "hung"
UNDEFINED: Word = "undefined"
REFUSED: Word = "refused"
NOT_RUN: Word = "not run"
NOTHING_TO_COMPARE = "it ran, but returns nothing and writes no buffer: nothing was compared"

Tally = tuple[tuple[int, str], ...]  # how often each output came, the most frequent first


class Verdict(NamedTuple):
    """A candidate's state after checking."""

    snippet: str
    entry: str
    build: str
    candidate: str
    verdict: Word
    why: str  # "" when correct and compared
    input_sets: int  # how many it was judged on
    inputs: str = ""  # the first set that shows it
    edge: str = ""  # kind of that set when it is an edge
    place: Place = NOWHERE  # source line of a crash, a hang, or undefined behaviour
    error: Error | None = None  # the largest of floats, tolerated or not
    tally: Tally = ()
    smallest: tuple[tuple[str, str], ...] = ()  # parameter and value of the smallest that shows it
    smallest_why: str = ""
    replay: str = ""  # name under which that input set is kept
    suspects: tuple[str, ...] = ()  # what compilers and sanitizers say of the source
    between: Extent | None = None  # lines that a wrong result comes from, where not one is known
    accepted: str = ""  # why the bench accepts the verdict, "" where it does not
    emulator: str = ""  # what ran it, "" for this machine itself

    @property
    def usable(self) -> bool:
        """Whether the candidate may be measured and chosen."""
        return self.verdict == CORRECT or (self.verdict == UNDEFINED and bool(self.accepted))

    @property
    def failing(self) -> bool:
        """Whether it is a failure that the bench does not accept."""
        return self.verdict in FAILING and not self.accepted


class Trial(NamedTuple):
    """What became of one run over all input sets."""

    outputs: tuple[Output | None, ...]  # None for sets that were not reached
    ending: Word | Literal[""]
    why: str
    at: int = -1  # the set it ended on
    place: Place = NOWHERE
    layout: int = 0  # of laying out the sets


class Finding(NamedTuple):
    """What the trials of one candidate show."""

    verdict: Word
    why: str
    at: int = -1  # the input set that shows it
    place: Place = NOWHERE
    error: Error | None = None
    layout: int = 0  # of laying out the sets, that shows it
    left_out: int = 0  # input sets that the other machine's types or memory do not hold


_LEFT = {
    1: "how floats are rounded or trapped", 2: "values on the x87 stack (or MMX registers)",
    4: "the direction flag", 8: "which signals are blocked", 16: "the working folder",
    32: "the environment", 64: "which descriptors are open",
    128: "interrupts, which are off",
}  # fmt: skip


def in_words(left: int) -> str:
    """Return what a call leaves changed in its process."""
    return listed(words for bit, words in _LEFT.items() if left & bit)


def candidate_name(entry: str, build: str, alone: bool) -> str:
    """Return how people write a candidate; just the build where there is one entry."""
    return build if alone else f"{entry}@{build}"


def judge(
    expected: Sequence[Output | None],
    reference: Signature,
    trials: Sequence[Trial],
    signature: Signature,
    sets: Sequence[InputSet],
    tolerance: Tolerance,
    excused: Collection[int] = (),
) -> Finding:
    """Return what the trials of a candidate show, each in a fresh process.

    Sets without an expected output count for crashes and stability only;
    so do those of ``excused`` on which the output differs.
    """
    for trial in trials:
        if trial.ending:
            return Finding(trial.ending, trial.why, trial.at, trial.place, layout=trial.layout)
    for index in range(len(sets)):
        outputs = [output for trial in trials if (output := trial.outputs[index])]
        for output in outputs:
            if output.damage:
                return Finding(WRONG, f"writes {outside(output.damage, signature)}", index)
            wanted = expected[index]
            left = output.left & ~(wanted.left if wanted else 0)
            if left:
                return Finding(WRONG, f"leaves {in_words(left)} changed after it returns", index)
    for index, inputs in enumerate(sets):
        outputs = [output for trial in trials if (output := trial.outputs[index])]
        for other in outputs[1:]:
            # What accumulates in variables depends on the order of the sets.
            alone = other._replace(variables=())
            difference, _ = first_difference(signature, outputs[0], signature, alone, inputs)
            if difference:
                return Finding(UNSTABLE, f"two runs differ: {difference}", index)
    return _compared(expected, reference, trials[0], signature, sets, tolerance, excused)


def _compared(
    expected: Sequence[Output | None],
    reference: Signature,
    trial: Trial,
    signature: Signature,
    sets: Sequence[InputSet],
    tolerance: Tolerance,
    excused: Collection[int],
) -> Finding:
    largest: Error | None = None
    first: Finding | None = None
    for index, (wanted, got) in enumerate(zip(expected, trial.outputs, strict=True)):
        if wanted is None or got is None:
            continue
        difference, error = first_difference(
            reference, wanted, signature, got, sets[index], tolerance
        )
        largest = larger(largest, error)
        if difference and not first and index not in excused:
            first = Finding(WRONG, difference, index)
    if first:
        return first._replace(error=largest)
    nothing = signature.returns.kind == "void"
    nothing = nothing and not any(output.variables for output in trial.outputs if output)
    if nothing and not any(p.writable for p in signature.parameters):
        return Finding(CORRECT, NOTHING_TO_COMPARE)
    return Finding(CORRECT, "", error=largest)


def make_tally(
    counted: Sequence[tuple[int, Output]], signature: Signature, inputs: InputSet
) -> Tally:
    """Join outputs that agree in all that counts, and put them in words."""
    kinds: list[list[tuple[int, Output]]] = []
    for count, output in counted:
        for kind in kinds:
            if not first_difference(signature, kind[0][1], signature, output, inputs)[0]:
                kind.append((count, output))
                break
        else:
            kinds.append([(count, output)])
    made = [
        (sum(count for count, _ in kind), told_output(kind[0][1], signature, inputs))
        for kind in kinds
    ]
    return tuple(sorted(made, key=lambda row: -row[0]))


def tally_text(tally: Tally) -> str:
    """Return how many distinct outputs came in how many runs."""
    return f"{len(tally)} distinct outputs in {sum(count for count, _ in tally)} runs"

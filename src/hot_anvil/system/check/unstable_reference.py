"""What can be said of candidates whose reference puts out one thing now and another then."""

from collections.abc import Sequence
from functools import cache

from hot_anvil.core.binary.signatures import Signature
from hot_anvil.core.calling.protocol import Output
from hot_anvil.core.inputs.input_sets import InputSet
from hot_anvil.core.verify.agreement import first_difference
from hot_anvil.core.verify.distributions import beside, compare_tallies, in_one_order
from hot_anvil.core.verify.verdicts import (
    CORRECT,
    UNSTABLE,
    WRONG,
    Trial,
    Verdict,
    make_tally,
)
from hot_anvil.system.check.plan import CheckPlan
from hot_anvil.system.execute.calls import PreparedInputs, run_tally

CALLS = 60  # of each candidate, on the input set that shows it
_PROCESSES = 6


def unstable_sets(
    trials: Sequence[Trial], signature: Signature, sets: Sequence[InputSet]
) -> frozenset[int]:
    """Return the input sets on which runs of one program differ."""
    out = set()
    for index, inputs in enumerate(sets):
        # What accumulates in variables depends on the order of the sets.
        seen = [o._replace(variables=()) for t in trials if (o := t.outputs[index])]
        if any(first_difference(signature, seen[0], signature, o, inputs)[0] for o in seen[1:]):
            out.add(index)
    return frozenset(out)


def beside_unstable(
    plan: CheckPlan,
    ranges: Sequence[PreparedInputs],
    reference: str,
    verdicts: Sequence[Verdict],
) -> tuple[Verdict, ...]:
    """Return the verdicts; where the reference is unstable none is correct by one of its runs.

    How often each output comes is compared instead, with a two-sample test.
    """
    own = next((v for v in verdicts if v.candidate == reference), None)
    if own is None or own.verdict != UNSTABLE or own.edge:
        return tuple(verdicts)
    doubtful = (CORRECT, UNSTABLE, WRONG)
    others = [v for v in verdicts if v is not own and v.verdict in doubtful and not v.edge]
    mine = ranges[plan.reference]

    @cache
    def counted(entry: int, build: str, at: int) -> list[tuple[int, Output]]:
        return run_tally(plan.programs[build].path, ranges[entry], at, CALLS, _PROCESSES)

    def compared(verdict: Verdict) -> Verdict:
        if not own.inputs:  # it was unstable in an earlier check, and is not now
            return beside(verdict, reference, None, "")
        label = verdict.inputs if verdict.verdict == WRONG else own.inputs
        at = next(k for k, inputs in enumerate(mine.sets) if inputs.label == label)
        entry = next(r.entry for r in ranges if r.signature.name == verdict.entry)
        signature, inputs = ranges[entry].signature, ranges[entry].sets[at]
        theirs = counted(entry, verdict.build, at)
        if verdict.verdict == WRONG:
            settled = len(counted(mine.entry, plan.reference_build, at)) == 1
            if settled or any(o.damage or o.left for _, o in theirs):
                return verdict

        def same(a: tuple[Signature, Output], b: tuple[Signature, Output]) -> bool:
            return not first_difference(a[0], a[1], b[0], b[1], inputs)[0]

        sides = in_one_order(
            [(n, (mine.signature, o)) for n, o in counted(mine.entry, plan.reference_build, at)],
            [(n, (signature, o)) for n, o in theirs],
            same,
        )
        told = compare_tallies(*sides, len(others))
        tally = verdict.tally or make_tally(theirs, signature, inputs)
        return beside(verdict, reference, told, label)._replace(tally=tally)

    return tuple(compared(v) if v in others else v for v in verdicts)

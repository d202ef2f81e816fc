"""Judge a candidate's outputs against the reference's."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

from hot_anvil.core.fills import numpy_type
from hot_anvil.core.inputs import InputSet
from hot_anvil.core.protocol import Output
from hot_anvil.core.signature import Signature

if TYPE_CHECKING:
    from numpy.typing import NDArray

CORRECT, WRONG, UNSTABLE, CRASHED = "correct", "wrong", "unstable", "crashed"
HUNG, REFUSED, NOT_RUN = "hung", "refused", "not run"
NOTHING_TO_COMPARE = "it ran, but returns nothing and writes no buffer: nothing was compared"


class Verdict(NamedTuple):
    """A candidate's state after checking."""

    snippet: str
    entry: str
    build: str
    candidate: str
    verdict: str
    why: str  # "" when correct and compared
    input_sets: int  # how many it was judged on


class Trial(NamedTuple):
    """What became of one run over all input sets: outputs until it ended."""

    outputs: tuple[Output, ...]
    ending: str  # "", CRASHED, HUNG or NOT_RUN
    why: str


def candidate_name(entry: str, build: str, alone: bool) -> str:
    """Return how people write a candidate; just the build where there is one entry."""
    return build if alone else f"{entry}@{build}"


def judge(
    expected: Sequence[Output],
    reference: Signature,
    trials: Sequence[Trial],
    signature: Signature,
    sets: Sequence[InputSet],
) -> tuple[str, str]:
    """Return (verdict, why) for the trials of one candidate, each in a fresh process."""
    for trial in trials:
        if trial.ending:
            done = len(trial.outputs)
            return trial.ending, trial.why + (
                f" with {_of(sets[done])}" if done < len(sets) else ""
            )
    for index, inputs in enumerate(sets):
        outputs = [trial.outputs[index] for trial in trials]
        for other in outputs[1:]:
            difference = first_difference(signature, outputs[0], signature, other, inputs)
            if difference:
                return UNSTABLE, f"two runs differ with {_of(inputs)}: {difference}"
    for index, inputs in enumerate(sets):
        got = trials[0].outputs[index]
        difference = first_difference(reference, expected[index], signature, got, inputs)
        if difference:
            return WRONG, f"{difference}, with {_of(inputs)}"
    if signature.returns.kind == "void" and not any(p.writable for p in signature.parameters):
        return CORRECT, NOTHING_TO_COMPARE
    return CORRECT, ""


def first_difference(
    reference: Signature, expected: Output, signature: Signature, got: Output, inputs: InputSet
) -> str:
    """Return the first difference of two outputs in words, "" when they agree.

    Return values compare as numbers, buffers element by element and exactly;
    a NaN equals a NaN. Buffers of rivals correspond by parameter name where
    the names agree, else by position.
    """
    import numpy as np

    if reference.returns.kind != "void" and signature.returns.kind != "void":
        a, b = _result(reference, expected), _result(signature, got)
        if not _equal(a, b).all():
            return f"returned {_shown(b)}, expected {_shown(a)}"
    left, right = _buffers(reference, expected), _buffers(signature, got)
    # What one side may write and the other not must be as it was before the call; some
    # languages cannot say that they only read.
    mine = {p.name for p in signature.parameters} & {p.name for p in reference.parameters}
    untouched = _initial(signature, inputs)
    left |= {n: untouched[n] for n in right if n not in left and n in mine & set(untouched)}
    right |= {n: untouched[n] for n in left if n not in right and n in mine & set(untouched)}
    if len(left) != len(right):
        return f"writes {len(right)} buffers, the reference {len(left)}"
    names = list(right) if set(left) == set(right) else None
    for position, (name, b) in enumerate(right.items()):
        a = left[name] if names else list(left.values())[position]
        if len(a) != len(b):
            return f"{name} has {len(b)} elements, the reference's {len(a)}"
        bad = np.flatnonzero(~_equal(a, b))
        if len(bad):
            at = int(bad[0])
            more = f" ({len(bad)} of {len(b)} elements differ)" if len(bad) > 1 else ""
            return f"{name}[{at}] is {_shown(b[at])}, expected {_shown(a[at])}{more}"
    return ""


def _equal(a: "NDArray[Any]", b: "NDArray[Any]") -> "NDArray[Any]":
    import numpy as np

    same = a == b
    if a.dtype.kind == "f" and b.dtype.kind == "f":
        same = same | (np.isnan(a) & np.isnan(b))
    return np.asarray(same)


def _result(signature: Signature, output: Output) -> "NDArray[Any]":
    import numpy as np

    if signature.returns.kind == "pointer":  # (index of the buffer, offset)
        return np.frombuffer(output.result, dtype="<i8")
    dtype = numpy_type(signature.returns)
    return np.frombuffer(output.result[: dtype.itemsize], dtype=dtype)


def _buffers(signature: Signature, output: Output) -> "dict[str, NDArray[Any]]":
    import numpy as np

    types = {p.name: p.type.to for p in signature.parameters}
    named = [(name, types[name], data) for name, data in output.buffers]
    return {name: np.frombuffer(data, dtype=numpy_type(kind)) for name, kind, data in named if kind}


def _initial(signature: Signature, inputs: InputSet) -> "dict[str, NDArray[Any]]":
    """Return what the buffers hold before the call."""
    import numpy as np

    types = {p.name: p.type.to for p in signature.parameters}
    return {
        a.name: np.frombuffer(a.data, dtype=numpy_type(kind))
        for a in inputs.arguments
        if a.kind == "buffer" and (kind := types.get(a.name))
    }


def _shown(value: Any) -> str:
    item = value.tolist()
    item = item[0] if isinstance(item, list) and len(item) == 1 else item
    return f"{item:.9g}" if isinstance(item, float) else str(item)


def _of(inputs: InputSet) -> str:
    return f"{inputs.label + ', ' if inputs.label else ''}seed {inputs.seed}"

"""Check experiments: whether each computes the right thing, and try to break what it rests on."""

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.build.records import Built
from hot_anvil.core.config.records import Snippet
from hot_anvil.core.experiments.results import Broken
from hot_anvil.core.verify.options import CheckOptions
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import WRONG, Verdict
from hot_anvil.errors import AnvilError
from hot_anvil.usecases.trial_builds import with_trials
from hot_anvil.usecases.trying import Bases, Candidate
from hot_anvil.usecases.verification import check_snippets

_ROUNDS = 4  # of allowing floats more


class Judged(NamedTuple):
    """What checking says of one experiment."""

    verdict: Verdict  # under its promise
    broken: Broken | None  # where its promise is shown to matter
    tested: str  # how that was tried, "" where it could not be
    ulp: float


def judge_all(
    bases: Bases, candidates: Sequence[Candidate], call_seconds: float
) -> tuple[Checked, dict[str, Judged]]:
    """Return the check of the build that experiments start from, and by name what each is."""
    builts = [c.built for c in candidates if c.built]
    checked = _check(bases, bases.snippet, [bases.built, *builts], call_seconds)
    verdicts = {v.build: v for v in checked.verdicts}
    judged = {}
    for candidate in candidates:
        assert candidate.built
        name = candidate.built.build.name
        judged[candidate.experiment.name] = _judge(bases, candidate, verdicts[name], call_seconds)
    _try_overlaps(bases, candidates, judged, call_seconds)
    return checked, judged


def _check(
    bases: Bases, snippet: Snippet, builts: Sequence[Built | None], call_seconds: float
) -> Checked:
    own = [built for built in builts if built]
    tried = with_trials(bases.workspace, snippet, own, bases.built.build)
    (checked,) = check_snippets(tried, (), CheckOptions(call_seconds))
    if checked.fault:
        raise checked.fault
    return checked


def _judge(bases: Bases, candidate: Candidate, verdict: Verdict, call_seconds: float) -> Judged:
    experiment = candidate.experiment
    tests = []
    if experiment.breaks:
        tests.append("edge inputs of the kinds that it rules out")
    if experiment.loosens:
        tests.append("results compared to the last bit")
    tested = " and ".join(tests)
    if verdict.usable or not (experiment.breaks or experiment.loosens):
        return Judged(verdict, None, tested, 0.0)
    broken = Broken(verdict.inputs, verdict.why)
    promised = dict.fromkeys(experiment.breaks, experiment.promise)
    snippet = bases.snippet._replace(not_promised={**bases.snippet.not_promised, **promised})
    ulp, again = 0.0, verdict
    if promised:
        again = _verdict(bases, snippet, candidate, call_seconds)
    for _ in range(_ROUNDS if experiment.loosens else 0):
        if again.verdict != WRONG or again.error is None or not math.isfinite(again.error.ulp):
            break
        ulp = max(2 * ulp, math.ceil(again.error.ulp))
        tolerance = snippet.tolerance._replace(ulp=max(ulp, snippet.tolerance.ulp))
        snippet = snippet._replace(tolerance=tolerance)
        again = _verdict(bases, snippet, candidate, call_seconds)
    if again.usable and again.error:
        ulp = again.error.ulp
    return Judged(again, broken, tested, ulp if again.usable else 0.0)


def _verdict(bases: Bases, snippet: Snippet, candidate: Candidate, call_seconds: float) -> Verdict:
    found = _check(bases, snippet, [bases.built, candidate.built], call_seconds)
    return next(v for v in found.verdicts if v.build == _name(candidate))


def _try_overlaps(
    bases: Bases,
    candidates: Sequence[Candidate],
    judged: dict[str, Judged],
    call_seconds: float,
) -> None:
    """Lay buffers over each other that are promised to be apart, and see who minds."""
    promised = [
        c for c in candidates if c.experiment.apart and judged[c.experiment.name].verdict.usable
    ]
    names = list(dict.fromkeys(name for c in promised for name in c.experiment.apart))
    for name in names:
        own = [c for c in promised if name in c.experiment.apart and c.built]
        for inner, outer in _overlaps(bases.snippet, name):
            verdicts = _overlapped(bases, own, inner, outer, call_seconds)
            if verdicts is None:
                continue  # such inputs cannot be made, or the build itself fails on them
            for candidate in own:
                key, verdict = candidate.experiment.name, verdicts[_name(candidate)]
                now = judged[key]._replace(tested="buffers that overlap by all but one element")
                if not verdict.usable and now.broken is None:
                    what = f"{inner} = {outer} + 1 element, {verdict.inputs}".rstrip(", ")
                    now = now._replace(broken=Broken(what, verdict.why))
                judged[key] = now


def _name(candidate: Candidate) -> str:
    assert candidate.built
    return candidate.built.build.name


def _overlaps(snippet: Snippet, name: str) -> Iterator[tuple[str, str]]:
    """Give (parameter, parameter in whose buffer it is to lie) for one that is to be apart."""
    tables = [n for n, v in snippet.inputs.items() if isinstance(v, Mapping) and "count" in v]
    for other in tables if name in tables else ():
        if other != name:
            yield name, other
            yield other, name


def _overlapped(
    bases: Bases, own: Sequence[Candidate], inner: str, outer: str, call_seconds: float
) -> Mapping[str, Verdict] | None:
    """Return verdicts by build where a buffer begins one element into another, None for none."""
    table = bases.snippet.inputs[outer]
    longer = {**table, "count": f"({table['count']}) + 1"}
    inputs = {**bases.snippet.inputs, inner: {"alias": outer, "offset": 1}, outer: longer}
    snippet = bases.snippet._replace(inputs=inputs)
    try:
        found = _check(bases, snippet, [bases.built, *(c.built for c in own)], call_seconds)
    except AnvilError:
        return None
    verdicts = {v.build: v for v in found.verdicts}
    return verdicts if verdicts[bases.built.build.name].usable else None

"""What was found out on many machines, class by class and over all of them."""

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from hot_anvil.core.fleet.choosing import Choice, choose, class_times
from hot_anvil.core.fleet.machines import MachineClass
from hot_anvil.core.fleet.spread import Compiled
from hot_anvil.core.measure.results import Measured, Picked
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import NOT_RUN

HERE = "here"


class OnClass(NamedTuple):
    """The answer of one class of machines."""

    own: MachineClass
    worked: tuple[str, ...]  # names of the machines that did it
    results: tuple[Any, ...]  # one for each snippet: Checked, Measured, Picked or WhatIf
    notes: tuple[str, ...]
    missing: str = ""  # why there are no results

    @property
    def lacking(self) -> tuple[tuple[str, str], ...]:
        """What it did not answer: (snippet, why), the snippet "" for all of it."""
        if self.missing:
            return (("", self.missing),)
        checks = filter(None, map(checked_of, self.results))
        return tuple((c.snippet.name, str(c.fault)) for c in checks if c.fault)


class Differing(NamedTuple):
    """A candidate that is not everywhere what it is here: a bug, in the code or in a machine."""

    candidate: str
    snippet: str
    verdicts: Mapping[str, str]  # class, or HERE -> verdict
    why: str


class OnFleet(NamedTuple):
    """The answer of a fleet."""

    command: str
    classes: tuple[OnClass, ...]
    here: tuple[Checked, ...] = ()  # the check on this machine
    choices: tuple[Choice, ...] = ()
    differing: tuple[Differing, ...] = ()
    compiled: Compiled | None = None
    unusable: tuple[tuple[str, str], ...] = ()  # worker, and why it is not used


def checked_of(result: Any) -> Checked | None:
    """Return the check that a result rests on, None where it keeps none."""
    if isinstance(result, Picked):
        result = result.measured
    if isinstance(result, Measured):
        result = result.checked
    return result if isinstance(result, Checked) else None


def measured_of(result: Any) -> Measured | None:
    """Return the measurement of a result, None where it is none."""
    result = result.measured if isinstance(result, Picked) else result
    return result if isinstance(result, Measured) else None


def differing_verdicts(
    here: Sequence[Checked], classes: Sequence[OnClass]
) -> tuple[Differing, ...]:
    """Return the candidates whose verdicts differ between machines that ran them."""
    by_candidate: dict[tuple[str, str], dict[str, tuple[str, str]]] = {}
    rows = [(HERE, here), *((one.own.name, one.results) for one in classes)]
    for name, results in rows:
        for checked in filter(None, map(checked_of, results)):
            for v in checked.verdicts:
                if v.verdict != NOT_RUN:
                    key = checked.snippet.name, v.candidate
                    by_candidate.setdefault(key, {})[name] = (v.verdict, v.why)
    out = []
    for (snippet, candidate), found in by_candidate.items():
        words = {name: verdict for name, (verdict, _) in found.items()}
        if len(set(words.values())) > 1:
            first = next(iter(words.values()))
            why = next(why for verdict, why in found.values() if verdict != first or why)
            out.append(Differing(candidate, snippet, words, why))
    return tuple(out)


def choices_of(classes: Sequence[OnClass], weights: Mapping[str, float]) -> tuple[Choice, ...]:
    """Return what to ship for each snippet that was measured; a class counts 1 without a weight."""
    by_snippet: dict[str, list[tuple[OnClass, Measured]]] = {}
    for one in classes:
        for result in one.results:
            measured = measured_of(result)
            if measured and measured.overall:
                by_snippet.setdefault(measured.checked.snippet.name, []).append((one, measured))
    return tuple(
        choose(
            snippet,
            [
                class_times(one.own.name, weights.get(one.own.name, 1.0), measured.overall)
                for one, measured in rows
                if measured.overall
            ],
        )
        for snippet, rows in by_snippet.items()
    )

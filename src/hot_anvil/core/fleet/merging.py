"""Measurements made on machines that nothing joins, put beside each other by the same rules."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import NamedTuple

from hot_anvil.core.fleet.blocks import join_blocks
from hot_anvil.core.fleet.choosing import Choice, ClassTimes, choose, class_times
from hot_anvil.core.fleet.machines import class_names
from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.core.measure.summary import summarise


class Source(NamedTuple):
    """One snippet as one machine, or one class of a fleet, measured it."""

    origin: str  # the file it came in, "" for here
    number: int  # of the answer there
    at: float  # seconds since 1970
    machine: str  # short identity
    machine_text: str
    comparable: str  # equal for machines whose times may be compared, "" where not known
    snippet: str
    measurements: tuple[Measurements, ...]
    baseline: str
    codes: Mapping[str, str]  # candidate -> a text that is equal for equal code

    @property
    def label(self) -> str:
        """Where it came from, in a word."""
        return self.origin or "here"


class MergedClass(NamedTuple):
    """A class of machines, and what its times come from."""

    name: str
    processor: str
    sources: tuple[Source, ...]


class Merged(NamedTuple):
    """What holds over all machines that answers came from."""

    classes: tuple[MergedClass, ...]
    choices: tuple[Choice, ...]
    notes: tuple[str, ...]


def merge(sources: Iterable[Source], weights: Mapping[str, float]) -> Merged:
    """Return what to ship, from the last measurement of each machine; see ``choosing.choose``.

    Candidates go by their code: one that is other code somewhere, or whose code is not known, has
    the name of where it came from behind it. Machines of one class are blocks of one measurement.
    """
    last: dict[tuple[str, str, str], Source] = {}
    for one in sorted(sources, key=lambda s: s.at):
        last[one.comparable, one.machine, one.snippet] = one
    named = _by_code(
        sorted(last.values(), key=lambda s: bool(s.origin))
    )  # those of here keep names
    classes = _classes(named)
    notes: dict[str, None] = {}
    by_snippet: dict[str, list[ClassTimes]] = {}
    for own in classes:
        if not own.sources[0].comparable:
            notes[f"{own.name}: what its machine is was not kept, so it is a class of its own"] = (
                None
            )
        for snippet in dict.fromkeys(s.snippet for s in own.sources):
            used = [s for s in own.sources if s.snippet == snippet]
            joined, left_out = join_blocks([s.measurements for s in used])
            for number in left_out:
                notes[
                    f"{own.name}: {snippet} of {used[number].label} is of other candidates, sizes "
                    f"or clock than that of {used[0].label}, and is left out"
                ] = None
            summary = summarise(joined, used[0].baseline)
            weight = weights.get(own.name, 1.0)
            by_snippet.setdefault(snippet, []).append(class_times(own.name, weight, summary))
    choices = tuple(choose(snippet, times) for snippet, times in by_snippet.items())
    return Merged(tuple(classes), choices, tuple(notes))


def _classes(sources: Sequence[Source]) -> list[MergedClass]:
    by_key: dict[str, list[Source]] = {}
    for one in sources:
        by_key.setdefault(one.comparable or f"machine {one.machine}", []).append(one)
    processors = [_processor(own[0].machine_text) for own in by_key.values()]
    rows = zip(class_names(processors), processors, by_key.values(), strict=True)
    return [
        MergedClass(name, processor, tuple(sorted(own, key=lambda s: -s.at)))
        for name, processor, own in rows
    ]


def _processor(machine_text: str) -> str:
    """Return the processor of "Quay 7, 2 CPUs" and of "2 machines: Quay 7"."""
    named = machine_text.rpartition(": ")[2]
    return named.rpartition(", ")[0] or named


def _by_code(sources: Sequence[Source]) -> list[Source]:
    """Return sources whose candidates are the same code where they have the same name."""
    first: dict[tuple[str, str], str] = {}
    out = []
    for one in sources:
        names = {}
        for candidate in _candidates(one):
            code = one.codes.get(candidate, "")
            known = first.setdefault((one.snippet, candidate), code)
            same = bool(code) and code == known
            names[candidate] = candidate if same else f"{candidate} of {one.label}"
        out.append(_renamed(one, names.__getitem__))
    return out


def _candidates(one: Source) -> list[str]:
    own = [name for m in one.measurements for name in (*m.candidates, *m.same_as)]
    return list(dict.fromkeys(own))


def _renamed(one: Source, name_of: Callable[[str], str]) -> Source:
    def each(names: Iterable[str]) -> tuple[str, ...]:
        return tuple(map(name_of, names))

    made = tuple(
        m._replace(
            candidates=each(m.candidates),
            same_as={name_of(name): name_of(timed) for name, timed in m.same_as.items()},
            shared=each(m.shared),
            aligned=each(m.aligned),
            usage={name_of(name): used for name, used in m.usage.items()},
        )
        for m in one.measurements
    )
    return one._replace(measurements=made, baseline=name_of(one.baseline))

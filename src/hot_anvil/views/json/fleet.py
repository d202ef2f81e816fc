"""Many machines as data."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from hot_anvil.core.fleet.choosing import Choice, Ratio
from hot_anvil.core.fleet.machines import Machine, MachineClass
from hot_anvil.core.fleet.merging import Merged
from hot_anvil.core.fleet.results import OnFleet
from hot_anvil.views.json.document import Document, document, finite

if TYPE_CHECKING:
    from hot_anvil.core.fleet.results import OnClass


def fleet_document(
    classes: Sequence[MachineClass],
    offers: Mapping[str, Mapping[str, int]],
    unusable: Sequence[tuple[str, str]],
) -> Document:
    """Return the document of ``fleet``."""
    return document(
        "fleet",
        classes=[
            {
                "name": own.name,
                "processor": own.processor,
                "level": own.machines[0].level or None,
                "features": sorted(own.features),
                "system": own.machines[0].system,
                "machines": [_machine(one, offers.get(one.name, {})) for one in own.machines],
            }
            for own in classes
        ],
        unusable=[{"worker": name, "why": why} for name, why in unusable],
    )


def _machine(one: Machine, offered: Mapping[str, int]) -> Document:
    plain = one._asdict()
    for name in ("features", "processor", "system"):
        del plain[name]
    return {
        **plain,
        "compilers": [compiler._asdict() for compiler in one.compilers],
        "offers": dict(offered),
    }


def on_fleet_document(
    found: OnFleet, kept: Mapping[str, int], answered: "Callable[[OnClass], Document]"
) -> Document:
    """Return the document of a fleet's answer; ``answered`` makes that of one class."""
    return document(
        f"{found.command} on fleet",
        classes=[
            {
                "name": one.own.name,
                "processor": one.own.processor,
                "machines": [machine.name for machine in one.own.machines],
                "worked": list(one.worked),
                "missing": [{"snippet": name or None, "why": why} for name, why in one.lacking],
                "kept": kept.get(one.own.name),
                "answer": None if one.missing else answered(one),
            }
            for one in found.classes
        ],
        choices=[choice_row(choice) for choice in found.choices],
        differing=[{**one._asdict(), "verdicts": dict(one.verdicts)} for one in found.differing],
        compiled=_compiled(found),
        unusable=[{"worker": name, "why": why} for name, why in found.unusable],
    )


def merged_document(merged: Merged) -> Document:
    """Return the document of ``history --merge``."""
    return document(
        "merged",
        classes=[
            {
                "name": own.name,
                "processor": own.processor,
                "sources": [
                    {
                        "origin": one.origin or None,
                        "number": one.number,
                        "at": one.at,
                        "machine": one.machine,
                        "snippet": one.snippet,
                    }
                    for one in own.sources
                ],
            }
            for own in merged.classes
        ],
        choices=[choice_row(choice) for choice in merged.choices],
        notes=list(merged.notes),
    )


def _compiled(found: OnFleet) -> Document | None:
    one = found.compiled
    return {**one._asdict(), "whys": dict(one.whys)} if one else None


def choice_row(choice: Choice) -> Document:
    """Return what to ship for one snippet."""
    return {
        "snippet": choice.snippet,
        "choice": choice.choice,
        "tied": list(choice.tied) if len(choice.tied) > 1 else [],
        "ranking": [
            {
                "candidate": one.candidate,
                "worst": _ratio(one.worst),
                "worst_class": one.worst_class,
                "mean": _ratio(one.mean),
                "by_class": {name: _ratio(r) for name, r in one.by_class.items()},
            }
            for one in choice.ranking
        ],
        "dispatches": [
            {
                "by_class": dict(one.by_class),
                "worst": one.worst,
                "mean": one.mean,
                "gain": _ratio(one.gain),
            }
            for one in choice.dispatches
        ],
        "turnovers": [
            {
                "one": one.one,
                "other": one.other,
                "first": one.first,
                "second": one.second,
                "ratio_first": _ratio(one.ratio_first),
                "ratio_second": _ratio(one.ratio_second),
            }
            for one in choice.turnovers
        ],
        "missing": {name: list(classes) for name, classes in choice.missing.items()},
    }


def choice_rows(choices: Sequence[Choice]) -> Iterator[Sequence[Any]]:
    """Give a row for each candidate of a ranking over classes, the head first."""
    yield ["snippet", "candidate", "chosen", "worst", "low", "high", "worst_class", "mean"]
    for choice in choices:
        for one in choice.ranking:
            chosen = one.candidate == choice.choice
            worst = one.worst
            row = [choice.snippet, one.candidate, chosen, worst.value, worst.low, worst.high]
            yield [*row, one.worst_class, one.mean.value]


def _ratio(one: Ratio) -> dict[str, Any]:
    return finite({"ratio": one.value, "low": one.low, "high": one.high})

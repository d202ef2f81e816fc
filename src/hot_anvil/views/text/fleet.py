"""Answers of many machines as text: what holds on all of them, and what on which."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.fleet.choosing import Choice, Dispatch, Everywhere, Ratio, Turnover
from hot_anvil.core.fleet.merging import Merged
from hot_anvil.core.fleet.results import OnClass, OnFleet, checked_of
from hot_anvil.core.measure.results import Picked
from hot_anvil.core.verify.verdicts import NOT_RUN
from hot_anvil.views.text.machines import compiled_text
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import interval, joined, plural, ratio

if TYPE_CHECKING:
    from hot_anvil.core.verify.results import Checked

_MOST = 3  # turnovers that are told of one snippet
_SHOWN = 12  # candidates of a ranking
_LEGEND = (
    "a column a class: time over that of the fastest there; worst: where it is furthest behind; "
    "mean: geometric, by weight"
)


def on_fleet_report(found: OnFleet, width: int, kept: Mapping[str, int]) -> Report:
    """Return what a fleet answered; ``kept`` are the numbers that classes' answers are kept as."""
    report = Report(width)
    if found.command == "check":
        _check_here(report, found.here)
    if found.command == "whatif":
        _whatif(report, found.classes)
    for choice in found.choices:
        _chosen(report, choice, found.command == "pick", _command(found, choice))
        _missing_candidates(report, found, choice)
    if found.choices:
        report.blank()
        report.paragraph(_LEGEND, DIM)
    _differing(report, found)
    report.blank()
    for one in found.classes:
        _class_line(report, one, kept.get(one.own.name, 0))
        _not_run(report, one)
    _notes(report, found)
    return report


def merged_report(merged: Merged, width: int) -> Report:
    """Return what holds over machines that nothing joins."""
    report = Report(width)
    for choice in merged.choices:
        _chosen(report, choice, True)
        for name, classes in choice.missing.items():
            report.paragraph(f"{name} was not measured on {joined(classes)}", DIM, indent=2)
    report.blank()
    report.paragraph(_LEGEND, DIM)
    report.blank()
    for own in merged.classes:
        sources = dict.fromkeys(f"{one.label} {one.number}" for one in own.sources)
        report.say(Span(own.name, STRONG), f"  {own.processor}, from answers {joined([*sources])}")
    for note in merged.notes:
        report.paragraph(f"note: {note}", DIM)
    return report


def _command(found: OnFleet, choice: Choice) -> str:
    """Return the command line of the one build for all, "" where none is known."""
    rows = (row for one in found.classes for item in one.results if isinstance(item, Picked)
            for row in item.pick.ranking if item.pick.snippet == choice.snippet)  # fmt: skip
    return next((row.cost.command for row in rows if row.candidate == choice.choice), "")


def _chosen(report: Report, choice: Choice, picks: bool, command: str = "") -> None:
    """Add the ranking of a snippet over all classes, and what follows from it."""
    report.blank()
    report.add(Span(choice.snippet, STRONG))
    _ranking(report, choice)
    if picks:
        _choice(report, choice, command)
    for pair in choice.turnovers[:_MOST]:
        report.paragraph(_turnover(pair), indent=2)
    if len(choice.turnovers) > _MOST:
        more = plural(len(choice.turnovers) - _MOST, "more pair")
        report.paragraph(f"{more} of candidates turn over", DIM, indent=2)


def _check_here(report: Report, here: "Sequence[Checked]") -> None:
    from hot_anvil.views.text.check import check_report

    inner = check_report(here, "", report.width)
    report.take(inner)


def _whatif(report: Report, classes: Sequence[OnClass]) -> None:
    from hot_anvil.views.text.whatif import whatif_report

    for one in classes:
        if one.results:
            report.blank()
            report.add(Span(f"on {one.own.name}", STRONG))
            report.take(whatif_report(one.results, (), report.width))


def _ranking(report: Report, choice: Choice) -> None:
    if not choice.ranking:
        return
    classes = list(choice.ranking[0].by_class)
    heads = ("", "candidate", "worst", "interval", "mean", *classes)
    shown = choice.ranking[:_SHOWN]
    rows = [_row(k, one, choice) for k, one in enumerate(shown, 1)]
    below = tuple(range(len(heads) - 1, 4, -1))
    report.table(heads, rows, "rlrrr" + "r" * len(classes), spare=(3,), below=below, name=1)
    report.tell_left_out()
    if len(choice.ranking) > _SHOWN:
        report.paragraph(f"and {len(choice.ranking) - _SHOWN} behind these", DIM, indent=2)


def _row(number: int, one: Everywhere, choice: Choice) -> list[Cell]:
    tied = one.candidate in choice.tied
    return [
        "1" if tied else str(number),
        Span(one.candidate, CHANGE if tied else "plain"),
        ratio(one.worst.value),
        _interval(one.worst),
        ratio(one.mean.value),
        *(Span(ratio(r.value), CHANGE if r.value <= 1 else "plain") for r in one.by_class.values()),
    ]


def _interval(one: Ratio) -> str:
    return "" if one.low == one.high else interval(one.low, one.high)


def _choice(report: Report, choice: Choice, command: str) -> None:
    if choice.choice is None:
        report.add("  ", Span("no one build for all: ", TROUBLE), "none is correct on every class")
        return
    first = choice.ranking[0]
    report.add("  one build for all  ", Span(first.candidate, CHANGE))
    others = [name for name in choice.tied if name != first.candidate]
    tied = f"; cannot be told from it: {joined(others)}" if others else ""
    furthest = (
        "the fastest on every class"
        if first.worst.value <= 1
        else f"{ratio(first.worst.value)} of the time of the fastest where it is furthest behind, "
        f"on {first.worst_class}"
    )
    report.paragraph(f"{furthest}{tied}", indent=8)
    if command:
        report.add(" " * 8, Span(command, STRONG))
    for dispatch in choice.dispatches:
        report.paragraph(_dispatch(dispatch), indent=2)
    if not choice.dispatches and len(first.by_class) > 1:
        report.paragraph("a dispatch between several would gain nothing that is told", indent=2)


def _dispatch(one: Dispatch) -> str:
    where = "; ".join(f"{candidate} on {name}" for name, candidate in one.by_class.items())
    return (
        f"a dispatch between {len(one.candidates)} would take {ratio(one.gain.value)} of its mean "
        f"time ({interval(one.gain.low, one.gain.high)}): {where}"
    )


def _turnover(one: Turnover) -> str:
    return (
        f"the order turns over: {one.one} takes {ratio(one.ratio_first.value)} of the time of "
        f"{one.other} on {one.first}, {ratio(one.ratio_second.value)} on {one.second}"
    )


def _missing_candidates(report: Report, found: OnFleet, choice: Choice) -> None:
    """Say why candidates that were measured somewhere were not everywhere."""
    by_why: dict[tuple[str, str], list[str]] = {}
    for name, classes in choice.missing.items():
        why = _why_not(found, choice.snippet, name, classes[0])
        by_why.setdefault((joined(classes), why), []).append(name)
    for (where, why), names in by_why.items():
        report.paragraph(f"not on {where}: {joined(names)}{why}", DIM, indent=2)


def _why_not(found: OnFleet, snippet: str, candidate: str, name: str) -> str:
    own = next(one for one in found.classes if one.own.name == name)
    for checked in filter(None, map(checked_of, own.results)):
        for verdict in checked.verdicts:
            if (checked.snippet.name, verdict.candidate) == (snippet, candidate):
                return f": {verdict.verdict}: {verdict.why}"
    return ""


def _differing(report: Report, found: OnFleet) -> None:
    if not found.differing:
        return
    report.blank()
    report.add(
        Span("verdicts differ between machines: a bug, in the code or in one of these", TROUBLE)
    )
    for one in found.differing:
        told = joined([f"{verdict} on {name}" for name, verdict in one.verdicts.items()])
        report.paragraph(f"{one.snippet}: {one.candidate}: {told}: {one.why}", indent=2)


def _class_line(report: Report, one: OnClass, number: int) -> None:
    for snippet, why in one.lacking:
        what = f"{snippet} is missing" if snippet else "missing"
        report.say(Span(one.own.name, STRONG), Span(f"  {what}: {why}", TROUBLE))
    if one.missing:
        return
    kept = f"; kept as answer {number}" if number else ""
    report.say(
        Span(one.own.name, STRONG),
        f"  {plural(len(one.worked), 'machine')} ({joined(one.worked)}), {one.own.processor}{kept}",
    )


def _not_run(report: Report, one: OnClass) -> None:
    """Say which builds a class did not run, and why; builds together that it is the same for."""
    by_why: dict[str, list[str]] = {}
    for checked in filter(None, map(checked_of, one.results)):
        for verdict in checked.verdicts:
            if verdict.verdict == NOT_RUN:
                by_why.setdefault(verdict.why, []).append(verdict.build)
    for why, builds in by_why.items():
        names = joined([*dict.fromkeys(builds)])
        report.paragraph(f"not run there: {names}: {why}", DIM, indent=4)


def _notes(report: Report, found: OnFleet) -> None:
    compiled = compiled_text(found.compiled)
    notes = [compiled] if compiled else []
    by_note: dict[str, list[str]] = {}
    for one in found.classes:
        for note in one.notes:
            by_note.setdefault(note, []).append(one.own.name)
    every = len([one for one in found.classes if not one.missing])
    for note, names in by_note.items():
        notes.append(note if len(names) == every else f"{joined(names)}: {note}")
    notes += [f"worker {name} is not used: {why}" for name, why in found.unusable]
    if notes:
        report.blank()
    for note in notes:
        report.paragraph(f"note: {note}", DIM)

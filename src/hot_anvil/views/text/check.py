"""Verdicts as text."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.config.edge_kinds import EDGES
from hot_anvil.core.verify.promises import in_words
from hot_anvil.core.verify.results import Replay
from hot_anvil.core.verify.verdicts import (
    CORRECT,
    CRASHED,
    HUNG,
    NOTHING_TO_COMPARE,
    UNDEFINED,
    UNSTABLE,
    WRONG,
    Verdict,
)
from hot_anvil.views.text.report import DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import joined, plural, significant

if TYPE_CHECKING:
    from hot_anvil.core.verify.agreement import Error
    from hot_anvil.core.verify.results import Checked

_TALLY_ROWS = 3
_EXCUSED = 2  # edges told


def check_report(checks: Sequence["Checked"], where: str, width: int) -> Report:
    """Return a table of verdicts per snippet, and what is known of each that failed.

    ``where`` is what follows the command to check the same once more.
    """
    report = Report(width)
    for checked in checks:
        report.blank()
        report.add(Span(checked.snippet.name, STRONG))
        for signature in checked.signatures:
            report.say("  ", Span(signature.text, DIM))
        for note in checked.notes:
            report.paragraph(f"note: {note}", DIM, indent=2)
        if not_checked(report, checked):
            continue
        report.paragraph(_how(checked), DIM, indent=2)
        undefined(report, checked)
        _between(report, checked)
        report.table(("candidate", "verdict", "on", ""), _rows(checked), "llll")
        if any(v.verdict == CORRECT and v.why for v in checked.verdicts):
            report.paragraph(NOTHING_TO_COMPARE, TROUBLE, indent=2)
        for entry, file, lines in checked.unreached:
            report.paragraph(
                f"{file}: {_line_numbers(lines)} never ran in {entry}: give inputs that reach them",
                DIM, indent=2,
            )  # fmt: skip
        if checked.promises:
            report.paragraph(f"promised by the source: {in_words(checked.promises)}", DIM, indent=2)
        _values(report, checked)
        good = len(checked.correct)
        report.add(f"  {good} of {len(checked.verdicts)} candidates correct")
        for alike in _alike(checked.verdicts):
            _failure(report, alike, checked, where)
        _edges(report, checked)
    return report


def _values(report: Report, checked: "Checked") -> None:
    """Show what candidates put out, those that put out the same together."""
    alike: dict[tuple[str, str], list[str]] = {}
    for value in checked.values:
        alike.setdefault((value.inputs, value.output), []).append(value.candidate)
    every = len({value.candidate for value in checked.values})
    rows: list[list[Cell]] = [
        [inputs, output, "all" if len(names) == every else joined(names)]
        for (inputs, output), names in alike.items()
    ]
    if rows:
        report.table(("inputs", "output", "of"), rows, "lll")


def not_checked(report: Report, checked: "Checked") -> bool:
    """Say why a snippet could not be checked; tell whether that is so."""
    if checked.fault:
        report.add("  ", Span("could not be checked", TROUBLE))
        report.paragraph(str(checked.fault), indent=4)
    return checked.fault is not None


def replay_report(replay: "Replay", width: int) -> Report:
    """Return one call of a candidate beside the reference's."""
    report = Report(width)
    report.add(Span(replay.snippet.name, STRONG), f"  {replay.candidate}")
    report.paragraph(f"made small from {replay.label}" if replay.label else "", DIM, indent=2)
    rows: list[list[Cell]] = [[name, value] for name, value in replay.inputs]
    report.table(("parameter", "value"), rows, "ll")
    report.add("  ", Span(replay.verdict, "plain" if replay.verdict == CORRECT else TROUBLE))
    if replay.why:
        place = f", at {replay.place.text}" if replay.place.text else ""
        report.paragraph(replay.why + place, indent=4)
    told: list[list[Cell]] = [["expected", replay.expected], ["got", replay.got or "nothing"]]
    report.table(("", ""), told, "ll", indent=4)
    report.paragraph(f"expected: what {replay.reference} makes of it", DIM, indent=4)
    return report


def undefined(report: Report, checked: "Checked") -> None:
    """Say what undefined behaviour the source has: it taints every comparison."""
    for one in (u for u in checked.undefined if not u.edge):
        report.add("  ", Span(f"undefined behaviour in {one.entry}", TROUBLE))
        where = one.place.text or "a line not known"
        report.paragraph(f"{where}: {one.message}", indent=4)
        report.paragraph(
            f"found by {one.build}, with {one.inputs}: a build that is correct here need not be "
            "under the next compiler", DIM, indent=4,
        )  # fmt: skip


def _between(report: Report, checked: "Checked") -> None:
    """Say where two files differ about what they share."""
    if checked.disagreements:
        report.add("  ", Span("two files do not agree", TROUBLE))
    for one in checked.disagreements:
        other = f" (the other: {one.other.text})" if one.other.text else ""
        report.paragraph(f"{one.place.text}: {one.message}{other}", indent=4)


def excluded(report: Report, verdicts: Sequence[Verdict]) -> None:
    """Add the candidates that are out, those with one and the same reason together."""
    if not verdicts:
        return
    report.add("  ", Span("excluded", TROUBLE))
    alike: dict[tuple[str, str, tuple[str, ...]], list[str]] = {}
    for v in verdicts:
        why = v.why + _at(v) + (f", with {v.inputs}" if v.inputs else "")
        rounded = v.suspects if v.error and v.verdict == WRONG else ()
        alike.setdefault((v.verdict, why, rounded), []).append(v.candidate)
    for (verdict, why, rounded), names in alike.items():
        longer = "; --call-seconds says how long a call may take" if verdict == HUNG else ""
        report.paragraph(f"{verdict}: {why}{longer}", indent=4)
        for suspect in rounded:
            report.paragraph(suspect, indent=6)
        report.paragraph(joined(names), DIM, indent=6)


def _how(checked: "Checked") -> str:
    sets = max((verdict.input_sets for verdict in checked.verdicts), default=0)
    edges = f"; edges among them: {joined([kind.replace('_', ' ') for kind in checked.edges])}"
    noun = "run" if checked.snippet.program else "input set"
    text = f"compared with {checked.reference} on {plural(sets, noun)}"
    text += edges if checked.edges else ""
    if checked.not_sanitized:
        text += f". Undefined behaviour was not looked for: {checked.not_sanitized}"
    elif checked.sanitized and not checked.undefined:
        text += f". {checked.sanitized} finds no undefined behaviour"
        watched = checked.unset_watched.removesuffix(" with sanitizers")
        text += f", {watched} no value used that was never set" if watched else ""
    return f"{text}.{_emulated(checked)}"


def _emulated(checked: "Checked") -> str:
    """Say what ran builds for other machines."""
    found = dict.fromkeys(v.emulator for v in checked.verdicts if v.emulator)
    if not found:
        return ""
    if list(found) == ["simulated device"]:
        return " All ran on a simulated device."
    return f" Builds for other machines run under {joined(list(found))}."


def _rows(checked: "Checked") -> list[list[Cell]]:
    rows: list[list[Cell]] = []
    most = max((v.input_sets for v in checked.verdicts), default=0)
    for v in checked.verdicts:
        style = "plain" if v.verdict == CORRECT else TROUBLE
        last = "the reference" if v.candidate == checked.reference and not v.why else ""
        if v.verdict == CORRECT and v.why:
            last = "nothing to compare"
        elif v.verdict == CORRECT and v.input_sets < most:
            last = f"{v.input_sets} of {most} input sets fit it"
        elif v.error:
            last = error_text(v.error)
        rows.append([v.candidate, Span(v.verdict, style), v.inputs, last])
    return rows


def error_text(error: "Error") -> str:
    """Return the largest error of floats."""
    return (
        f"off by up to {significant(error.ulp)} ulp, {significant(error.relative)} relative, "
        f"{significant(error.absolute)} absolute ({error.where})"
    )


def _alike(verdicts: Sequence[Verdict]) -> list[list[Verdict]]:
    """Return the failing candidates, those that fail in the same way together."""
    groups: dict[tuple[object, ...], list[Verdict]] = {}
    for v in verdicts:
        if v.verdict != CORRECT:
            # Each unstable build has a tally of its own, in one table.
            why = ("",) if v.verdict == UNSTABLE and v.tally else (v.why, v.inputs, v.place)
            groups.setdefault((v.entry, v.verdict, *why, v.suspects), []).append(v)
    return list(groups.values())


def _failure(report: Report, alike: Sequence[Verdict], checked: "Checked", where: str) -> None:
    first = alike[0]
    report.add("  ", Span(first.verdict, TROUBLE))
    report.paragraph(_whose(alike, checked), indent=4)
    told = first.verdict == UNSTABLE and first.tally
    why = "its output differs from run to run" if told else first.why
    if first.verdict == UNDEFINED:
        why = "it gives the reference's results here, by behaviour that is not defined (see above)"
    why += _at(first)
    report.paragraph(why + (f", with {first.inputs}" if first.inputs else ""), indent=4)
    if first.tally:
        rows = [_tally_row(v) for v in alike]
        heads = ("candidate", "runs", "distinct", "outputs, and how often each came")
        report.table(heads, rows, "lrrl", indent=4)
    if first.smallest and first.smallest_why:
        values = ", ".join(f"{name} = {value}" for name, value in first.smallest)
        why = "" if first.smallest_why == first.why else f": {first.smallest_why}"
        report.paragraph(f"smallest found: {values}{why}", indent=4)
    for suspect in first.suspects:
        report.paragraph(suspect, indent=4)
    if first.between:
        report.paragraph(f"no single line is known: {first.between.text} at most", indent=4)
    if first.verdict == HUNG:
        report.paragraph(
            "does a call need longer? --call-seconds says how long it may take", DIM, indent=4
        )
    if first.verdict == UNDEFINED and not first.accepted:
        report.paragraph(
            'may it be chosen all the same? Say so in the bench: accept = { undefined = "why" }',
            DIM, indent=4,
        )  # fmt: skip
    if first.accepted:
        report.paragraph(f"accepted by the bench: {first.accepted}", DIM, indent=4)
    rounding = first.error is not None and first.verdict == WRONG
    if first.edge and not rounding:
        report.paragraph(
            f"this is an edge, {EDGES[first.edge]}. Need {first.entry} not take it? Say so in the "
            f'bench: not_promised = {{ {first.edge} = "why" }}', DIM, indent=4,
        )  # fmt: skip
    if first.replay:
        report.add("    ", Span(f"again: hot-anvil check {where} --replay {first.replay}", DIM))
        if first.verdict == WRONG:
            steps = f"step by step: hot-anvil step {where} --replay {first.replay}"
            report.add("    ", Span(steps, DIM))


def _whose(alike: Sequence[Verdict], checked: "Checked") -> str:
    """Return the names of candidates; all of an entry's go by its name."""
    entry = alike[0].entry
    every = [v for v in checked.verdicts if v.entry == entry]
    if entry and len(every) == len(alike) > 1:
        return f"{entry} under every build"
    return joined([v.candidate for v in alike])


def _line_numbers(lines: Sequence[int]) -> str:
    """Return lines in words, those beside each other as a range."""
    runs: list[list[int]] = []
    for line in lines:
        if runs and line == runs[-1][-1] + 1:
            runs[-1].append(line)
        else:
            runs.append([line])
    told = [str(run[0]) if len(run) == 1 else f"{run[0]}-{run[-1]}" for run in runs]
    return f"{'line' if len(lines) == 1 else 'lines'} {', '.join(told)}"


def _tally_row(verdict: Verdict) -> list[Cell]:
    runs = sum(count for count, _ in verdict.tally)
    told = [f"{output} ({count}x)" for count, output in verdict.tally[:_TALLY_ROWS]]
    rest = len(verdict.tally) - len(told)
    told += [f"{rest} more"] if rest else []
    return [verdict.candidate, str(runs), str(len(verdict.tally)), "; ".join(told)]


def _edges(report: Report, checked: "Checked") -> None:
    """Say which edges say nothing, and why."""
    for label, why in checked.excused[:_EXCUSED]:
        report.paragraph(f"a difference with {label} does not count: {why}", DIM, indent=2)
    if len(checked.excused) > _EXCUSED:
        more = plural(len(checked.excused) - _EXCUSED, "more edge")
        report.paragraph(f"nor with {more}, for like reasons", DIM, indent=2)
    for kind, reason in checked.snippet.not_promised.items():
        report.paragraph(f"not promised, {kind.replace('_', ' ')}: {reason}", DIM, indent=2)


def _at(verdict: Verdict) -> str:
    """Return where a candidate ended; of a wrong one a line is only a suspect."""
    ended = verdict.verdict in (CRASHED, HUNG)
    return f", at {verdict.place.text}" if ended and verdict.place.text else ""

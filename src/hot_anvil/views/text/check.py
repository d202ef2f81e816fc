"""Verdicts as text."""

import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.config.edge_kinds import EDGES
from hot_anvil.core.verify.verdicts import CORRECT, CRASHED, HUNG, NOTHING_TO_COMPARE, Verdict
from hot_anvil.views.text.sheet import DIM, STRONG, TROUBLE, Cell, Sheet, Span
from hot_anvil.views.text.words import joined, plural, significant

if TYPE_CHECKING:
    from hot_anvil.core.measure.results import Again, Checked
    from hot_anvil.core.verify.agreement import Error

_TALLY_ROWS = 3
_EXCUSED = 2  # edges told


def check_sheet(checks: Sequence["Checked"], path: str, width: int) -> Sheet:
    """Return a table of verdicts per snippet, and what is known of each that failed."""
    sheet = Sheet(width)
    for checked in checks:
        sheet.blank()
        sheet.add(Span(checked.snippet.name, STRONG))
        for signature in checked.signatures:
            sheet.add("  ", Span(signature.text, DIM))
        for note in checked.notes:
            sheet.paragraph(f"note: {note}", DIM, indent=2)
        sheet.paragraph(_how(checked), DIM, indent=2)
        undefined(sheet, checked)
        sheet.table(("candidate", "verdict", "on", ""), _rows(checked), "llll")
        if any(v.verdict == CORRECT and v.why for v in checked.verdicts):
            sheet.paragraph(NOTHING_TO_COMPARE, TROUBLE, indent=2)
        good = len(checked.correct)
        sheet.add(f"  {good} of {len(checked.verdicts)} candidates correct")
        for alike in _alike(checked.verdicts):
            _failure(sheet, alike, checked, path)
        _edges(sheet, checked)
    return sheet


def again_sheet(again: "Again", width: int) -> Sheet:
    """Return one call of a candidate beside the reference's."""
    sheet = Sheet(width)
    sheet.add(Span(again.snippet.name, STRONG), f"  {again.candidate}")
    sheet.paragraph(f"made small from {again.label}" if again.label else "", DIM, indent=2)
    rows: list[list[Cell]] = [[name, value] for name, value in again.inputs]
    sheet.table(("parameter", "value"), rows, "ll")
    sheet.add("  ", Span(again.verdict, "plain" if again.verdict == CORRECT else TROUBLE))
    if again.why:
        place = f", at {again.place.text}" if again.place.text else ""
        sheet.paragraph(again.why + place, indent=4)
    told: list[list[Cell]] = [["expected", again.expected], ["got", again.got or "nothing"]]
    sheet.table(("", ""), told, "ll", indent=4)
    sheet.paragraph(f"expected: what {again.reference} makes of it", DIM, indent=4)
    return sheet


def undefined(sheet: Sheet, checked: "Checked") -> None:
    """Say what undefined behaviour the source has: it taints every comparison."""
    for one in (u for u in checked.undefined if not u.edge):
        sheet.add("  ", Span(f"undefined behaviour in {one.entry}", TROUBLE))
        where = one.place.text or "a line not known"
        sheet.paragraph(f"{where}: {one.message}", indent=4)
        sheet.paragraph(
            f"found by {one.build}, with {one.inputs}: a build that is correct here need not be "
            "under the next compiler", DIM, indent=4,
        )  # fmt: skip


def excluded(sheet: Sheet, verdicts: Sequence[Verdict]) -> None:
    """Add the candidates that are out, those with one and the same reason together."""
    if not verdicts:
        return
    sheet.add("  ", Span("excluded", TROUBLE))
    alike: dict[tuple[str, str], list[str]] = {}
    for v in verdicts:
        why = v.why + _at(v) + (f", with {v.inputs}" if v.inputs else "")
        alike.setdefault((v.verdict, why), []).append(v.candidate)
    for (verdict, why), names in alike.items():
        sheet.paragraph(f"{verdict}: {why}", indent=4)
        sheet.paragraph(joined(names), DIM, indent=6)


def _how(checked: "Checked") -> str:
    sets = checked.verdicts[0].input_sets if checked.verdicts else 0
    edges = f"; edges among them: {joined([kind.replace('_', ' ') for kind in checked.edges])}"
    noun = "run" if checked.snippet.program else "input set"
    text = f"compared with {checked.reference} on {plural(sets, noun)}"
    text += edges if checked.edges else ""
    if checked.not_sanitized:
        text += f". Undefined behaviour was not looked for: {checked.not_sanitized}"
    elif checked.sanitized and not checked.undefined:
        text += f". {checked.sanitized} finds no undefined behaviour"
    return text + "."


def _rows(checked: "Checked") -> list[list[Cell]]:
    rows: list[list[Cell]] = []
    for v in checked.verdicts:
        style = "plain" if v.verdict == CORRECT else TROUBLE
        last = "the reference" if v.candidate == checked.reference and not v.why else ""
        if v.verdict == CORRECT and v.why:
            last = "nothing to compare"
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
            why = ("",) if v.tally else (v.why, v.inputs, v.place)
            groups.setdefault((v.entry, v.verdict, *why, v.suspects), []).append(v)
    return list(groups.values())


def _failure(sheet: Sheet, alike: Sequence[Verdict], checked: "Checked", path: str) -> None:
    first = alike[0]
    sheet.add("  ", Span(first.verdict, TROUBLE))
    sheet.paragraph(_whose(alike, checked), indent=4)
    why = "its output differs from run to run" if first.tally else first.why
    why += _at(first)
    sheet.paragraph(why + (f", with {first.inputs}" if first.inputs else ""), indent=4)
    if first.tally:
        rows = [_tally_row(v) for v in alike]
        heads = ("candidate", "runs", "distinct", "outputs, and how often each came")
        sheet.table(heads, rows, "lrrl", indent=4)
    if first.smallest and first.smallest_why:
        values = ", ".join(f"{name} = {value}" for name, value in first.smallest)
        why = "" if first.smallest_why == first.why else f": {first.smallest_why}"
        sheet.paragraph(f"smallest found: {values}{why}", indent=4)
    for suspect in first.suspects:
        sheet.paragraph(suspect, indent=4)
    if first.edge:
        sheet.paragraph(
            f"this is an edge, {EDGES[first.edge]}. Need {first.entry} not take it? Say so in the "
            f'bench: not_promised = {{ {first.edge} = "why" }}', DIM, indent=4,
        )  # fmt: skip
    if first.again:
        where = shlex.quote(path)
        sheet.add("    ", Span(f"again: hot-anvil check {where} --again {first.again}", DIM))


def _whose(alike: Sequence[Verdict], checked: "Checked") -> str:
    """Return the names of candidates; all of an entry's go by its name."""
    entry = alike[0].entry
    every = [v for v in checked.verdicts if v.entry == entry]
    if entry and len(every) == len(alike) > 1:
        return f"{entry} under every build"
    return joined([v.candidate for v in alike])


def _tally_row(verdict: Verdict) -> list[Cell]:
    runs = sum(count for count, _ in verdict.tally)
    told = [f"{output} ({count}x)" for count, output in verdict.tally[:_TALLY_ROWS]]
    rest = len(verdict.tally) - len(told)
    told += [f"{rest} more"] if rest else []
    return [verdict.candidate, str(runs), str(len(verdict.tally)), "; ".join(told)]


def _edges(sheet: Sheet, checked: "Checked") -> None:
    """Say which edges say nothing, and why."""
    for label, why in checked.excused[:_EXCUSED]:
        sheet.paragraph(f"a difference with {label} does not count: {why}", DIM, indent=2)
    if len(checked.excused) > _EXCUSED:
        more = plural(len(checked.excused) - _EXCUSED, "more edge")
        sheet.paragraph(f"nor with {more}, for like reasons", DIM, indent=2)
    for kind, reason in checked.snippet.not_promised.items():
        sheet.paragraph(f"not promised, {kind.replace('_', ' ')}: {reason}", DIM, indent=2)


def _at(verdict: Verdict) -> str:
    """Return where a candidate ended; of a wrong one a line is only a suspect."""
    ended = verdict.verdict in (CRASHED, HUNG)
    return f", at {verdict.place.text}" if ended and verdict.place.text else ""

"""Verdicts as text."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.verdict import CORRECT, Verdict
from hot_anvil.views.sheet import DIM, STRONG, TROUBLE, Cell, Sheet, Span
from hot_anvil.views.words import joined, plural

if TYPE_CHECKING:
    from hot_anvil.core.judged import Checked


def check_sheet(checks: Sequence["Checked"], width: int) -> Sheet:
    """Return a table of verdicts per snippet."""
    sheet = Sheet(width)
    for checked in checks:
        sheet.blank()
        sheet.add(Span(checked.snippet.name, STRONG))
        for signature in checked.signatures:
            sheet.add("  ", Span(signature.text, DIM))
        sets = checked.verdicts[0].input_sets if checked.verdicts else 0
        for note in checked.notes:
            sheet.paragraph(f"note: {note}", DIM, indent=2)
        told = f"results compared with {checked.reference} on {plural(sets, 'input set')}, "
        sheet.paragraph(told + "each candidate in two processes of its own", DIM, indent=2)
        rows: list[list[Cell]] = []
        for v in checked.verdicts:
            style = "plain" if v.verdict == CORRECT else TROUBLE
            why = "the reference" if v.candidate == checked.reference and not v.why else v.why
            rows.append([v.candidate, Span(v.verdict, style), why])
        sheet.table(("candidate", "verdict", "why"), rows, "lll")
        good = sum(v.verdict == CORRECT for v in checked.verdicts)
        sheet.add(f"  {good} of {len(checked.verdicts)} candidates correct")
    return sheet


def excluded(sheet: Sheet, verdicts: Sequence[Verdict]) -> None:
    """Add the candidates that are out, those with one and the same reason together."""
    if not verdicts:
        return
    sheet.add("  ", Span("excluded", TROUBLE))
    alike: dict[tuple[str, str], list[str]] = {}
    for v in verdicts:
        alike.setdefault((v.verdict, v.why), []).append(v.candidate)
    for (verdict, why), names in alike.items():
        sheet.add("    ", Span(f"{verdict}: ", TROUBLE), why)
        sheet.paragraph(joined(names), indent=6)

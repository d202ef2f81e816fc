"""Candidates of other targets as text: counts, and which executes the fewest."""

from hot_anvil.core.measure.elsewhere import INSTRUCTIONS, SAID, CountedCandidate, Elsewhere
from hot_anvil.core.measure.measurements import Count
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, Cell, Report, Span
from hot_anvil.views.text.words import joined, ratio, size


def elsewhere(report: Report, found: tuple[Elsewhere, ...]) -> None:
    """Add a table for each target, and once what its figures leave out."""
    for one in found:
        report.add("  ", Span(one.target, STRONG), f"  {one.counted_by}")
        labels = [label for label, _ in one.candidates[0].counts]
        heads = ("candidate", *(label or one.unit for label in labels), "to fewest", "stack", "")
        rows = [_row(candidate) for candidate in one.candidates]
        report.table(heads, rows, "l" + "r" * (len(labels) + 2) + "l", filled=True)
        whys = {c.why: None for row in one.candidates for _, c in row.counts if c.why}
        for why in whys:
            report.paragraph(f"unknown: {why}", DIM, indent=2)
    for unit in dict.fromkeys(one.unit for one in found):
        report.paragraph(SAID[unit], DIM, indent=2)


def picked_elsewhere(report: Report, found: tuple[Elsewhere, ...]) -> None:
    """Add which candidate of each target executes the fewest instructions."""
    for one in found:
        if one.fewest:
            first, *others = one.fewest
            also = f"; the same: {joined(others)}" if others else ""
            report.add("  pick  ", Span(first, CHANGE), f"  for {one.target}")
            what = "executed instructions" if one.unit == INSTRUCTIONS else one.unit
            report.paragraph(f"the fewest {what}{also}", indent=8)


def _row(candidate: CountedCandidate) -> list[Cell]:
    told = candidate.to_fewest
    return [
        candidate.candidate,
        *(_count(count) for _, count in candidate.counts),
        "unknown" if told is None else ratio(told),
        "" if candidate.stack is None else size(candidate.stack),
        "fewest" if told == 1.0 else "",
    ]


def _count(count: Count) -> str:
    return "unknown" if count.instructions is None else f"{count.instructions:,}"

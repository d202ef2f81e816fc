"""Candidates of other targets as text: counts, and which executes the fewest."""

from hot_anvil.core.measure.elsewhere import INSTRUCTIONS, SAID, CountedCandidate, Elsewhere
from hot_anvil.core.measure.measurements import Count
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, Cell, Report, Span
from hot_anvil.views.text.words import duration, joined, percent, ratio, size

_EXACT = 1e-9  # misfit of a line that is one


def elsewhere(report: Report, found: tuple[Elsewhere, ...]) -> None:
    """Add a table for each target, and once what its figures leave out."""
    shown: set[str] = set()
    for one in found:
        first, *others = one.counted_by.split("; ")
        report.add("  ", Span(one.target, STRONG), f"  {first}")
        for other in others:
            report.add(" " * (4 + len(one.target)), other)
        labels = [label for label, _ in one.candidates[0].counts]
        timed = any(candidate.clock_hz for candidate in one.candidates)
        columns = [head for label in labels for head in (label or one.unit, "time")[: 1 + timed]]
        stacks = any(candidate.stack is not None for candidate in one.candidates)
        rows = [_row(candidate, timed, stacks) for candidate in one.candidates]
        heads = ("candidate", *columns, "to fewest", "least", "most", "stack", "flash", "RAM", "")
        align = "l" + "r" * (len(heads) - 2) + "l"
        last = len(heads) - 2
        spare = (last, last - 1, last - 4)
        shown |= {*report.table(heads, rows, align, filled=True, spare=spare)}
        whys = {c.why: None for row in one.candidates for _, c in row.counts if c.why}
        for why in whys:
            report.paragraph(f"unknown: {why}", DIM, indent=2)
        if one.stand_ins:
            report.paragraph(
                f"{joined(one.stand_ins)}: of a library that stands in for the chip's own, where "
                f"{'it' if len(one.stand_ins) == 1 else 'they'} may take other {one.unit}",
                DIM,
                indent=2,
            )
        _growth(report, one)
    for unit in dict.fromkeys(one.unit for one in found):
        report.paragraph(SAID[unit], DIM, indent=2)
    if "flash" in shown:
        report.paragraph(
            "flash, RAM: of all that the build's sources hold, without start code and libraries",
            DIM,
            indent=2,
        )
    clocks = {c.clock_hz for one in found for c in one.candidates if c.clock_hz}
    if clocks:
        named = joined([f"{clock / 1e6:g} MHz" for clock in sorted(clocks)])
        report.paragraph(f"time: cycles at the chip's clock, {named}", DIM, indent=2)


def _growth(report: Report, one: Elsewhere) -> None:
    """Add how counts grow over the sweep."""
    if not one.swept:
        return
    from hot_anvil.core.measure.scaling import count_scalings  # loads SciPy where it is needed

    for line in count_scalings(one):
        told = f"{line.per_call:,.1f} and {line.per_element:,.1f} for each {one.swept}"
        off = f"off by up to {percent(line.misfit)}" if line.misfit > _EXACT else "exactly"
        if line.curve:
            told, off = f"grows like {line.curve}", f"off by up to {percent(line.curve_misfit)}"
        elif not line.straight:
            told = "no straight line over these sizes"
        report.paragraph(f"{one.unit} of {line.candidate}: {told}, {off}", DIM, indent=2)


def picked_elsewhere(report: Report, found: tuple[Elsewhere, ...]) -> None:
    """Add which candidate of each target executes the fewest instructions."""
    for one in found:
        if one.fewest:
            first, *others = one.fewest
            also = f"; the same: {joined(others)}" if others else ""
            report.add("  pick  ", Span(first, CHANGE), f"  for {one.target}")
            what = "executed instructions" if one.unit == INSTRUCTIONS else one.unit
            report.paragraph(f"the fewest {what}{also}", indent=8)


def _row(candidate: CountedCandidate, timed: bool, stacks: bool) -> list[Cell]:
    told = candidate.to_fewest
    no_stack = "unknown" if stacks else ""
    return [
        candidate.candidate,
        *(cell for _, count in candidate.counts for cell in _cells(candidate, count, timed)),
        "unknown" if told is None else ratio(told),
        *_extremes(candidate),
        no_stack if candidate.stack is None else size(candidate.stack),
        size(candidate.chip.flash) if candidate.chip else "",
        size(candidate.chip.ram) if candidate.chip else "",
        "fewest" if told == 1.0 else "",
    ]


def _extremes(candidate: CountedCandidate) -> list[Cell]:
    """Return the least and most cycles over all inputs."""
    chip = candidate.chip
    known = (chip.least, chip.most) if chip else (None, None)
    return [f"{one[0]:,}" if one else "" for one in known]


def _cells(candidate: CountedCandidate, count: Count, timed: bool) -> list[Cell]:
    seconds = candidate.seconds(count)
    cells: list[Cell] = [_count(count), "" if seconds is None else duration(seconds)]
    return cells[: 1 + timed]


def _count(count: Count) -> str:
    return "unknown" if count.instructions is None else f"{count.instructions:,}"

"""Measurements as text."""

import math
from collections.abc import Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.measure import BASELINE, FASTER, SLOWER, Against, Result, Standing
from hot_anvil.core.verdict import CORRECT
from hot_anvil.views.check import excluded
from hot_anvil.views.sheet import CHANGE, DIM, STRONG, TROUBLE, Cell, Sheet, Span
from hot_anvil.views.words import duration, interval, percent, plural, ratio

if TYPE_CHECKING:
    from hot_anvil.core.judged import Measured

BUSY = 0.5  # share of disturbed visits above which the machine counts as busy


def bench_sheet(measured: Sequence["Measured"], notes: Sequence[str], width: int) -> Sheet:
    """Return a table per snippet and sweep point."""
    sheet = Sheet(width)
    for item in measured:
        sheet.blank()
        sheet.add(Span(item.checked.snippet.name, STRONG), f"  baseline {item.baseline}")
        for note in item.checked.notes:
            sheet.paragraph(f"note: {note}", DIM, indent=2)
        if item.checked.settled:
            sheet.add("  ", Span("a program is checked, not timed, by this version", DIM))
        elif not item.standings:
            sheet.add("  ", Span("nothing is correct, so nothing was timed", TROUBLE))
        for standing in item.standings:
            _standing(sheet, standing)
        excluded(sheet, [v for v in item.checked.verdicts if v.verdict != CORRECT])
    environment(sheet, notes)
    return sheet


def environment(sheet: Sheet, notes: Sequence[str]) -> None:
    """Add what limits how far the times can be trusted."""
    if notes:
        sheet.blank()
    for note in notes:
        sheet.paragraph(f"note: {note}", DIM)


def _standing(sheet: Sheet, standing: Standing) -> None:
    ordered = sorted(standing.results, key=lambda result: result.against.told.ratio)
    label = ordered[0].inputs
    if label:
        sheet.add("  ", Span(label, STRONG))
    heads = ("candidate", "time a call", "ratio", "interval", "word", "placement", "")
    sheet.table(heads, [_row(result) for result in ordered], "lrrrlrl", spare=(5,))
    sheet.paragraph(trust(standing), DIM, indent=2)


def _row(result: Result) -> list[Cell]:
    told = result.against.told
    same = f"same code as {result.same_as}" if result.same_as else ""
    return [
        result.candidate,
        duration(result.seconds_per_call),
        ratio(told.ratio),
        "" if told.word == BASELINE else interval(told.low, told.high),
        word(result.against),
        spread(result.placement_spread),
        Span(same, DIM),
    ]


def word(against: Against) -> Span:
    """Return the word for a comparison, and what turns it over."""
    told = against.told.word
    text = f"{told}: {against.depends} decides" if against.depends else told
    return Span(text, CHANGE if told in (FASTER, SLOWER) else "plain")


def spread(placement_spread: float | None) -> str:
    """Return how much placement changes a time, "" when that cannot be told from noise."""
    return ratio(placement_spread) if placement_spread and placement_spread > 1.05 else ""


def trust(standing: Standing) -> str:
    """Return what a reader needs to weigh the numbers, in one paragraph."""
    floor = math.exp(standing.floor) - 1
    text = (
        f"{plural(standing.generations, 'generation')} of fresh processes, "
        f"{plural(standing.rounds, 'round')} in random order; intervals hold for all pairs at "
        f"once (99 %); noise floor {percent(floor)}"
    )
    if any(spread(result.placement_spread) for result in standing.results):
        text += "; placement: how much where the code lies in memory alone changes the time"
    if standing.disturbed > BUSY:
        text += f"; the machine was busy: {percent(standing.disturbed)} of visits were disturbed"
    return text

"""One build's code as it lies in memory: from first to last instruction, source lines beside."""

from collections.abc import Sequence

from hot_anvil.core.asm.listing import ListedFunction, by_place
from hot_anvil.core.code.records import LINKED
from hot_anvil.core.results.code import Listing
from hot_anvil.views.text.listing import MANGLED, add_data, add_heading, add_title
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, Report, Span, cut

_BODY = 38  # columns of an instruction
_LEAST = 12  # columns of source text worth showing


def in_order_report(listings: Sequence[Listing], width: int, raw_names: bool = False) -> Report:
    """Return every function in the order of its instructions."""
    report = Report(width)
    for listing in listings:
        report.blank()
        add_heading(report, listing)
        for function in listing.functions:
            add_title(report, function, listing, raw_names)
            _instructions(report, function, listing.view == LINKED, raw_names)
            add_data(report, function)
        if not listing.functions:
            report.add("  ", Span("nothing to show", DIM))
    return report


def _instructions(report: Report, function: ListedFunction, linked: bool, raw: bool) -> None:
    before: tuple[str, int] | None = None
    home = function.lines[0].file if function.lines else ""
    for line, placed in by_place(function):
        for label in function.labels.get(placed.place, ()):
            report.add(" " * 14, Span(f"{label}:", CHANGE))
        item = placed.instruction
        body = f"{item.mnemonic:<9} {', '.join(item.operands)}".rstrip()
        if placed.called and not raw:
            body = MANGLED.sub(placed.called, body)
        place = f"{item.address:x}" if linked else str(placed.place)
        here = line.file, line.line
        number = str(line.line) if line.line and here != before else ""
        text = ""
        if here != before:
            where = f"{line.file}: " if line.file != home and line.line else ""
            text = f"{where}{' '.join(line.text.split())}"
        value = f"= {placed.value}" if placed.value else ""
        text = "   ".join(filter(None, (value, text)))
        lead = f"{number:>6}  {place:>8}   "
        room = report.width - len(lead) - max(len(body), _BODY) - 2
        shown = cut(text, room) if room >= _LEAST else ""
        report.add(
            Span(f"{number:>6}", STRONG), Span(f"  {place:>8}   ", DIM), f"{body:<{_BODY}}  ",
            Span(shown, DIM),
        )  # fmt: skip
        before = here

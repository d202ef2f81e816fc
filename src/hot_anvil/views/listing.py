"""One build's code by source line as text."""

from collections.abc import Sequence

from hot_anvil.core.listing import Line, ListedFunction
from hot_anvil.core.proof import PROVED
from hot_anvil.core.shown import Listing
from hot_anvil.views.sheet import CHANGE, DIM, STRONG, TROUBLE, Sheet, Span, cut
from hot_anvil.views.words import plural, size


def listing_sheet(listings: Sequence[Listing], width: int) -> Sheet:
    """Return every function: source lines with their counts, instructions under them."""
    sheet = Sheet(width)
    for listing in listings:
        built = listing.built
        sheet.blank()
        sheet.add(
            Span(built.snippet.name, STRONG),
            f"  {built.build.name}  ",
            Span(" ".join(built.build.flags), DIM),
        )
        if built.proof.state != PROVED:
            sheet.paragraph(
                f"caution: this code is not proved to be the code that runs: {built.proof.why}",
                TROUBLE,
            )
        for function in listing.functions:
            _function(sheet, function, built.entry_bytes(function.name))
    return sheet


def _function(sheet: Sheet, function: ListedFunction, code_bytes: int | None) -> None:
    sheet.blank()
    total = f"  {plural(function.total, 'instruction')}, {size(code_bytes)}"
    sheet.add(Span(cut(function.title, sheet.width - len(total)), STRONG), total)
    file = ""
    for line in function.lines:
        if line.file != file and line.line > 0:
            file = line.file
            sheet.add("  ", Span(file, DIM))
        _line(sheet, line, function)


def _line(sheet: Sheet, line: Line, function: ListedFunction) -> None:
    number = f"{line.line:>6}  " if line.line else " " * 8
    count = str(len(line.instructions)) if line.instructions else ""
    room = sheet.width - len(number) - 6
    text = cut(line.text.replace("\t", "    "), room)
    style = STRONG if line.instructions else DIM
    sheet.add(Span(number, DIM), Span(f"{text:<{room}}", style), f"{count:>5}")
    previous = None
    for placed in line.instructions:
        if previous is not None and placed.place != previous + 1:
            sheet.add(" " * 15, Span("..", DIM))
        previous = placed.place
        for label in function.labels.get(placed.place, ()):
            sheet.add(" " * 10, Span(f"{label}:", CHANGE))
        item = placed.instruction
        mnemonic, _, operands = item.text.partition(" ")
        note = Span("   inline assembly", DIM) if item.inline_asm else Span("")
        sheet.add(Span(f"{placed.place:>12}   ", DIM), f"{mnemonic:<9} {operands}", note)

"""One build's code by source line as text."""

import re
from collections.abc import Sequence
from itertools import groupby

from hot_anvil.core.asm.listing import Line, ListedFunction, Placed
from hot_anvil.core.code.records import LINKED
from hot_anvil.core.proof.records import PROVED
from hot_anvil.core.results.code import Listing
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Report, Span, cut
from hot_anvil.views.text.words import plural, size

_BODY = 24  # columns that notes beside instructions leave to the shorter ones
_WORDED = 32  # where each has a reading beside it
_WIDE = 120  # columns beyond which a line's counts are too far from its text
MANGLED = re.compile(r"_[ZR][\w.$]+")


def listing_report(listings: Sequence[Listing], width: int, raw_names: bool = False) -> Report:
    """Return every function: source lines with their counts, instructions under them."""
    report = Report(width)
    for listing in listings:
        report.blank()
        add_heading(report, listing)
        for function in listing.functions:
            _function(report, function, listing, raw_names)
        if not listing.functions:
            report.add("  ", Span("nothing to show", DIM))
    return report


def add_heading(report: Report, listing: Listing) -> None:
    """Add what a listing is of, and what weakens it."""
    built = listing.built
    flags = built.build.told_flags
    if listing.library:
        report.add(Span(listing.library, STRONG), f"  as {built.build.toolchain} links it")
        if listing.note:
            report.paragraph(f"caution: {listing.note}", TROUBLE)
        return
    view = "  linked" if listing.view == LINKED else ""
    report.add(Span(built.snippet.name, STRONG), f"  {built.build.name}{view}  ", Span(flags, DIM))
    if listing.view == LINKED and built.snippet.link_flags:
        report.add(Span(f"linked with {' '.join(built.snippet.link_flags)}", DIM))
    if built.whole:
        report.paragraph("its code is made while linking: read back from the linked image", DIM)
    elif built.proof.state != PROVED:
        caution = f"caution: this code is not proved to be the code that runs: {built.proof.why}"
        report.paragraph(caution, TROUBLE)


def add_title(report: Report, function: ListedFunction, listing: Listing, raw: bool) -> None:
    """Add a function's name with how much there is of it."""
    report.blank()
    size_known = listing.built.entry_bytes(function.name) if listing.built.units else None
    size_known = size_known or _bytes_of(function)
    total = f"  {plural(function.total, 'instruction')}, {size(size_known)}"
    if function.hidden:
        total += f", {function.hidden} hidden"
    name = function.name if raw else function.title
    report.add(Span(cut(name, report.width - len(total)), STRONG), total)


def _function(report: Report, function: ListedFunction, listing: Listing, raw: bool) -> None:
    add_title(report, function, listing, raw)
    file = ""
    for line in function.lines:
        if line.file != file and line.line > 0:
            file = line.file
            report.add("  ", Span(file, DIM))
        _line(report, line, function, listing.view == LINKED, raw)
    add_data(report, function)


def _bytes_of(function: ListedFunction) -> int | None:
    sizes = [p.instruction.size for line in function.lines for p in line.instructions]
    return sum(sizes) if sizes and min(sizes) >= 0 else None


def _line(report: Report, line: Line, function: ListedFunction, linked: bool, raw: bool) -> None:
    number = f"{line.line:>6}  " if line.line else " " * 8
    count = str(len(line.instructions)) if line.instructions else ""
    sizes = [placed.instruction.size for placed in line.instructions]
    cost = size(sum(sizes)) if sizes and min(sizes) >= 0 else ""
    room = min(report.width, _WIDE) - len(number) - 15
    text = cut(line.text.replace("\t", "    "), room)
    style = STRONG if line.instructions else DIM
    report.add(
        Span(number, DIM), Span(f"{text:<{room}}", style), f"{count:>6}", Span(f"{cost:>9}", DIM)
    )
    previous = None
    for placed in line.instructions:
        if previous is not None and placed.place != previous + 1:
            report.add(" " * 15, Span("..", DIM))
        previous = placed.place
        for label in function.labels.get(placed.place, ()):
            report.add(" " * 10, Span(f"{label}:", CHANGE))
        _instruction(report, placed, linked, raw)


def _instruction(report: Report, placed: Placed, linked: bool, raw: bool) -> None:
    item = placed.instruction
    # The operands are one text by now: a mnemonic may hold prefixes.
    body = f"{item.mnemonic:<9} {', '.join(item.operands)}".rstrip()
    if placed.called and not raw:
        body = MANGLED.sub(placed.called, body)
    place = f"{placed.place:>12}   "
    if linked:
        pairs = " ".join(item.encoding[k : k + 2] for k in range(0, len(item.encoding), 2))
        place = (
            f"{item.address:>12x}   {pairs:<24}" if report.width >= 80 else f"{item.address:>12x} "
        )
        place = place if place.endswith(" ") else place + " "
    note = _note(placed)
    body = f"{body:<{_WORDED if item.words and report.width >= 90 else _BODY}}" if note else body
    room = report.width - len(place) - len(body) - 3
    shown = f"   {cut(note, room)}" if note and room >= 8 else ""
    report.add(Span(place, DIM), body, Span(shown, DIM))


def _note(placed: Placed) -> str:
    """Return what is to be said of an instruction beside its text."""
    item = placed.instruction
    notes = [f"= {placed.value}"] if placed.value else []
    notes += [item.words] if item.words else []
    notes += [placed.cost.words] if placed.cost else []
    notes += [placed.phase] if placed.phase else []
    if item.inline_asm:
        notes.append("inline assembly")
    if item.parts > 1:
        notes.append(f"{item.parts} machine instructions")
    if item.chain:
        calls = ", ".join(f"{site.function}:{site.line or '?'}" for site in item.chain)
        notes.append(f"{item.function} inlined at {calls}")
    return "; ".join(notes)


def add_data(report: Report, function: ListedFunction) -> None:
    """Add what stands among the code and is none, equal neighbours as one."""
    for (place, _), group in groupby(function.data, lambda d: (d.place, d.text.split()[0])):
        items = list(group)
        known = [d.size for d in items]
        total = f", {sum(known)} B" if min(known) >= 0 else ""
        what = items[0].text if len(items) == 1 else f"{len(items)} x {items[0].text}"
        kind = "padding" if what.startswith("(padding)") or "(padding)" in what else "data"
        text = what.replace("(padding) ", "")
        before = f"before {place}" if place < function.total else "at the end"
        report.add(" " * 8, Span(cut(f"{kind} {before}: {text}{total}", report.width - 8), DIM))

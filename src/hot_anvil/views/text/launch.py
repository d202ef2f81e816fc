"""Launches of kernels as text: what each line did, what it takes, which block ran where."""

from collections.abc import Iterator, Mapping, Sequence
from math import prod

from hot_anvil.core.arch.ptx.device.schedule import PACKED, SPREAD, WARP, Placement
from hot_anvil.core.kernels.records import KernelLaunch, Mapped
from hot_anvil.views.text.report import DIM, STRONG, TROUBLE, Cell, Report, Span, cut, span
from hot_anvil.views.text.step import source_line
from hot_anvil.views.text.words import joined, plural

Sources = Mapping[str, Sequence[str]]
_HEADS = ("line", "warps", "threads", "lanes", "parted", "sectors", "rounds", "")
_SIDES = ("kernel", "", "warps", "threads", "parted", "sectors", "rounds", "registers", "at once")
_SPARE = (3, 8, 7, 6, 4)  # columns that a narrow table does without, the first of them first
_WIDE = 24  # columns of a place
_WHOLE = 2  # launches shown in full
_SHORT = 3  # numbers that are no run yet
_BESIDE_BAR = 56  # columns of what stands beside a bar
_BAR = 24  # columns of the longest
_MOST_ROWS = 32  # of a map
_LEGEND = (
    "warps, threads: instructions that they executed; lanes: how many of a warp's were at work; "
    "parted: branches that lanes of a warp took both ways; sectors: of 32 bytes of global memory "
    "that moved; rounds: further ones that banks of shared memory took."
)
_HOW: Mapping[str, str] = {
    SPREAD: "each multiprocessor takes one block before any takes a second",
    PACKED: "a multiprocessor is filled before the next takes a block",
}


def launch_report(found: Sequence[KernelLaunch], sources: Sources, width: int) -> Report:
    """Return each launch below the other."""
    report = Report(width)
    told: dict[tuple[object, ...], str] = {}
    if len(found) > _WHOLE:
        return _side_by_side(report, found)
    for one in found:
        report.blank()
        heading(report, one)
        _lines(report, one, sources)
        _resources(report, one)
        _machine(report, one, sources)
        for mapped in one.maps:
            key = (one.snippet, mapped.scheduler, *(p[:3] for p in mapped.placements))
            if key in told:
                report.paragraph(
                    f"which block ran where, {mapped.scheduler}: as with {told[key]}", DIM, 2
                )
                continue
            told[key] = one.candidate
            _map(report, mapped)
    report.paragraph(_LEGEND, DIM, 2)
    return report


def _side_by_side(report: Report, found: Sequence[KernelLaunch]) -> Report:
    """Add a row for each launch, under its snippet."""
    for snippet in dict.fromkeys(one.snippet for one in found):
        own = [one for one in found if one.snippet == snippet]
        report.blank()
        report.add(Span(snippet, STRONG), "  ", Span(own[0].label, DIM))
        shapes = dict.fromkeys(_shape(one) for one in own)
        report.paragraph(f"{joined(list(shapes))}, on a simulated device: counts, never times",
                         DIM, 2)  # fmt: skip
        rows = [_row(one) for one in own]
        report.table(_SIDES, rows, "llrrrrrrr", spare=_SPARE, filled=True)
        report.tell_left_out()
        for text in dict.fromkeys(said for one in own for said in _troubles(one)):
            report.paragraph(text, TROUBLE, 2)
    report.paragraph(
        f"{_LEGEND} At once: warps that fit on a multiprocessor, by arithmetic. Name a build, or "
        "ENTRY@BUILD, for its lines and which block ran where.", DIM, 2,
    )  # fmt: skip
    return report


def _row(one: KernelLaunch) -> list[Cell]:
    fits, own = one.occupancy, one.resources
    bad = "data race" if one.races else ""
    bad = one.ending if one.ending != "returned" else bad
    return [
        one.candidate, Span(bad, TROUBLE), f"{one.total('warps'):,}", f"{one.total('threads'):,}",
        _some(one.total("diverged")), _sectors(one.total("sectors"), one.total("least")),
        _some(one.total("conflicts")), str(own.registers) if own else "?",
        f"{fits.warps} of {fits.most}" if fits else "?",
    ]  # fmt: skip


def _shape(one: KernelLaunch) -> str:
    blocks, threads = prod(one.shape.grid), prod(one.shape.block)
    return f"{plural(blocks, 'block')} of {plural(threads, 'thread')}"


def heading(report: Report, one: KernelLaunch) -> None:
    """Add which launch it is and what came of it."""
    report.add(Span(one.snippet, STRONG), f"  {one.candidate}  ", Span(one.label, DIM))
    report.paragraph(f"{_shape(one)}, on a simulated device: counts, never times", DIM, 2)
    warps, own = one.total("warps"), one.total("threads")
    met = f"; {one.barriers:,} times a block met at a barrier" if one.barriers else ""
    report.paragraph(
        f"executed {warps:,} instructions of warps, {own:,} of threads{met}", STRONG, 2
    )
    for text in _troubles(one):
        report.paragraph(text, TROUBLE, 2)


def _troubles(one: KernelLaunch) -> list[str]:
    """Return what went wrong in a launch, with its line first."""
    found = [(f"data race: {why}", place) for why, place in one.races]
    if one.ending != "returned":
        found.insert(0, (f"{one.ending}: {one.why}", one.place))
    return [f"{place.text or 'a line not known'}: {text}" for text, place in found]


def _lines(report: Report, one: KernelLaunch, sources: Sources) -> None:
    rows: list[list[Cell]] = []
    for line in sorted(one.lines, key=lambda one: not one.line):
        place = _place(line.file, line.line)
        text = source_line(sources, line.file, line.line).strip()
        busy = f"{100 * line.threads / (line.warps * WARP):.0f} %" if line.warps else ""
        rows.append(
            [Span(place, DIM), f"{line.warps:,}", f"{line.threads:,}", busy,
             _some(line.diverged), _sectors(line.sectors, line.least), _some(line.conflicts), text]
        )  # fmt: skip
    taken = sum(_width(head, rows, column) for column, head in enumerate(_HEADS[:-1]))
    room = max(report.width - taken - 4, 16)
    rows = [[*row[:-1], cut(str(row[-1]), room)] for row in rows]
    report.table(_HEADS, rows, "lrrrrrrl", spare=(2, 3), filled=True)


def _width(head: str, rows: Sequence[Sequence[Cell]], column: int) -> int:
    """Return the columns that a column of a table takes, none when it is empty throughout."""
    longest = max(len(span(row[column]).text) for row in rows) if rows else 0
    return max(longest, len(head)) + 2 if longest else 0


def _sectors(moved: int, least: int) -> str:
    if moved > least:
        return f"{moved:,} (least {least:,})"
    return _some(moved)


def _some(number: int) -> str:
    return f"{number:,}" if number else ""


def _resources(report: Report, one: KernelLaunch) -> None:
    if not one.target:  # it was not run
        return
    own = one.resources
    if own is None:
        report.paragraph(f"registers and spills on {one.target}: not known: {one.no_resources}",
                         TROUBLE, 2)  # fmt: skip
    else:
        spills = "no spills"
        if own.spill_stores or own.spill_loads:
            spills = f"spills {own.spill_stores} B stored, {own.spill_loads} B loaded"
        stack = f", {own.stack} B of stack" if own.stack else ""
        report.paragraph(
            f"on {one.target}, by its assembler: {plural(own.registers, 'register')} a thread, "
            f"{spills}{stack}, {own.shared} B shared, {own.constant} B constant", indent=2,
        )  # fmt: skip
    fits = one.occupancy
    if fits is None:
        report.paragraph(f"occupancy: not known: the limits of '{one.target}' are not", DIM, 2)
        return
    at_most = "at most " if own is None else ""
    report.paragraph(
        f"occupancy of {one.target}: {at_most}{plural(fits.blocks, 'block')}, {fits.warps} of "
        f"{fits.most} warps of a multiprocessor at once, limited by {joined(fits.limited_by)} "
        "(arithmetic, not speed)", indent=2,
    )  # fmt: skip


def _machine(report: Report, one: KernelLaunch, sources: Sources) -> None:
    """Add the real machine's code under its source lines."""
    if one.no_machine:
        report.paragraph(f"machine code of {one.target}: not known: {one.no_machine}", TROUBLE, 2)
    if not one.machine:
        return
    report.blank()
    own = list(one.machine)
    while own and own[-1].text == "NOP":
        own.pop()
    report.add(
        "  ",
        Span(f"machine code of {one.target}", STRONG),
        f", {plural(len(own), 'instruction')}",
    )
    at = ("", -1)
    for item in own:
        if (item.file, item.line) != at:
            at = item.file, item.line
            text = source_line(sources, *at).strip()
            report.add("  ", Span(f"{_place(*at)}  ", DIM), cut(text, report.width - _WIDE - 6))
        report.add(f"    {item.offset:04x}  {item.label:<8} {item.text}")
    filling = len(one.machine) - len(own)
    if filling:
        report.add("    ", Span(f"and {plural(filling, 'NOP')} that fill it up", DIM))


def _place(file: str, line: int) -> str:
    place = f"{file.rpartition('/')[2]}:{line}" if line else "no line"
    return place if len(place) <= _WIDE else f"…{place[1 - _WIDE :]}"


def _map(report: Report, mapped: Mapped) -> None:
    """Add which block ran where: a row for what a multiprocessor held at once, with a bar."""
    report.blank()
    where = plural(mapped.processors, "multiprocessor")
    report.add("  ", Span(f"blocks on {where}, {mapped.scheduler}", STRONG))
    report.paragraph(_HOW.get(mapped.scheduler, ""), DIM, 2)
    held = _held(mapped)
    bar = max(min(_BAR, report.width - _BESIDE_BAR), 4)
    most = max((cost for _, _, _, cost in held), default=1) or 1
    rows: list[list[Cell]] = [
        [str(processor), str(wave + 1), str(len(blocks)), f"{cost:,}",
         Span("▆" * max(round(bar * cost / most), 1) if cost else "", DIM), numbers(blocks)]
        for processor, wave, blocks, cost in held[:_MOST_ROWS]
    ]  # fmt: skip
    idle = [n for n in range(mapped.processors) if all(n != p.processor for p in mapped.placements)]
    heads = ("multiprocessor", "wave", "blocks", "warps", "", "which")
    report.table(heads, rows, "rrrrll")
    if len(held) > _MOST_ROWS:
        more = plural(len(held) - _MOST_ROWS, "more row")
        report.add("  ", Span(f"and {more}; --format json has all", DIM))
    if idle:
        report.paragraph(f"without a block: {numbers(idle)}", DIM, 2)


def _held(mapped: Mapped) -> list[tuple[int, int, list[int], int]]:
    """Return (multiprocessor, wave, blocks, instructions of warps) of what ran at once."""
    found: dict[tuple[int, int], list[Placement]] = {}
    for one in mapped.placements:
        found.setdefault((one.processor, one.wave), []).append(one)
    return [
        (processor, wave, [p.block for p in own], sum(p.end - p.start for p in own))
        for (processor, wave), own in sorted(found.items())
    ]


def numbers(values: Sequence[int]) -> str:
    """Return whole numbers in words as short as they go: ``0-15``, ``0, 4 ... 60``."""
    return ", ".join(_runs(sorted(values)))


def _runs(values: Sequence[int]) -> Iterator[str]:
    start = 0
    while start < len(values):
        end = start + 1
        step = values[end] - values[start] if end < len(values) else 0
        while end < len(values) and values[end] - values[end - 1] == step:
            end += 1
        length = end - start
        if length < _SHORT or (length == _SHORT and step != 1):
            yield str(values[start])
            start += 1
            continue
        first, last = values[start], values[end - 1]
        yield f"{first}-{last}" if step == 1 else f"{first}, {first + step} … {last}"
        start = end

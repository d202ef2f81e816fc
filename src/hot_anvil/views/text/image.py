"""Where code and data end up, the biggest things first."""

from collections.abc import Sequence

from hot_anvil.core.binary.image_map import HOLDS, BuildImage, Section
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, Cell, Report, Span, cut
from hot_anvil.views.text.words import plural, size

_BIGGEST = 6  # things of a section
_MAPS = 2  # builds of a snippet whose maps are shown, beyond which only totals are
_BAR = 20  # columns for the whole of a section


def image_report(found: Sequence[BuildImage], width: int, everything: bool) -> Report:
    """Return totals by build, then each build's map."""
    report = Report(width)
    for name in dict.fromkeys(one.snippet for one in found):
        own = [one for one in found if one.snippet == name]
        report.blank()
        flags = own[0].link_flags
        linked = f"  linked with {' '.join(flags)}" if flags else ""
        report.add(Span(name, STRONG), Span(linked, DIM))
        _totals(report, own)
        maps = own if everything or len(own) <= _MAPS else []
        for one in maps:
            _map(report, one, everything)
        if not maps:
            report.paragraph("Name a build, or two, for its map.", DIM, 2)
    return report


def _totals(report: Report, own: Sequence[BuildImage]) -> None:
    usual = {h: max(set(t), key=t.count) for h in HOLDS for t in [[o.total(h) for o in own]]}
    rows: list[list[Cell]] = []
    for one in own:
        if not one.sections:
            rows.append([one.build, *([""] * len(HOLDS)), Span(cut(one.why, 60), DIM)])
            continue
        cells: list[Cell] = [
            Span(size(one.total(h)), CHANGE) if one.total(h) != usual[h] else size(one.total(h))
            for h in HOLDS
        ]
        rows.append([one.build, *cells, Span("not linked" if one.why else "", DIM)])
    report.table(("build", *HOLDS, ""), rows, "l" + "r" * len(HOLDS) + "l")


def _map(report: Report, one: BuildImage, everything: bool) -> None:
    if not one.sections:
        return
    report.blank()
    report.add(Span(f"  {one.build}", STRONG))
    if one.why:
        report.paragraph(f"not linked, so nothing has an address: {one.why}", DIM, 4)
    largest = max(section.size for section in one.sections)
    for section in one.sections:
        _section(report, section, largest)
        shown = section.things if everything else section.things[:_BIGGEST]
        rows: list[list[Cell]] = []
        for thing in shown:
            title = one.titles.get(thing.name, thing.name)
            at = f"{thing.address:#x}" if section.address is not None else f"+{thing.address:#x}"
            rows.append([Span(at, DIM), size(thing.size), cut(title, report.width - 30)])
        report.table(("", "", ""), rows, "rrl", 8)
        rest = len(section.things) - len(shown)
        named = sum(thing.size for thing in section.things)
        told = [f"{plural(rest, 'smaller thing')}: --all"] if rest else []
        told += [f"{section.size - named} B without a name"] if named < section.size else []
        if told and section.things:
            report.add(" " * 8, Span(", ".join(told), DIM))


def _section(report: Report, section: Section, largest: int) -> None:
    bar = "#" * max(1, round(_BAR * section.size / largest))
    where = f"{section.address:#x}" if section.address is not None else section.file
    report.say(
        f"    {section.name:<16}", Span(f" {where:<12}", DIM), f"{size(section.size):>9}  ",
        Span(f"{bar:<{_BAR}}", CHANGE), f"  {section.holds}",
        Span(f", aligned to {section.alignment}", DIM),
    )  # fmt: skip

"""The grid of compiled builds as text."""

from collections.abc import Sequence

from hot_anvil.core.built import REFUSED, Built
from hot_anvil.core.proof import BROKEN, PROVED
from hot_anvil.views.sheet import DIM, STRONG, TROUBLE, Cell, Sheet, Span
from hot_anvil.views.words import duration, joined, plural, size


def compile_sheet(builds: Sequence[Built], notes: Sequence[str], width: int) -> Sheet:
    """Return a table per snippet, its diagnostics by line, and a closing line."""
    sheet = Sheet(width)
    for note in notes:
        sheet.paragraph(f"note: {note}", DIM)
    for name in dict.fromkeys(built.snippet.name for built in builds):
        mine = [built for built in builds if built.snippet.name == name]
        sheet.blank()
        sheet.add(Span(name, STRONG), Span(f"  {joined(mine[0].snippet.sources)}", DIM))
        heads = ("build", "flags", "status", "compiler took", "code", "instructions")
        sheet.table(heads, [_row(built) for built in mine], "lllrrr", spare=(1, 5))
        _complaints(sheet, mine)
    sheet.blank()
    _closing(sheet, builds)
    return sheet


def _row(built: Built) -> list[Cell]:
    refused = built.status == REFUSED
    return [
        built.build.name,
        Span(" ".join(built.build.flags) or "(none)", DIM),
        Span(built.status, TROUBLE) if refused else built.status,
        duration(built.seconds) if built.seconds else "not run",
        "" if refused else size(built.code_bytes),
        "" if refused else str(sum(unit.proof.instructions for unit in built.shown)),
    ]


def _complaints(sheet: Sheet, builds: Sequence[Built]) -> None:
    """Add every complaint once, with the builds that make it."""
    who: dict[tuple[str, int, int, str, str], list[str]] = {}
    for built in builds:
        for d in built.diagnostics:
            key = (d.file, d.line, d.column, d.severity, d.message)
            who.setdefault(key, []).append(built.build.name)
        if built.status == REFUSED and not built.diagnostics:
            who.setdefault(("", 0, 0, "error", built.why), []).append(built.build.name)
    for (file, line, column, severity, message), names in sorted(who.items()):
        place = f"{file}:{line}:{column}: " if line else f"{file}: " if file else ""
        style = TROUBLE if severity == "error" else STRONG if severity == "warning" else DIM
        whose = "all builds" if len(names) == len(builds) else joined(names)
        sheet.add("  ", Span(f"{place}{severity}: ", style), message)
        sheet.paragraph(f"from {whose}", DIM, indent=6)


def _closing(sheet: Sheet, builds: Sequence[Built]) -> None:
    refused = [built for built in builds if built.status == REFUSED]
    compiled = [built for built in builds if built.status != REFUSED]
    fresh = sum(built.fresh for built in compiled)
    text = f"{plural(len(compiled), 'build')} compiled"
    if compiled:
        text += f" ({fresh} just now, {len(compiled) - fresh} from the store)"
    if refused:
        text += f", {len(refused)} refused"
    proved = sum(built.proof.state == PROVED for built in compiled)
    sheet.add(text)
    if compiled:
        sheet.add(f"shown code is the code that runs: proved for {proved} of {len(compiled)}")
    for built in compiled:
        if built.proof.state != PROVED:
            style = TROUBLE if built.proof.state == BROKEN else DIM
            why = f"{built.snippet.name} {built.build.name}: {built.proof.state}: "
            sheet.paragraph(why + built.proof.why, style, indent=2)

"""The grid of compiled builds as text."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.proof.records import BROKEN, PROVED, DebugProof
from hot_anvil.views.text.sheet import DIM, STRONG, TROUBLE, Cell, Sheet, Span, cut
from hot_anvil.views.text.words import duration, joined, plural, size


def compile_sheet(
    builds: Sequence[Built],
    notes: Sequence[str],
    proofs: Mapping[tuple[str, str], DebugProof],
    width: int,
) -> Sheet:
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
        if len(mine) > 1:
            _portability(sheet, mine)
    sheet.blank()
    _closing(sheet, builds)
    if proofs:
        _debug(sheet, proofs)
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
        head = f"{place}{severity}: "
        if len(head) + len(message) + 2 <= sheet.width:
            sheet.add("  ", Span(head, style), message)
        else:
            sheet.add("  ", Span(head.rstrip(), style))
            sheet.paragraph(message, indent=6)
        sheet.paragraph(f"from {whose}", DIM, indent=6)


def _portability(sheet: Sheet, builds: Sequence[Built]) -> None:
    """Add a row per source line that builds complain about differently, a mark per build."""
    rows: dict[tuple[str, int], list[str]] = {}
    for column, built in enumerate(builds):
        for d in built.diagnostics:
            if d.severity == "note" or not d.line:
                continue
            marks = rows.setdefault((d.file, d.line), ["."] * len(builds))
            marks[column] = "E" if d.severity == "error" or marks[column] == "E" else "W"
    differing = {place: marks for place, marks in rows.items() if len(set(marks)) > 1}
    if not differing:
        return
    text = "by line, a mark for each build in the order above: E error, W warning, . nothing"
    sheet.paragraph(text, DIM, indent=2)
    for (file, line), marks in sorted(differing.items()):
        spans = [Span(f"{m} ", TROUBLE if m == "E" else STRONG if m == "W" else DIM) for m in marks]
        sheet.add("    ", f"{cut(f'{file}:{line}', 24):<24}  ", *spans)


def _debug(sheet: Sheet, proofs: Mapping[tuple[str, str], DebugProof]) -> None:
    """Say whether our debug flag changed code, and where."""
    proved = sum(proof.state == PROVED for proof in proofs.values())
    sheet.add(f"our debug flag changes no code: proved for {proved} of {len(proofs)}")
    for (snippet, build), proof in proofs.items():
        if proof.state != PROVED:
            style = TROUBLE if proof.state == BROKEN else DIM
            where = f" in {joined(proof.functions[:8])}" if proof.functions else ""
            sheet.paragraph(f"{snippet} {build}: {proof.state}: {proof.why}{where}", style, 2)


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

"""The grid of compiled builds as text."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.proof.records import BROKEN, PROVED, DebugProof
from hot_anvil.views.text.report import DIM, STRONG, TROUBLE, Cell, Report, Span, cut
from hot_anvil.views.text.words import duration, joined, plural, size


def compile_report(
    builds: Sequence[Built],
    notes: Sequence[str],
    proofs: Mapping[tuple[str, str], DebugProof],
    width: int,
) -> Report:
    """Return a table per snippet, its diagnostics by line, and a closing line."""
    report = Report(width)
    for note in notes:
        report.paragraph(f"note: {note}", DIM)
    for name in dict.fromkeys(built.snippet.name for built in builds):
        mine = [built for built in builds if built.snippet.name == name]
        report.blank()
        report.add(Span(name, STRONG), Span(f"  {joined(mine[0].snippet.sources)}", DIM))
        heads = ("build", "flags", "status", "compiler took", "code", "instructions")
        report.table(heads, [_row(built) for built in mine], "lllrrr", spare=(5,), below=(1,))
        report.tell_left_out()
        _complaints(report, mine)
        if len(mine) > 1:
            _portability(report, mine)
    report.blank()
    _closing(report, builds)
    if proofs:
        _debug(report, proofs)
    return report


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


def _complaints(report: Report, builds: Sequence[Built]) -> None:
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
        if len(head) + len(message) + 2 <= report.width:
            report.add("  ", Span(head, style), message)
        else:
            report.add("  ", Span(head.rstrip(), style))
            report.paragraph(message, indent=6)
        report.paragraph(f"from {whose}", DIM, indent=6)


def _portability(report: Report, builds: Sequence[Built]) -> None:
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
    report.paragraph(text, DIM, indent=2)
    for (file, line), marks in sorted(differing.items()):
        spans = [Span(f"{m} ", TROUBLE if m == "E" else STRONG if m == "W" else DIM) for m in marks]
        report.add("    ", f"{cut(f'{file}:{line}', 24):<24}  ", *spans)


def _debug(report: Report, proofs: Mapping[tuple[str, str], DebugProof]) -> None:
    """Say whether our debug flag changed code, and where."""
    proved = sum(proof.state == PROVED for proof in proofs.values())
    report.add(f"our debug flag changes no code: proved for {proved} of {len(proofs)}")
    for (snippet, build), proof in proofs.items():
        if proof.state != PROVED:
            style = TROUBLE if proof.state == BROKEN else DIM
            where = f" in {joined(proof.functions[:8])}" if proof.functions else ""
            report.paragraph(f"{snippet} {build}: {proof.state}: {proof.why}{where}", style, 2)


def _closing(report: Report, builds: Sequence[Built]) -> None:
    refused = [built for built in builds if built.status == REFUSED]
    compiled = [built for built in builds if built.status != REFUSED]
    fresh = sum(built.fresh for built in compiled)
    text = f"{plural(len(compiled), 'build')} compiled"
    if compiled:
        text += f" ({fresh} just now, {len(compiled) - fresh} from the store)"
    if refused:
        text += f", {len(refused)} refused"
    proved = sum(built.proof.state == PROVED for built in compiled)
    report.add(text)
    if compiled:
        report.add(f"shown code is the code that runs: proved for {proved} of {len(compiled)}")
    for built in compiled:
        if built.proof.state != PROVED:
            style = TROUBLE if built.proof.state == BROKEN else DIM
            why = f"{built.snippet.name} {built.build.name}: {built.proof.state}: "
            report.paragraph(why + built.proof.why, style, indent=2)

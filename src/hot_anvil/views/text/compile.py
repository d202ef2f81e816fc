"""The grid of compiled builds as text."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.asm.listing import Sources, source_text
from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.proof.records import BROKEN, PROVED, DebugProof
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.views.text.report import (
    CHANGE,
    DIM,
    STRONG,
    TROUBLE,
    Cell,
    Report,
    Span,
    Style,
    cut,
)
from hot_anvil.views.text.words import duration, joined, plural, size


def compile_report(
    builds: Sequence[Built],
    notes: Sequence[str],
    proofs: Mapping[tuple[str, str], DebugProof],
    sources: Sources,
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
        report.table(
            heads, [_row(built) for built in mine], "lllrrr", spare=(5,), below=(1,), filled=True
        )
        report.tell_left_out()
        _complaints(report, mine, sources)
        if len(mine) > 1:
            _portability(report, mine)
    report.blank()
    _closing(report, builds)
    if proofs:
        _debug(report, proofs)
    return report


def _flags(built: Built) -> str:
    """Return the flags of a build, "" where its name says them already."""
    flags = built.build.told_flags
    return "" if flags and built.build.name.endswith(f" {flags}") else flags or "(none)"


def _row(built: Built) -> list[Cell]:
    refused = built.status == REFUSED
    return [
        built.build.name,
        Span(_flags(built), DIM),
        Span(built.status, TROUBLE) if refused else built.status,
        duration(built.seconds) if built.seconds else "not run",
        "" if refused else size(built.code_bytes),
        "" if refused else str(sum(unit.proof.instructions for unit in built.shown)),
    ]


Complaint = tuple[Diagnostic, ...]  # an error or a warning with its notes


def _complaints(report: Report, builds: Sequence[Built], sources: Sources) -> None:
    """Add every complaint once, with its notes under it and the builds that make it."""
    who: dict[Complaint, list[str]] = {}
    for built in builds:
        for complaint in _with_notes(built.diagnostics):
            who.setdefault(complaint, []).append(built.build.name)
        if built.status == REFUSED and not built.diagnostics:
            who.setdefault((Diagnostic("", 0, 0, "error", built.why),), []).append(built.build.name)
    for (first, *notes), names in sorted(who.items(), key=lambda item: item[0][0][:4]):
        style = TROUBLE if first.severity == "error" else STRONG
        _message(report, first, 2, style)
        _pointed(report, first, sources)
        for note in notes:
            _message(report, note, 6, DIM)
        whose = "all builds" if len(names) == len(builds) else joined(names)
        report.paragraph(f"from {whose}", DIM, indent=6)


def _with_notes(diagnostics: Sequence[Diagnostic]) -> list[Complaint]:
    """Return complaints with the notes that follow each: compilers write them so."""
    out: list[list[Diagnostic]] = []
    for d in diagnostics:
        if d.severity == "note" and out:
            out[-1].append(d)
        else:
            out.append([d])
    return list(dict.fromkeys(map(tuple, out)))


def _message(report: Report, d: Diagnostic, indent: int, style: Style) -> None:
    place = f"{d.file}:{d.line}:{d.column}: " if d.line else f"{d.file}: " if d.file else ""
    head = f"{place}{d.severity}: "
    if len(head) + len(d.message) + indent <= report.width:
        report.add(" " * indent, Span(head, style), d.message)
    else:
        report.add(" " * indent, Span(head.rstrip(), style))
        report.paragraph(d.message, indent=indent + 4)


def _pointed(report: Report, d: Diagnostic, sources: Sources) -> None:
    """Add the source line with a caret under the column that is meant."""
    text = source_text(sources, d.file, d.line) if d.line else ""
    if not text.strip():
        return
    shown = text.expandtabs(4)
    room = report.width - 6
    before = text.encode()[: max(d.column - 1, 0)].decode(errors="ignore").expandtabs(4)
    start = max(len(before) - room + 12, 0) if len(shown) > room else 0
    report.add(" " * 6, Span(shown[start : start + room], DIM))
    if d.column and len(before) < start + room:
        report.add(" " * (6 + len(before) - start), Span("^", CHANGE))


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

"""What a save did to the code, as text: the builds, the lines, what else changed."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.diff.leading import leading
from hot_anvil.core.diff.records import SAME, Row, lines_text
from hot_anvil.core.results.looks import BuildLook, FactChange, Look
from hot_anvil.core.toolchain.diagnostics import Diagnostic
from hot_anvil.core.verify.verdicts import CORRECT
from hot_anvil.views.text.diff import add_rows
from hot_anvil.views.text.report import (
    CHANGE,
    DIM,
    PLAIN,
    STRONG,
    TROUBLE,
    Cell,
    Report,
    Span,
    cut,
)
from hot_anvil.views.text.words import duration, halves, plural

if TYPE_CHECKING:
    from hot_anvil.core.verify.results import Checked

_LINES = 24  # source lines shown of one save before they are counted
_REASONS = 4
_FACTS = 12
_CELL = 12


def look_report(look: Look, when: str, width: int) -> Report:
    """Return what a save did, or at the start how things stand."""
    report = Report(width)
    _head(report, look, when)
    _builds(report, look)
    _errors(report, look)
    changed = [one for one in look.builds if one.diff is not None]
    if len(changed) == 1 and changed[0].diff is not None:
        diff = changed[0].diff
        add_rows(report, _told(diff.diff.rows, report), diff.names, False, 0)
    elif changed:
        _lines(report, changed)
    _reasons(report, changed)
    _facts(report, look.facts)
    _expectations(report, look)
    report.blank()
    return report


def _head(report: Report, look: Look, when: str) -> None:
    took = f"{duration(look.seconds)}, compiling {duration(look.compiling)}"
    if not look.number:
        files = plural(len({b.built.build.name for b in look.builds}), "build")
        report.add(Span(f"{when}  watching {files}", STRONG), Span(f"  {took}", DIM))
        return
    report.add(Span(f"{when}  {', '.join(look.files)}", STRONG), Span(f"  {took}", DIM))


def _builds(report: Report, look: Look) -> None:
    """Say of each build what became of it; those of which the same is to be said together."""
    several = len({one.built.snippet.name for one in look.builds}) > 1
    said: dict[tuple[str, str, str], list[str]] = {}
    for one in look.builds:
        name = one.built.build.name
        who = f"{one.built.snippet.name}@{name}" if several else name
        said.setdefault((one.state, *_words(one, look.number)), []).append(who)
    quiet = [key for key in said if key[0] == "same code" and look.number]
    if not look.number:
        good = sum(one.state != "refused" for one in look.builds)
        snippets = len({one.built.snippet.name for one in look.builds})
        report.add(
            "  ",
            Span(f"{good} of {len(look.builds)} compiled, of {plural(snippets, 'snippet')}", DIM),
        )
    for key, names in said.items():
        state, text, note = key
        if (key in quiet and several) or (state != "refused" and not look.number):
            continue
        style = {"refused": TROUBLE, "changed": CHANGE}.get(state, DIM)
        report.say("  ", Span(text, style), f"  {', '.join(names)}", Span(note, DIM))
    if quiet and several:
        count = sum(len(said[key]) for key in quiet)
        report.add("  ", Span(f"same code  {count} others", DIM))


def _words(one: BuildLook, number: int) -> tuple[str, str]:
    if one.state == "refused":
        kept = "; what it made before stays the state to compare with" if one.good else ""
        return "refused", kept
    if one.diff is not None:
        diff = one.diff.diff
        differ = sum(row.state != SAME for row in diff.rows)
        return f"{diff.left_count} to {diff.right_count} instructions", (
            f"  {plural(differ, 'line')} differ{'s' if differ == 1 else ''}"
        )
    return ("same code" if number else f"{one.instructions} instructions"), ""


def _errors(report: Report, look: Look) -> None:
    who: dict[Diagnostic, list[str]] = {}
    for one in look.builds:
        for error in one.errors:
            who.setdefault(error, []).append(one.built.build.name)
        if one.state == "refused" and not one.errors:
            report.paragraph(f"{one.built.build.name}: {one.built.why}", TROUBLE, 2)
    refused = {one.built.build.name for one in look.builds if one.state == "refused"}
    for error, names in who.items():
        builds = "" if set(names) == refused else f"  ({', '.join(dict.fromkeys(names))})"
        where = f"{error.file}:{error.line}: " if error.line else ""
        report.say(Span(f"  {where}{error.message}", TROUBLE), Span(builds, DIM))
        lines = look.sources.get(error.file, [])
        if 0 < error.line <= len(lines):
            report.add(
                Span(f"{error.line:>6}  ", DIM), cut(lines[error.line - 1], report.width - 8)
            )


def _told(rows: Sequence[Row], report: Report) -> list[Row]:
    told = [row for row in rows if row.state != SAME]
    if len(told) > _LINES:
        report.add("  ", Span(f"the first {_LINES} of {len(told)} lines that differ", DIM))
    return told[:_LINES]


def _lines(report: Report, changed: Sequence[BuildLook]) -> None:
    """Show the lines with how many instructions each build had and has."""
    rows: dict[tuple[str, int], dict[str, Row]] = {}
    for one in changed:
        assert one.diff is not None
        for row in one.diff.diff.rows:
            if row.state != SAME:
                rows.setdefault((row.file, row.line), {})[one.built.build.name] = row
    names = list(dict.fromkeys(one.built.build.name for one in changed))
    cells = {name: max(_CELL, *(len(part) for part in halves(name))) + 2 for name in names}
    shown = [name for k, name in enumerate(names)
             if sum(cells[n] for n in names[: k + 1]) < report.width - 40] or names[:1]  # fmt: skip
    room = report.width - 8 - sum(cells[name] for name in shown)
    report.blank()
    for k in (0, 1):
        heads = "".join(f"{halves(name)[k]:<{cells[name]}}" for name in shown)
        if heads.strip():
            report.add(" " * (8 + room), Span(heads.rstrip(), DIM))
    for place in sorted(rows, key=lambda at: (at[1] == 0, at))[:_LINES]:
        own = rows[place]
        text = next(iter(own.values())).text.replace("\t", "    ")
        number = f"{place[1]:>6}  " if place[1] else " " * 8
        spans: list[Cell] = [Span(number, DIM), f"{cut(text or '(no line)', room - 2):<{room}}"]
        for name in shown:
            mine = own.get(name)
            said = f"{mine.left_count} to {mine.right_count}" if mine else "same"
            said = mine.state if mine and mine.left_count == mine.right_count else said
            spans.append(Span(f"{said:<{cells[name]}}", CHANGE if mine else DIM))
        report.add(*spans)
    if len(rows) > _LINES:
        report.add("  ", Span(f"and {len(rows) - _LINES} lines more", DIM))
    if len(shown) < len(names):
        report.add("  ", Span(f"left out, for the width: {', '.join(names[len(shown) :])}", DIM))


def _reasons(report: Report, changed: Sequence[BuildLook]) -> None:
    """Say why, what is the same of several lines or builds once."""
    said: dict[str, tuple[dict[str, None], dict[str, None]]] = {}
    for one in changed:
        assert one.diff is not None
        for reason in leading(one.diff.explained.reasons, _REASONS):
            places, builds = said.setdefault(reason.text, ({}, {}))
            places[lines_text(reason.places)] = None
            builds[one.built.build.name] = None
    if said:
        report.blank()
    for text, (places, builds) in list(said.items())[: 2 * _REASONS]:
        who = f"  ({', '.join(builds)})" if len(changed) > 1 else ""
        report.say(Span(f"  {', '.join(places)}  ", DIM), text, Span(who, DIM))


def _facts(report: Report, facts: Sequence[FactChange]) -> None:
    said: dict[tuple[str, str, str, str, str], list[str]] = {}
    for one in facts:
        key = one.function, one.loop, one.fact, one.before, one.after
        said.setdefault(key, []).append(one.build)
    for (function, loop, fact, before, after), names in list(said.items())[:_FACTS]:
        where = f"{function}, loop at {loop}" if loop else function
        report.say(
            Span(f"  {where}: ", DIM), f"{fact} {after}, was {before}",
            Span(f"  ({', '.join(names)})", DIM),
        )  # fmt: skip
    if len(said) > _FACTS:
        report.add("  ", Span(f"and {len(said) - _FACTS} facts more", DIM))


def _expectations(report: Report, look: Look) -> None:
    for one in look.expectations:
        style = PLAIN if one.after == "held" else TROUBLE
        report.say(
            Span(
                f"  expectation on {one.entry}: {one.fact} {one.after}, {one.before} before", style
            ),
            Span(f"  ({one.build}: {one.found})", DIM),
        )


def verdicts_report(checks: Sequence["Checked"], width: int) -> Report:
    """Return the verdicts on what a save changed: those that are not correct by name."""
    report = Report(width)
    for checked in checks:
        correct = sum(v.verdict == CORRECT for v in checked.verdicts)
        report.add(
            Span(f"  {checked.snippet.name}: ", DIM),
            f"{correct} of {len(checked.verdicts)} candidates correct",
        )
        said: Mapping[tuple[str, str], list[str]] = _alike(checked)
        for (verdict, why), names in said.items():
            report.say(
                Span(f"  {verdict}  ", TROUBLE), f"{', '.join(names)}", Span(f"  {why}", DIM)
            )
    report.blank()
    return report


def _alike(checked: "Checked") -> dict[tuple[str, str], list[str]]:
    said: dict[tuple[str, str], list[str]] = {}
    for one in checked.verdicts:
        if one.verdict != CORRECT:
            said.setdefault((one.verdict, one.why), []).append(one.candidate)
    return said


def trouble_report(files: Sequence[str], told: str, when: str, width: int) -> Report:
    """Return what stands in the way after a save of the bench's file."""
    report = Report(width)
    report.add(Span(f"{when}  {', '.join(files)}", STRONG))
    report.paragraph(told, TROUBLE, 2)
    report.blank()
    return report

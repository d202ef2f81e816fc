"""Where something appears and goes in a compiler's work, by build, with the step that did it."""

from collections.abc import Sequence

from hot_anvil.core.diff.records import SAME
from hot_anvil.core.stages.difference import compare_forms
from hot_anvil.core.stages.following import Followed, Step, passes_of, stands_for
from hot_anvil.core.stages.records import FunctionStages
from hot_anvil.views.text.diff import add_legend
from hot_anvil.views.text.report import CHANGE, DIM, PLAIN, STRONG, Cell, Report, Span
from hot_anvil.views.text.stages import add_difference, caution

_STEPS = 8  # told of a build before they are counted


def follow_report(
    followed: Sequence[tuple[FunctionStages, Followed]], width: int, everything: bool
) -> Report:
    """Return what became of something under each build, then the step that did it."""
    report = Report(width)
    if not followed:
        return report
    report.add(Span(f"{followed[0][1].sought.words} in {followed[0][0].title}", STRONG))
    rows: list[list[Cell]] = []
    for one, found in followed:
        step = found.step
        word = Span(found.word, CHANGE if found.word in ("gone", "appears") else PLAIN)
        told = _told(one, found, step) if step else _stays(one, found)
        rows.append([one.build, word, told])
    report.table(("", "", ""), rows, "lll")
    shown = False
    for one, found in followed:
        caution(report, one)
        if found.step and found.step.at:
            _step(report, one, found, found.step, everything)
            shown = True
    if shown:
        add_legend(report)
    return report


def _stays(one: FunctionStages, found: Followed) -> str:
    known = [n for n in found.counts if n is not None]
    if not any(known):
        return "in no form that the compiler shows"
    changes = _changes(one, found.steps)
    last = "the last" if found.counts[-1] is not None else "the last that tells"
    return f"{known[0]} in the first form, {known[-1]} in {last}{changes and f': {changes}'}"


def _changes(one: FunctionStages, steps: Sequence[Step]) -> str:
    named = [f"{one.stages[s.at].name} {s.before} to {s.after}" for s in steps[:_STEPS]]
    return ", ".join(named) + (f" and {len(steps) - _STEPS} more" if len(steps) > _STEPS else "")


def _told(one: FunctionStages, found: Followed, step: Step) -> str:
    passes = passes_of(one, found, step)
    by = f"by {passes[0]}" if len(passes) == 1 else f"by one of {', '.join(passes)}"
    stage = one.stages[step.at]
    form = stage.body.form
    seen = form if passes[-1:] == (stage.name,) else f"seen in {stage.name}, {form}"
    changes = _changes(one, [s for s in found.steps if s is not step])
    rest = f"; other changes: {changes}" if changes else ""
    return f"{step.before} to {step.after} {by} ({seen}){rest}"


def _step(
    report: Report, one: FunctionStages, found: Followed, step: Step, everything: bool
) -> None:
    before, after = one.stages[step.at - 1], one.stages[step.at]
    report.blank()
    report.add(Span(one.build, STRONG), Span(f"  {before.name} to {after.name}", DIM))
    rows = compare_forms(before.body, after.body, one.title, one.sources)
    sides = [
        {(s.file, s.line) for s in body.statements if stands_for(s, found.sought, one.names)}
        for body in (before.body, after.body)
    ]
    near = sides[0] | sides[1]
    told = [r for r in rows if (r.file, r.line) in near] if near and not everything else rows
    told = [row for row in told if row.state != SAME] or list(rows)
    add_difference(report, (before.name, after.name), told, False)

"""Expectations and whether they hold, with the instructions that show it."""

from collections.abc import Sequence

from hot_anvil.core.code.records import Instruction
from hot_anvil.core.facts.expectation import Wanted
from hot_anvil.core.facts.expectations import HELD, Expected, Outcome, evidence
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Report, Span, cut
from hot_anvil.views.text.words import plural

_EVIDENCE = 8  # instructions shown of a failure


def expect_report(found: Sequence[Expected], file: str, width: int, everything: bool) -> Report:
    """Return what does not hold with its evidence, and the totals."""
    report = Report(width)
    for one in found:
        failed = [o for o in one.outcomes if o.state != HELD]
        report.blank()
        said = f"{plural(len(one.outcomes), 'statement')}, {len(failed)} not held"
        report.add(Span(one.snippet, STRONG), f"  {said}")
        for outcome in one.outcomes:
            if outcome.state != HELD or everything:
                _outcome(report, one, outcome, file)
    return report


def _outcome(report: Report, one: Expected, outcome: Outcome, file: str) -> None:
    expectation = outcome.expectation
    style = CHANGE if outcome.state == HELD else TROUBLE
    about = expectation.entry + (f", loop at {outcome.loop}" if outcome.loop else "")
    report.add(
        Span(f"  {outcome.state:<10}", style),
        Span(f"{about}  ", STRONG),
        f"{outcome.fact} {wanted_words(expectation.facts[outcome.fact])}",
        Span(f"  under {outcome.build}", DIM),
    )
    found = f"found: {outcome.fact} {outcome.found}" if outcome.told else f"found: {outcome.found}"
    where = f"  ({file}:{expectation.line})" if expectation.line else ""
    report.add(" " * 12, found, Span(where, DIM))
    if expectation.why:
        report.paragraph(f"why it matters: {expectation.why}", DIM, 12)
    if outcome.state != HELD:
        _evidence(report, outcome, evidence(one, outcome))


def _evidence(report: Report, outcome: Outcome, items: Sequence[tuple[int, Instruction]]) -> None:
    for place, item in items[:_EVIDENCE]:
        line = f"{item.line:>5}" if item.line > 0 else " " * 5
        report.add(Span(f"{' ' * 12}{line}  [{place}] ", DIM), cut(item.text, report.width - 30))
    if len(items) > _EVIDENCE:
        more = f"and {len(items) - _EVIDENCE} more: 'hot-anvil facts --evidence' shows them"
        report.add(" " * 12, Span(more, DIM))


def wanted_words(wanted: Wanted) -> str:
    """Return what is expected, as a person says it."""
    if isinstance(wanted, bool):
        return "yes" if wanted else "no"
    if isinstance(wanted, tuple):
        return ", ".join(wanted) or "none"
    return str(wanted)

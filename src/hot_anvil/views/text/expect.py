"""Expectations and whether they hold, with the instructions that show it."""

from collections.abc import Sequence

from hot_anvil.core.code.records import Instruction, parts_by_owner
from hot_anvil.core.facts.expectation import Wanted
from hot_anvil.core.facts.expectations import HELD, Expected, Outcome
from hot_anvil.core.facts.records import ALL
from hot_anvil.core.facts.table import instructions_of
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.text.sheet import CHANGE, DIM, STRONG, TROUBLE, Sheet, Span, cut
from hot_anvil.views.text.words import plural

_EVIDENCE = 8  # instructions shown of a failure


def expect_sheet(found: Sequence[Expected], file: str, width: int, everything: bool) -> Sheet:
    """Return what does not hold with its evidence, and the totals."""
    sheet = Sheet(width)
    for one in found:
        failed = [o for o in one.outcomes if o.state != HELD]
        sheet.blank()
        said = f"{plural(len(one.outcomes), 'statement')}, {len(failed)} not held"
        sheet.add(Span(one.snippet, STRONG), f"  {said}")
        for outcome in one.outcomes:
            if outcome.state != HELD or everything:
                _outcome(sheet, one, outcome, file)
    return sheet


def _outcome(sheet: Sheet, one: Expected, outcome: Outcome, file: str) -> None:
    expectation = outcome.expectation
    style = CHANGE if outcome.state == HELD else TROUBLE
    about = expectation.entry + (f", loop at {outcome.loop}" if outcome.loop else "")
    sheet.add(
        Span(f"  {outcome.state:<10}", style),
        Span(f"{about}  ", STRONG),
        f"{outcome.fact} {wanted_words(expectation.facts[outcome.fact])}",
        Span(f"  under {outcome.build}", DIM),
    )
    found = f"found: {outcome.fact} {outcome.found}" if outcome.told else f"found: {outcome.found}"
    where = f"  ({file}:{expectation.line})" if expectation.line else ""
    sheet.add(" " * 12, found, Span(where, DIM))
    if expectation.why:
        sheet.paragraph(f"why it matters: {expectation.why}", DIM, 12)
    if outcome.state != HELD:
        _evidence(sheet, outcome, evidence(one, outcome))


def _evidence(sheet: Sheet, outcome: Outcome, items: Sequence[tuple[int, Instruction]]) -> None:
    for place, item in items[:_EVIDENCE]:
        line = f"{item.line:>5}" if item.line > 0 else " " * 5
        sheet.add(Span(f"{' ' * 12}{line}  [{place}] ", DIM), cut(item.text, sheet.width - 30))
    if len(items) > _EVIDENCE:
        more = f"and {len(items) - _EVIDENCE} more: 'hot-anvil facts --evidence' shows them"
        sheet.add(" " * 12, Span(more, DIM))


def evidence(one: Expected, outcome: Outcome) -> list[tuple[int, Instruction]]:
    """Return the instructions that show an outcome, with their places; none for all of them."""
    code = one.codes.get(outcome.build)
    symbol = one.symbols.get(outcome.expectation.entry, "")
    if code is None or outcome.places == ALL:
        return []
    items = instructions_of(parts_by_owner(code.functions), symbol)
    return [(k, items[k]) for k in outcome.places if k < len(items)]


def wanted_words(wanted: Wanted) -> str:
    """Return what is expected, as a person says it."""
    if isinstance(wanted, bool):
        return "yes" if wanted else "no"
    if isinstance(wanted, tuple):
        return ", ".join(wanted) or "none"
    return str(wanted)


def expect_document(found: Sequence[Expected], file: str) -> Document:
    """Return the document of ``expect``."""
    rows = []
    for one in found:
        for o in one.outcomes:
            wanted = o.expectation.facts[o.fact]
            rows.append(
                {
                    "snippet": one.snippet, "file": file, "line": o.expectation.line or None,
                    "entry": o.expectation.entry, "build": o.build,
                    "loop": o.loop or None, "fact": o.fact,
                    "wanted": list(wanted) if isinstance(wanted, tuple) else wanted,
                    "state": o.state, "found": o.found, "why": o.expectation.why or None,
                    "evidence": [
                        {"place": k, "line": i.line, "text": i.text} for k, i in evidence(one, o)
                    ],
                }
            )  # fmt: skip
    held = sum(row["state"] == HELD for row in rows)
    return document("expect", outcomes=rows, held=held, not_held=len(rows) - held)

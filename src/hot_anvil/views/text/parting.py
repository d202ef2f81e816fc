"""Two candidates stepped through the same call, up to where they first disagree."""

from collections.abc import Sequence

from hot_anvil.core.trace.parting import Agreement, Parting
from hot_anvil.core.trace.records import ShownCall, Stepped
from hot_anvil.core.trace.turning import SideOf
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Report, Span
from hot_anvil.views.text.step import Sources, Spell, Steps
from hot_anvil.views.text.words import plural


def parting_report(
    sides: Sequence[Stepped],
    parting: Parting | Agreement,
    leading: Sequence[ShownCall],
    sources: Sources,
    spells: Sequence[Spell],
    width: int,
    by_line: bool,
) -> Report:
    """Return where two candidates go apart, and the steps of both that lead there."""
    report = Report(width)
    left, right = sides
    report.add(Span(left.snippet, STRONG), f"  {left.candidate}  and  {right.candidate}  ",
               Span(left.label, DIM))  # fmt: skip
    values = "; ".join(f"{name} = {value}" for name, value in right.inputs)
    report.paragraph(f"given: {values}" if values else "they take nothing", DIM, 2)
    rows = [
        [one.candidate, _came(one), f"{told.summary.executed:,}", one.by]
        for one, told in zip(sides, leading, strict=True)
    ]
    report.table(("", "came back", "steps", "stepped through by"), rows, "llrl")
    report.blank()
    if isinstance(parting, Agreement):
        report.paragraph(
            "they do not disagree: what comes of them is the same, and so "
            f"{'is' if parting.compared == 1 else 'are'} {plural(parting.compared, 'number')} that "
            "both set on the way.", indent=2,
        )  # fmt: skip
        return report
    report.paragraph(sentence(parting, left, right), CHANGE, 2)
    report.paragraph(_before(parting), DIM, 2)
    for stepped, told, side, spell in zip(
        sides, leading, (parting.left, parting.right), spells, strict=True
    ):
        _side(report, stepped, told, side, sources, spell, by_line)
    return report


def _came(stepped: Stepped) -> str:
    if stepped.ending == "returned":
        return stepped.output
    at = f", at {stepped.place.text}" if stepped.place.text else ""
    return f"{stepped.ending}: {stepped.why}{at}"


def sentence(parting: Parting, left: Stepped, right: Stepped) -> str:
    """Return where two go apart, in words."""
    a, c = parting.left, parting.right
    names = left.candidate, right.candidate
    if parting.how == "ended":
        gone = next(one for one in (right, left) if one.ending != "returned")
        at = f" at {gone.place.text}" if gone.place.text else ""
        return f"{gone.candidate} does not come back: it {gone.ending}{at}."
    if parting.how == "returned":
        made = f"; {parting.name} is set to that at {where(a)}" if parting.name else ""
        unknown = "" if c.line else f" Where {names[1]} makes it is not known."
        return (
            f"They return other values, {left.returned or 'one'} and {right.returned or 'another'}"
            f"{made}, and nothing before that tells them apart.{unknown}"
        )
    if parting.how == "value":
        assert a.event and c.event
        place = where(c) if (a.line, a.passes) == (c.line, c.passes) else ""
        first = f"{place}: " if place else ""
        of_left = "" if place else f", at {where(a)}"
        of_right = "" if place else f", at {where(c)}"
        return (
            f"{first}{parting.name} is {a.event.value} in {names[0]}{of_left}, and "
            f"{c.event.value} in {names[1]}{of_right}."
        )
    sets, lacks = (a, c) if parting.how == "left only" else (c, a)
    own, other = names if parting.how == "left only" else names[::-1]
    assert sets.event
    led = f", led there by {where(sets)}" if sets.decided else f", at {where(sets)}"
    if not lacks.line:
        rest = "where it goes another way is not known"
    elif lacks.decided:
        rest = f"it goes another way at {where(lacks)}"
    else:
        rest = f"it sets something else at {where(lacks)}"
    return f"{parting.name} is set to {sets.event.value} in {own}{led}, and not in {other}: {rest}."


def where(side: SideOf) -> str:
    """Return a line and its pass, in words."""
    if not side.line:
        return "a line not known"
    passes = f", pass {', '.join(map(str, side.passes))}" if side.passes else ""
    return f"{side.file}:{side.line}{passes}"


def _before(parting: Parting) -> str:
    count = parting.compared
    agree = "1 number agrees" if count == 1 else f"{count:,} numbers agree"
    return f"before it {agree}" if count else "nothing was compared before it"


def _side(
    report: Report,
    stepped: Stepped,
    told: ShownCall,
    side: SideOf,
    sources: Sources,
    spell: Spell,
    by_line: bool,
) -> None:
    report.blank()
    report.add("  ", Span(stepped.candidate, STRONG), Span(f"  {where(side)}", DIM))
    moments = told.shown.moments
    if not moments:
        report.add("    ", Span("no step to show", DIM))
        return
    if side.at == 0:
        report.paragraph("where it goes apart is not known; its last steps:", TROUBLE, 4)
    Steps(report, stepped, told.walk, sources, spell, by_line).add(moments)

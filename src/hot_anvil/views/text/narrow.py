"""Which flags matter, and what each of them does."""

from collections.abc import Sequence

from hot_anvil.core.flags.records import Effect, Narrowed, Needed, Timed
from hot_anvil.core.names import listed
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import duration, interval, plural, ratio

_INDENT = 6


def narrow_report(found: Sequence[Narrowed], width: int) -> Report:
    """Return what each entry needs of the flags, then what to say in their place."""
    report = Report(width)
    for one in found:
        report.blank()
        report.say(Span(one.entry, STRONG), Span(f"  {one.left} -> {one.right}", DIM))
        if one.same:
            report.paragraph(
                "the same code under both: no flag in which they differ matters", indent=2
            )
        elif one.fault:
            report.say("  ", Span(f"not known: {one.fault}", TROUBLE))
        else:
            _set(report, one)
            _instead(report, one)
        _told(report, one)
        _times(report, one)
    return report


def _set(report: Report, one: Narrowed) -> None:
    verb = "makes" if len(one.needed) == 1 else "make"
    report.paragraph(
        f"{len(one.needed)} of {plural(one.pool, 'difference')} {verb} the code of {one.right} "
        f"({plural(one.compiles, 'compile')})",
        indent=2,
    )
    for needed in one.needed:
        _change(report, needed, one)


def _change(report: Report, needed: Needed, one: Narrowed) -> None:
    report.add(Span(f"    {needed.change.name}", STRONG))
    _effect(report, "alone, added to the left", needed.alone, "changes nothing")
    nothing = "the same code: another of its flags does this too"
    _effect(report, "taken from the right", needed.taken, nothing)


def _effect(report: Report, where: str, effect: Effect, nothing: str) -> None:
    if effect.same is None:
        report.say(" " * _INDENT, Span(f"{where}: ", DIM), Span(f"refused: {effect.why}", DIM))
    elif effect.same:
        report.say(" " * _INDENT, Span(f"{where}: {nothing}", DIM))
    else:
        backwards = where.startswith("taken")
        before, after = effect.left, effect.right
        first, last = (after, before) if backwards else (before, after)
        counts = (
            f"{first} -> {last} instructions" if first != last else f"other {last} instructions"
        )
        lost = "; with it, " if backwards else "; "
        reasons = "; ".join(effect.reasons) or "the reason is not known"
        report.say(
            " " * _INDENT, Span(f"{where}: ", DIM), Span(counts, CHANGE),
            f"{lost}{reasons}",
        )  # fmt: skip


def _instead(report: Report, one: Narrowed) -> None:
    report.blank()
    if one.saves:
        report.say(Span("  instead of  ", DIM), one.instead)
        report.say(Span("  say         ", DIM), Span(one.command, STRONG))
        several = f"no one of the {one.checked} flags can be left out"
        report.paragraph(
            "byte for byte the same code for this entry and all that it calls here; "
            f"{several if one.checked > 1 else 'it is needed'}; other sets may do as well",
            DIM, 2,
        )  # fmt: skip
    else:
        report.paragraph(f"nothing less than the flags of {one.right} does", indent=2)
    report.paragraph(_runs_on(one), indent=2)
    if one.unexplained:
        report.say("  ", Span(one.unexplained, CHANGE))


def _runs_on(one: Narrowed) -> str:
    if not one.adds_instructions:
        return "it asks for no instructions that the left build does not ask for"
    if one.made_for:
        return f"it is made for the processors that {listed(one.made_for)} names"
    if one.level:
        return f"it runs on every {one.level} processor"
    if one.beyond:
        return f"no standard level of processors has {listed(one.beyond)}: it needs one that has it"
    return "which processors it runs on is not known"


def _told(report: Report, one: Narrowed) -> None:
    if one.refused:
        report.paragraph(
            f"told by the compiler, and refused when given: {listed(one.refused)}", DIM, 2
        )


def _times(report: Report, one: Narrowed) -> None:
    if not one.timed:
        return
    report.blank()
    rows: list[list[Cell]] = []
    for timed in one.timed:
        what = f"{timed.what.removesuffix(' it')} {timed.change}" if timed.change else timed.what
        rows.append([what, *_time(timed)])
    report.table(("  build", "time a call", "ratio", "interval", "word"), rows, "lrrrl")


def _time(timed: Timed) -> list[Cell]:
    if timed.result is None:
        return ["", "", "", Span(" ".join(filter(None, (timed.verdict, timed.why))), TROUBLE)]
    told = timed.result.comparison.verdict
    return [
        duration(timed.result.seconds_per_call),
        ratio(told.ratio),
        interval(told.low, told.high),
        told.word,
    ]

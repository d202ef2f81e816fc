"""What would help, the most first, and what it rests on."""

from collections.abc import Sequence

from hot_anvil.core.experiments.results import (
    MEASURED,
    NO_CHANGE,
    NOT_TIMED,
    REFUSED,
    SAME,
    WRONG,
    Tried,
    WhatIf,
)
from hot_anvil.core.names import listed
from hot_anvil.views.text.measure import environment
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Report, Span
from hot_anvil.views.text.words import duration, interval, plural, ratio, significant, size

_MOST = 5  # that gained nothing, told by name
_WHOLE = 3  # gains that are told in full
_LONGER = 1.5  # times as long to compile that is worth a word
_DEEP = "      "


def whatif_report(
    found: Sequence[WhatIf], notes: Sequence[str], width: int, said: Sequence[str] = ()
) -> Report:
    """Return the experiments that gain, then in a line each what became of the others."""
    report = Report(width)
    for one in found:
        report.blank()
        _head(report, one)
        gains = [tried for tried in one.tried if tried.gain]
        for said in one.said:
            report.say(Span(f"  its compiler says, {said}", DIM))
        for tried in gains[:_WHOLE]:
            _gain(report, one, tried)
        for tried in gains[_WHOLE:]:
            report.say(*_ratio(tried), *_briefly(tried))
        if not gains:
            nothing = "nothing that was tried is told faster"
            report.add("  ", Span("interrupted" if one.interrupted else nothing, STRONG))
        report.blank()
        _others(report, one)
        for note in one.notes:
            report.paragraph(f"note: {note}", DIM, 2)
        if one.interrupted:
            report.paragraph(
                "interrupted: what is shown was done; the rest was not. What was compiled and "
                "checked is kept.",
                TROUBLE, 2,
            )  # fmt: skip
    environment(report, notes, said)
    return report


def _head(report: Report, one: WhatIf) -> None:
    report.add(Span(one.entry, STRONG), Span(f"  under {one.build}", DIM))
    if one.base:
        took = duration(one.base.seconds_per_call)
        told = f"{took} a call, {size(one.base_bytes)}" if one.base.seconds_per_call else (
            f"{size(one.base_bytes)}"
        )  # fmt: skip
        report.add(Span(f"  {told}; ratios are to that", DIM))


def _gain(report: Report, one: WhatIf, tried: Tried) -> None:
    report.say(*_ratio(tried))
    for reason in tried.reasons:
        report.say(_DEEP, reason)
    if tried.experiment.promise:
        report.say(_DEEP, Span("promise: ", CHANGE), tried.experiment.promise, _tested(tried))
    if tried.broken:
        at = f" ({tried.broken.inputs})" if tried.broken.inputs else ""
        report.say(_DEEP, Span(f"does not hold of every input: {tried.broken.what}{at}", TROUBLE))
    report.say(_DEEP, Span(_costs(one, tried), DIM))


def _ratio(tried: Tried) -> list[Span]:
    assert tried.result
    told = tried.result.comparison.verdict
    return [
        Span(f"  {ratio(told.ratio):<8}", CHANGE), Span(tried.experiment.name, STRONG),
        Span(f"  {interval(told.low, told.high)}", DIM),
    ]  # fmt: skip


def _briefly(tried: Tried) -> list[Span]:
    if not tried.experiment.promise:
        return []
    broken = "; an input breaks it" if tried.broken else ""
    return [Span(f"  promise: {tried.experiment.promise}", DIM), Span(broken, TROUBLE)]


def _tested(tried: Tried) -> Span:
    if tried.broken:
        return Span("")
    if not tried.tested:
        return Span(" (not put to the test)", DIM)
    floats = f"; floats are off by up to {significant(tried.ulp)} ulp" if tried.ulp else ""
    return Span(f"; not broken by {tried.tested}{floats}", DIM)


def _costs(one: WhatIf, tried: Tried) -> str:
    words = []
    if tried.code_bytes is not None and one.base_bytes is not None:
        words.append(f"{size(tried.code_bytes)} of code, {size(one.base_bytes)} before")
    if tried.compile_seconds > _LONGER * one.base_seconds:
        took, before = duration(tried.compile_seconds), duration(one.base_seconds)
        words.append(f"compiled in {took}, {before} before")
    spread = tried.result.placement_spread if tried.result else None
    if spread and spread > 1.02:
        words.append(f"placement alone changes it {ratio(spread)}")
    if tried.ulp and tried.broken:
        words.append(f"floats are off by up to {significant(tried.ulp)} ulp")
    if tried.patch:
        words.append("an edit: --patch writes it")
    if not tried.patch or tried.experiment.flags:
        words.append(f"flags: {tried.command}")
    return "; ".join(words)


def _others(report: Report, one: WhatIf) -> None:
    groups = (
        (MEASURED, "no gain is told of"),
        (NO_CHANGE, "change no code"),
        (SAME, "make code that another one made"),
        (NOT_TIMED, "not timed"),
    )
    for state, words in groups:
        own = [t for t in one.tried if t.state == state and not t.gain]
        if own:
            names = listed((_named(t) for t in own), _MOST)
            report.say(Span(f"  {words}: ", DIM), Span(f"{names}", DIM))
    for tried in (t for t in one.tried if t.state == WRONG):
        report.say("  ", Span(f"{tried.experiment.name} is out: ", TROUBLE), tried.why)
    refused = [t for t in one.tried if t.state == REFUSED]
    for tried in refused:
        report.say(Span(f"  {tried.experiment.name} is refused: {tried.why}", DIM))
    report.paragraph(f"{plural(len(one.tried), 'experiment')} in all", DIM, 2)


def _named(tried: Tried) -> str:
    if tried.result is None:
        return tried.experiment.name
    told = tried.result.comparison.verdict
    return f"{tried.experiment.name} ({ratio(told.ratio)}, {told.word})"

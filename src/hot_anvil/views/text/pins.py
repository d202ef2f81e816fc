"""What pins did, as text."""

from collections.abc import Sequence

from hot_anvil.core.pins.records import Period, Pins, Recording, Trace, period_of
from hot_anvil.views.text.report import DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import duration, plural, significant

_HEADS = ("rises", "period", "", "frequency", "high", "first", "jitter", "")
_SPARE = (6, 1)  # columns that a narrow table does without


def pins_report(found: Sequence[Pins], cycles: int, width: int) -> Report:
    """Return each pin's period under each build, builds of one pin below each other."""
    report = Report(width)
    for one in found:
        if not one.recordings and not one.left_out:
            continue
        report.blank()
        report.add(Span(one.snippet, STRONG), f"  the first {cycles:,} cycles of each build")
        for text in one.left_out:
            report.add("  ", Span(f"not run: {text}", TROUBLE))
        pins = dict.fromkeys(t.pin for recording in one.recordings for t in recording.traces)
        for pin in pins:
            traces = ((r, t) for r in one.recordings for t in r.traces if t.pin == pin)
            rows = [_row(recording, trace) for recording, trace in traces]
            report.table((pin, *_HEADS), rows, "lrrrrrrrl", spare=_SPARE, filled=True)
        report.tell_left_out()
        if not pins:
            report.add("  ", Span("no pin changed", TROUBLE))
        for recording in one.recordings:
            if recording.note:
                report.paragraph(f"{recording.source}: {recording.note}", DIM, indent=2)
    report.paragraph(
        "period: the median from one rise to the next, the first left out; jitter: by how much the "
        "others differ. A change is seen at the end of the instruction that makes it.",
        DIM,
        indent=2,
    )
    return report


def _row(recording: Recording, trace: Trace) -> list[Cell]:
    found = period_of(trace)
    rises = len(trace.rises)
    if found is None:
        return [recording.source, str(rises), "", "", "", "", "", "",
                Span(plural(len(trace.edges), "change"), DIM)]  # fmt: skip
    return [
        recording.source,
        f"{rises:,}",
        ticks(recording, found.middle),
        seconds(recording, found.middle),
        _frequency(recording, found),
        f"{found.high * 100:.1f} %",
        ticks(recording, found.first),
        ticks(recording, found.jitter),
        "",
    ]


def ticks(recording: Recording, value: float) -> str:
    """Return a length in the recording's own unit."""
    if recording.unit == "s":
        return duration(value)
    return f"{value:,.0f}" if value == int(value) else f"{value:,.1f}"


def seconds(recording: Recording, value: float) -> str:
    """Return a length as time, "" where the clock is not known, or the unit is one of time."""
    return duration(value * recording.tick) if recording.tick and recording.unit != "s" else ""


def _frequency(recording: Recording, found: Period) -> str:
    if not recording.tick or not found.middle:
        return ""
    hertz = 1 / (found.middle * recording.tick)
    for unit, scale in (("MHz", 1e6), ("kHz", 1e3)):
        if hertz >= scale:
            return f"{significant(hertz / scale)} {unit}"
    return f"{significant(hertz)} Hz"

"""What pins did, as data."""

from collections.abc import Sequence

from hot_anvil.core.pins.records import Pins, Recording, Trace, period_of
from hot_anvil.views.json.document import Document, document


def pins_document(found: Sequence[Pins]) -> Document:
    """Return the document of ``pins``."""
    return document(
        "pins",
        pins=[
            {"snippet": one.snippet, **_pin(recording, trace)}
            for one in found
            for recording in one.recordings
            for trace in recording.traces
        ],
        left_out=[text for one in found for text in one.left_out],
    )


def _pin(recording: Recording, trace: Trace) -> Document:
    found = period_of(trace)
    tick = recording.tick
    row: Document = {
        "source": recording.source,
        "pin": trace.pin,
        "unit": recording.unit,
        "seconds_per_unit": tick,
        "end": recording.end,
        "note": recording.note or None,
        "changes": len(trace.edges),
        "rises": len(trace.rises),
    }
    if found is None:
        return row | dict.fromkeys(
            ("period", "shortest", "longest", "first_period", "jitter", "high", "frequency_hz")
        )
    return row | {
        "period": found.middle,
        "shortest": found.shortest,
        "longest": found.longest,
        "first_period": found.first,
        "jitter": found.jitter,
        "high": found.high,
        "frequency_hz": 1 / (found.middle * tick) if tick else None,
    }

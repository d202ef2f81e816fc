"""What would help, as data."""

from collections.abc import Sequence

from hot_anvil.core.experiments.results import Tried, WhatIf
from hot_anvil.views.json.document import Document, document, finite


def whatif_document(found: Sequence[WhatIf], notes: Sequence[str] = ()) -> Document:
    """Return the document of ``whatif``."""
    entries = [
        {
            "snippet": one.snippet, "entry": one.entry, "build": one.build,
            "seconds_per_call": one.base.seconds_per_call if one.base else None,
            "code_bytes": one.base_bytes, "compile_seconds": one.base_seconds,
            "best": one.best.experiment.name if one.best else None,
            "compiler_says": list(one.said), "notes": list(one.notes),
            "interrupted": one.interrupted,
            "experiments": [_tried(tried) for tried in one.tried],
        }
        for one in found
    ]  # fmt: skip
    return document("whatif", entries=entries, environment=list(notes))


def _tried(tried: Tried) -> Document:
    experiment = tried.experiment
    told = tried.result.comparison.verdict if tried.result else None
    return finite(
        {
            "name": experiment.name, "why_tried": experiment.why,
            "promise": experiment.promise or None, "flags": list(experiment.flags),
            "parts": list(experiment.parts), "state": tried.state, "why": tried.why or None,
            "same_as": tried.same_as or None, "gain": tried.gain,
            "ratio": told.ratio if told else None, "low": told.low if told else None,
            "high": told.high if told else None, "word": told.word if told else None,
            "placement_spread": tried.result.placement_spread if tried.result else None,
            "tested": tried.tested or None,
            "broken": tried.broken._asdict() if tried.broken else None,
            "ulp": tried.ulp or None, "code_bytes": tried.code_bytes,
            "instructions": tried.instructions,
            "compile_seconds": tried.compile_seconds or None, "reasons": list(tried.reasons),
            "patch": tried.patch or None, "command": tried.command or None,
        }
    )  # fmt: skip

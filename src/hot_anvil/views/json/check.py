"""Verdicts as plain data for JSON."""

import math
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.verify.results import Replay
from hot_anvil.views.json.document import Document, document

if TYPE_CHECKING:
    from hot_anvil.core.verify.crash_report import Place
    from hot_anvil.core.verify.results import Checked
    from hot_anvil.core.verify.sanitizer_reports import Undefined
    from hot_anvil.core.verify.verdicts import Verdict


def check_document(checks: "Sequence[Checked]") -> Document:
    """Return the document of ``check``."""
    verdicts = [verdict_row(verdict) for checked in checks for verdict in checked.verdicts]
    return document(
        "check",
        references={c.snippet.name: c.reference for c in checks if not c.fault},
        verdicts=verdicts,
        undefined=[_undefined(c.snippet.name, found) for c in checks for found in c.undefined],
        excused=[
            {"snippet": c.snippet.name, "inputs": label, "why": why}
            for c in checks
            for label, why in c.excused
        ],
        scope=[_scope(checked) for checked in checks if not checked.fault],
        faults=faults(checks),
        notes=[{"snippet": c.snippet.name, "text": note} for c in checks for note in c.notes],
        values=[
            {"snippet": c.snippet.name, **value._asdict()} for c in checks for value in c.values
        ],
        disagreements=[
            {
                "snippet": c.snippet.name,
                "message": one.message,
                "place": _place(one.place),
                "other": _place(one.other),
            }
            for c in checks
            for one in c.disagreements
        ],
        promises=[
            {"snippet": c.snippet.name, **promise._asdict(), "place": _place(promise.place)}
            for c in checks
            for promise in c.promises
        ],
        unreached=[
            {"snippet": c.snippet.name, "entry": entry, "file": file, "lines": list(lines)}
            for c in checks
            for entry, file, lines in c.unreached
        ],
    )


def faults(checks: "Iterable[Checked]") -> list[Document]:
    """Return the snippets that could not be checked, and why."""
    return [{"snippet": c.snippet.name, "why": str(c.fault)} for c in checks if c.fault]


def replay_document(replay: "Replay") -> Document:
    """Return the document of ``check --replay``."""
    return document(
        "replay",
        snippet=replay.snippet.name,
        candidate=replay.candidate,
        reference=replay.reference,
        verdict=replay.verdict,
        why=replay.why,
        place=_place(replay.place),
        inputs=_values(replay.inputs),
        expected=replay.expected,
        got=replay.got,
    )


def verdict_row(verdict: "Verdict") -> Document:
    made = verdict._asdict()
    error = verdict.error
    made["place"] = _place(verdict.place)
    made["tally"] = [{"times": times, "output": output} for times, output in verdict.tally]
    made["between"] = verdict.between._asdict() if verdict.between else None
    made["smallest"] = _values(verdict.smallest)
    made["error"] = None
    if error:  # JSON has no infinity
        numbers = {"ulp": error.ulp, "relative": error.relative, "absolute": error.absolute}
        finite = {name: n if math.isfinite(n) else None for name, n in numbers.items()}
        made["error"] = {**finite, "where": error.where}
    return made


def _scope(checked: "Checked") -> Document:
    ruled_out = checked.snippet.not_promised.items()
    return {
        "snippet": checked.snippet.name,
        "edges": list(checked.edges),
        "not_promised": [{"edge": edge, "why": why} for edge, why in ruled_out],
        "unset_watched": checked.unset_watched or None,
        "sanitized": None if checked.not_sanitized else checked.sanitized,
    }


def _values(pairs: "Sequence[tuple[str, str]]") -> list[Document]:
    return [{"parameter": name, "value": value} for name, value in pairs]


def _undefined(snippet: str, found: "Undefined") -> Document:
    return {"snippet": snippet, **found._asdict(), "place": _place(found.place)}


def _place(place: "Place") -> Document | None:
    return {"file": place.file, "line": place.line} if place.line else None

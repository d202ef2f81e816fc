"""Measurements over time as data."""

from collections.abc import Sequence
from typing import Any

from hot_anvil.core.measure.history import Compared, State
from hot_anvil.core.results.answers import KeptHead
from hot_anvil.views.json.document import Document, document, finite


def history_document(
    states: Sequence[State], candidates: Sequence[str], heads: Sequence[KeptHead]
) -> Document:
    """Return the document of ``history``."""
    return document(
        "history",
        measurements=[_state(s, candidates) for s in states],
        answers=[{**head._asdict(), "origin": head.origin or None} for head in heads],
    )


def compared_document(compared: Sequence[Compared]) -> Document:
    """Return the document of ``history --compare``."""
    return document(
        "history",
        compared=[
            {
                "before": _state(one.before, ()),
                "after": _state(one.after, ()),
                "yardstick": one.yardstick or None,
                "why_not": one.why_not or None,
                "changes": [
                    {
                        "candidate": c.candidate,
                        "changed": c.what,
                        **(c.verdict._asdict() if c.verdict else {"word": "unknown"}),
                    }
                    for c in one.changes
                ],
            }
            for one in compared
        ],
    )


def _state(state: State, candidates: Sequence[str]) -> dict[str, Any]:
    entries = [
        finite({**entry._asdict(), "maker": entry.maker._asdict()})
        for entry in state.entries
        if not candidates or entry.candidate in candidates
    ]
    own = {**state._asdict(), "entries": entries, "imported": state.imported or None}
    return finite(own)

"""Expectations and whether they hold, as data."""

from collections.abc import Sequence

from hot_anvil.core.facts.expectations import HELD, Expected, evidence
from hot_anvil.views.json.document import Document, document


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

"""What a save did to the code, as data: a document a save, each in one line."""

from collections.abc import Sequence

from hot_anvil.core.diff.records import SAME
from hot_anvil.core.results.looks import BuildLook, Look
from hot_anvil.views.json.document import Document, document


def look_document(look: Look) -> Document:
    """Return what a save did."""
    return document(
        "look", number=look.number, files=list(look.files), seconds=look.seconds,
        compiling=look.compiling, builds=[_build(one) for one in look.builds],
        facts=[one._asdict() for one in look.facts],
        expectations=[one._asdict() for one in look.expectations],
    )  # fmt: skip


def _build(one: BuildLook) -> Document:
    rows = [row for row in one.diff.diff.rows if row.state != SAME] if one.diff else []
    return {
        "snippet": one.built.snippet.name, "build": one.built.build.name, "state": one.state,
        "instructions": one.instructions, "why": one.built.why or None,
        "errors": [d._asdict() for d in one.errors],
        "lines": [
            {"file": r.file, "line": r.line or None, "state": r.state, "left": r.left_count,
             "right": r.right_count}
            for r in rows
        ],
        "reasons": [
            {"kind": r.kind, "text": r.text} for r in one.diff.explained.reasons
        ] if one.diff else [],
    }  # fmt: skip


def trouble_document(files: Sequence[str], told: str) -> Document:
    """Return what stands in the way after a save of the bench's file."""
    return document("look", files=list(files), trouble=told)

"""What compilers say of their own work, as data."""

from collections.abc import Sequence

from hot_anvil.core.remarks.table import SAME, LineRemarks, Row, SnippetRemarks
from hot_anvil.views.json.document import Document, document


def remarks_document(
    shown: Sequence[tuple[SnippetRemarks, Sequence[LineRemarks], int]],
) -> Document:
    """Return the document of ``remarks``."""
    builds = [
        {
            "snippet": one.snippet, "build": answer.build, "why": answer.why or None,
            "records": dict(answer.totals) if not answer.why else None,
            "same_code": None if answer.why else answer.code == SAME,
        }
        for one, _, _ in shown
        for answer in one.answered
    ]  # fmt: skip
    lines = [
        {
            "snippet": one.snippet, "file": line.file or None, "line": line.line or None,
            "text": line.text, "remarks": [_plain(one, row) for row in line.rows],
        }
        for one, lines, _ in shown
        for line in lines
    ]  # fmt: skip
    left_out = sum(count for _, _, count in shown)
    return document("remarks", builds=builds, lines=lines, left_out=left_out)


def _plain(one: SnippetRemarks, row: Row) -> Document:
    return {
        "about": row.about, "kind": row.kind,
        "function": one.titles.get(row.function, row.function) or None,
        "symbol": row.function or None, "text": row.text or None, "count": row.times,
        "why": [
            {"file": c.file or None, "line": c.line or None, "text": c.text} for c in row.why
        ],
        "builds": list(row.builds),
    }  # fmt: skip

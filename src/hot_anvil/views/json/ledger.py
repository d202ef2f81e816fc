"""Many builds by source line as data."""

from collections.abc import Sequence

from hot_anvil.core.diff.ledger import Ledger
from hot_anvil.views.json.document import Document, document


def ledger_document(ledgers: "Sequence[Ledger]") -> Document:
    """Return the document of ``ledger``."""
    return document(
        "ledger",
        ledgers=[
            {
                "snippet": ledger.snippet,
                "builds": list(ledger.columns),
                "refused": [{"build": build, "why": why} for build, why in ledger.refused],
                "lines": [
                    {
                        "file": row.file,
                        "line": row.line,
                        "text": row.text,
                        "differs": row.differs,
                        "cells": [
                            None if cell is None
                            else {"instructions": cell.instructions, "marks": list(cell.marks)}
                            for cell in row.cells
                        ],
                    }
                    for row in ledger.rows
                ],
                "totals": list(ledger.totals),
            }
            for ledger in ledgers
        ],
    )  # fmt: skip

"""What every JSON document starts with."""

from typing import Any

FORMAT = 1

Document = dict[str, Any]


def document(kind: str, **fields: Any) -> Document:
    """Return a document with the two fields every one has."""
    return {"hot_anvil": FORMAT, "kind": kind, **fields}

"""What every JSON document starts with."""

import math
from typing import Any

FORMAT = 2  # raised when a field goes or changes its meaning; docs/formats.md says what moved

Document = dict[str, Any]


def document(kind: str, **fields: Any) -> Document:
    """Return a document with the two fields every one has."""
    return {"hot_anvil": FORMAT, "kind": kind, **fields}


def finite(fields: Document) -> Document:
    """Return the fields with infinities, which JSON cannot hold, as None."""
    return {
        key: None if isinstance(value, float) and not math.isfinite(value) else value
        for key, value in fields.items()
    }

"""What was laid out, as data."""

from collections.abc import Sequence

from hot_anvil.core.results.examples import Example
from hot_anvil.views.json.document import Document, document


def start_document(folder: str, files: Sequence[str]) -> Document:
    """Return the document of ``start``."""
    return document("start", folder=folder, files=list(files))


def examples_document(examples: Sequence[Example]) -> Document:
    """Return the document of ``start --example``."""
    rows = [{"name": e.name, "about": e.about, "sources": list(e.sources)} for e in examples]
    return document("start", examples=rows)

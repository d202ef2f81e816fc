"""What C++ lines call, as data."""

from collections.abc import Sequence

from hot_anvil.core.stages.told import SnippetCalls
from hot_anvil.views.json.document import Document, document


def calls_document(found: Sequence[SnippetCalls]) -> Document:
    """Return the document of ``calls``."""
    functions = [
        {
            "snippet": one.snippet, "function": row.caller.title, "symbol": row.caller.symbol,
            "calls": [
                {
                    "file": call.file or None, "line": call.line or None, "callee": call.title,
                    "symbol": call.symbol or None, "kind": call.kind, "in_loop": call.repeated,
                    "elided": call.elided or None,
                    "left": {
                        build: {"fate": left[k].fate, "instructions": left[k].instructions}
                        for build, left in row.left.items()
                    } if not call.elided else None,
                }
                for k, call in enumerate(row.caller.calls)
            ],
        }
        for one in found
        for row in one.callers
    ]  # fmt: skip
    read = [
        {"snippet": one.snippet, "reader": one.reader, "form": one.form,
         "elided_not_known": list(one.unknown)}
        for one in found
    ]  # fmt: skip
    return document("calls", functions=functions, read=read)

"""Where variables live, as data."""

from collections.abc import Sequence

from hot_anvil.core.binary.frame_layout import BuildFrame, layout
from hot_anvil.views.json.document import Document, document


def frame_document(frames: Sequence[BuildFrame]) -> Document:
    """Return the document of ``frame``."""
    return document("frame", functions=[_plain(one) for one in frames])


def _plain(one: BuildFrame) -> Document:
    frame = one.frame
    return {
        "snippet": one.snippet,
        "build": one.build,
        "function": frame.name,
        "symbol": frame.symbol,
        "same_code": one.same_code,
        "code_bytes": frame.size,
        "base": frame.base or None,
        "variables": [
            {
                "name": v.name, "kind": v.kind, "type": v.type, "bytes": v.size, "line": v.line,
                "inlined": v.inlined or None, "optimised_away": not v.places,
                "places": [
                    {"kind": w.kind, "where": w.text, "offset": w.offset, "from": w.low,
                     "to": w.high}
                    for w in v.places
                ],
                "members": [m._asdict() for m in v.members],
            }
            for v in frame.variables
        ],
        "layout": [region._asdict() for region in layout(frame)],
    }  # fmt: skip

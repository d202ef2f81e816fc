"""Where code and data end up, as data."""

from collections.abc import Sequence

from hot_anvil.core.binary.image_map import HOLDS, BuildImage
from hot_anvil.views.json.document import Document, document


def image_document(found: Sequence[BuildImage]) -> Document:
    """Return the document of ``image``."""
    images = [
        {
            "snippet": one.snippet, "build": one.build, "linked": not one.why,
            "why": one.why or None, "link_flags": list(one.link_flags),
            "totals": {holds: one.total(holds) for holds in HOLDS},
            "sections": [
                {
                    "name": s.name, "address": s.address, "bytes": s.size,
                    "alignment": s.alignment, "holds": s.holds, "object": s.file or None,
                    "things": [
                        {"name": one.titles.get(t.name, t.name), "symbol": t.name,
                         "address": t.address, "bytes": t.size}
                        for t in s.things
                    ],
                }
                for s in one.sections
            ],
        }
        for one in found
    ]  # fmt: skip
    return document("image", images=images)

"""The grid of compiled builds as data."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.proof.records import DebugProof
from hot_anvil.views.json.document import Document, document


def compile_document(
    builds: Sequence[Built], notes: Sequence[str], proofs: Mapping[tuple[str, str], "DebugProof"]
) -> Document:
    """Return the document of ``compile``."""
    rows = []
    for built in builds:
        refused = built.status == REFUSED
        own = proofs.get((built.snippet.name, built.build.name))
        rows.append(
            {
                "snippet": built.snippet.name,
                "build": built.build.name,
                "flags": list(built.build.flags),
                "profiled": built.build.profiled,
                "status": built.status,
                "why": built.why,
                "seconds": built.seconds,
                "code_bytes": None if refused else built.code_bytes,
                "fresh": built.fresh,
                "proof": built.proof._asdict(),
                "diagnostics": [d._asdict() for d in built.diagnostics],
                **({"debug": own._asdict()} if own else {}),
            }
        )
    return document("compile", builds=rows, notes=list(notes))

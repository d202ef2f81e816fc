"""Where the time goes, as data."""

from collections.abc import Mapping, Sequence
from typing import Any

from hot_anvil.core.measure.hotspots import Hot, HotLine, line_text
from hot_anvil.views.json.document import Document, document

Sources = Mapping[str, Sequence[str]]


def hotspots_document(found: Sequence[Hot], sources: Sources) -> Document:
    """Return the document of ``hotspots``."""
    return document(
        "hotspots",
        candidates=[
            {
                "snippet": hot.snippet,
                "candidate": one.candidate,
                "inputs": one.inputs,
                "seconds_per_call": None if one.counts else one.seconds_per_call,
                "cycles": one.samples if one.counts == "cycles" else None,
                "instructions": one.samples if one.counts == "instructions" else None,
                "unit": one.unit,
                "samples": one.samples,
                "processes": one.processes,
                "functions": [{"name": name, **s._asdict()} for name, s in one.functions],
                "lines": [_line(line, hot, sources) for line in one.lines],
                "elsewhere": [{"name": name, **s._asdict()} for name, s in one.elsewhere],
            }
            for hot in found
            for one in hot.candidates
        ],
        left_out=[text for hot in found for text in hot.left_out],
    )


def _line(line: HotLine, hot: Hot, sources: Sources) -> dict[str, Any]:
    return {
        "file": line.file,
        "line": line.line,
        "text": line_text(sources, line),
        **line.share._asdict(),
        "state": hot.states.get((line.file, line.line)),
        "instructions": [
            {
                "function": row.function,
                "address": row.instruction.address,
                "text": row.instruction.text,
                "bytes": row.instruction.size if row.instruction.size > 0 else None,
                "times": row.times,
                **row.share._asdict(),
            }
            for row in line.instructions
        ],
    }

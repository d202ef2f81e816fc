"""A comparison by source line as data."""

from collections.abc import Sequence

from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.records import Pair, Reason, Row
from hot_anvil.core.results.code import SnippetDiff
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.json.instruction import plain_instruction

SIDES = ("left", "right")


def diff_document(diffs: Sequence[SnippetDiff]) -> Document:
    """Return the document of ``diff``."""
    lines = []
    totals = []
    reasons = []
    for item in diffs:
        snippet = item.left.snippet.name
        plain = [_reason(reason) for reason in item.explained.reasons]
        reasons += [{"snippet": snippet, **reason} for reason in plain]
        lines += [{"snippet": snippet, **_diff_line(row, plain)} for row in item.diff.rows]
        totals.append(
            {
                "snippet": snippet,
                "left": item.diff.left_count,
                "right": item.diff.right_count,
                "states": item.diff.states,
                "not_explained": item.explained.unexplained,
                "wanting_reason": item.explained.wanting,
                "functions": [total._asdict() for total in item.diff.functions],
            }
        )
    names = dict(zip(SIDES, diffs[0].names if diffs else ("", ""), strict=True))
    return document("diff", **names, lines=lines, reasons=reasons, totals=totals)


def _diff_line(row: Row, reasons: Sequence[Document]) -> Document:
    pairs = [pair for part in row.parts for pair in part.pairs]
    return {
        "file": row.file,
        "line": row.line,
        "text": row.text,
        "state": row.state,
        "left_source": row.left._asdict() if row.left else None,
        "right_source": row.right._asdict() if row.right else None,
        "left": _side(pairs, 0),
        "right": _side(pairs, 1),
        "parts": [
            {
                "function": part.function,
                "title": part.title,
                "state": part.state,
                "left_count": part.left_count,
                "right_count": part.right_count,
                "pairs": [_pair(pair) for pair in part.pairs],
            }
            for part in row.parts
        ],
        "reasons": [
            {key: reasons[k][key] for key in ("kind", "text", "confidence", "evidence")}
            for k in row.reasons
        ],
    }


def _reason(reason: Reason) -> Document:
    evidence = (reason.left, reason.right), (reason.left_text, reason.right_text)
    sides = zip(SIDES, *evidence, strict=True)
    return {
        "kind": reason.kind,
        "text": reason.text,
        "confidence": reason.confidence,
        "function": reason.function,
        "lines": [
            {"file": p.file, "line": p.old or p.line, "side": "left" if p.old else "right"}
            for p in sorted(reason.places)
        ],
        "evidence": {
            side: [{"index": k, "text": t} for k, t in zip(found, own, strict=True)]
            for side, found, own in sides
        },
        "remarks": list(reason.remarks),
        "against": reason.against or None,
    }


def _side(pairs: Sequence[Pair], side: int) -> Document:
    items = [pair[side] for pair in pairs if isinstance(pair[side], Instruction)]
    plain = [plain_instruction(item) for item in items if isinstance(item, Instruction)]
    return {"count": len(plain), "instructions": plain}


def _pair(pair: Pair) -> list[str | None]:
    left = pair.left.text if pair.left else None
    return [pair.state, left, pair.right.text if pair.right else None]

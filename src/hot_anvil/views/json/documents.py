"""Results as plain data for JSON: the fields are described in docs/formats.md."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.asm.listing import ListedFunction, Placed
from hot_anvil.core.build.builds import Plan
from hot_anvil.core.build.records import REFUSED, Built
from hot_anvil.core.code.records import Instruction
from hot_anvil.core.diff.records import Pair, Reason, Row
from hot_anvil.core.results.code import Listing, SnippetDiff
from hot_anvil.core.toolchain.records import Toolchain
from hot_anvil.views.json.check import again_document as again_document
from hot_anvil.views.json.check import check_document as check_document
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.json.measure import bench_document as bench_document
from hot_anvil.views.json.measure import pick_document as pick_document

if TYPE_CHECKING:
    from hot_anvil.core.diff.ledger import Ledger
    from hot_anvil.core.proof.records import DebugProof


def toolchains_document(
    toolchains: Sequence[Toolchain], silent: Sequence[tuple[str, str]]
) -> Document:
    """Return the document of ``toolchains``."""
    rows = []
    for chain in toolchains:
        drivers = {language: driver.path for language, driver in chain.drivers.items()}
        rows.append(
            {
                "name": chain.name,
                "aliases": list(chain.aliases),
                "family": chain.family,
                "version": chain.version,
                "target": chain.target,
                "instruction_set": chain.isa,
                "drivers": drivers,
                "can": dict(chain.can),
            }
        )
    unusable = [{"path": path, "why": why} for path, why in silent]
    return document("toolchains", toolchains=rows, unusable=unusable)


def places_document(rows: Sequence[Document]) -> Document:
    """Return the document of ``toolchains --where``."""
    return document("places", places=list(rows))


def compile_document(
    builds: Sequence[Built], plan: Plan, proofs: Mapping[tuple[str, str], "DebugProof"]
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
    return document("compile", builds=rows, notes=list(plan.notes))


def listing_document(listings: Sequence[Listing]) -> Document:
    """Return the document of ``listing``."""
    functions = [
        _function(listing, function) for listing in listings for function in listing.functions
    ]
    return document("listing", functions=functions)


def _function(listing: Listing, function: ListedFunction) -> Document:
    built = listing.built
    return {
        "name": function.name,
        "title": function.title,
        "snippet": built.snippet.name,
        "build": built.build.name,
        "view": listing.view,
        "instruction_set": listing.isa,
        "library": listing.library or None,
        "proof": built.proof.state,
        "count": function.total,
        "hidden": function.hidden,
        "code_bytes": built.entry_bytes(function.name),
        "data": [
            {"before": datum.place, "text": datum.text, "bytes": _known(datum.size)}
            for datum in function.data
        ],
        "lines": [
            {
                "file": line.file,
                "line": line.line,
                "text": line.text,
                "instructions": [
                    _placed(item, function.labels.get(item.place, ())) for item in line.instructions
                ],
            }
            for line in function.lines
        ],
    }


def _known(value: int) -> int | None:
    return None if value < 0 else value


def _placed(placed: Placed, labels: Sequence[str]) -> Document:
    item = placed.instruction
    plain = {
        "index": placed.place,
        "labels": list(labels),
        **_instruction(item),
        "address": _known(item.address),
        "bytes": _known(item.size),
        "machine_instructions": item.parts,
        "phase": placed.phase or None,
    }
    if item.encoding:
        plain["encoding"] = item.encoding
    if item.chain:
        plain["inlined"] = {
            "function": item.function,
            "calls": [site._asdict() for site in item.chain],
        }
    if placed.called:
        plain["calls"] = placed.called
    return plain


def _instruction(item: Instruction) -> Document:
    plain: Document = {
        "text": item.text,
        "mnemonic": item.mnemonic,
        "operands": list(item.operands),
    }
    if item.inline_asm:
        plain["inline_asm"] = True
    if item.words:
        plain["words"] = item.words
    return plain


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
    }


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


SIDES = ("left", "right")


def _side(pairs: Sequence[Pair], side: int) -> Document:
    items = [pair[side] for pair in pairs if isinstance(pair[side], Instruction)]
    plain = [_instruction(item) for item in items if isinstance(item, Instruction)]
    return {"count": len(plain), "instructions": plain}


def _pair(pair: Pair) -> list[str | None]:
    left = pair.left.text if pair.left else None
    return [pair.state, left, pair.right.text if pair.right else None]

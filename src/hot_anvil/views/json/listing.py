"""One build's code by source line as data."""

from collections.abc import Sequence

from hot_anvil.core.asm.listing import ListedFunction, Placed
from hot_anvil.core.results.code import CompilerText, Listing
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.json.instruction import plain_instruction


def listing_document(listings: Sequence[Listing]) -> Document:
    """Return the document of ``listing``."""
    functions = [
        _function(listing, function) for listing in listings for function in listing.functions
    ]
    return document("listing", functions=functions)


def raw_document(texts: Sequence[CompilerText]) -> Document:
    """Return the document of ``listing --raw``."""
    plain = [one._asdict() | {"text": visible_bytes(one.text)} for one in texts]
    return document("listing", texts=plain)


def visible_bytes(text: str) -> str:
    """Return a text that JSON can hold: bytes that are no UTF-8 are written out."""
    return text.encode(errors="surrogateescape").decode(errors="backslashreplace")


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
        **plain_instruction(item),
        "address": _known(item.address),
        "bytes": _known(item.size),
        "machine_instructions": item.parts,
        "phase": placed.phase or None,
    }
    if placed.cost:
        plain["cycles"] = {"least": placed.cost.least, "most": placed.cost.most}
    if item.encoding:
        plain["encoding"] = item.encoding
    if item.chain:
        plain["inlined"] = {
            "function": item.function,
            "calls": [site._asdict() for site in item.chain],
        }
    if placed.value:
        plain["value"] = placed.value
    if placed.called:
        plain["calls"] = placed.called
    return plain

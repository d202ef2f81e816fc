"""Instructions in words, as data."""

from collections.abc import Sequence

from hot_anvil.core.results.words import Told, Used, cost_words, operand_words
from hot_anvil.views.json.document import Document, document


def explain_document(told: Sequence[Told], unknown: Sequence[str] = ()) -> Document:
    """Return the document of ``explain``."""
    rows = []
    for one in told:
        word, own, found = one.mnemonic, one.dictionary, one.found
        rows.append(
            {
                "mnemonic": word, "instruction_set": own.reference.isa, "does": found.does,
                "family": found.entry.family, "flags": found.flags,
                "sign": found.entry.sign, "operands": operand_words(one),
                "prefixes": list(found.prefixes), "ending": found.suffix,
                "example": one.text, "reading": one.reading, "cycles": cost_words(one) or None,
            }
        )  # fmt: skip
    return document("explain", instructions=rows, unknown=list(unknown))


def used_document(build: str, rows: Sequence[Used]) -> Document:
    """Return the document of ``explain --used``."""
    used = [
        {"mnemonic": name, "instruction_set": own.reference.isa, "count": count,
         "does": found.does if found else None, "family": found.entry.family if found else None}
        for own, name, count, found in rows
    ]  # fmt: skip
    return document("instructions used", build=build, instructions=used)

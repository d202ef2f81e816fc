"""Instructions in words, as data."""

from collections.abc import Sequence

from hot_anvil.core.results.words import Told, Used, operand_words
from hot_anvil.views.json.document import Document, document


def explain_document(told: Sequence[Told]) -> Document:
    """Return the document of ``explain``."""
    rows = []
    for word, own, found in told:
        text, reading = own.example(found, word)
        rows.append(
            {
                "mnemonic": word, "instruction_set": own.reference.isa, "does": found.does,
                "family": found.entry.family, "flags": found.entry.flags,
                "sign": found.entry.sign, "operands": operand_words(word, own, found),
                "prefixes": list(found.prefixes), "ending": found.suffix,
                "example": text, "reading": reading,
            }
        )  # fmt: skip
    return document("explain", instructions=rows)


def used_document(build: str, rows: Sequence[Used]) -> Document:
    """Return the document of ``explain --used``."""
    used = [
        {"mnemonic": name, "instruction_set": own.reference.isa, "count": count,
         "does": found.does if found else None, "family": found.entry.family if found else None}
        for own, name, count, found in rows
    ]  # fmt: skip
    return document("instructions used", build=build, instructions=used)

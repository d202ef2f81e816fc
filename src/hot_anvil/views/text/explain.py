"""Instructions in words."""

from collections.abc import Sequence

from hot_anvil.core.arch import semantics as b
from hot_anvil.core.arch.reference import Dictionary, Found
from hot_anvil.views.json.document import Document, document
from hot_anvil.views.text.sheet import CHANGE, DIM, STRONG, TROUBLE, Cell, Sheet, Span
from hot_anvil.views.text.words import plural

Told = tuple[str, Dictionary, Found]
Used = tuple[Dictionary, str, int, Found | None]
_SIZES = {"b": "8 bits", "w": "16 bits", "l": "32 bits", "q": "64 bits"}
_ROLES = {b.USE: "read", b.DEFINE: "written", b.BOTH: "read and written"}
_LABEL = 10


def explain_sheet(told: Sequence[Told], width: int) -> Sheet:
    """Return each instruction with what it does, for each instruction set that has it."""
    sheet = Sheet(width)
    for word, own, found in told:
        sheet.blank()
        heading = f"  {own.reference.name}: {found.entry.family}"
        sheet.add(Span(word, STRONG), heading)
        for label, text in _lines(word, own, found):
            _labelled(sheet, label, text)
    return sheet


def _labelled(sheet: Sheet, label: str, text: str) -> None:
    from textwrap import wrap

    first, *rest = wrap(text, sheet.width - _LABEL - 2, break_on_hyphens=False) or [""]
    sheet.add(Span(f"  {label:<{_LABEL}}", DIM), first)
    for line in rest:
        sheet.add(" " * (_LABEL + 2), line)


def _lines(word: str, own: Dictionary, found: Found) -> list[tuple[str, str]]:
    entry = found.entry
    rows = [("does", found.does)]
    rows += [("prefix", f"{p}: {text}") for p in found.prefixes if (text := _prefix(own, p))]
    if found.suffix:
        rows.append(("ending", _ending(own, found)))
    rows.append(("operands", operand_words(word, own, found)))
    if entry.flags:
        rows.append(("flags", entry.flags))
    if entry.sign:
        rows.append(("sign", entry.sign))
    text, reading = own.example(found, word)
    if reading:
        rows.append(("example", f"{text:<28}  {reading}"))
    return rows


def _prefix(own: Dictionary, prefix: str) -> str:
    if prefix.startswith("@"):
        return "only where this predicate holds"
    return own.reference.prefixes.get(prefix, "")


def _ending(own: Dictionary, found: Found) -> str:
    reference = own.reference
    if reference.typed:
        return f"{found.suffix}: rounding, memory space and types"
    if reference.conditions:
        condition = reference.words["cc"].get(found.suffix, found.suffix)
        return f"{found.suffix}: only if {condition}"
    note = "; the upper half of a 64-bit register becomes 0" if found.suffix == "l" else ""
    return f"{found.suffix}: {_SIZES.get(found.suffix, '')}{note}"


def operand_words(word: str, own: Dictionary, found: Found) -> str:
    """Return how many operands there are, in which order, and what happens to each."""
    operands = found.entry.example
    if not operands:
        return "none written"
    try:
        parts = own.arch.semantics.roles(word, operands)
    except (IndexError, KeyError, ValueError):
        parts = ()
    known = [f"{o} {_ROLES[role]}" for o, role in zip(operands, parts, strict=False)]
    if own.arch.semantics.effect(word, operands).kind in (b.BRANCH, b.JUMP, b.CALL):
        return "where to go" if len(operands) == 1 else "what is compared, and where to go"
    order = f"{own.reference.direction}. " if len(operands) > 1 else ""
    return f"{order}Here: {', '.join(known)}" if known else order.rstrip()


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


def used_sheet(build: str, rows: Sequence[Used], width: int) -> Sheet:
    """Return the instructions that a build uses, the commonest first."""
    sheet = Sheet(width)
    total = sum(count for _, _, count, _ in rows)
    unknown = sum(count for _, _, count, found in rows if found is None)
    said = f"{plural(total, 'instruction')}, {len(rows)} different"
    sheet.add(Span(build, STRONG), f"  {said}")
    if unknown:
        sheet.add(Span(f"  {unknown} of them unknown to the reference", TROUBLE))
    body: list[list[Cell]] = [
        [str(count), Span(name, CHANGE), found.does if found else Span("unknown", TROUBLE)]
        for _, name, count, found in rows
    ]
    sheet.table(("count", "", ""), body, "rll")
    return sheet


def used_document(build: str, rows: Sequence[Used]) -> Document:
    """Return the document of ``explain --used``."""
    used = [
        {"mnemonic": name, "instruction_set": own.reference.isa, "count": count,
         "does": found.does if found else None, "family": found.entry.family if found else None}
        for own, name, count, found in rows
    ]  # fmt: skip
    return document("instructions used", build=build, instructions=used)

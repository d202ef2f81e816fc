"""Instructions in words."""

from collections.abc import Sequence

from hot_anvil.core.arch.reference import Dictionary, Found
from hot_anvil.core.results.words import Told, Used, cost_words, operand_words
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import plural

_SIZES = {"b": "8 bits", "w": "16 bits", "l": "32 bits", "q": "64 bits"}
_LABEL = 10


def explain_report(told: Sequence[Told], unknown: Sequence[str], width: int) -> Report:
    """Return each instruction with what it does, for each instruction set that has it."""
    report = Report(width)
    for one in told:
        report.blank()
        heading = f"  {one.dictionary.reference.name}: {one.found.entry.family}"
        report.add(Span(one.text if one.given else one.mnemonic, STRONG), heading)
        for label, text in _lines(one):
            _labelled(report, label, text)
    for why in unknown:
        report.blank()
        report.paragraph(why, TROUBLE)
    return report


def _labelled(report: Report, label: str, text: str) -> None:
    from textwrap import wrap

    first, *rest = wrap(text, report.width - _LABEL - 2, break_on_hyphens=False) or [""]
    report.add(Span(f"  {label:<{_LABEL}}", DIM), first)
    for line in rest:
        report.add(" " * (_LABEL + 2), line)


def _lines(one: Told) -> list[tuple[str, str]]:
    own, found = one.dictionary, one.found
    entry = found.entry
    rows = [("does", found.does)]
    rows += [("prefix", f"{p}: {text}") for p in found.prefixes if (text := _prefix(own, p))]
    if found.suffix:
        rows.append(("ending", _ending(own, found)))
    rows.append(("operands", operand_words(one)))
    if cost_words(one):
        rows.append(("cycles", cost_words(one)))
    if found.flags:
        rows.append(("flags", found.flags))
    if entry.sign:
        rows.append(("sign", entry.sign))
    if one.reading and one.given:
        rows.append(("reading", one.reading))
    elif one.reading:
        rows.append(("example", f"{one.text:<28}  {one.reading}"))
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


def used_report(build: str, rows: Sequence[Used], width: int) -> Report:
    """Return the instructions that a build uses, the commonest first."""
    report = Report(width)
    total = sum(count for _, _, count, _ in rows)
    unknown = sum(count for _, _, count, found in rows if found is None)
    said = f"{plural(total, 'instruction')}, {len(rows)} different"
    report.add(Span(build, STRONG), f"  {said}")
    if unknown:
        report.add(Span(f"  {unknown} of them unknown to the reference", TROUBLE))
    body: list[list[Cell]] = [
        [str(count), Span(name, CHANGE), found.does if found else Span("unknown", TROUBLE)]
        for _, name, count, found in rows
    ]
    report.table(("count", "", ""), body, "rll")
    return report

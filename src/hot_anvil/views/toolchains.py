"""The compilers of this machine as text."""

from collections.abc import Sequence

from hot_anvil.core.toolchain import Family, Toolchain
from hot_anvil.views.sheet import DIM, STRONG, TROUBLE, Cell, Sheet, Span
from hot_anvil.views.words import joined


def toolchains_sheet(
    families: Sequence[Family],
    toolchains: Sequence[Toolchain],
    silent: Sequence[tuple[str, str]],
    width: int,
) -> Sheet:
    """Return the table of toolchains, then what is missing and how to get it."""
    sheet = Sheet(width)
    rows = []
    for chain in toolchains:
        abilities = [name for name, here in chain.can.items() if here]
        row: list[Cell] = [
            Span(chain.name, STRONG),
            chain.version,
            chain.target,
            joined(sorted(chain.drivers)),
            joined(abilities),
            Span(joined(chain.aliases), DIM),
        ]
        rows.append(row)
    if rows:
        sheet.table(("toolchain", "version", "target", "languages", "can", "also"), rows, "llllll")
    else:
        sheet.add(Span("no compiler was found on PATH", TROUBLE))
    for path, why in silent:
        sheet.add("  ", Span(f"{path}: not usable: {why}", TROUBLE))
    missing = [f for f in families if not any(c.family == f.name for c in toolchains)]
    lacking = [
        (chain.name, language)
        for chain in toolchains
        for family in families
        if family.name == chain.family
        for language in dict.fromkeys(family.commands.values())
        if language not in chain.drivers
    ]
    if missing or lacking:
        sheet.blank()
    for family in missing:
        sheet.add(f"  {family.name} is not here: on Debian, {family.install}")
    for name, language in lacking:
        sheet.add(f"  {name} has no {language} compiler here")
    return sheet

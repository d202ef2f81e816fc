"""The compilers of this machine as text."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.arch import has_objects
from hot_anvil.core.toolchain.records import Family, Toolchain
from hot_anvil.views.text.report import DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import joined


def toolchains_report(
    families: Sequence[Family],
    toolchains: Sequence[Toolchain],
    silent: Sequence[tuple[str, str]],
    lacking: Mapping[str, str],
    width: int,
) -> Report:
    """Return the table of toolchains, other targets of each, then what is missing."""
    report = Report(width)
    own = [chain for chain in toolchains if "@" not in chain.name]
    rows = [_row(chain) for chain in own]
    if rows:
        heads = ("toolchain", "version", "target", "languages", "can", "also")
        report.table(heads, rows, "llllll", spare=(5, 2, 1))
        report.tell_left_out()
    else:
        report.add(Span("no compiler was found on PATH", TROUBLE))
    _other_targets(report, toolchains)
    for path, why in silent:
        report.add("  ", Span(f"{path}: not usable: {why}", TROUBLE))
    _missing(report, families, own, lacking)
    return report


# What is shown, in the order of the work; a missing disassembler is told apart.
_ABILITIES = {"compile": "emit", "assemble": "assemble", "link": "link", "run": "run",
              "emulate": "emulate", "count": "count", "cycles": "cycles"}  # fmt: skip
_SHORT = {"assembly": "asm", "fortran": "Fortran", "rust": "Rust", "cuda": "CUDA"}


def _row(chain: Toolchain) -> list[Cell]:
    abilities = [word for name, word in _ABILITIES.items() if chain.can.get(name)]
    languages = [_SHORT.get(language, language.upper()) for language in chain.drivers]
    return [
        Span(chain.name, STRONG),
        chain.version,
        chain.target,
        joined(sorted(languages, key=str.lower)),
        " ".join(abilities),
        Span(joined(chain.aliases), DIM),
    ]


def _other_targets(report: Report, toolchains: Sequence[Toolchain]) -> None:
    """Add a line per compiler that serves more targets than its own."""
    others: dict[str, list[Toolchain]] = {}
    for chain in toolchains:
        compiler, at, _ = chain.name.partition("@")
        if at:
            others.setdefault(compiler, []).append(chain)
    if others:
        report.blank()
    for compiler, chains in others.items():
        names = joined([f"@{chain.name.partition('@')[2]}" for chain in chains])
        report.paragraph(f"{compiler} also makes code for {names}, as in {chains[0].name}")
        blind = [f"@{c.name.partition('@')[2]}" for c in chains if not c.can["disassemble"]]
        if blind:
            text = f"no disassembler is here for {joined(blind)}: its code is not proved"
            report.paragraph(text, DIM, indent=2)


def _missing(
    report: Report,
    families: Sequence[Family],
    own: Sequence[Toolchain],
    lacking: Mapping[str, str],
) -> None:
    """Add what is not here and how to get it."""
    lines = [
        f"{family.name} is not here: on Debian, {family.install}"
        for family in families
        if not any(chain.family == family.name for chain in own)
    ]
    for family in families:
        mine = [chain for chain in own if chain.family == family.name]
        native = [chain for chain in mine if chain.can["run"]]
        for language in dict.fromkeys(family.commands.values()):
            without = [chain.name for chain in native if language not in chain.drivers]
            if without:
                how = family.installs.get(language, family.install)
                lines.append(f"{joined(without)}: no {language} compiler here: on Debian, {how}")
        for target, install in family.cross.items():
            if not any(chain.target == target for chain in mine):
                lines.append(f"no {family.name} for {target}: on Debian, {install}")
        blind = [c for c in mine if not c.can["disassemble"] and c.isa and has_objects(c.isa)]
        lines += [f"{c.name}: no disassembler for {c.target}: code is not proved" for c in blind]
    by_why: dict[str, list[str]] = {}
    for name, why in lacking.items():
        by_why.setdefault(why, []).append(name)
    lines += [f"{joined(names)}: {why}" for why, names in by_why.items() if why]
    if own and not any(chain.can.get("count") for chain in own):
        lines.append("executed instructions cannot be counted: on Debian, apt install qemu-user")
    if lines:
        report.blank()
        report.add(Span("missing", STRONG))
    for line in lines:
        report.paragraph(line, DIM, indent=2)


def where_report(places: Sequence[tuple[str, str]], width: int) -> Report:
    """Return what came from where: (what, place) rows."""
    report = Report(width)
    room = max((len(what) for what, _ in places), default=0)
    for what, place in places:  # a path is never broken
        report.add("  ", Span(f"{what:<{room}}", STRONG), f"  {place}")
    return report

"""The machines of a fleet as text, and where units were compiled."""

from collections.abc import Mapping, Sequence

from hot_anvil.core.fleet.machines import Compiler, Machine, MachineClass
from hot_anvil.core.fleet.spread import Compiled
from hot_anvil.views.text.report import DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import digits, joined, memory, plural


def fleet_report(
    classes: Sequence[MachineClass],
    offers: Mapping[str, Mapping[str, int]],
    unusable: Sequence[tuple[str, str]],
    width: int,
) -> Report:
    """Return the machines of a fleet, class by class, with the compilers of each."""
    report = Report(width)
    for own in classes:
        report.blank()
        report.add(Span(own.name, STRONG), f"  {plural(len(own.machines), 'machine')}")
        first = own.machines[0]
        level = f"{first.level or first.architecture}, {len(first.features)} features"
        report.paragraph(f"{own.processor}: {level}; {first.system}", indent=2)
        heads = ("machine", "CPUs", "memory", "load", "measures", "compiles", "")
        rows = [_machine(machine, offers.get(machine.name, {})) for machine in own.machines]
        report.table(heads, rows, "lrrrrrl", spare=(2,), filled=True)
        for names, compilers in _compilers(own.machines):
            who = "" if len(names) == len(own.machines) else f"{joined(names)}: "
            report.paragraph(f"{who}{compilers or 'no compiler'}", DIM, indent=2)
    for name, why in unusable:
        report.blank()
        report.paragraph(f"{name} is not used: {why}", TROUBLE)
    if len(classes) > 1:
        report.blank()
        report.paragraph("Times are compared within a class, never across.", DIM)
    return report


def _machine(machine: Machine, offered: Mapping[str, int]) -> list[Cell]:
    return [
        Span(machine.name, STRONG),
        str(machine.cores),
        memory(machine.memory),
        digits(machine.load),
        "yes" if offered.get("measure") else "no",
        str(offered.get("compile", 0)),
        Span("pretends to be it, for tests" if machine.pretended else "", TROUBLE),
    ]


def _compilers(machines: Sequence[Machine]) -> list[tuple[list[str], str]]:
    """Return the compilers, and the names of the machines that have just these."""
    names: dict[tuple[Compiler, ...], list[str]] = {}
    for machine in machines:
        names.setdefault(machine.compilers, []).append(machine.name)
    texts = {m.compilers: joined([f"{c.name} {c.version}" for c in m.compilers]) for m in machines}
    return [(own, texts[key]) for key, own in names.items()]


def compiled_text(compiled: Compiled | None) -> str:
    """Return where units were compiled just now, "" where none was."""
    if compiled is None or not compiled.there + compiled.here:
        return ""
    there = f"{plural(compiled.there, 'unit')} compiled on the fleet"
    if not compiled.here:
        return there
    whys = "; ".join(f"{count}: {why}" for why, count in compiled.whys.items())
    return f"{there}, {compiled.here} here ({whys})"

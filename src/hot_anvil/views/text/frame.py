"""Where variables live: registers and stack slots, over which instructions."""

from collections.abc import Sequence

from hot_anvil.core.binary.frame_layout import BuildFrame, Region, layout, stretches
from hot_anvil.core.binary.frames import STACK, Variable
from hot_anvil.views.text.report import CHANGE, DIM, STRONG, TROUBLE, Cell, Report, Span
from hot_anvil.views.text.words import plural


def frame_report(frames: Sequence[BuildFrame], width: int) -> Report:
    """Return each function's variables with their places, then the layout of its frame."""
    report = Report(width)
    for one in frames:
        report.blank()
        frame = one.frame
        count = plural(len(frame.variables), "variable")
        said = f"  {one.build}  {count}, {plural(one.instructions, 'instruction')}"
        report.add(Span(frame.name, STRONG), said)
        if not one.same_code:
            report.paragraph(
                "caution: compiled with debug info the code is not the build's own: places and "
                "registers are those of that code.", TROUBLE, 2,
            )  # fmt: skip
        rows: list[list[Cell]] = []
        for variable in frame.variables:
            rows += _variable(one, variable)
        report.table(("variable", "type", "bytes", "where", "instructions"), rows, "llrll")
        _layout(report, one)
    return report


def _variable(one: BuildFrame, variable: Variable) -> list[list[Cell]]:
    name = variable.name + (f" (of {variable.inlined})" if variable.inlined else "")
    size = str(variable.size or "?")
    if not variable.places:
        gone = Span("optimised away", DIM)
        return [[name, Span(variable.type, DIM), size, gone, Span("none", DIM)]]
    rows: list[list[Cell]] = []
    for where, over in stretches(one, variable):
        style = CHANGE if where.kind == STACK else STRONG
        head: list[Cell] = [name, Span(variable.type, DIM), size] if not rows else ["", "", ""]
        rows.append([*head, Span(where.text, style), Span(over, DIM)])
    return rows


def _layout(report: Report, one: BuildFrame) -> None:
    regions = layout(one.frame)
    if not regions:
        return
    base = one.frame.base
    report.say(Span("  the frame, from its start downwards" + (
        f" (its start is {base} in most of the code)" if base else ""
    ), DIM))  # fmt: skip
    rows: list[list[Cell]] = [_region(region) for region in regions]
    report.table(("offset", "bytes", ""), rows, "rrl", 4)


def _region(region: Region) -> list[Cell]:
    style = DIM if region.kind == "other" else CHANGE if region.kind == "variable" else "plain"
    return [f"{region.offset:+d}", str(region.size) if region.size else "?",
            Span(region.text, style)]  # fmt: skip

"""Times over a sweep: what was measured, the growth fitted to it, where the fastest changes."""

from typing import TYPE_CHECKING, Any

from hot_anvil.core.measure.scaling import (
    CURVES,
    Scaling,
    crossings,
    elements_of,
    scalings,
    sizes_of,
)
from hot_anvil.views.plots.drawing import COLOURS, GRID, INK, MARKS, new_figure, shown, tidy
from hot_anvil.views.text.words import digits, duration, percent, whole

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from hot_anvil.core.measure.results import Measured
    from hot_anvil.core.measure.summary import Summary

SHOWN = 8  # candidates that get a colour; the others are drawn, and counted


def draw_growth(measured: "Measured") -> "Figure":
    """Return the figure of a measured snippet; raises ValueError where no one number was swept."""
    summaries = measured.summaries
    name, sizes = sizes_of(summaries)
    if len(set(sizes)) < 2:
        raise ValueError("there are no two sizes of one parameter: the bench has no sweep")
    figure = new_figure(f"{measured.checked.snippet.name}: time a call over {name}")
    axes = figure.subplots()
    lines = {line.candidate: line for line in scalings(summaries)}
    candidates = _fastest_first(measured)
    for at, candidate in enumerate(candidates):
        _series(axes, at, candidate, summaries, sizes, lines.get(candidate))
    rest = len(candidates) - SHOWN
    if rest > 0:
        axes.plot([], [], color=GRID, label=f"and {rest} that are slower over all sizes")
    axes.set_xscale("log")
    axes.set_yscale("log")
    axes.set_xticks(sorted(set(sizes)), [f"{size:,}" for size in sorted(set(sizes))])
    axes.minorticks_off()
    _seconds(axes)
    fitted = "line: fitted growth" if lines else "too few sizes to fit a growth"
    axes.set_xlabel(f"{name}; marks: measured medians; {fitted}")
    axes.set_ylabel("time a call")
    _crossings(axes, summaries)
    tidy(axes, "both")
    figure.legend(loc="outside right upper", fontsize=8.5)
    return figure


def _fastest_first(measured: "Measured") -> list[str]:
    overall = measured.overall
    assert overall is not None
    return sorted(overall.to_best, key=lambda name: overall.to_best[name].verdict.ratio)


def _series(
    axes: Any, at: int, candidate: str, summaries: "tuple[Summary, ...]", sizes: tuple[int, ...],
    line: Scaling | None,
) -> None:  # fmt: skip
    points = sorted(
        (size, seconds, elements_of(summary, sizes_of(summaries)[0]))
        for size, summary in zip(sizes, summaries, strict=True)
        if (seconds := summary.result(candidate).seconds_per_call)
    )
    if not points:
        return
    colour = COLOURS[at % len(COLOURS)] if at < SHOWN else GRID
    mark = MARKS[at % len(MARKS)] if at < SHOWN else "."
    xs, ys, counts = zip(*points, strict=True)
    told = f"\n    {_told(line)}" if line else ""
    label = f"{shown(candidate, 44)}{told}" if at < SHOWN else None
    if line and line.straight:
        fitted = [line.per_call + line.per_element * count for count in counts]
        axes.plot(xs, ys, mark, color=colour, markersize=7, label=label)
        axes.plot(xs, fitted, color=colour, linewidth=1.4)
    else:
        axes.plot(xs, ys, mark, color=colour, markersize=7, label=label, linestyle=":")


def _told(line: Scaling) -> str:
    if line.straight:
        return (
            f"{duration(line.per_call)} + {duration(line.per_element)} each, off by up to "
            f"{percent(line.misfit)}"
        )
    if line.curve in CURVES:
        return f"grows like {line.curve}, off by up to {percent(line.curve_misfit)}"
    return "no straight line"


def _crossings(axes: Any, summaries: "tuple[Summary, ...]") -> None:
    for number, change in enumerate(crossings(summaries)):
        axes.axvline(change.at, color=INK, linewidth=0.8, linestyle="--")
        axes.annotate(
            f"at about {whole(change.at)}: {shown(change.below, 28)} is overtaken by "
            f"{shown(change.above, 28)}",
            (change.at, 1.0), xycoords=("data", "axes fraction"), rotation=90, fontsize=8,
            xytext=(3 if number % 2 == 0 else -10, -4), textcoords="offset points", va="top",
        )  # fmt: skip


def _seconds(axes: Any) -> None:
    from matplotlib.ticker import FuncFormatter, NullFormatter

    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: duration(value)))
    axes.yaxis.set_minor_formatter(NullFormatter())
    low, high = axes.get_ylim()
    if high < 20 * low:
        axes.yaxis.set_minor_formatter(
            FuncFormatter(lambda value, _: duration(value) if digits(value)[0] in "25" else "")
        )

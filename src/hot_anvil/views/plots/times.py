"""How the times of each candidate are spread over its batches."""

from typing import TYPE_CHECKING, Any

from hot_anvil.core.measure.measurements import Measurements
from hot_anvil.views.plots.drawing import (
    ACCENT,
    INK,
    height_of,
    new_figure,
    row_font,
    shown,
    tidy,
)
from hot_anvil.views.text.words import duration, plural

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from hot_anvil.core.measure.results import Measured


def draw_times(measured: "Measured") -> "Figure":
    """Return the figure of the largest size; raises ValueError where nothing was timed."""
    if not measured.measurements:
        raise ValueError("nothing was timed")
    at = measured.measurements[-1]
    rows = sorted(_times(at).items(), key=lambda row: row[1][len(row[1]) // 2])
    where = f" at {at.inputs}" if at.inputs else ""
    figure = new_figure(
        f"{measured.checked.snippet.name}: times of all batches{where}", height_of(len(rows))
    )
    axes = figure.subplots()
    for k, (_, times) in enumerate(rows):
        _box(axes, k, times)
    axes.set_yticks(range(len(rows)), [shown(candidate, 60) for candidate, _ in rows])
    axes.tick_params(axis="y", labelsize=row_font(len(rows)), length=0)
    axes.set_ylim(len(rows) - 0.5, -0.5)
    _log_seconds(axes, [t for _, times in rows for t in (times[0], times[-1])])
    runs = plural(len(at.generations), "generation")
    axes.set_xlabel(
        f"time a call; box: half of the batches, line: 90 in 100, dots: each of the others; over "
        f"{runs}, all placements together"
    )
    tidy(axes)
    return figure


def _times(at: Measurements) -> dict[str, list[float]]:
    """Return the sorted times of each candidate that was timed itself."""
    out: dict[str, list[float]] = {}
    for k, candidate in enumerate(at.candidates):
        if candidate in at.same_as:
            continue
        times = sorted(row[k] for g in at.generations for row in g.times if row[k] == row[k])
        if times:
            out[candidate] = times
    return out


def _box(axes: Any, at: int, times: list[float]) -> None:
    def part(share: float) -> float:
        return times[min(int(share * len(times)), len(times) - 1)]

    low, high = part(0.05), part(0.95)
    axes.plot([low, high], [at, at], color=ACCENT, linewidth=1.2)
    axes.barh(at, part(0.75) - part(0.25), left=part(0.25), height=0.5, color=ACCENT, alpha=0.35)
    axes.plot([part(0.5)] * 2, [at - 0.3, at + 0.3], color=INK, linewidth=2)
    others = [t for t in times if not low <= t <= high]
    axes.plot(others, [at] * len(others), ".", color=ACCENT, markersize=2.5, alpha=0.6)


def _log_seconds(axes: Any, ends: list[float]) -> None:
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    if max(ends) > 3 * min(ends):
        axes.set_xscale("log")
        subs = (1, 2, 5) if max(ends) < 1000 * min(ends) else (1,)
        axes.xaxis.set_major_locator(LogLocator(subs=subs))
        axes.xaxis.set_minor_formatter(NullFormatter())
    axes.xaxis.set_major_formatter(FuncFormatter(lambda value, _: duration(value)))

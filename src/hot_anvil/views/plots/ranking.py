"""The ranking: each candidate's time over the fastest one's, with interval and placements."""

from typing import TYPE_CHECKING, Any

from hot_anvil.core.measure.verdict_words import BEST, TIED
from hot_anvil.views.plots.drawing import (
    ACCENT,
    INK,
    QUIET,
    height_of,
    log_if_wide,
    new_figure,
    row_font,
    shown,
    tidy,
)
from hot_anvil.views.text.words import interval, joined, ratio

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from hot_anvil.core.measure.results import Measured
    from hot_anvil.core.measure.summary import Comparison

_FAR = 1e4  # ratio beyond which an interval has no end worth drawing


def draw_ranking(measured: "Measured") -> "Figure":
    """Return the figure of a measured snippet; raises ValueError where nothing was timed."""
    overall = measured.overall
    if overall is None:
        raise ValueError("nothing was timed")
    rows = sorted(overall.to_best.items(), key=lambda row: row[1].verdict.ratio)
    points = [one.inputs for one in measured.measurements if one.inputs]
    over = f", mean of log ratios over {joined(points)}" if len(points) > 1 else ""
    at = f" at {points[0]}" if len(points) == 1 else ""
    name = measured.checked.snippet.name
    figure = new_figure(f"{name}: time over the fastest{at}{over}", height_of(len(rows)))
    axes = figure.subplots()
    size = row_font(len(rows))
    for at_row, (_, one) in enumerate(rows):
        _row(axes, at_row, one)
    axes.set_yticks(range(len(rows)), [shown(candidate, 60) for candidate, _ in rows])
    axes.tick_params(axis="y", labelsize=size, length=0)
    axes.set_ylim(len(rows) - 0.5, -0.5)
    log_if_wide(axes, [end for _, one in rows for end in (one.verdict.low, min(one.verdict.high,
                _FAR))])  # fmt: skip
    axes.axvline(1.0, color=INK, linewidth=1)
    axes.set_xlabel(
        "time over the fastest's (1 = the fastest); bar: interval for all pairs at once (99 %); "
        "ticks: at each placement of the code"
    )
    told = axes.secondary_yaxis("right")
    told.set_yticks(range(len(rows)), [_words(one) for _, one in rows])
    told.tick_params(labelsize=size, length=0)
    told.spines["right"].set_visible(False)
    tidy(axes)
    return figure


def _row(axes: Any, at: int, one: "Comparison") -> None:
    verdict = one.verdict
    first = verdict.word in (BEST, TIED)
    colour = ACCENT if first else QUIET
    axes.plot([verdict.low, min(verdict.high, _FAR)], [at, at], color=colour, linewidth=4,
              alpha=0.45, solid_capstyle="butt")  # fmt: skip
    axes.plot([verdict.ratio], [at], "D" if first else "o", color=colour, markersize=6)
    axes.plot(one.placements, [at] * len(one.placements), "|", color=INK, markersize=7)


def _words(one: "Comparison") -> str:
    verdict = one.verdict
    if verdict.word == BEST:
        return BEST
    return f"{verdict.word} {ratio(verdict.ratio)} ({interval(verdict.low, verdict.high)})"

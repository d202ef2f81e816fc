"""Which outputs each build put out, over repeated runs on the same values."""

from typing import TYPE_CHECKING

from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import CORRECT
from hot_anvil.views.plots.drawing import (
    COLOURS,
    QUIET,
    height_of,
    new_figure,
    row_font,
    shown,
    tidy,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST = 6  # outputs with a colour of their own
_HATCHES = ("", "//", "..", "xx", "\\\\", "--")


def draw_tally(checked: Checked) -> "Figure":
    """Return the figure of a check; raises ValueError where no verdict holds a tally."""
    rows = [verdict for verdict in checked.verdicts if verdict.tally]
    if not rows:
        raise ValueError("no candidate put out different things: there is no tally to draw")
    rows = list(checked.verdicts)
    seen: dict[str, int] = {}
    for verdict in rows:
        for count, output in verdict.tally:
            seen[output] = seen.get(output, 0) + count
    known = sorted(seen, key=lambda output: -seen[output])[:_MOST]
    figure = new_figure(
        f"{checked.snippet.name}: outputs over repeated runs on the same values",
        height_of(len(rows), 0.34, 2.6),
    )
    axes = figure.subplots()
    for at, verdict in enumerate(rows):
        runs = sum(count for count, _ in verdict.tally) or 1
        left = 0.0
        for count, output in verdict.tally:
            share = 100 * count / runs
            k = known.index(output) if output in known else -1
            axes.barh(at, share, 0.7, left, color=COLOURS[k] if k >= 0 else QUIET,
                      hatch=_HATCHES[k] if k >= 0 else "", edgecolor="white")  # fmt: skip
            if share > 8:
                axes.text(left + share / 2, at, f"{count}x", ha="center", va="center", fontsize=8,
                          bbox={"facecolor": "white", "edgecolor": "none", "pad": 1})  # fmt: skip
            left += share
        if not verdict.tally:
            one = "the same in every run" if verdict.verdict == CORRECT else verdict.verdict
            axes.text(1, at, one, va="center", fontsize=9, color=QUIET)
    for k, output in enumerate(known):
        axes.barh(0, 0, color=COLOURS[k], hatch=_HATCHES[k], edgecolor="white",
                  label=shown(output, 60))  # fmt: skip
    if len(seen) > len(known):
        axes.barh(0, 0, color=QUIET, label=f"{len(seen) - len(known)} other outputs")
    labels = [f"{shown(v.candidate, 50)}  {v.verdict}" for v in rows]
    axes.set_yticks(range(len(rows)), labels, fontsize=row_font(len(rows)))
    axes.set_ylim(len(rows) - 0.5, -0.5)
    axes.set_xlim(0, 100)
    axes.tick_params(axis="y", length=0)
    axes.set_xlabel("share of runs, %")
    tidy(axes)
    figure.legend(loc="outside lower left", ncols=2, fontsize=9, title="output", alignment="left")
    return figure

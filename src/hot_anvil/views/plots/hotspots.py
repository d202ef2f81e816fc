"""Where the time goes, along the source lines; on a chip the cycles of one call."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from hot_anvil.core.measure.hotspots import Hot
from hot_anvil.views.plots.drawing import COLOURS, INK, height_of, new_figure, shown, tidy

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_TEXT = 50  # letters of a source line
MOST_LINES, MOST_SIDES = 40, 6
LEAST = 0.005  # share below which a line is not drawn


def draw_hotspots(hot: Hot, sources: Mapping[str, Sequence[str]]) -> "Figure":
    """Return the figure of a snippet's candidates; raises ValueError where none was looked at."""
    sides = hot.candidates[:MOST_SIDES]
    if not sides:
        raise ValueError("nothing was looked at")
    counted = sides[0].counts
    lines = _lines(hot)
    more = f" (the first {MOST_SIDES} of {len(hot.candidates)})" * (
        len(hot.candidates) > len(sides)
    )
    what = f"{counted} of one call" if counted else "where the time goes"
    at = f" at {sides[0].inputs}" if sides[0].inputs else ""
    figure = new_figure(
        f"{hot.snippet}: {what} by source line{at}{more}",
        height_of(len(lines) * max(len(sides), 2), 0.16, 2.2),
    )
    axes = figure.subplots()
    thick = 0.8 / len(sides)
    for number, one in enumerate(sides):
        own = {(line.file, line.line): line for line in one.lines}
        values, errors, places = [], [], []
        for row, key in enumerate(lines):
            if key in own:
                share = own[key].share
                values.append(share.samples if counted else 100 * share.share)
                errors.append(0 if counted else 100 * share.error)
                places.append(row - 0.4 + thick * (number + 0.5))
        axes.barh(places, values, thick * 0.9, xerr=None if counted else errors,
                  color=COLOURS[number], hatch=("", "//", "..", "xx", "\\\\", "--")[number],
                  edgecolor="white", error_kw={"ecolor": INK, "capsize": 2, "elinewidth": 1},
                  label=shown(one.candidate, 60))  # fmt: skip
        for place, value in zip(places, values, strict=True):
            if counted and value:
                axes.text(value, place, f" {value:,}", va="center", fontsize=8)
    files = len({file for file, _ in lines}) > 1
    axes.set_yticks(
        range(len(lines)), [_label(file, line, sources, files) for file, line in lines],
        fontsize=max(min(9.0, 330.0 / len(lines)), 5.5), fontfamily=["DejaVu Sans Mono"],
    )  # fmt: skip
    axes.set_ylim(len(lines) - 0.5, -0.5)
    axes.tick_params(axis="y", length=0)
    axes.set_xlabel(
        f"{counted} of one call, counted by a simulator: exact"
        if counted
        else "share of the time, %; the line is the error of 95 in 100"
    )
    tidy(axes)
    figure.legend(loc="outside lower left", ncols=min(len(sides), 3), fontsize=9)
    return figure


def _lines(hot: Hot) -> list[tuple[str, int]]:
    """Return the lines to draw, in the source's order: those that take most."""
    best: dict[tuple[str, int], float] = {}
    for one in hot.candidates[:MOST_SIDES]:
        for line in one.lines:
            key = line.file, line.line
            best[key] = max(best.get(key, 0.0), line.share.share)
    seen = [key for key in best if best[key] >= LEAST]
    most = sorted(seen, key=lambda key: -best[key])[:MOST_LINES]
    return sorted(most)


def _label(file: str, line: int, sources: Mapping[str, Sequence[str]], several: bool) -> str:
    if not line:
        return f"{'(no source line)':<{_TEXT}}"
    text = sources.get(file, ())
    words = shown(" ".join(text[line - 1].split()), _TEXT) if line <= len(text) else ""
    return f"{f'{file}:' if several else ''}{line:>4}  {words:<{_TEXT}}"

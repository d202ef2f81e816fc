"""What a candidate costs: time against code bytes and against compile time, the unbeaten joined."""

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from hot_anvil.core.measure.choosing import Ranked
from hot_anvil.views.plots.drawing import ACCENT, QUIET, log_if_wide, new_figure, shown, tidy
from hot_anvil.views.text.words import duration

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from hot_anvil.core.measure.results import Picked

_FEW = 20  # candidates of which each has a label; of more the unbeaten ones
_NEAR = (48.0, 14.0)  # pixels across and up within which points share one label


def draw_costs(picked: "Picked") -> "Figure":
    """Return the figure of a choice; raises ValueError where nothing was ranked."""
    ranking = picked.pick.ranking
    if not ranking:
        raise ValueError("nothing was ranked")
    figure = new_figure(f"{picked.pick.snippet}: time against code and compile time")
    left, right, key = figure.subplots(1, 3, width_ratios=(5, 5, 3))
    sized = [(one.ratio, float(one.cost.code_bytes)) for one in ranking if one.cost.code_bytes]
    known = [one for one in ranking if one.cost.code_bytes]
    _panel(left, figure, ranking, known, sized, "code, bytes (the entry with what it reaches)")
    took = [(one.ratio, one.cost.compiling.seconds) for one in ranking]
    _panel(right, figure, ranking, ranking, took, "compile time")
    right.yaxis.set_major_formatter(lambda value, _: duration(value))
    _key(key, ranking)
    return figure


def _panel(
    axes: Any, figure: Any, ranking: Sequence[Ranked], known: Sequence[Ranked],
    points: Sequence[tuple[float, float]], what: str,
) -> None:  # fmt: skip
    axes.set_xlabel("time over the fastest's")
    axes.set_ylabel(what)
    tidy(axes, "both")
    if not points:
        axes.text(0.5, 0.5, "not known", ha="center", transform=axes.transAxes)
        return
    front = sorted(p for p, one in zip(points, known, strict=True) if one.undominated)
    axes.plot([p[0] for p in front], [p[1] for p in front], color=ACCENT, linewidth=1.2)
    for (x, y), one in zip(points, known, strict=True):
        best = one.undominated
        axes.plot([x], [y], "D" if best else "o", color=ACCENT if best else QUIET, markersize=7)
    log_if_wide(axes, [p[0] for p in points])
    log_if_wide(axes, [p[1] for p in points], "y")
    axes.margins(0.12)
    named = [k for k, one in enumerate(known) if len(ranking) <= _FEW or one.undominated]
    numbers = [ranking.index(known[k]) + 1 for k in named]
    figure.canvas.draw()
    for at, text in _labels(axes, [points[k] for k in named], numbers):
        axes.annotate(text, at, xytext=(6, 5), textcoords="offset points", fontsize=9)


def _labels(
    axes: Any, points: Sequence[tuple[float, float]], numbers: Sequence[int]
) -> list[tuple[tuple[float, float], str]]:
    """Return a label for each group of points that lie on top of each other."""
    places = axes.transData.transform(points)
    groups: list[tuple[int, list[int]]] = []
    for k, place in enumerate(places):
        for first, members in groups:
            if (abs(places[first] - place) < _NEAR).all():
                members.append(numbers[k])
                break
        else:
            groups.append((k, [numbers[k]]))
    return [(points[k], _ranges(sorted(members))) for k, members in groups]


def _ranges(numbers: Sequence[int]) -> str:
    """Return "1-3, 5" for 1, 2, 3, 5."""
    parts: list[list[int]] = []
    for number in numbers:
        if parts and number == parts[-1][-1] + 1:
            parts[-1].append(number)
        else:
            parts.append([number])
    return ", ".join(f"{p[0]}-{p[-1]}" if len(p) > 2 else ", ".join(map(str, p)) for p in parts)


def _key(axes: Any, ranking: Sequence[Ranked]) -> None:
    axes.set_axis_off()
    size = max(min(9.5, 420.0 / len(ranking)), 5.0)
    step = min(1.0 / (len(ranking) + 2), 0.045)
    axes.text(0, 1, "by time; diamonds, joined: nothing beats\nthem in all three", va="top",
              fontsize=9, transform=axes.transAxes)  # fmt: skip
    for number, one in enumerate(ranking, 1):
        sign = "◆" if one.undominated else "  "
        axes.text(0, 0.94 - step * number, f"{number:>2} {sign} {shown(one.candidate, 40)}",
                  fontsize=size, transform=axes.transAxes,
                  color=ACCENT if one.undominated else QUIET)  # fmt: skip

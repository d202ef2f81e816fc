"""Each candidate's time over what was measured before, with what changed in between."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from hot_anvil.core.measure.history import Entry, State, series
from hot_anvil.views.plots.drawing import COLOURS, GRID, INK, MARKS, new_figure, shown, tidy
from hot_anvil.views.text.words import duration

if TYPE_CHECKING:
    from matplotlib.figure import Figure

SHOWN = 10  # candidates with a colour


def draw_history(states: Sequence[State], snippet: str, inputs: str) -> "Figure":
    """Return the figure of a snippet at one size; raises ValueError where nothing was measured."""
    own = [s for s in states if (s.snippet, s.inputs) == (snippet, inputs)]
    rows = {candidate: points for (_, _, candidate), points in series(own).items()}
    if not rows:
        raise ValueError("nothing was measured")
    where = f" at {inputs}" if inputs else ""
    figure = new_figure(f"{snippet}: time a call over past measurements{where}")
    axes = figure.subplots()
    numbers = [state.number for state in sorted(own, key=lambda s: s.number)]
    order = sorted(rows, key=lambda name: rows[name][-1][1].seconds or float("inf"))
    for at, candidate in enumerate(order):
        _series(axes, at, candidate, rows[candidate], numbers)
    if len(order) > SHOWN:
        axes.plot([], [], color=GRID, label=f"and {len(order) - SHOWN} that are slower now")
    by_number = {s.number: s for s in own}
    labels = [f"#{n}\n{_day(by_number[n].at)}" for n in numbers]
    step = max(1, len(numbers) // 12)
    axes.set_xticks(range(0, len(numbers), step), labels[::step], fontsize=8.5)
    axes.set_yscale("log")
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    axes.yaxis.set_major_locator(LogLocator(subs=(1, 2, 5)))
    axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: duration(value)))
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.set_xlabel(
        "measurement; a ring: code, compiler or machine changed. Measurements at different times "
        "are not paired: the machine may have been quicker"
    )
    axes.set_ylabel("time a call")
    tidy(axes, "both")
    figure.legend(loc="outside right upper", fontsize=8.5)
    return figure


def _series(
    axes: Any, at: int, candidate: str, points: Sequence[tuple[State, Entry]], numbers: list[int]
) -> None:
    colour = COLOURS[at % len(COLOURS)] if at < SHOWN else GRID
    timed = [(numbers.index(s.number), e.seconds) for s, e in points if e.seconds]
    axes.plot(
        [x for x, _ in timed], [y for _, y in timed], color=colour,
        marker=MARKS[at % len(MARKS)] if at < SHOWN else ".",
        label=shown(candidate, 44) if at < SHOWN else None,
    )  # fmt: skip
    makers = [(s.machine, e.maker.toolchain, e.maker.code) for s, e in points]
    for k in range(1, len(points)):
        if makers[k] != makers[k - 1] and points[k][1].seconds:
            axes.plot([numbers.index(points[k][0].number)], [points[k][1].seconds], "o",
                      markersize=14, markerfacecolor="none", markeredgecolor=INK)  # fmt: skip


def _day(at: float) -> str:
    return datetime.fromtimestamp(at).astimezone().strftime("%m-%d %H:%M")

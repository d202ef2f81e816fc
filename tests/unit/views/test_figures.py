"""Figures: labels that do not overlap with 40 builds, names that are no formulas, the same file."""

from collections import Counter
from collections.abc import Callable, Collection
from typing import Any

import pytest

from hot_anvil.core.diff.ledger import Cell, Ledger, LedgerRow
from hot_anvil.core.measure.choosing import Cost, pick
from hot_anvil.core.measure.compile_times import compile_time
from hot_anvil.core.measure.hotspots import Hot, Seen, make_hotspots
from hot_anvil.core.measure.results import Measured, Picked
from hot_anvil.core.measure.summary import summarise
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict
from hot_anvil.views.plots.costs import draw_costs
from hot_anvil.views.plots.drawing import as_bytes, drawing, inked
from hot_anvil.views.plots.growth import draw_growth
from hot_anvil.views.plots.heat import MOST, draw_ledger
from hot_anvil.views.plots.history import draw_history
from hot_anvil.views.plots.hotspots import draw_hotspots
from hot_anvil.views.plots.ranking import draw_ranking
from hot_anvil.views.plots.tally import draw_tally
from hot_anvil.views.plots.times import draw_times
from made_measurements import code, measurements, state
from unit_snippets import SURGE

MANY = 40
NAMES = tuple(f"surge_of_the_month@clang-16:set_{k:02}" for k in range(MANY))


def verdict(name: str, word: str = "correct", **more: Any) -> Verdict:
    entry, _, build = name.partition("@")
    return Verdict("surge", entry, build, name, word, "", 3, **more)  # type: ignore[arg-type]


def measured(names: tuple[str, ...] = NAMES, sizes: tuple[int, ...] = (64, 512, 4096)) -> Measured:
    made = [
        measurements(
            n, [1e-9 * n * (1 + k / 7) for k in range(len(names))], generations=8
        )._replace(snippet="surge", inputs=f"n={n}", numbers={"n": n}, elements=n, candidates=names)
        for n in sizes
    ]
    summaries = tuple(summarise([one], names[0]) for one in made)
    together = summarise(made, names[0]) if len(made) > 1 else summaries[0]
    checked = Checked(SURGE, (), names[0], tuple(map(verdict, names)))
    return Measured(checked, names[0], tuple(made), summaries, together)


def picked(item: Measured) -> Picked:
    costs = {
        v.candidate: Cost(20 + 900 % (k + 3), compile_time([0.1 + k % 5] * 5), "gcc", ())
        for k, v in enumerate(item.checked.verdicts)
    }
    return Picked(item, pick("surge", item.overall, item.checked.verdicts, costs))


def ledger(rows: int, builds: int) -> Ledger:
    cells = [tuple(Cell(1 + (r * k) % 90, ("loop",)) for k in range(builds)) for r in range(rows)]
    lines = tuple(LedgerRow("s.c", r + 1, f"x = {r};", own) for r, own in enumerate(cells))
    return Ledger("surge", tuple(f"clang-16:set_{k:02}" for k in range(builds)), (), lines,
                  tuple(90 for _ in range(builds)))  # fmt: skip


def hot(sides: int) -> Hot:
    own = code("ebb: " + "; ".join(["add"] * 60))
    seen = [Seen(Counter({k: 5 + k for k in range(60)}), Counter())] * 2
    found = [make_hotspots(f"ebb{k}", "", 2e-6, own, seen, lambda at: ("s.c", at)) for k in
             range(sides)]  # fmt: skip
    return Hot("surge", tuple(found), {}, ())


def texts_of(figure: Any, placed: Collection[int] = ()) -> list[tuple[str, Any]]:
    """Return the texts that can be seen, or those ``placed`` by identity, with boxes in dots."""
    from matplotlib.text import Text

    figure.canvas.draw()
    renderer = figure.canvas.get_renderer()
    return [
        (text.get_text(), text.get_window_extent(renderer))
        for text in figure.findobj(Text)
        if text.get_text().strip() and text.get_visible() and (not placed or id(text) in placed)
    ]


def tick_labels(figure: Any) -> list[Any]:
    from matplotlib.axis import YTick

    figure.canvas.draw()
    renderer = figure.canvas.get_renderer()
    return [
        label.get_window_extent(renderer)
        for tick in figure.findobj(YTick)
        for label in (tick.label1, tick.label2)
        if label.get_visible() and label.get_text()
    ]


def crossing(boxes: list[Any]) -> int:
    def shrunk(box: Any) -> Any:
        return box.shrunk(0.98, 0.85)

    return sum(
        shrunk(one).overlaps(shrunk(other))
        for k, one in enumerate(boxes)
        for other in boxes[k + 1 :]
        if one.width and other.width
    )


@pytest.mark.parametrize("draw", [
    lambda: draw_ranking(measured()), lambda: draw_times(measured()),
    lambda: draw_ledger(ledger(200, MANY)), lambda: draw_hotspots(hot(6), {}),
    lambda: draw_tally(Checked(SURGE, (), "", tuple(
        verdict(n, "unstable", tally=((3, "1"), (2, "2"))) for n in NAMES))),
])  # fmt: skip
def test_no_label_lies_over_another_with_forty_builds(draw: Any) -> None:
    with drawing():
        figure = draw()
        assert crossing(tick_labels(figure)) == 0
        assert figure.get_size_inches()[0] == 12.8 and figure.get_size_inches()[1] <= 8.0


def test_legends_and_keys_stay_inside_the_figure() -> None:
    for draw in (draw_growth, lambda one: draw_costs(picked(one))):
        with drawing():
            figure = draw(measured())
            wide, high = figure.get_size_inches() * figure.dpi
            placed = {id(text) for axes in figure.axes for text in axes.texts}
            placed |= {id(text) for legend in figure.legends for text in legend.texts}
            assert placed
            for text, box in texts_of(figure, placed):
                assert box.x0 > -2 and box.x1 < wide + 2, text
                assert box.y0 > -2 and box.y1 < high + 2, text


def test_a_long_ledger_shows_what_differs_most_and_says_so() -> None:
    with drawing():
        said = [text for text, _ in texts_of(draw_ledger(ledger(200, 4)))]
    assert any(f"the {MOST} of 200 lines that differ most" in text for text in said)


def test_names_are_no_formulas_and_the_same_data_makes_the_same_file() -> None:
    names = ("a$x^2$@gcc <b>&amp;", "b\u202e\x1b[31m@gcc", "c_{x}@gcc")
    files = []
    for _ in range(2):
        with drawing():
            figure = draw_ranking(measured(names, (64,)))
        files.append(as_bytes(figure, "svg", inline=True))
    assert files[0] == files[1]
    text = inked(files[0].decode())
    assert "a$x^2$@gcc &lt;b&gt;&amp;amp;" in text and "\\u202e" in text and "\x1b" not in text
    assert "currentColor" in text and "<metadata" not in text and "<?xml" not in text


def test_what_cannot_be_drawn_says_why() -> None:
    one = measured(sizes=(64,))
    tried: list[tuple[Callable[[], Any], str]] = [
        (lambda: draw_growth(one), "sweep"),
        (lambda: draw_ranking(one._replace(overall=None)), "timed"),
        (lambda: draw_tally(one.checked), "tally"),
        (lambda: draw_hotspots(hot(0), {}), "looked at"),
        (lambda: draw_history([], "surge", ""), "measured"),
    ]
    for draw, why in tried:
        with drawing(), pytest.raises(ValueError, match=why):
            draw()


def test_a_history_rings_what_changed() -> None:
    with drawing():
        states = [state(1, [1e-6, 2e-6], "ab"), state(2, [1e-6, 3e-6], "ax")]
        figure: Any = draw_history(states, "surge", "")
        rings = [line for line in figure.axes[0].lines if line.get_markersize() == 14]
    assert [list(line.get_xdata()) for line in rings] == [[1]]

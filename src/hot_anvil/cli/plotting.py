"""``--plot FILE``: which figures a command can draw, and where they go."""

import argparse
import sys
from collections.abc import Callable, Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from hot_anvil.core.names import visible
from hot_anvil.errors import RequestError, cannot

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from hot_anvil.core.measure.hotspots import Hot
    from hot_anvil.core.results.answers import Answer

FORMS = ("png", "svg")
# Command -> its kinds of figures, the first where none is named.
KINDS: dict[str, tuple[str, ...]] = {
    "check": ("tally",),
    "measure": ("ranking", "growth", "times"),
    "pick": ("ranking", "growth", "costs", "times"),
    "hotspots": ("lines",),
}
_WHAT = {
    "tally": "the outputs of each build over repeated runs",
    "ranking": "times over the fastest's, with intervals and placements",
    "growth": "times over the sweep, with fitted growth and where the fastest changes",
    "costs": "time against code bytes and compile time, the unbeaten joined",
    "times": "how the times of all batches are spread",
    "lines": "where the time goes along the source",
}

Named = tuple[str, "Callable[[], Figure]"]  # what a figure is of, and what draws it


def add_plot(parser: argparse.ArgumentParser, kinds: Sequence[str] = ()) -> None:
    """Add --plot, and --draw where there are several ``kinds`` of figures."""
    what = "; of several snippets a file each, with its name" if kinds else ""
    parser.add_argument(
        "--plot", type=_file, metavar="FILE", help=f"also draw it into a .png or .svg file{what}"
    )
    if len(kinds) > 1:
        told = "; ".join(f"{kind}: {_WHAT[kind]}" for kind in kinds)
        parser.add_argument(
            "--draw", choices=kinds, metavar="WHAT", help=f"what --plot draws. {told}"
        )


def plot_answer(answer: "Answer", args: argparse.Namespace) -> None:
    """Draw an answer, where that was asked for."""
    if args.plot:
        kinds = KINDS.get(answer.command, ())
        if not kinds:
            raise RequestError(f"--plot: no figure is made of an answer of '{answer.command}'.")
        kind = getattr(args, "draw", None) or kinds[0]
        if kind not in kinds:
            raise RequestError(
                f"--draw {kind}: an answer of '{answer.command}' draws {' or '.join(kinds)}."
            )
        write_figures(args.plot, _figures(answer, kind))


def write_figures(file: Path, figures: Iterable[Named]) -> None:
    """Write figures into a file, or of several into one each, and say where they are."""
    from hot_anvil.views.plots.drawing import as_bytes, drawing

    made, lacking = [], []
    for name, draw in figures:
        try:
            with drawing():
                made.append((name, draw()))
        except ValueError as error:
            lacking.append(f"{name}: {error}")
    if not made:
        raise RequestError(f"--plot {file}: there is nothing to draw: {'; '.join(lacking)}.")
    for name, figure in made:
        safe = "".join(c if c.isalnum() or c in "._-" else "_" for c in name)
        own = file if len(made) == 1 else file.with_name(f"{file.stem}-{safe}{file.suffix}")
        try:
            own.write_bytes(as_bytes(figure, "svg" if own.suffix == ".svg" else "png"))
        except OSError as error:
            raise cannot(f"--plot {own}: cannot be written", error) from None
        sys.stderr.write(f"hot-anvil: drawn: {visible(str(own))}\n")
    for text in lacking:
        sys.stderr.write(f"hot-anvil: not drawn: {visible(text)}\n")


def _file(text: str) -> Path:
    file = Path(text)
    if file.suffix[1:] not in FORMS:
        raise argparse.ArgumentTypeError(f"'{text}' must end in .png or .svg")
    if not file.parent.is_dir():
        raise argparse.ArgumentTypeError(f"'{text}': there is no folder {file.parent}")
    return file


def _figures(answer: "Answer", kind: str) -> list[Named]:
    draw = _drawers(kind, answer)
    if kind == "lines":
        return [
            (f"{hot.snippet} {own.candidates[0].counts}".strip(), partial(draw, own))
            for hot in answer.results
            for own in _by_count(hot)
        ]
    return [
        (name, partial(draw, one))
        for name, one in zip(answer.snippets, answer.results, strict=True)
    ]


def _by_count(hot: "Hot") -> "list[Hot]":
    """Part candidates whose lines were looked at from those whose cycles were counted."""
    kinds = dict.fromkeys(one.counts for one in hot.candidates)
    return [
        hot._replace(candidates=tuple(one for one in hot.candidates if one.counts == kind))
        for kind in kinds
    ]


def _drawers(kind: str, answer: "Answer") -> "Callable[[Any], Figure]":
    if kind == "tally":
        from hot_anvil.views.plots.tally import draw_tally

        return draw_tally
    if kind == "lines":
        from hot_anvil.views.plots.hotspots import draw_hotspots

        return lambda hot: draw_hotspots(hot, answer.sources)
    if kind == "costs":
        from hot_anvil.views.plots.costs import draw_costs

        return draw_costs
    if kind == "growth":
        from hot_anvil.views.plots.growth import draw_growth as draw
    elif kind == "times":
        from hot_anvil.views.plots.times import draw_times as draw
    else:
        from hot_anvil.views.plots.ranking import draw_ranking as draw
    return lambda one: draw(getattr(one, "measured", one))

"""What all figures share: size, inks, marks, text as it is written, and how a figure is kept.

Colours are those of Okabe and Ito (2008), told apart by all common forms of colour blindness, less
the yellow that paper swallows; a mark or a word always says the same as a colour.
"""

import io
import re
import warnings
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any, Literal

from hot_anvil.core.names import visible

if TYPE_CHECKING:
    from matplotlib.figure import Figure

Form = Literal["png", "svg"]
INK, QUIET, GRID = "#1b1f24", "#6a737d", "#d0d5da"
ACCENT, TROUBLE = "#0072b2", "#d55e00"
COLOURS = ("#0072b2", "#d55e00", "#009e73", "#cc79a7", "#56b4e9", "#e69f00", "#000000")
MARKS = "osD^vPX<>*"
WIDE, HIGH = 12.8, 8.0  # inches, at 100 dots an inch
LEAST_HIGH = 3.2

_SETTINGS = {
    "font.family": ["DejaVu Sans"],
    "font.size": 11.0,
    "text.parse_math": False,  # names are no formulas
    "text.color": INK, "axes.labelcolor": INK, "axes.edgecolor": QUIET,
    "xtick.color": INK, "ytick.color": INK,
    "axes.spines.top": False, "axes.spines.right": False,
    "axes.titlelocation": "left", "axes.titlesize": 11.0,
    "legend.frameon": False,
    "svg.hashsalt": "hot-anvil",  # the same figure makes the same file
}  # fmt: skip


@contextmanager
def drawing() -> Iterator[None]:
    """Draw in our own style, whatever settings somebody has."""
    import matplotlib

    with matplotlib.rc_context(), warnings.catch_warnings():
        matplotlib.rcdefaults()
        matplotlib.rcParams.update(_SETTINGS)
        # A sign that the font lacks is drawn as a box; layouts that get tight stay readable.
        warnings.simplefilter("ignore")
        yield


def new_figure(title: str, high: float = HIGH) -> "Figure":
    """Return an empty figure with its title, ``high`` inches high."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    figure = Figure(figsize=(WIDE, max(high, LEAST_HIGH)), dpi=100, layout="constrained")
    FigureCanvasAgg(figure)  # which knows where things come to lie
    figure.suptitle(shown(title, 105), x=0.01, ha="left", fontsize=14, fontweight="bold")
    return figure


def as_bytes(figure: "Figure", form: Form, inline: bool = False) -> bytes:
    """Return a figure as a file; ``inline`` for a page, which can read its text."""
    import matplotlib

    with drawing():
        matplotlib.rcParams["svg.fonttype"] = "none" if inline else "path"
        data = io.BytesIO()
        fixed: dict[str, Any] = {"Date": None} if form == "svg" else {}
        figure.savefig(data, format=form, metadata=fixed, transparent=inline)
    return data.getvalue()


def inked(svg: str) -> str:
    """Return the figure's element, in the inks of the page around it, light or dark."""
    body = svg[svg.index("<svg") :]
    body = re.sub(r"<metadata>.*?</metadata>", "", body, flags=re.DOTALL)
    for ink, name in ((INK, "currentColor"), (QUIET, "var(--quiet)"), (GRID, "var(--rule)")):
        body = body.replace(ink, name)
    body = re.sub(r"font: ([^;\"]*)'DejaVu Sans'[^;\"]*", r"font: \1sans-serif", body)
    return re.sub(r'(<svg[^>]*?) height="[^"]*"([^>]*?) width="[^"]*"|(<svg[^>]*?) width="[^"]*"'
                  r'([^>]*?) height="[^"]*"', r"\1\2\3\4", body, count=1)  # fmt: skip


def shown(text: str, longest: int = 90) -> str:
    """Return a text to write into a figure: every sign visible, at most so long."""
    text = visible(text.replace("\t", "    "))
    return text if len(text) <= longest else f"{text[: longest - 2]}.."


def height_of(rows: int, each: float = 0.32, rest: float = 1.8) -> float:
    """Return the inches that so many rows take, at most those of a whole figure."""
    return min(HIGH, rest + each * rows)


def row_font(rows: int) -> float:
    """Return the points of text that so many rows leave apart in a whole figure."""
    return max(min(10.0, 400.0 / max(rows, 1)), 4.0)


def tidy(axes: Any, along: str = "x") -> None:
    """Put faint lines behind what is drawn, along one axis."""
    axes.grid(axis=along, color=GRID, linewidth=0.8)
    axes.set_axisbelow(True)


def log_if_wide(axes: Any, values: Sequence[float], along: str = "x") -> None:
    """Make an axis logarithmic where values lie far apart, with plain numbers on it."""
    from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

    from hot_anvil.views.text.words import digits

    some = [value for value in values if value > 0]
    if not some or max(some) < 5 * min(some):
        return
    (axes.set_xscale if along == "x" else axes.set_yscale)("log")
    axis = axes.xaxis if along == "x" else axes.yaxis
    near = max(some) < 100 * min(some)
    axis.set_major_locator(LogLocator(subs=(1, 2, 5) if near else (1,)))
    axis.set_major_formatter(FuncFormatter(lambda value, _: digits(value)))
    axis.set_minor_formatter(NullFormatter())
